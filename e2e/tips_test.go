package e2e

import (
	"strings"
	"testing"

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
