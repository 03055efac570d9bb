package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"tavrin/internal/service"
	"tavrin/wire"
)

// What is checked out can be previewed without a branch; nobody's clone brings it, nothing lands from it, and it goes away.
func TestPreviewSpaces(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	ctx := t.Context()
	dir := w.clone("tamsin")
	commit := w.commit("tamsin", dir, "valves/a", "a\n", "FEN-3: a")
	out, errOut, status := w.run("tamsin", dir, "change", "preview", "--here")
	if status != 0 {
		t.Fatalf("preview ended with %d: %s", status, errOut)
	}
	has(t, out, "refs/preview/tamsin/"+commit[:10]+" to main: 1 commit, 1 file", "it merges", "an owner of valves")
	if out, errOut, status = w.run("tamsin", dir, "change", "preview", "--here"); status != 0 { // once more: it is there already
		t.Errorf("again: %d %s%s", status, out, errOut)
	}
	w.says("tamsin", 2, "at least one of the flags", "change", "preview", "--repo", repo)
	w.says("tamsin", 1, "has nothing at refs/preview/tamsin/none", "change", "preview", "--source", "refs/preview/tamsin/none", "--repo", repo)
	if refs := w.must("ines", w.dir, "ls-remote", w.gitURL()); strings.Contains(refs, "refs/preview") || !strings.Contains(refs, "refs/heads/main") {
		t.Errorf("others are shown it:\n%s", refs)
	}
	_, err := w.as("tamsin").OpenChange(ctx, repo, wire.NewChange{Source: "refs/preview/tamsin/" + commit[:10], Title: "From nowhere"})
	problem(t, err, 422, "reads like the full name of another ref")
	if out, err := w.gitAs("wren", dir, "push", "origin", "HEAD:refs/preview/tamsin/mine"); err == nil {
		t.Errorf("somebody else pushed there:\n%s", out)
	}
	has(t, strings.Join(w.kinds(), " "), "preview.created")

	later := time.Now().Add(8 * 24 * time.Hour)
	w.close()
	w.open(service.Options{Now: func() time.Time { return later }})
	w.ok(w.service.Repositories.Tidy(ctx))
	w.admin = w.as("admin")
	_, err = w.as("tamsin").Preview(ctx, repo, "refs/preview/tamsin/"+commit[:10], "", "")
	problem(t, err, 422, "has nothing at")
}

// A change's command checks run on the machine at hand, in a checkout of their own.
func TestTryHere(t *testing.T) {
	w := newTown(t)
	w.begin("tavrin: rules/1\nchecks:\n  unit: {command: \"test -f a && echo running && test -z \\\"$TAVRIN_TOKEN\\\"\"}\n  slow: {command: \"grep -q good a\"}\nprotect:\n  - {name: trunk, branches: main, require: [{checks: [unit, slow, lint]}]}\n")
	w.propose("tamsin", "topic", "a", "bad\n")
	dir := w.clone("wren")
	out, errOut, status := w.run("wren", dir, "change", "check", "1")
	if status != 3 {
		t.Fatalf("ended with %d: %s%s", status, out, errOut)
	}
	has(t, errOut, "running 2 checks of revision 1 of change 1", "-- unit: test -f a", "running")
	for _, line := range strings.Split(out, "\n") {
		if strings.HasPrefix(line, "unit") && !strings.Contains(line, "passed") || strings.HasPrefix(line, "slow") && !strings.Contains(line, "failed") {
			t.Errorf("%s", line)
		}
	}
	if out, _, status = w.run("wren", dir, "change", "check", "1", "--check", "unit"); status != 0 || strings.Contains(out, "slow") {
		t.Errorf("one check: %d %s", status, out)
	}
	if _, errOut, status = w.run("wren", dir, "change", "check", "1", "--check", "lint"); status != 1 || !strings.Contains(errOut, `check "lint" is not a command`) {
		t.Errorf("a check from outside: %d %s", status, errOut)
	}
	if _, errOut, status = w.run("wren", dir, "change", "check", "1", "--rehearsal"); status != 1 || !strings.Contains(errOut, "has no rehearsal now") {
		t.Errorf("no rehearsal: %d %s", status, errOut)
	}
	if _, err := os.Stat(filepath.Join(dir, "a")); err == nil || w.must("wren", dir, "worktree", "list") == "" || strings.Count(w.must("wren", dir, "worktree", "list"), "\n") > 0 {
		t.Error("the clone was touched")
	}

}
