package e2e

import (
	"strings"
	"testing"

	"tavrin/internal/core/change"
	"tavrin/wire"
)

const following = `tavrin: rules/1
checks:
  bench: {reported_by: robot:builder}
  lint: {reported_by: robot:builder, on_tip: [main, "release/*"]}
protect:
  - name: trunk
    branches: main
    push: role:maintainer
    require: [{checks: unit}]
    land: {strategies: [rebase]}
`

// What follows a landing or a push is asked for on the branch's new tip, with the move itself, and says why it is asked; a tip
// on which it fails is shown loudly, until there is another.
func TestRedTips(t *testing.T) {
	w := newTown(t)
	d := w.aDestination()
	dir := w.begin(following)
	_, err := w.as("ines").CreateWebhook(t.Context(), wire.NewWebhook{Of: repo, Name: "deploys", URL: d.URL, Events: []string{"change.landed", "check.asked"}, Branches: []string{"main"}})
	w.ok(err)
	k := w.propose("tamsin", "topic", "a", "a\n")
	w.join("tamsin", k, "")
	w.report(w.rehearsed(k), "unit", "passed")
	w.landed(k)
	tip := w.tip("main")
	asked := func(commit, purpose string) wire.Check {
		t.Helper()
		all, err := w.as("ines").Checks(t.Context(), repo, commit)
		w.ok(err)
		for _, c := range all {
			if c.Name == "lint" {
				if c.AskedFor != purpose {
					t.Errorf("lint was asked for %q, not for %q", c.AskedFor, purpose)
				}
				return c
			}
		}
		t.Fatalf("lint was not asked for on %s: %+v", commit, all)
		return wire.Check{}
	}
	if c := asked(tip, "branch/main"); c.State != "waiting" || c.Change != 0 || c.Target != "main" {
		t.Errorf("it is %+v", c)
	}
	kinds := []string{}
	for _, one := range d.until(t, 3) { // unit for the rehearsal, the landing, lint for the tip
		kinds = append(kinds, one.event.Type)
	}
	if kinds[1] != "tavrin.change.landed" || kinds[2] != "tavrin.check.asked" {
		t.Errorf("what came is %v", kinds)
	}
	_, err = w.as("builder").ReportCheck(t.Context(), repo, wire.NewReport{Commit: tip, Name: "lint", State: "failed", Summary: "the pump house is not there", Link: "https://builds.example/7"})
	w.ok(err)
	w.says("ines", 0, "main is red: lint failed on its tip. The queue of main is empty.", "queue", "show", "--repo", repo)
	w.says("ines", 0, "the pump house is not there", "queue", "show", "--repo", repo)
	out := w.says("ines", 0, "red tip", "desk")
	has(t, out, "main is red", "tavrin queue show --branch main --repo "+repo)
	if out := w.says("pavo", 0, "", "desk"); strings.Contains(out, "red tip") {
		t.Errorf("a reader's desk says\n%s", out)
	}
	// Another tip: asked anew, and red no more until it is known.
	w.must("ines", dir, "pull", "-q", "--rebase", "origin", "main")
	next := w.commit("ines", dir, "b", "b\n", "repair")
	w.must("ines", dir, "push", "-q", "origin", "HEAD:main")
	asked(next, "branch/main")
	q, err := w.as("ines").Queue(t.Context(), repo, "main")
	w.ok(err)
	if len(q.Red) != 0 {
		t.Errorf("red are %+v", q.Red)
	}
	w.must("ines", dir, "push", "-q", "origin", "HEAD:refs/heads/release/4", "HEAD:refs/heads/other")
	if c := asked(next, "branch/main"); c.Attempt != 1 { // the same commit is not checked twice
		t.Errorf("it was asked for %d times", c.Attempt)
	}
}

// Where the rules have it so, a red tip holds the queue, and says so; what takes back the landing that broke it goes first and needs
// less, as long as it does nothing else.
func TestARedTipHoldsTheQueue(t *testing.T) {
	w := newTown(t)
	w.begin(`tavrin: rules/1
checks: {lint: {reported_by: robot:builder, on_tip: main}}
protect:
  - name: trunk
    branches: main
    push: nobody
    require:
      - {checks: unit}
      - {approvals: 1, unless: {undoes: a landing}}
      - {tip: green, unless: {undoes: a landing}}
    land: {undo_first: true}
`)
	answer := func(state change.CheckState) {
		w.until(wire.Change{Number: 1}, "asked for lint", func(wire.Change) bool {
			wanted, err := w.as("builder").Wanted(t.Context(), repo)
			w.ok(err)
			for _, c := range wanted {
				if c.Name == "lint" {
					_, err := w.as("builder").ReportCheck(t.Context(), repo, wire.NewReport{Commit: c.Commit, Name: "lint", State: state, Attempt: c.Attempt})
					w.ok(err)
					return true
				}
			}
			return false
		})
	}
	broken := w.propose("tamsin", "broken", "a", "a\n")
	w.approve("odo", broken)
	w.join("tamsin", broken, "squash")
	w.report(w.rehearsed(broken), "unit", "passed")
	w.landed(broken)
	answer("failed")
	good := w.propose("wren", "good", "b", "b\n")
	w.approve("odo", good)
	w.stands(good, "tip", "pending", "main is red: lint failed on its tip")
	w.join("wren", good, "squash")
	w.report(w.rehearsed(good), "unit", "passed")
	w.stands(good, "tip", "pending", "have lint run once more")
	w.says("pavo", 0, "main is red: lint failed on its tip", "queue", "show", "--repo", repo)
	undo, err := w.as("tamsin").UndoLanding(t.Context(), repo, broken.Number, "lint fails")
	w.ok(err)
	if !undo.Ready {
		t.Errorf("it is not ready: %s", undo.Summary)
	}
	// with something else in it, it is a change like any other
	dir := w.nearby("tamsin")
	w.must("tamsin", dir, "checkout", "-q", undo.Source)
	prepared := w.head(dir)
	w.commit("tamsin", dir, "c", "c\n", "and more")
	w.must("tamsin", dir, "push", "-q", "origin", undo.Source)
	w.stands(undo, "approvals", "missing", "")
	w.must("tamsin", dir, "reset", "-q", "--hard", prepared)
	w.must("tamsin", dir, "push", "-q", "-f", "origin", undo.Source)
	w.join("tamsin", undo, "squash")
	w.report(w.rehearsed(undo), "unit", "passed")
	w.landed(undo)
	if now, err := w.as("wren").Change(t.Context(), repo, good.Number); err != nil || now.State == "landed" {
		t.Errorf("the other landed before it: %v", err)
	}
	answer("passed")
	w.report(w.rehearsed(good), "unit", "passed")
	w.landed(good)
	// for another branch it takes back nothing
	w.must("ines", w.clone("ines"), "push", "-q", "origin", "origin/main:refs/heads/next")
	again, err := w.as("tamsin").UndoLanding(t.Context(), repo, good.Number, "after all")
	w.ok(err)
	next := "next"
	if moved, err := w.as("tamsin").EditChange(t.Context(), repo, again.Number, wire.ChangeEdit{Target: &next}); err != nil {
		t.Error(err)
	} else if back, err := w.as("tamsin").EditChange(t.Context(), repo, moved.Number, wire.ChangeEdit{Target: &again.Target}); err != nil || back.Ready {
		t.Errorf("it is an undoing still: %+v, %v", back.Summary, err)
	}
}
