package e2e

import (
	"bufio"
	"context"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"tavrin/internal/core/change"
	"tavrin/wire"
)

// Nobody is left wondering: what is said at once, and what is said of what has ended.

func TestAnEjectedChangeIsNotCalledReady(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	k := w.propose("tamsin", "topic", "docs/a", "a\n")
	w.approve("odo", k)
	w.join("wren", k, "")
	w.report(w.rehearsed(k), "unit", "failed")
	w.ejected(k)
	n := fmt.Sprint(k.Number)
	for _, login := range []string{"tamsin", "wren"} { // whose it is, and who asked for it to land
		has(t, w.desk(login), "ejected "+repo+" "+n, "Ejected from the queue: unit failed")
	}
	if on := w.desk("odo"); strings.Contains(on, "ejected") {
		t.Errorf("it is on a desk on which nobody wonders: %s", on)
	}
	w.says("tamsin", 0, "> tavrin change show "+n, "desk")
	for _, args := range [][]string{{"change", "gate", n}, {"change", "show", n}} {
		if out := w.says("tamsin", 0, "Ejected from the queue: unit failed", append(args, "--repo", repo)...); strings.Contains(out, "Ready for main") {
			t.Errorf("%v calls it ready:\n%s", args, out)
		}
	}
	w.says("tamsin", 0, "open   -      ejected", "change", "list", "--repo", repo)
	dir := w.clone("tamsin")
	w.must("tamsin", dir, "checkout", "-q", "topic")
	w.commit("tamsin", dir, "docs/a", "b\n", "another")
	w.must("tamsin", dir, "push", "-q", "origin", "topic")
	w.says("tamsin", 3, "Ejected from the queue. Not ready for main: needs 1 approval", "change", "gate", n, "--repo", repo)
	k, err := w.as("tamsin").Change(t.Context(), repo, k.Number)
	w.ok(err)
	w.approve("odo", k)
	w.says("tamsin", 0, "Ejected from the queue before the last push, and not in it since. Ready for main", "change", "gate", n, "--repo", repo)
	w.join("tamsin", k, "")
	w.rehearsed(k)
	if on := w.desk("wren"); strings.Contains(on, "ejected") {
		t.Errorf("somebody asked again, and it is still on a desk: %s", on)
	}
}

func TestAReviewIsWeighedAtOnce(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	k := w.propose("tamsin", "topic", "valves/a", "a\n")
	n := fmt.Sprint(k.Number)
	w.says("tamsin", 0, "tamsin's approval does not count: an author of the change", "review", "approve", n, "--revision", "1", "--repo", repo)
	w.says("wren", 0, "counts for 1 approval; 1 approval by an owner of valves: asked for from an owner of valves (team:hydraulics)", "review", "approve", n, "--revision", "1", "--repo", repo)
	r, err := w.as("odo").Review(t.Context(), repo, k.Number, wire.NewReview{Verdict: change.Approve, Revision: 1})
	if err != nil || r.Weighed == nil || len(r.Weighed.For) != 2 {
		t.Errorf("odo's is weighed as %+v: %v", r.Weighed, err)
	}
	w.says("odo", 0, "blocks the change until it is withdrawn", "review", "object", n, "--revision", "1", "--text", "it drips", "--repo", repo)
}

func TestAPushSaysWhetherApprovalsStay(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	k := w.propose("tamsin", "topic", "docs/a", "a\n")
	w.approve("odo", k)
	dir := w.clone("tamsin")
	w.must("tamsin", dir, "checkout", "-q", "topic")
	w.must("tamsin", dir, "commit", "-q", "--amend", "-m", "another word")
	out := w.must("tamsin", dir, "push", "-f", "origin", "topic")
	has(t, out, "is now at revision 2", "Still approved by odo.")
	w.commit("tamsin", dir, "docs/b", "b\n", "more")
	out = w.must("tamsin", dir, "push", "origin", "topic")
	has(t, out, "is now at revision 3", "odo's approval of revision 1 does not count: ")
	shown := w.says("tamsin", 0, "revision 3", "change", "show", fmt.Sprint(k.Number), "--repo", repo)
	has(t, shown, "revision 1", "the first", "revision 2", "rebased: the same difference as before", "adds commits", "by tamsin, ")
}

