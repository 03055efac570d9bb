package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"tavrin/internal/core/change"
	"tavrin/wire"
)

// Where a change and its target do not go together is shown with both sides, and whose change touched the file since; the
// commands that are named resolve it.
func TestConflictsAreShownAndResolved(t *testing.T) {
	w := newTown(t)
	dir := w.begin(strings.Replace(simple, "approvals: 1", "objections: none", 1))
	k := w.propose("tamsin", "tamsin/lines", "README.md", lines(20, map[int]string{4: "tamsin's\x1b[31m"}))
	w.says("pavo", 0, "go together", "change", "conflicts", "1", "--repo", repo)
	other := w.propose("odo", "odo/lines", "README.md", lines(20, map[int]string{4: "odo's"}))
	w.join("odo", other, string(change.Squash))
	w.report(w.rehearsed(other), "unit", "passed")
	w.landed(other)
	said := w.says("pavo", 0, "README.md, touched by change 2 since", "change", "conflicts", "1", "--repo", repo)
	if !strings.Contains(said, "<<<<<<< main\n    odo's\n    =======\n    tamsin's") || !strings.Contains(said, ">>>>>>> change 1 (tamsin/lines)") || strings.Contains(said, "\x1b") {
		t.Errorf("it is shown as %q", said)
	}
	v, err := w.as("pavo").Conflicts(t.Context(), repo, 1)
	w.ok(err)
	work := w.nearby("tamsin")
	for _, command := range v.Commands {
		for step := range strings.SplitSeq(command, " && ") {
			args := strings.Fields(strings.TrimPrefix(step, "git "))
			if args[0] == "add" {
				w.ok(os.WriteFile(filepath.Join(work, "README.md"), []byte(lines(20, map[int]string{4: "both's"})), 0o644))
			}
			out, err := w.gitAs("tamsin", work, append([]string{"-c", "core.editor=true"}, args...)...)
			if conflicts := args[0] == "rebase" && args[1] != "--continue"; (err != nil) != conflicts {
				t.Errorf("git %v: %v, %s", args, err, out)
			}
		}
	}
	w.says("pavo", 0, "go together", "change", "conflicts", "1", "--repo", repo)
	w.must("ines", dir, "fetch", "-q")
	now := w.as("tamsin")
	again, err := now.Change(t.Context(), repo, k.Number)
	w.ok(err)
	w.join("tamsin", again, string(change.Rebase))
	w.report(w.rehearsed(again), "unit", "passed")
	w.landed(again)
	w.says("pavo", 1, "change 1 is landed, so it conflicts with nothing", "change", "conflicts", "1", "--repo", repo)
}

