package e2e

import (
	"strings"
	"testing"

	"tavrin/wire"
)

// Each push makes a revision that says what it did to the one before; an approval outlives a clean rebase and a fold of
// fixups, and nothing else (P6). Ahead and behind are counted against the target.
func TestP6WhatARevisionBrings(t *testing.T) {
	w := newTown(t)
	w.begin(requiring("approvals: 1"))
	dir := w.clone("tamsin")
	w.must("tamsin", dir, "checkout", "-q", "-b", "topic")
	w.commit("tamsin", dir, "a", "one\n", "add a")
	w.must("tamsin", dir, "push", "-q", "origin", "topic")
	k := w.openChange("tamsin", "topic")
	revision := func(n int, kind string) {
		t.Helper()
		k = w.until(k, "revised", func(k wire.Change) bool { return k.Revision == n })
		all, err := w.as("pavo").Revisions(t.Context(), repo, k.Number)
		w.ok(err)
		if all[0].Kind != kind || all[0].Number != n {
			t.Errorf("revision %d is %q, not %q", all[0].Number, all[0].Kind, kind)
		}
	}
	push := func() { t.Helper(); w.must("tamsin", dir, "push", "-q", "--force", "origin", "topic") }
	revision(1, "first")
	w.commit("tamsin", dir, "a", "one\ntwo\n", "fixup! add a")
	push()
	revision(2, "added")
	w.approve("odo", k)
	w.stands(k, "approvals", "met", "")
	w.must("tamsin", dir, "reset", "-q", "--soft", "HEAD~2")
	w.must("tamsin", dir, "commit", "-q", "-m", "add a")
	push()
	revision(3, "folded")
	w.stands(k, "approvals", "met", "")
	w.land2(t, "elsewhere")
	w.apply(requiring("approvals: 1"))
	if v, err := w.as("pavo").Change(t.Context(), repo, k.Number); err != nil || v.Ahead != 1 || v.Behind != 1 {
		t.Errorf("%d ahead, %d behind: %v", v.Ahead, v.Behind, err)
	}
	w.says("pavo", 0, "1 ahead, 1 behind", "--repo", repo, "change", "show", "1")
	w.must("tamsin", dir, "fetch", "-q")
	w.must("tamsin", dir, "rebase", "-q", "origin/main")
	push()
	revision(4, "rebased")
	w.stands(k, "approvals", "met", "")
	w.commit("tamsin", dir, "a", "one\nthree\n", "x")
	w.must("tamsin", dir, "reset", "-q", "--soft", "HEAD~2")
	w.must("tamsin", dir, "commit", "-q", "-m", "add a")
	push()
	revision(5, "rewritten")
	w.stands(k, "approvals", "unmet", "the difference has changed since")
	journal, err := w.admin.JournalAfter(t.Context(), repo, 0, 500)
	w.ok(err)
	var said []string
	for _, l := range journal {
		said = append(said, l.Text)
	}
	has(t, strings.Join(said, "\n"), "revision 3 of change 1, which folds fixups and nothing else", "revision 4 of change 1, which brings the same difference, rebased")
}
