package e2e

import (
	"fmt"
	"strings"
	"testing"

	"tavrin/internal/core/change"
	"tavrin/wire"
)

const many = `tavrin: rules/1
areas:
  valves: {paths: "valves/**", owners: role:writer}
  ledger: {paths: "ledger/**", owners: role:writer}
protect:
  - name: trunk
    branches: main
    push: nobody
    require: [{checks: unit}]
    land: {strategies: [rebase]}
    queue: {slots: 6, reruns: 1, urgent: "person:ines"}
`

// verdicts answers the check unit wherever it is asked for until all changes have come to their ends: failed where the commit holds
// a file that makes it so, as often as it says (-1: always); it stays silent on those that hold the one named last.
func (w *town) verdicts(fails map[string]int, silent string, until func() bool) {
	w.t.Helper()
	for range 2000 {
		if until() {
			return
		}
		q, err := w.as("odo").Queue(w.t.Context(), repo, "")
		w.ok(err)
		for _, r := range q.Rehearsals {
			if r.State == "running" {
				w.verdict(r.Commit, fails, silent)
			}
		}
		pause()
	}
	q, _ := w.as("odo").Queue(w.t.Context(), repo, "")
	w.t.Fatalf("it never came: %+v", q)
}

func (w *town) verdict(commit string, fails map[string]int, silent string) {
	w.t.Helper()
	checks, err := w.as("odo").Checks(w.t.Context(), repo, commit)
	w.ok(err)
	if len(checks) == 0 || checks[0].State != "waiting" {
		return
	}
	tree, err := w.as("odo").Tree(w.t.Context(), repo, commit, "")
	w.ok(err)
	state := change.Passed
	for _, f := range tree.Entries {
		if f.Name == silent {
			return
		}
		if n := fails[f.Name]; n != 0 {
			state, fails[f.Name] = change.Failed, max(n-1, -1)
		}
	}
	_, _ = w.as("builder").ReportCheck(w.t.Context(), repo, wire.NewReport{Commit: commit, Name: "unit", State: state, Attempt: checks[0].Attempt}) // it may have been called off
}

func (w *town) allLanded(changes ...wire.Change) func() bool {
	return func() bool {
		for _, k := range changes {
			now, err := w.as("odo").Change(w.t.Context(), repo, k.Number)
			if w.ok(err); now.State != "landed" {
				return false
			}
		}
		return true
	}
}

// Several rehearsals run at once, and it can be seen what stands on what; one failing change is found out and ejected without
// stopping the others; a check that failed by mistake ejects nobody; what was decided can be told again (P2, P9).
func TestP9ManyAtOnce(t *testing.T) {
	w := newTown(t)
	w.begin(many)
	var all []wire.Change
	for i := range 5 {
		k := w.propose("tamsin", fmt.Sprintf("topic-%d", i), fmt.Sprintf("f%d", i), "x\n")
		w.join("tamsin", k, "")
		all = append(all, k)
	}
	w.until(all[4], "rehearsing", func(k wire.Change) bool { return k.Entry.Rehearsal != nil && len(k.Entry.Rehearsal.Path) > 1 })
	out := w.says("odo", 0, "WHAT STANDS ON MAIN", "queue", "show", "--repo", repo)
	if !strings.Contains(out, " < 1 < 2") {
		t.Errorf("it is not said what stands on what:\n%s", out)
	}
	w.says("odo", 0, "rehearsals for main run in 6 slots", "queue", "show", "--repo", repo)
	good := []wire.Change{all[0], all[1], all[3], all[4]}
	w.verdicts(map[string]int{"f2": -1, "f4": 1}, "", func() bool {
		now, err := w.as("odo").Change(t.Context(), repo, all[2].Number)
		w.ok(err)
		return w.allLanded(good...)() && now.Entry.State == "ejected"
	})
	has(t, w.ejected(all[2]).Entry.Reason, "unit failed", "twice")
	// The branch has stood at tested commits only, and each landing says on what it rests.
	for _, k := range good {
		landing, err := w.as("odo").Landing(t.Context(), repo, k.Number)
		w.ok(err)
		checks, err := w.as("odo").Checks(t.Context(), repo, landing.New)
		w.ok(err)
		statement := w.says("odo", 0, "", "change", "landing", fmt.Sprint(k.Number), "--repo", repo)
		if len(checks) == 0 && !strings.Contains(statement, "tested") {
			t.Errorf("change %d landed as %s, and nothing says what was tested", k.Number, landing.New)
		}
	}
	out = w.says("odo", 0, "ask for the checks once more", "queue", "decisions", "--repo", repo)
	has(t, out, "build a rehearsal", "it passed, and its gate is clear")
	has(t, w.says("odo", 0, "eject", "queue", "decisions", fmt.Sprint(all[2].Number), "--repo", repo), "twice")
	w.says("admin", 0, "unbroken", "journal", "verify")
}