func TestNearlyRightNames(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	k := w.propose("tamsin", "topic", "docs/a", "a\n")
	n := fmt.Sprint(k.Number)
	r := func(args ...string) []string { return append(args, "--repo", repo) }
	for _, c := range []struct {
		login, meant string
		status       int
		args         []string
	}{
		{"tamsin", `did you mean "growers/irrigation"?`, 1, []string{"change", "list", "--repo", "growers/irigation"}},
		{"tamsin", `did you mean "growers/irrigation"?`, 2, []string{"change", "list", "--repo", "irrigation"}},
		{"tamsin", "did you mean tavrin change?", 2, []string{"chnage", "list"}},
		{"tamsin", "did you mean tavrin change list?", 2, []string{"change", "ls"}},
		{"tamsin", "did you mean tavrin queue?", 2, []string{"merge"}},
		{"tamsin", "did you mean --source?", 2, []string{"change", "open", "--sorce", "topic"}},
		{"tamsin", `did you mean "main"?`, 1, r("queue", "show", "--branch", "mian")},
		{"tamsin", `did you mean "topic"?`, 1, r("change", "open", "--source", "topics", "--title", "x y z")},
		{"tamsin", `did you mean "main"?`, 1, r("change", "edit", n, "--target", "Main")},
		{"tamsin", `did you mean "topic"?`, 1, r("browse", "history", "--at", "topc")},
		{"admin", `did you mean "odo"?`, 1, []string{"repo", "grant", repo, "od0", "writer"}},
		{"admin", `did you mean "hydraulics"?`, 1, []string{"repo", "grant", repo, "team:hydraulic", "writer"}},
		{"admin", `did you mean "growers"?`, 1, []string{"house", "grant", "grower", "odo", "writer"}},
		{"admin", `did you mean "tamsin"?`, 1, []string{"token", "create", "tamsyn"}},
		{"ines", `did you mean "growers"?`, 1, []string{"rules", "show", "--house", "growrs"}},
		{"ines", `did you mean "trunk"?`, 1, r("rules", "suspend", "trnk", "--for", "1h", "--reason", "the pump house")},
	} {
		w.says(c.login, c.status, c.meant, c.args...)
	}
	// What somebody may not know of is meant by nothing that they type.
	w.person("marla")
	for _, args := range [][]string{{"change", "list", "--repo", "growers/irigation"}, {"change", "list", "--repo", repo}, {"rules", "show", "--house", "growrs"}} {
		_, said, _ := w.run("marla", w.dir, args...)
		if strings.Contains(said, "did you mean") {
			t.Errorf("%v: %s", args, said)
		}
	}
}

func TestTheBeginningOfAnIDIsEnough(t *testing.T) {
	w := newTown(t)
	dir := w.begin(simple)
	k := w.propose("tamsin", "topic", "docs/a", "a\n")
	r := func(args ...string) []string { return append(args, "--repo", repo) }
	w.says("builder", 0, "unit is running on "+k.Head[:10], r("check", "report", "--commit", k.Head[:7], "--name", "unit", "--state", "running")...)
	w.says("builder", 0, "unit is passed", r("check", "report", "--commit", strings.ToUpper(k.Head[:8]), "--name", "unit", "--state", "passed")...)
	w.says("tamsin", 0, "passed", r("check", "list", k.Head[:4])...)
	w.says("tamsin", 0, "attempt 2 of unit", r("check", "rerun", k.Head[:9], "--name", "unit")...)
	w.says("tamsin", 0, "docs/a", r("change", "diff", fmt.Sprint(k.Number), "--commit", k.Head[:6])...)
	w.says("tamsin", 0, k.Head[:10], r("browse", "history", "--at", k.Head[:8])...)
	w.says("tamsin", 1, "is not a commit id", r("check", "list", "abc")...)
	w.says("tamsin", 1, "has no commit", r("check", "list", strings.Repeat("0", 39))...)
	// With thirty commits more, one digit and then two do not tell them apart; four mostly do. Where they do not, it says so.
	for i := range 40 {
		w.commit("ines", dir, "n", fmt.Sprint(i), fmt.Sprint(i))
	}
	w.must("ines", dir, "push", "-q", "origin", "HEAD:refs/heads/many")
	_, err := w.as("builder").ReportCheck(t.Context(), repo, wire.NewReport{Commit: k.Head[:4], Name: "unit", State: "failed", Attempt: 2})
	if err != nil && !strings.Contains(err.Error(), "give more of the id") {
		t.Error(err)
	}
}

