package e2e

import (
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	independent "github.com/emersion/go-ical"

	"tavrin/internal/core/change"
	"tavrin/wire"
)

// A freeze and a hold through the client and git: what is ready is rehearsed and waits, nothing lands and no protected branch
// is pushed to, until it is over; calendar programs are told.
func TestP1FreezesAndHolds(t *testing.T) {
	w := newTown(t)
	dir := w.begin(strings.Replace(simple, "push: nobody", "push: role:maintainer", 1))
	in := func(args ...string) []string { return append(args, "--repo", repo) }
	w.says("ines", 0, "nothing is frozen, and nothing is planned", in("freeze", "list")...)
	hour := func(n int) string { return time.Now().Add(time.Duration(n) * time.Hour).Format(time.RFC3339) }
	w.says("odo", 1, "needs the role maintainer", in("freeze", "plan", "harvest", "--from", hour(-1), "--until", hour(2), "--reason", "x")...)
	w.says("ines", 2, "--from is a time such as", in("freeze", "plan", "harvest", "--from", "tea", "--until", hour(2), "--reason", "x")...)
	w.says("ines", 1, "ends after it has begun", in("freeze", "plan", "harvest", "--from", hour(2), "--until", hour(1), "--reason", "x")...)
	w.says("ines", 0, "now, ", in("freeze", "plan", "harvest", "--from", hour(-1), "--until", hour(2), "--reason", "everybody is in the fields")...)

	k := w.propose("tamsin", "topic", "docs/a", "a\n")
	w.approve("odo", k)
	w.join("tamsin", k, string(change.Rebase))
	w.report(w.rehearsed(k), "unit", "passed")
	now := w.until(k, "held up by the freeze", func(k wire.Change) bool { return strings.Contains(k.Entry.Reason, "main is frozen: harvest") })
	if !strings.Contains(now.Entry.Reason, "A maintainer may end it: tavrin freeze end 1") || now.Summary != "Ready, and nothing lands now: main is frozen: harvest." {
		t.Errorf("it is said %q, %q", now.Summary, now.Entry.Reason)
	}
	w.says("tamsin", 0, "Nothing lands now: main is frozen: harvest.", in("queue", "show")...)
	w.must("ines", dir, "fetch", "-q")
	w.must("ines", dir, "reset", "-q", "--hard", "origin/main")
	w.commit("ines", dir, "docs/b", "b\n", "directly")
	out, err := w.gitAs("ines", dir, "push", "origin", "HEAD:main")
	if err == nil || !strings.Contains(out, "is frozen: harvest") || !strings.Contains(out, "tavrin freeze end 1") {
		t.Errorf("the push says %s", out)
	}
	w.must("ines", dir, "push", "-q", "origin", "HEAD:other")

	// what calendar programs see
	feed := w.url + "/api/v1/repositories/" + repo + "/freezes.ics"
	get := func(login string) (*http.Response, string) {
		r, err := http.NewRequest("GET", feed, nil)
		w.ok(err)
		if login != "" {
			r.SetBasicAuth(login, w.tokens[login])
		}
		answer, err := http.DefaultClient.Do(r)
		w.ok(err)
		defer answer.Body.Close()
		text, err := io.ReadAll(answer.Body)
		w.ok(err)
		return answer, string(text)
	}
	if a, _ := get(""); a.StatusCode != 401 || !strings.HasPrefix(a.Header.Get("WWW-Authenticate"), "Basic ") {
		t.Errorf("without a token: %d, %v", a.StatusCode, a.Header)
	}
	a, text := get("odo")
	c, err := independent.NewDecoder(strings.NewReader(text)).Decode()
	w.ok(err)
	if events := c.Events(); len(events) != 1 || a.Header.Get("Content-Type") != "text/calendar; charset=utf-8" {
		t.Errorf("%v: %s", a.Header, text)
	}

	w.says("ines", 2, "reason", "freeze", "end", "1")
	w.says("ines", 0, "freeze 1 is over: changes land again", "freeze", "end", "1", "--reason", "it rains")
	w.landed(k)

	// the same by hand
	w.says("ines", 0, "the queue of the default branch is held", in("queue", "hold", "--reason", "the pumps are moved")...)
	second := w.propose("tamsin", "second", "docs/c", "c\n")
	w.approve("odo", second)
	w.join("tamsin", second, string(change.Squash))
	w.report(w.rehearsed(second), "unit", "passed")
	w.until(second, "held up", func(k wire.Change) bool {
		return strings.Contains(k.Entry.Reason, "main is held by ines: the pumps are moved")
	})
	w.says("odo", 1, "needs the role maintainer", in("queue", "free", "--reason", "x")...)
	w.close() // which changes nothing
	w.reopen()
	w.says("tamsin", 0, "main is held by ines", in("queue", "show")...)
	w.says("ines", 0, "the queue of the default branch goes on", in("queue", "free", "--reason", "they stand")...)
	w.landed(second)

	file := filepath.Join(w.dir, "plan.ics")
	w.ok(os.WriteFile(file, []byte("BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//growers//plan//EN\r\nBEGIN:VEVENT\r\nUID:1@growers\r\nDTSTAMP:20261101T000000Z\r\nSUMMARY:Quiet weekends\r\n"+
		"DTSTART;TZID=Europe/Berlin:20261106T160000\r\nDURATION:P2DT16H\r\nRRULE:FREQ=WEEKLY\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n"), 0o600))
	w.says("admin", 1, "a freeze of a house names its branches", "freeze", "import", file, "--house", "growers", "--reason", "weekends are quiet")
	w.says("admin", 0, "Quiet weekends", "freeze", "import", file, "--house", "growers", "--branch", "release/**", "--reason", "weekends are quiet")
	if said := w.says("odo", 0, " more", in("freeze", "list")...); !strings.Contains(said, "growers ") {
		t.Errorf("the repository's list says %s", said)
	}
	w.says("ines", 1, "or it is not yours to keep", "freeze", "delete", "3", "--reason", "x")
	w.says("admin", 0, "freeze 3 comes no more", "freeze", "delete", "3", "--reason", "no more")
}
