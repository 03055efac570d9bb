package e2e

import (
	"os"
	"path/filepath"
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
	w.stands(k, "approvals", "missing", "the difference has changed since")
	// Fixups that are folded together with another alteration are a rewrite.
	w.commit("tamsin", dir, "a", "one\nthree\nfour\n", "fixup! add a")
	push()
	revision(6, "added")
	w.must("tamsin", dir, "reset", "-q", "--soft", "HEAD~2")
	w.ok(os.WriteFile(filepath.Join(dir, "a"), []byte("five\n"), 0o600))
	w.must("tamsin", dir, "commit", "-q", "-a", "-m", "add a")
	push()
	revision(7, "rewritten")
	journal, err := w.admin.JournalAfter(t.Context(), repo, 0, 500)
	w.ok(err)
	var said []string
	for _, l := range journal {
		said = append(said, l.Text)
	}
	has(t, strings.Join(said, "\n"), "revision 3 of change 1, which folds fixups and nothing else", "revision 4 of change 1, which brings the same difference, rebased")
}

// A change, an earlier revision and a rehearsal can be brought into a clone by one command, to try them there.
func TestFetchCommand(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	k := w.propose("tamsin", "topic", "a", "one\n")
	dir := w.clone("tamsin")
	w.must("tamsin", dir, "checkout", "-q", "topic")
	w.commit("tamsin", dir, "a", "two\n", "more")
	w.must("tamsin", dir, "push", "-q", "origin", "topic")
	now := w.until(k, "at revision 2", func(k wire.Change) bool { return k.Revision == 2 })
	mine := w.clone("odo")
	in := func(status int, words string, args ...string) {
		t.Helper()
		out, errOut, got := w.run("odo", mine, append([]string{"--repo", repo, "change", "fetch", "1"}, args...)...)
		if got != status || !strings.Contains(out+errOut, words) {
			t.Errorf("fetch %v ends with %d: %s%s", args, got, out, errOut)
		}
	}
	in(0, "revision 2 of change 1 is here as "+now.Head, "--checkout")
	if at := w.must("odo", mine, "rev-parse", "HEAD"); at != now.Head {
		t.Errorf("checked out is %s", at)
	}
	in(0, "revision 1 of change 1 is here as "+k.Head, "--revision", "1")
	in(1, "has no revision 9", "--revision", "9")
	in(1, "has no rehearsal now", "--rehearsal")
	w.approve("odo", now)
	w.join("tamsin", now, "rebase")
	in(0, "the rehearsal of change 1 is here as "+w.rehearsed(now), "--rehearsal")
}

// Reviews are asked for by hand too, of people and teams with access.
func TestAskForReview(t *testing.T) {
	w := newTown(t)
	w.begin(requiring("approvals: 1"))
	w.propose("tamsin", "topic", "a", "one\n")
	w.says("tamsin", 0, "asked to review  team:hydraulics  tamsin asked", "--repo", repo, "change", "ask", "1", "--who", "team:hydraulics")
	w.says("tamsin", 0, "told of it", "--repo", repo, "change", "ask", "1", "--who", "person:wren", "--optional")
	w.says("tamsin", 1, "nobody with access", "--repo", repo, "change", "ask", "1", "--who", "person:nosuch")
	w.says("tamsin", 1, "nobody with access", "--repo", repo, "change", "ask", "1", "--who", "wren")
	w.says("pavo", 1, "role writer", "--repo", repo, "change", "ask", "1", "--who", "person:wren")
	has(t, w.desk("odo"), "review growers/irrigation 1 asked=true")
	has(t, w.desk("wren"), "review growers/irrigation 1 asked=false")
}

// What a change would meet, before it is opened: nothing is recorded by asking.
func TestPreview(t *testing.T) {
	w := newTown(t)
	w.begin("tavrin: rules/1\nareas: {valves: {paths: valves/**, owners: team:hydraulics, require: [{approvals: 1}], reviewers: team:hydraulics}}\nprotect: [{name: trunk, branches: main, push: role:maintainer, require: [{approvals: 1}, {ticket: FEN}, {checks: unit}]}]\n")
	dir := w.clone("tamsin")
	w.must("tamsin", dir, "checkout", "-q", "-b", "topic")
	w.commit("tamsin", dir, "valves/a", "one\n", "add a")
	w.must("tamsin", dir, "push", "-q", "origin", "topic")
	before := len(w.kinds())
	v, err := w.as("tamsin").Preview(t.Context(), repo, "topic", "", "FEN-1")
	w.ok(err)
	if v.Conflict != "" || v.Commits != 1 || v.Files != 1 || v.Report.Ready || len(v.Reviewers) != 1 || v.Reviewers[0].Who != "team:hydraulics" || strings.Join(v.Areas.Enough, " ") != "odo" {
		t.Errorf("preview: %+v", v)
	}
	has(t, v.Report.Summary, "Not ready for main: needs 1 approval; needs 1 approval from an owner of valves (team:hydraulics).")
	mine := w.clone("ines")
	w.commit("ines", mine, "valves/a", "other\n", "add a otherwise")
	w.must("ines", mine, "push", "-q", "origin", "main")
	w.says("tamsin", 0, "it does not merge: ", "--repo", repo, "change", "preview", "--source", "topic")
	w.says("tamsin", 0, "would be asked: team:hydraulics", "--repo", repo, "change", "preview", "--source", "topic")
	w.says("tamsin", 1, "has no branch nosuch", "--repo", repo, "change", "preview", "--source", "nosuch")
	if after := len(w.kinds()); after != before+1 { // the push of ines
		t.Errorf("%d lines in the journal, then %d", before, after)
	}
	if all, err := w.as("tamsin").Changes(t.Context(), repo, wire.ChangeFilter{State: "all", Limit: 10}); err == nil && len(all) != 0 {
		t.Errorf("changes: %+v", all)
	}
}