func TestACheckIsTakenOnByOne(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	var ks []wire.Change
	for i := range 2 {
		k := w.propose("tamsin", fmt.Sprintf("topic-%d", i), fmt.Sprintf("docs/%d", i), "a\n")
		w.approve("odo", k)
		ks = append(ks, k)
	}
	w.join("tamsin", ks[0], "")
	commit := w.rehearsed(ks[0])
	if _, err := w.as("tamsin").ClaimCheck(t.Context(), repo, "", 0); err == nil {
		t.Error("a person took a check on")
	}
	var mu sync.Mutex
	var taken []string
	var workers sync.WaitGroup
	for range 8 {
		workers.Go(func() {
			k, err := w.as("builder").ClaimCheck(t.Context(), repo, "", 0)
			mu.Lock()
			defer mu.Unlock()
			if err != nil {
				t.Error(err)
			} else if k != nil {
				taken = append(taken, k.Commit+" "+k.Name+" "+k.State)
			}
		})
	}
	workers.Wait()
	if len(taken) != 1 || taken[0] != commit+" unit running" {
		t.Errorf("eight workers took %v", taken)
	}
	if wanted, err := w.as("builder").Wanted(t.Context(), repo); err != nil || len(wanted) != 0 {
		t.Errorf("it is still offered: %+v, %v", wanted, err)
	}
	w.says("builder", 0, "running", "check", "wanted", "--taken", "--repo", repo)
	w.says("builder", 3, "no check waits", "check", "claim", "--repo", repo)
	w.says("builder", 1, "by a token that names them", "check", "claim", "--name", "soil-probe", "--repo", repo)
	w.report(commit, "unit", "passed")
	w.landed(ks[0])
}

func TestApplyingRulesSaysWhatItDid(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	file := filepath.Join(w.dir, "rules.yaml")
	apply := func(text, words string) string {
		t.Helper()
		w.ok(os.WriteFile(file, []byte(text), 0o644))
		return w.says("ines", 0, words, "rules", "apply", file, "--reason", "trying it", "--repo", repo)
	}
	if out := apply(simple, "rules version 1 is this very document"); strings.Contains(out, "loosens") {
		t.Errorf("the same loosens:\n%s", out)
	}
	out := apply(strings.Replace(simple, "approvals: 1", "approvals: 9", 1), "rules version 2 is in force")
	if strings.Contains(out, "loosens") || strings.Contains(out, "rules version 3") {
		t.Errorf("what tightens, or another version:\n%s", out)
	}
	out = apply(strings.Replace(simple, "      - objections: none\n", "", 1), "rules version 3 is in force")
	has(t, out, "it loosens 2 settings:", "Nobody objects")
	if out = apply(strings.Replace(simple, "approvals: 1", "approvals: 1\n      - approvals: 1", 1), "rules version 4 is in force"); strings.Contains(out, "rules version 5") {
		t.Errorf("its messages name another version than it has:\n%s", out)
	}
	w.says("ines", 0, "rules version 4 is this very document", "rules", "restore", "4", "--reason", "again", "--repo", repo)
	history, err := w.as("ines").RulesVersions(t.Context(), repo)
	if err != nil || len(history) != 4 {
		t.Errorf("there are %d versions: %v", len(history), err)
	}
}

// A stream that is cut before its first event goes on without a gap: it is told at once where it stands.
func TestACutStreamGoesOnWithoutAGap(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	k := w.propose("tamsin", "topic", "docs/a", "a\n")
	open := func(ctx context.Context, id string) *bufio.Scanner {
		t.Helper()
		r, err := http.NewRequestWithContext(ctx, "GET", w.url+"/api/v1/events?repository="+repo, nil)
		w.ok(err)
		r.Header.Set("Authorization", "Bearer "+w.tokens["tamsin"])
		if id != "" {
			r.Header.Set("Last-Event-ID", id)
		}
		answer, err := http.DefaultClient.Do(r)
		w.ok(err)
		t.Cleanup(func() { answer.Body.Close() })
		return bufio.NewScanner(answer.Body)
	}
	ctx, cut := context.WithCancel(t.Context())
	id := ""
	for lines := open(ctx, ""); lines.Scan() && lines.Text() != ""; {
		if value, is := strings.CutPrefix(lines.Text(), "id: "); is {
			id = value
		}
	}
	cut()
	if id == "" {
		t.Fatal("it is not told where it stands")
	}
	w.says("odo", 0, "on record", "review", "comment", fmt.Sprint(k.Number), "--text", "while nobody listened", "--repo", repo)
	for lines := open(t.Context(), id); lines.Scan(); {
		if data, is := strings.CutPrefix(lines.Text(), "data: "); is {
			has(t, data, "while nobody listened")
			return
		}
	}
	t.Error("nothing came")
}
