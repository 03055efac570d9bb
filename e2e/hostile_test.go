package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"

	"tavrin/client"
	"tavrin/internal/core/lint"
	"tavrin/internal/service"
	"tavrin/wire"
)

// raw stores an object made by hand in a clone and returns its id.
func (w *town) raw(dir, kind, text string) string {
	w.t.Helper()
	cmd := exec.Command("git", "hash-object", "-t", kind, "-w", "--stdin", "--literally")
	cmd.Dir, cmd.Stdin = dir, strings.NewReader(text)
	out, err := cmd.CombinedOutput()
	if err != nil {
		w.t.Fatalf("%v: %s", err, out)
	}
	return strings.TrimSpace(string(out))
}

// commitText is a commit as Git stores it.
func commitText(tree, parent, message string) string {
	return fmt.Sprintf("tree %s\nparent %s\nauthor Tamsin <tamsin@fennmoor.example> 1790000000 +0000\ncommitter Tamsin <tamsin@fennmoor.example> 1790000000 +0000\n\n%s", tree, parent, message)
}

// What people write into a commit hides nothing from anybody: not from the rules, not from the list of branches.
func TestOddBytesInCommits(t *testing.T) {
	w := newTown(t)
	w.begin("tavrin: rules/1\nprotect:\n  - name: trunk\n    branches: main\n    push: role:maintainer\n    require: [{messages: \"^FEN-[0-9]+: \"}, {signed: every commit, level: advisory}]\n")
	dir := w.clone("tamsin")
	main := w.tip("main")
	tree := w.must("tamsin", dir, "rev-parse", main+"^{tree}")
	blob := w.raw(dir, "blob", "x\n")
	other := w.raw(dir, "tree", "100644 README.md\x00"+unhex(w.must("tamsin", dir, "rev-parse", main+":README.md"))+"100644 x\x00"+unhex(blob))
	hidden := w.raw(dir, "commit", commitText(other, main, "no ticket\x01\n\n\x01\x01 body\n"))
	top := w.raw(dir, "commit", commitText(other, hidden, "FEN-1: fine\n"))
	w.must("tamsin", dir, "push", "-q", "origin", top+":refs/heads/topic")
	k := w.openChange("tamsin", "topic")
	q := w.requirement(k, "messages")
	if q.State != "missing" || q.Need != 2 {
		t.Errorf("the hidden commit is not judged: %+v", q)
	}
	if q := w.requirement(k, "signed"); q.Need != 2 {
		t.Errorf("the hidden commit is not looked at for its signature: %+v", q)
	}
	branches, err := w.as("pavo").Branches(t.Context(), repo)
	if err != nil || len(branches) != 2 {
		t.Errorf("branches: %v, %v", branches, err)
	}
	for name, c := range map[string]struct{ text, words string }{
		"a message in what cannot be read": {strings.Replace(commitText(tree, main, "+AEw-anded-change: x 1\n"), "\n\n", "\nencoding UTF-7\n\n", 1), "cannot be read here"},
		"a NUL in the message":             {commitText(tree, main, "fine\x00hidden\n"), "not sound"},
	} {
		id := w.raw(dir, "commit", c.text)
		out, err := w.gitAs("tamsin", dir, "push", "origin", id+":refs/heads/odd")
		if err == nil || !strings.Contains(out, c.words) {
			t.Errorf("%s: %v %s", name, err, out)
		}
	}
	late := w.raw(dir, "commit", strings.Replace(commitText(tree, main, "late\n"), "1790000000", "99999999999999", 2))
	w.must("tamsin", dir, "push", "-q", "origin", late+":refs/heads/late")
	if branches, err = w.as("pavo").Branches(t.Context(), repo); err != nil || len(branches) != 3 {
		t.Errorf("a year that cannot be written breaks the list: %v", err)
	}
	if _, err := w.as("pavo").History(t.Context(), repo, "late", 5); err != nil {
		t.Error(err)
	}
}

