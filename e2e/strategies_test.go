package e2e

import (
	"fmt"
	"strings"
	"testing"

	"tavrin/internal/core/change"
)

// Every strategy lands through the queue, mixed in one line: the branch then stands at a commit whose own check passed (P2), the
// history is as each says, and what is signed and in the journal agrees with it (P10).
func TestP2EveryStrategyLands(t *testing.T) {
	w := newTown(t)
	w.begin(`tavrin: rules/1
protect:
  - name: trunk
    branches: main
    push: nobody
    require: [{checks: unit}, {fixups: none}, {messages: '^[a-z]+: |^fixup! '}]
    land: {message: "docs: {title}"}
`)
	dir, theirs := w.nearby("tamsin"), w.nearby("ines")
	parents := func(rev string) int {
		return len(strings.Fields(w.must("ines", theirs, "rev-list", "--max-count=1", "--parents", rev))) - 1
	}
	subjects := func(from, to string) string {
		return strings.Join(strings.Split(strings.TrimSpace(w.must("ines", theirs, "log", "--reverse", "--topo-order", "--format=%s", from+".."+to)), "\n"), " | ")
	}
	for i, s := range change.Strategies {
		before := w.tip("main")
		branch := fmt.Sprintf("topic-%d", i)
		w.must("tamsin", dir, "fetch", "-q")
		w.must("tamsin", dir, "checkout", "-q", "-B", branch, "origin/main")
		path := fmt.Sprintf("docs/%d", i)
		w.commit("tamsin", dir, path, lines(3, map[int]string{1: path}), "docs: one")
		if s.One() || s == change.Fold {
			w.commit("tamsin", dir, path, "two of "+path+"\n", "fixup! docs: one")
		} else {
			w.commit("tamsin", dir, path, "two of "+path+"\n", "docs: two")
		}
		w.must("tamsin", dir, "push", "-q", "origin", branch)
		head := w.head(dir)
		k := w.openChange("tamsin", branch)
		preview, err := w.as("odo").PreviewLanding(t.Context(), repo, k.Number, string(s), "")
		w.ok(err)
		w.join("tamsin", k, string(s))
		rehearsed := w.rehearsed(k)
		w.report(rehearsed, "unit", "passed")
		w.landed(k)
		w.must("ines", theirs, "fetch", "-q")
		tip := w.tip("main")
		if tip != rehearsed {
			t.Errorf("%s: main is at %s, and %s was rehearsed", s, tip, rehearsed)
		}
		final := "docs: Bring " + branch
		want := map[change.Strategy]string{
			change.Rebase: "docs: one | docs: two", change.Squash: final, change.Merge: "docs: one | docs: two | " + final, change.Fold: "docs: one", change.FastForward: "docs: one | docs: two",
			change.SquashThenMerge: final + " | " + final, change.RebaseThenMerge: "docs: one | docs: two | " + final,
		}[s]
		if got := subjects(before, tip); got != want {
			t.Errorf("%s lands %q, not %q", s, got, want)
		}
		var foreseen []string
		for _, c := range preview.Commits {
			foreseen = append([]string{c.Subject}, foreseen...)
		}
		if got := strings.Join(foreseen, " | "); got != want || preview.Obstacle != "" || preview.Strategy != s {
			t.Errorf("%s was to land %q: %+v", s, got, preview)
		}
		if text := w.must("ines", theirs, "show", "-s", "--format=%b", tip); strings.TrimSpace(text) != strings.TrimSpace(preview.Commits[0].Body) || preview.Commits[0].Parents != parents(tip) ||
			preview.Commits[0].Kept != (tip == head) {
			t.Errorf("%s was to land as %+v, and says %q", s, preview.Commits[0], text)
		}
		if merged := parents(tip) == 2; merged == s.Linear() {
			t.Errorf("%s makes a merge commit: %v", s, merged)
		}
		if s == change.FastForward && tip != head {
			t.Errorf("it is not forwarded to %s", head)
		}
		if text := w.must("ines", theirs, "show", "-s", "--format=%B", tip); strings.Contains(text, "Landed-change: growers/irrigation") != s.Final() {
			t.Errorf("%s says %q", s, text)
		}
		if text := w.must("ines", theirs, "show", tip+":"+path); strings.TrimSpace(text) != "two of "+path {
			t.Errorf("%s brings %q", s, text)
		}
		w.statement(k)
	}
	// a fast-forward of what has been left behind says what would do
	w.must("tamsin", dir, "checkout", "-q", "-B", "again", "origin/main~1")
	w.commit("tamsin", dir, "docs/again", "a\n", "docs: again")
	w.must("tamsin", dir, "push", "-q", "origin", "again")
	k := w.openChange("tamsin", "again")
	w.says("odo", 0, "by fast-forward nothing would come to main: by fast-forward nothing can be written", "queue", "preview", "8", "--strategy", "fast-forward", "--repo", repo)
	w.says("odo", 0, "The final message:", "queue", "preview", "8", "--strategy", "merge", "--repo", repo)
	w.says("odo", 1, "is not allowed", "queue", "preview", "8", "--strategy", "tea", "--repo", repo)
	w.join("tamsin", k, string(change.FastForward))
	if now := w.ejected(k); !strings.Contains(now.Entry.Reason, "the target has commits that the branch does not have: join again with --strategy rebase") {
		t.Errorf("it is ejected with %q", now.Entry.Reason)
	}
	// what landed is taken back by a change like any other
	w.says("tamsin", 1, "change 8 is open, so there is nothing to undo", "change", "undo", "8", "--reason", "x", "--repo", repo)
	w.says("tamsin", 2, "reason", "change", "undo", "2", "--repo", repo)
	w.says("odo", 0, "opened change 9 from undo-2: Undo change 2: Bring topic-1", "change", "undo", "2", "--reason", "it floods", "--repo", repo)
	undo, err := w.as("odo").Change(t.Context(), repo, 9)
	w.ok(err)
	if undo.OpenedBy != "odo" || !strings.Contains(undo.Description, "it floods") || undo.Files != 1 || undo.Removed != 1 {
		t.Errorf("it is opened as %+v", undo)
	}
	w.join("odo", undo, string(change.Squash))
	w.report(w.rehearsed(undo), "unit", "passed")
	w.landed(undo)
	w.must("ines", theirs, "fetch", "-q")
	if held := w.must("ines", theirs, "ls-tree", "--name-only", w.tip("main"), "docs/"); strings.Contains(held, "docs/1\n") || !strings.Contains(held, "docs/2\n") {
		t.Errorf("main holds %s", held)
	}
	w.says("odo", 1, "nothing is left on main of what change 2 landed", "change", "undo", "2", "--reason", "again", "--repo", repo)
	w.says("odo", 0, "opened change 10 from undo-9", "change", "undo", "9", "--reason", "it is dry again", "--repo", repo)
	w.says("admin", 0, "unbroken", "journal", "verify")
}