// An urgent change goes ahead of what waits, not of what runs; with a right and a reason.
func TestUrgent(t *testing.T) {
	w := newTown(t)
	w.begin(strings.Replace(many, "slots: 6", "planner: one-at-a-time", 1))
	var all []wire.Change
	for i := range 3 {
		k := w.propose("tamsin", fmt.Sprintf("topic-%d", i), fmt.Sprintf("f%d", i), "x\n")
		w.join("tamsin", k, "")
		all = append(all, k)
		if i == 0 {
			w.rehearsed(k)
		}
	}
	w.until(all[2], "queued", func(k wire.Change) bool { return k.Entry.State == "queued" })
	_, err := w.as("ines").Raise(t.Context(), repo, all[2].Number, " ")
	problem(t, err, 422, "reason")
	_, err = w.as("tamsin").Raise(t.Context(), repo, all[2].Number, "me first")
	problem(t, err, 403, "is for person:ines")
	w.says("ines", 0, "it is number 2 in line", "queue", "raise", fmt.Sprint(all[2].Number), "--reason", "the east ditch floods", "--repo", repo)
	w.report(w.rehearsed(all[0]), "unit", "passed")
	w.landed(all[0])
	w.report(w.rehearsed(all[2]), "unit", "passed")
	w.landed(all[2])
	w.report(w.rehearsed(all[1]), "unit", "passed")
	w.landed(all[1])
	has(t, strings.Join(w.kinds(), " "), "queue.raised")
}

// Two that do not go together: the later one waits, is told with what it does not go, and is ejected once the other has landed.
func TestConflictsInLine(t *testing.T) {
	w := newTown(t)
	w.begin(many)
	first := w.propose("tamsin", "first", "README.md", lines(20, map[int]string{5: "tamsin"}))
	second := w.propose("wren", "second", "README.md", lines(20, map[int]string{5: "wren"}))
	w.join("tamsin", first, "")
	w.rehearsed(first)
	w.join("wren", second, "")
	w.until(second, "told", func(k wire.Change) bool {
		return k.Entry != nil && (strings.Contains(k.Entry.Reason, "does not go together with change 1") || k.Entry.State == "rehearsing")
	})
	w.verdicts(nil, "", w.allLanded(first))
	has(t, w.ejected(second).Entry.Reason, "README.md", "touched by change 1 since", "update second from main")
}

// What a rehearsal has to hear that is not its own changes nothing: of unknown commits, of attempts that are over, twice.
func TestP7LateAndForeignResults(t *testing.T) {
	w := newTown(t)
	w.begin(many)
	k := w.propose("tamsin", "topic", "f", "x\n")
	w.join("tamsin", k, "")
	commit := w.rehearsed(k)
	report := func(commit string, attempt int, state change.CheckState) error {
		_, err := w.as("builder").ReportCheck(t.Context(), repo, wire.NewReport{Commit: commit, Name: "unit", State: state, Attempt: attempt})
		return err
	}
	w.ok(report(commit, 1, change.Failed))
	w.until(k, "tested once more", func(k wire.Change) bool { return strings.Contains(k.Entry.Reason, "tested once more") })
	problem(t, report(commit, 1, change.Passed), 409, "attempt")
	if err := report(strings.Repeat("5", 40), 1, change.Passed); err == nil {
		t.Error("a commit that is not there passed")
	}
	w.ok(report(commit, 2, change.Passed))
	w.landed(k)
}

// Rules that change while several are rehearsed: what is asked anew runs on the same commits, what runs comes to its end, and the queue
// goes on by the new ones; a branch that moved by another way has everything rehearsed anew, and nobody loses a place (P2, P9).
func TestP2TheGroundMovesUnderTheQueue(t *testing.T) {
	w := newTown(t)
	dir := w.begin(many)
	var all []wire.Change
	for i := range 3 {
		k := w.propose("tamsin", fmt.Sprintf("topic-%d", i), fmt.Sprintf("f%d", i), "x\n")
		w.join("tamsin", k, "")
		all = append(all, k)
	}
	commit := w.rehearsed(all[0])
	w.apply(strings.NewReplacer("checks: unit", "checks: [unit, lint]", "slots: 6, reruns: 1", "slots: 1, reruns: 0").Replace(many))
	w.until(all[0], "asked for lint too", func(k wire.Change) bool {
		return k.Entry.Rehearsal != nil && k.Entry.Rehearsal.Commit == commit && len(k.Entry.Rehearsal.Checks) == 2
	})
	w.apply(strings.Replace(many, "push: nobody", "push: role:maintainer", 1))
	w.must("ines", dir, "fetch", "-q")
	w.must("ines", dir, "checkout", "-q", "-B", "main", "origin/main")
	w.commit("ines", dir, "other", "x\n", "by hand")
	w.must("ines", dir, "push", "-q", "origin", "HEAD:main")
	w.verdicts(nil, "", w.allLanded(all...))
	for i, k := range all {
		now, err := w.as("odo").Change(t.Context(), repo, k.Number)
		if w.ok(err); now.LandedCommit == commit {
			t.Errorf("change %d landed as it was rehearsed before the branch moved", i+1)
		}
	}
	w.says("odo", 0, "target-moved", "queue", "decisions", "--repo", repo, "--limit", "1000")
}