func unhex(id string) string {
	out := make([]byte, len(id)/2)
	fmt.Sscanf(id, "%x", &out)
	return string(out)
}

// A small pack can hold a tree of a billion paths, or folders without end. It is measured before anything walks it, the push is
// refused by the name of the bound, and the service goes on, now and after it was started again.
func TestTreesAreMeasuredBeforeTheyAreWalked(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	dir := w.clone("tamsin")
	main := w.tip("main")
	blob := w.raw(dir, "blob", "x\n")
	level := w.raw(dir, "tree", "100644 f\x00"+unhex(blob))
	for range 9 {
		var text strings.Builder
		for i := range 10 {
			text.WriteString(fmt.Sprintf("40000 %02d\x00", i) + unhex(level))
		}
		level = w.raw(dir, "tree", text.String())
	}
	deep := w.raw(dir, "tree", "100644 f\x00"+unhex(blob))
	for range 200 {
		deep = w.raw(dir, "tree", "40000 d\x00"+unhex(deep))
	}
	push := func(tree, words string) {
		t.Helper()
		bomb := w.raw(dir, "commit", commitText(tree, main, "bomb\n"))
		tame := w.raw(dir, "commit", commitText(w.must("tamsin", dir, "rev-parse", main+"^{tree}"), bomb, "and tame again\n"))
		for _, id := range []string{bomb, tame} {
			out, err := w.gitAs("tamsin", dir, "push", "origin", id+":refs/heads/bomb")
			if err == nil || w.tip("bomb") != "" {
				t.Fatal("it was taken")
			}
			has(t, out, words)
		}
	}
	push(level, "the bound push.tree-paths is 500000")
	push(deep, "the bound push.tree-depth is 100")
	w.close()
	w.reopen()
	w.land(w.propose("tamsin", "after", "a", "a\n"), "rebase")
}

// Names and command lists without end are not kept, and the client is told.
func TestCommandListsAreBounded(t *testing.T) {
	w := newTown(t)
	dir := w.begin(simple)
	head := w.tip("main")
	w.close()
	w.open(service.Options{Bounds: bound(t, "push.refs=1000")})
	w.must("ines", dir, "remote", "set-url", "origin", w.gitURL())
	commands := func(n, size int) []string {
		var out []string
		for i := range n {
			out = append(out, fmt.Sprintf("%s %s refs/heads/%s%d", strings.Repeat("0", 40), head, strings.Repeat("x", size), i))
		}
		return out
	}
	out := w.rawPush("ines", dir, commands(400, 60_000), "^"+head+"\n")
	has(t, out, "unpack the names and options of this push have", "push.command-bytes")
	if len(out) > 4<<20 {
		t.Errorf("the answer has %d bytes", len(out))
	}
	has(t, w.rawPush("ines", dir, commands(1001, 3), "^"+head+"\n"), "push.refs is 1000")
	if out := w.rawPush("ines", dir, commands(1, 300), "^"+head+"\n"); !strings.Contains(out, "ng refs/heads/xxx") {
		t.Errorf("a name of 300 bytes: %q", out)
	}
	if refs := w.must("ines", dir, "ls-remote", "origin"); strings.Contains(refs, "xxx") {
		t.Errorf("something of it was taken:\n%s", refs)
	}
}

