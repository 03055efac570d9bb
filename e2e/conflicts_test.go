package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"tavrin/internal/core/change"
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