// Nobody has to ask: who pushes is told in their terminal, and a change's people when it is opened, when something else lands, and
// when it goes together again, each once. A change that touches nothing of what moved is not tried again.
func TestConflictsAreToldUnasked(t *testing.T) {
	w := newTown(t)
	w.begin(strings.Replace(simple, "approvals: 1", "objections: none", 1))
	dir := w.nearby("tamsin")
	branch := func(name, from, path, text string) {
		w.must("tamsin", dir, "fetch", "-q")
		w.must("tamsin", dir, "checkout", "-q", "-B", name, from)
		w.commit("tamsin", dir, path, text, "edit "+path)
		w.must("tamsin", dir, "push", "-q", "-f", "origin", name)
	}
	old := strings.TrimSpace(w.must("tamsin", dir, "rev-parse", "origin/main"))
	found := func(k wire.Change, files ...string) wire.Change {
		t.Helper()
		return w.until(k, "conflicts in "+strings.Join(files, ", "), func(k wire.Change) bool { return slices.Equal(k.Conflicts, files) })
	}
	told := func(kind string, number int) (n int) {
		t.Helper()
		lines, err := w.admin.Journal(t.Context(), repo, 500)
		w.ok(err)
		for _, l := range lines {
			if l.Kind == kind && l.Subject == fmt.Sprintf("change/%d", number) {
				n++
			}
		}
		return n
	}
	branch("mine", old, "README.md", lines(20, map[int]string{4: "tamsin's"}))
	mine := w.openChange("tamsin", "mine")
	branch("apart", old, "docs/apart", "apart\n")
	apart := w.openChange("tamsin", "apart")
	branch("early", old, "README.md", lines(20, map[int]string{4: "early"}))
	early := w.openChange("tamsin", "early")
	w.join("tamsin", early, "rebase")
	w.report(w.rehearsed(early), "unit", "passed")
	w.landed(early)
	// something else has landed
	mine = found(mine, "README.md")
	w.says("tamsin", 0, "with main in README.md: tavrin change conflicts 1", "change", "show", "1", "--repo", repo)
	w.says("tamsin", 0, "> tavrin change conflicts 1", "desk")
	w.says("pavo", 0, "Bring mine (conflicts with main)", "change", "list", "--repo", repo)
	w.says("tamsin", 0, "revision 1 of change 1 does not go together with main in README.md, since change 3 landed", "notifications")
	if desk, err := w.as("odo").Desk(t.Context()); err != nil || slices.ContainsFunc(desk, func(i wire.DeskItem) bool { return i.Kind == "conflict" }) {
		t.Errorf("odo, who has no part in it, is told: %+v, %v", desk, err)
	}
	// it may join all the same, and is told what would become of it
	w.says("tamsin", 0, "it does not go together with main in README.md, and would leave the queue when its turn comes", "queue", "join", "1", "--repo", repo)
	w.ejected(mine)
	// whoever pushes to it hears of it at once
	w.must("tamsin", dir, "checkout", "-q", "mine")
	w.commit("tamsin", dir, "docs/more", "more\n", "more")
	out, err := w.gitAs("tamsin", dir, "push", "origin", "mine")
	w.ok(err)
	has(t, out, "Change 1 does not go together with main in README.md: tavrin change conflicts 1 --repo "+repo)
	if n := told("change.conflict-found", 1); n != 2 { // of each revision
		t.Errorf("it was told %d times", n)
	}
	// opened when it is too late already
	branch("late", old, "README.md", lines(20, map[int]string{4: "late"}))
	late := found(w.openChange("tamsin", "late"), "README.md")
	if changes, err := w.as("pavo").Changes(t.Context(), repo, wire.ChangeFilter{}); err != nil || len(changes) != 3 || len(changes[0].Conflicts) != 1 || len(changes[1].Conflicts) != 0 {
		t.Errorf("listed as %+v, %v", changes, err)
	}
	// resolved
	w.must("tamsin", dir, "checkout", "-q", "-B", "late", "origin/main")
	w.must("tamsin", dir, "fetch", "-q")
	branch("late", "origin/main", "docs/late", "late\n")
	found(late)
	if n := told("change.conflict-gone", late.Number); n != 1 {
		t.Errorf("it was told %d times that it is gone", n)
	}
	if n := told("change.conflict-found", apart.Number) + told("change.conflict-gone", apart.Number); n != 0 {
		t.Errorf("change %d conflicts with nothing, and was told of %d times", apart.Number, n)
	}
	// what was not tried before the end is tried after the start
	w.close()
	w.ok(os.WriteFile(filepath.Join(dir, "docs", "x"), nil, 0o644))
	w.reopen()
	w.must("tamsin", dir, "remote", "set-url", "origin", w.gitURL())
	branch("over", old, "README.md", lines(20, map[int]string{4: "over"}))
	over := w.openChange("tamsin", "over")
	w.close()
	w.reopen()
	found(over, "README.md")
	_, err = w.as("tamsin").CloseChange(t.Context(), repo, over.Number)
	w.ok(err)
	found(over)
	w.says("admin", 0, "unbroken", "journal", "verify")
}