// Every bound on requests: what is just within it goes through, one more is refused by its name, and others go on.
func TestRequestsAreBounded(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	k := w.propose("tamsin", "topic", "a", "a\n")
	w.close()
	w.open(service.Options{Bounds: bound(t, "calls.token=30", "calls.address=21", "calls.failed-sign-ins=3", "calls.streams=2", "change.threads=2", "thread.comments=2", "repository.refs=4", "markdown.html-bytes=2000")})
	ctx := t.Context()
	status := func(token string) (int, string) {
		req, err := http.NewRequestWithContext(ctx, "GET", w.url+"/api/v1/me", nil)
		w.ok(err)
		if token != "" {
			req.Header.Set("Authorization", "Bearer "+token)
		}
		res, err := http.DefaultClient.Do(req)
		w.ok(err)
		defer res.Body.Close()
		var p client.Problem
		json.NewDecoder(res.Body).Decode(&p)
		if res.StatusCode == http.StatusTooManyRequests && res.Header.Get("Retry-After") == "" {
			t.Error("it is not said when to come back")
		}
		return res.StatusCode, p.Detail
	}
	// Calls are counted by the minute, as it slides: where one ends meanwhile, a few more pass, and no fewer.
	turnedAway := 0
	for i := range 12 { // tokens that are not known
		code, detail := status("tvr_AAAAAAAAAAAAAAAAAAAAAAAAAA")
		if code == 429 && i >= 3 {
			has(t, detail, "calls.failed-sign-ins is 3")
			turnedAway++
		} else if code != 401 {
			t.Errorf("bad token %d: %d %s", i, code, detail)
		}
	}
	if turnedAway < 5 {
		t.Errorf("of 12 bad tokens %d were turned away", turnedAway)
	}
	if code, detail := status(w.tokens["odo"]); code != 200 {
		t.Errorf("somebody's bad tokens keep odo out: %d %s", code, detail)
	}
	odo := w.as("odo")
	for i := range 4 {
		_, err := odo.BeginThread(ctx, repo, k.Number, wire.NewThread{Text: fmt.Sprint("question ", i)})
		if i < 2 {
			w.ok(err)
		} else {
			problem(t, err, 422, "change.threads is 2")
		}
	}
	threads, err := odo.Threads(ctx, repo, k.Number)
	w.ok(err)
	_, err = odo.Reply(ctx, repo, k.Number, threads[0].ID, wire.NewComment{Text: "and"})
	w.ok(err)
	_, err = odo.Reply(ctx, repo, k.Number, threads[0].ID, wire.NewComment{Text: "and"})
	problem(t, err, 422, "thread.comments is 2")

	// Streams: as many as one may have, and no more; a closed one makes room.
	open := func() (*http.Response, context.CancelFunc) {
		streaming, stop := context.WithCancel(ctx)
		req, err := http.NewRequestWithContext(streaming, "GET", w.url+"/api/v1/events", nil)
		w.ok(err)
		req.Header.Set("Authorization", "Bearer "+w.tokens["wren"])
		res, err := http.DefaultClient.Do(req)
		w.ok(err)
		return res, stop
	}
	_, stop := open()
	_, stopOther := open()
	defer stopOther()
	if res, stop := open(); res.StatusCode != 429 {
		t.Errorf("a third stream: %d", res.StatusCode)
		stop()
	}
	stop()
	for i := 0; ; i++ {
		res, stop := open()
		stop()
		if res.StatusCode == 200 {
			break
		}
		if i > 10 {
			t.Fatal("a closed stream makes no room")
		}
		pause()
	}

	// Refs: main and topic are there.
	dir := w.clone("ines")
	head := w.must("ines", dir, "rev-parse", "HEAD")
	w.must("ines", dir, "push", "-q", "origin", head+":refs/heads/b3", head+":refs/tags/t4")
	if out, err := w.gitAs("ines", dir, "push", "origin", head+":refs/heads/b5"); err == nil {
		t.Error("a fifth ref was taken")
	} else {
		has(t, out, "repository.refs is 4")
	}

	// One token, and one address without a sign-in.
	limited, guests := 0, 0
	for range 40 {
		if code, detail := status(w.tokens["pavo"]); code == 429 {
			has(t, detail, "calls.token is 30")
			limited++
		}
	}
	for range 30 {
		if code, detail := status(""); code == 429 {
			has(t, detail, "calls.address is 21")
			guests++
		}
	}
	if limited > 10 || limited < 5 || guests < 4 {
		t.Errorf("%d of 40 calls with a token and %d of 30 without were turned away", limited, guests)
	}
	if code, _ := status(w.tokens["tamsin"]); code != 200 {
		t.Error("others are turned away too")
	}
}

