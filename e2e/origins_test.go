package e2e

import (
	"fmt"
	"strings"
	"testing"

	"tavrin/wire"
)

// From any line of a file to the change that brought it, and from any commit to its landing, whatever the strategy.
func TestHistoryTellsOfLandings(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	ctx := t.Context()
	dir := w.clone("tamsin")
	propose := func(branch string, commits ...string) {
		w.must("tamsin", dir, "fetch", "-q", "origin")
		w.must("tamsin", dir, "checkout", "-q", "-b", branch, "origin/main")
		for i, text := range commits {
			w.commit("tamsin", dir, "story", text, fmt.Sprintf("%s %d", branch, i))
		}
		w.must("tamsin", dir, "push", "-q", "origin", branch)
	}
	propose("rebased", "one\n", "one\ntwo\n")
	w.land(w.openChange("tamsin", "rebased"), "rebase")
	propose("squashed", "one\ntwo\nthree\n", "one\ntwo\nthree\nfour\n")
	w.land(w.openChange("tamsin", "squashed"), "squash")
	propose("merged", "zero\none\ntwo\nthree\nfour\n")
	w.land(w.openChange("tamsin", "merged"), "merge")

	v, err := w.as("pavo").Lines(ctx, repo, "", "story")
	w.ok(err)
	var told []string
	for _, o := range v.Origins {
		told = append(told, fmt.Sprintf("%d-%d %s change %d by %s", o.First, o.Last, o.Subject, o.Landed.Number, o.Landed.Strategy))
	}
	if got := strings.Join(told, "\n"); got != "1-1 merged 0 change 3 by merge\n2-2 rebased 0 change 1 by rebase\n3-3 rebased 1 change 1 by rebase\n4-5 Bring squashed change 2 by squash" {
		t.Errorf("lines come from\n%s", got)
	}
	history, err := w.as("pavo").History(ctx, repo, "main", 10)
	w.ok(err)
	told = nil
	for _, c := range history {
		text := c.Subject
		if c.Landed != nil {
			text += fmt.Sprintf(": %d top %v, approved by %v, by %v, asked by %s", c.Landed.Number, c.Landed.Top, c.Landed.Approvers, c.Landed.Authors, c.Landed.LandedBy)
		}
		told = append(told, text+" "+c.Checks)
	}
	want := `Bring merged: 3 top true, approved by [odo], by [tamsin], asked by tamsin passed
merged 0: 3 top false, approved by [odo], by [tamsin], asked by tamsin 
Bring squashed: 2 top true, approved by [odo], by [tamsin], asked by tamsin passed
rebased 1: 1 top true, approved by [odo], by [tamsin], asked by tamsin passed
rebased 0: 1 top false, approved by [odo], by [tamsin], asked by tamsin 
start `
	if got := strings.Join(told, "\n"); got != want {
		t.Errorf("history is\n%s", got)
	}
	has(t, w.says("pavo", 0, "APPROVED BY", "browse", "history", "--repo", repo), "with it")
	has(t, w.says("pavo", 0, "4-5", "browse", "blame", "story", "--repo", repo), "Bring squashed")
	w.says("pavo", 1, `no file "none"`, "browse", "blame", "none", "--repo", repo)
	w.says("pavo", 1, "not a path", "browse", "blame", "../x", "--repo", repo)
	// The same commits brought to another branch are told of by how they came there.
	w.must("ines", w.clone("ines"), "push", "-q", "origin", history[5].ID+":refs/heads/line")
	line, err := w.as("tamsin").OpenChange(ctx, repo, wire.NewChange{Source: "main", Target: "line", Title: "Bring main to the line"})
	w.ok(err)
	w.join("tamsin", line, "rebase")
	w.landed(line)
	for branch, want := range map[string]int{"main": 2, "line": 4} {
		on, err := w.as("pavo").History(ctx, repo, branch, 20)
		w.ok(err)
		for _, c := range on {
			if c.ID == history[2].ID && c.Change != want {
				t.Errorf("on %s, the squashed commit is of change %d, not %d", branch, c.Change, want)
			}
		}
	}
}
