package e2e

import (
	"strings"
	"testing"

	"tavrin/wire"
)

// Branches that are of no more use are listed, and deleted as by a push: never one that is protected, default, moved meanwhile, or
// that an open change is from or to.
func TestBranchesAreTidied(t *testing.T) {
	w := newTown(t)
	dir := w.begin(simple + "  - {name: lines, branches: 'release/**', push: role:maintainer, delete: never}\n")
	in := func(args ...string) []string {
		return append(append([]string{"repo", "tidy"}, args...), "--repo", repo)
	}
	w.says("tamsin", 0, "every branch is of use", in()...)
	k := w.land(w.propose("tamsin", "landed", "docs/a", "a\n"), "squash")
	w.land(w.propose("tamsin", "gone-on", "docs/b", "b\n"), "rebase")
	w.propose("tamsin", "open", "docs/c", "c\n")
	w.must("ines", dir, "fetch", "-q")
	w.must("ines", dir, "push", "-q", "origin", "origin/main:refs/heads/release/1", "origin/main:refs/heads/idle")
	w.must("ines", dir, "checkout", "-q", "-B", "gone-on", "origin/gone-on")
	w.commit("ines", dir, "docs/d", "d\n", "more")
	w.must("ines", dir, "push", "-q", "origin", "gone-on")
	has(t, w.says("tamsin", 0, "landed with change 1", in()...), "tavrin repo tidy --delete")
	if said := w.says("tamsin", 0, "idle", in("--stale", "1ns")...); !strings.Contains(said, "gone-on") || strings.Contains(said, "\nmain") || strings.Contains(said, "\nrelease") || strings.Contains(said, "\nopen") {
		t.Errorf("of no use are %s", said)
	}
	w.says("pavo", 1, "needs the role writer", in("--delete")...)
	done, err := w.as("odo").DeleteBranches(t.Context(), repo, []wire.BranchAt{{Name: "main", Commit: w.tip("main")}, {Name: "release/1", Commit: w.tip("release/1")}, {Name: "open", Commit: w.tip("open")},
		{Name: "gone-on", Commit: w.tip("landed")}, {Name: "nowhere", Commit: w.tip("main")}, {Name: "landed", Commit: k.Head}})
	w.ok(err)
	for i, why := range []string{"change 3 is open", "it is not deleted", "change 3 is open", "it stands at", "no such branch", ""} {
		if done[i].Deleted != (why == "") || !strings.Contains(done[i].Why, why) {
			t.Errorf("%s: %+v, want %q", done[i].Name, done[i], why)
		}
	}
	w.says("odo", 0, "deleted", in("--stale", "1ns", "--delete")...)
	w.says("odo", 0, "every branch is of use", in("--stale", "1ns")...)
	if said := w.must("ines", dir, "ls-remote", "--heads", "origin"); len(strings.Split(strings.TrimSpace(said), "\n")) != 3 {
		t.Errorf("there are %s", said)
	}
}