// Markdown is laid out once, and never into more than its bound: a table of a few kilobytes would be of many million cells.
func TestMarkdownIsBounded(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	k := w.propose("tamsin", "topic", "a", "a\n")
	text := strings.Repeat("|a", 3000) + "|\n" + strings.Repeat("|-", 3000) + "|\n" + strings.Repeat("|\n", 2000)
	_, err := w.as("tamsin").EditChange(t.Context(), repo, k.Number, wire.ChangeEdit{Description: &text})
	w.ok(err)
	now := w.openedAs(1)
	if len(now.DescriptionHTML) > 256<<10 || !strings.HasPrefix(now.DescriptionHTML, "<pre>") {
		t.Errorf("%d bytes are laid out as %d, %.40q", len(text), len(now.DescriptionHTML), now.DescriptionHTML)
	}
}

// As many findings as anybody reads are told, and how many more there are; whatever the document.
func TestFindingsAreBounded(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	keys := func(n int, form string) string {
		var b strings.Builder
		for i := range n {
			fmt.Fprintf(&b, form, i)
		}
		return b.String()
	}
	for _, c := range []struct {
		text string
		last string
	}{
		{"tavrin: rules/1\nprotect: {" + keys(40_000, "k%d: 1, ") + "}\n", `"protect" is a mapping`},
		{"tavrin: rules/1\n" + keys(1500, "k%d: 1\n"), "and 1450 findings more"},
		{"tavrin: rules/1\n" + keys(40_000, "k%d: 1\n"), "a mapping of more than 2000 entries"},
		{"tavrin: rules/1\n" + strings.Repeat("[\n", 400_000), "nested too deeply"},
	} {
		_, err := w.as("ines").ApplyRules(t.Context(), repo, wire.NewRules{Text: c.text, Reason: "to see"}, -1)
		p, ok := err.(*client.Problem)
		if !ok || p.Status != 422 || len(p.Findings) == 0 || len(p.Findings) > 51 || !strings.Contains(p.Findings[len(p.Findings)-1].Message, c.last) {
			t.Errorf("%q: %.300v", c.last, err)
		}
	}
	_, err := w.as("tamsin").TestRules(t.Context(), repo, simple, "tavrin: examples/1\nexamples: "+strings.Repeat("[\n", 400_000))
	if err == nil || !strings.Contains(err.Error(), "nested too deeply") {
		t.Errorf("%v", err)
	}
	// comments of lint are bounded too, the worst first
	many := strings.Replace(simple, "owners: team:hydraulics", "owners: ["+keys(500, "person:nobody%d,")+"]", 1)
	said, err := w.as("ines").LintRules(t.Context(), repo, many)
	w.ok(err)
	if n := len(said.Advice); n != lint.MaxTold+1 || !strings.Contains(said.Advice[n-1].Text, "findings more") || said.Advice[0].Severity != lint.Blocked {
		t.Errorf("%d comments; %v", n, said.Findings)
	}
}

// Clones and pushes of one person are bounded in number, and another's go on meanwhile.
func TestTransfersAreBounded(t *testing.T) {
	w := newTown(t)
	dir := w.begin(simple)
	w.close()
	w.open(service.Options{Bounds: bound(t, "git.transfers=1", "calls.token=100000")})
	w.must("ines", dir, "remote", "set-url", "origin", w.gitURL())
	hold := func() (feed *os.File, done chan struct{}) { // a push that does not end by itself
		body, feed, err := os.Pipe()
		w.ok(err)
		req, err := http.NewRequestWithContext(t.Context(), "POST", w.gitURL()+"/git-receive-pack", body)
		w.ok(err)
		req.SetBasicAuth("x", w.tokens["ines"])
		req.Header.Set("Content-Type", "application/x-git-receive-pack-request")
		done = make(chan struct{})
		go func() {
			defer close(done)
			if res, err := http.DefaultClient.Do(req); err == nil {
				res.Body.Close()
			}
		}()
		fmt.Fprint(feed, "00")
		return feed, done
	}
	// Nobody tells when it has its turn: one that is tried too early has the turn itself, and the held one is refused.
	refused := false
	var feed *os.File
	var done chan struct{}
	for early := time.Duration(1); early < 100; early++ {
		feed, done = hold()
		time.Sleep(early * 20 * time.Millisecond)
		out, err := w.gitAs("ines", dir, "push", "origin", "HEAD:refs/heads/second")
		// git shows what a refusal says where it meets its first request, not where the other came between two
		if refused = err != nil && strings.Contains(out, "git.transfers is 1"); refused {
			break
		}
		feed.Close()
		<-done
	}
	if !refused {
		t.Fatal("a second push at once was taken")
	}
	w.must("tamsin", w.clone("tamsin"), "push", "-q", "origin", "HEAD:refs/heads/third")
	feed.Close()
	<-done
	w.must("ines", dir, "push", "-q", "origin", "HEAD:refs/heads/second")
}

// A check that nobody answers ends, is asked for once more, and then the entry leaves and the next goes on; who keeps the
// repository sees which it is (P9).
func TestP9SilentChecks(t *testing.T) {
	w := newTown(t)
	var ahead time.Duration
	clock := func() time.Time { return time.Now().Add(ahead) }
	w.close()
	w.open(service.Options{Now: clock})
	w.admin = w.as("admin")
	w.begin(strings.Replace(simple, "protect:", "checks: {unit: {timeout: 30m}}\nprotect:", 1))
	first, second := w.propose("tamsin", "first", "a", "a\n"), w.propose("wren", "second", "b", "b\n")
	for _, k := range []wire.Change{first, second} {
		w.approve("odo", k)
		w.join("tamsin", k, "rebase")
	}
	commit := w.rehearsed(first)
	q, err := w.as("ines").Queue(t.Context(), repo, "")
	w.ok(err)
	if len(q.Silent) != 0 {
		t.Errorf("it is silent from the start: %+v", q.Silent)
	}
	later := func(by time.Duration, what string, wanted func([]wire.Check) bool) {
		t.Helper()
		ahead += by
		for range 400 {
			checks, err := w.as("ines").Checks(t.Context(), repo, commit)
			w.ok(err)
			if wanted(checks) {
				return
			}
			pause()
		}
		t.Fatalf("never %s", what)
	}
	ahead += 16 * time.Minute
	q, err = w.as("ines").Queue(t.Context(), repo, "")
	w.ok(err)
	if len(q.Silent) != 1 || q.Silent[0].Name != "unit" || q.Silent[0].Commit != commit || q.Silent[0].Until == nil {
		t.Errorf("half of its time is over: %+v", q.Silent)
	}
	later(15*time.Minute, "asked for once more", func(all []wire.Check) bool { return all[0].Attempt == 2 && all[0].State == "waiting" })
	desk, err := w.as("ines").Desk(t.Context())
	w.ok(err)
	if len(desk) == 0 || desk[0].Kind != "silent" || !strings.Contains(desk[0].Title, "unit") {
		t.Errorf("the desk has %+v", desk)
	}
	out, _, _ := w.run("ines", w.dir, "queue", "show", "--repo", repo)
	has(t, out, "Nobody answers for check unit on "+commit[:10], "attempt 2")
	later(31*time.Minute, "given up", func(all []wire.Check) bool { return all[0].State == "errored" && all[0].Attempt == 2 })
	has(t, w.ejected(first).Entry.Reason, "no answer within 30m")
	w.report(w.rehearsed(second), "unit", "passed")
	w.landed(second)
	if n := strings.Count(strings.Join(w.kinds(), " "), "check.timed-out"); n != 2 {
		t.Errorf("the journal tells of %d silences", n)
	}
}
