package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"tavrin/internal/service"
	"tavrin/wire"
)

const lenient = "tavrin: rules/1\nprotect:\n  - {name: trunk, branches: main, push: nobody, require: [{checks: unit}]}\n"

// imported makes branches from a stream of git fast-import, on top of main.
func (w *town) imported(dir, stream string) {
	w.t.Helper()
	cmd := exec.Command("git", "fast-import", "--quiet", "--force")
	cmd.Dir, cmd.Stdin = dir, strings.NewReader(stream)
	if out, err := cmd.CombinedOutput(); err != nil {
		w.t.Fatalf("%v: %s", err, out)
	}
}

// A branch of 5,000 commits, or of 100,000 files, is kept; as a change it is refused with the bound and its number, and the
// service goes on meanwhile.
func TestVeryLargeChanges(t *testing.T) {
	w := newTown(t)
	w.begin(lenient)
	dir := w.nearby("tamsin")
	main := w.tip("main")
	var many, wide strings.Builder
	const who = "Tamsin Holt <tamsin@fennmoor.example> 1790000000 +0000"
	for i := range 5000 {
		from := ""
		if i == 0 {
			from = "from " + main + "\n"
		}
		fmt.Fprintf(&many, "commit refs/heads/many\ncommitter %s\ndata 1\nx\n%sM 644 inline f\ndata %d\n%d\n", who, from, len(fmt.Sprint(i)), i)
	}
	fmt.Fprintf(&wide, "blob\nmark :1\ndata 1\nx\ncommit refs/heads/wide\ncommitter %s\ndata 1\nx\nfrom %s\n", who, main)
	for i := range 100_000 {
		fmt.Fprintf(&wide, "M 644 :1 d%d/f%d\n", i/500, i)
	}
	w.imported(dir, many.String()+wide.String())
	w.must("tamsin", dir, "push", "-q", "origin", "many", "wide")
	small := w.propose("wren", "small", "a", "a\n")
	for branch, says := range map[string]string{"many": "5000 commits; the bound change.commits is 2000 commits", "wide": "100000 files; the bound change.paths is 50000 paths"} {
		_, err := w.as("tamsin").OpenChange(t.Context(), repo, wire.NewChange{Source: branch, Title: branch})
		if err == nil || !strings.Contains(err.Error(), strings.SplitN(says, "; ", 2)[1]) {
			t.Errorf("%s: %v", branch, err)
		}
	}
	w.join("wren", small, "rebase")
	w.answerUntil(small)
}

// What a tree may hold that is odd lands, or is refused in plain words: links that lead round, a submodule, a folder where the
// other side has a file, names that differ in case only, and a branch that shares no history.
func TestOddTreesLand(t *testing.T) {
	w := newTown(t)
	w.begin(lenient)
	dir := w.nearby("tamsin")
	begin := func(branch string) {
		w.must("tamsin", dir, "fetch", "-q")
		w.must("tamsin", dir, "checkout", "-q", "-f", "-B", branch, "origin/main")
		w.must("tamsin", dir, "clean", "-q", "-f", "-d")
	}
	open := func(branch string) wire.Change {
		w.must("tamsin", dir, "add", "-A")
		w.must("tamsin", dir, "commit", "-q", "--allow-empty", "-m", branch)
		w.must("tamsin", dir, "push", "-q", "origin", branch)
		return w.openChange("tamsin", branch)
	}
	land := func(k wire.Change, strategy string) {
		t.Helper()
		w.join("tamsin", k, strategy)
		w.answerUntil(k)
	}
	begin("links")
	for from, to := range map[string]string{"round": "about", "about": "round", "self": "self", "out": "../../../etc", "here": "."} {
		w.ok(os.Symlink(to, filepath.Join(dir, from)))
	}
	links := open("links")
	w.says("pavo", 0, "about", "change", "diff", fmt.Sprint(links.Number), "--repo", repo)
	land(links, "squash")
	w.says("pavo", 0, "round", "browse", "files", "--repo", repo)

	begin("module")
	w.must("tamsin", dir, "update-index", "--add", "--cacheinfo", "160000,"+strings.Repeat("4", 40)+",pump")
	w.must("tamsin", dir, "commit", "-q", "-m", "module")
	w.must("tamsin", dir, "push", "-q", "origin", "module")
	module := w.openChange("tamsin", "module")
	begin("module2")
	w.must("tamsin", dir, "update-index", "--add", "--cacheinfo", "160000,"+strings.Repeat("5", 40)+",pump")
	w.must("tamsin", dir, "commit", "-q", "-m", "module2")
	w.must("tamsin", dir, "push", "-q", "origin", "module2")
	module2 := w.openChange("tamsin", "module2")
	land(module, "rebase")
	w.join("tamsin", module2, "merge")
	if now := w.ejected(module2); !strings.Contains(now.Entry.Reason, "pump (a submodule, on which both sides went different ways)") {
		t.Errorf("the submodule: %s", now.Entry.Reason)
	}

	begin("folder")
	w.must("tamsin", dir, "rm", "-q", "-f", "--cached", "pump")
	begin("file")
	w.ok(os.WriteFile(filepath.Join(dir, "clash"), []byte("a file\n"), 0o644))
	file := open("file")
	begin("folder")
	w.ok(os.MkdirAll(filepath.Join(dir, "clash"), 0o755))
	w.ok(os.WriteFile(filepath.Join(dir, "clash", "inside"), []byte("in a folder\n"), 0o644))
	folder := open("folder")
	land(file, "squash")
	w.join("tamsin", folder, "squash")
	if now := w.ejected(folder); !strings.Contains(now.Entry.Reason, "conflicts with the target in clash") {
		t.Errorf("a folder and a file: %s", now.Entry.Reason)
	}
	w.says("pavo", 0, "clash", "change", "conflicts", fmt.Sprint(folder.Number), "--repo", repo)

	begin("cases")
	w.ok(os.WriteFile(filepath.Join(dir, "ReadMe.md"), []byte("another\n"), 0o644))
	cases := open("cases")
	land(cases, "merge")
	w.must("tamsin", dir, "checkout", "-q", "--orphan", "stranger")
	w.must("tamsin", dir, "commit", "-q", "-m", "of no family")
	w.must("tamsin", dir, "push", "-q", "origin", "stranger")
	_, err := w.as("tamsin").OpenChange(t.Context(), repo, wire.NewChange{Source: "stranger", Title: "x"})
	problem(t, err, 422, "share no history")
}

// A target that goes, or is moved by force, while a change for it is rehearsed: the change leaves with that reason, or is rehearsed
// anew where the target stands now. What moves it is a push that the rules allow.
func TestATargetThatMovesMeanwhile(t *testing.T) {
	w := newTown(t)
	w.begin("tavrin: rules/1\nprotect:\n  - {name: lines, branches: line/*, push: role:maintainer, rewrite: allowed, delete: allowed, require: [{checks: unit}]}\n")
	dir := w.nearby("ines")
	w.must("ines", dir, "push", "-q", "origin", "origin/main:refs/heads/line/1")
	mine := w.nearby("tamsin")
	propose := func(branch string) wire.Change {
		w.must("tamsin", mine, "fetch", "-q", "origin", "line/1")
		w.must("tamsin", mine, "checkout", "-q", "-B", branch, "FETCH_HEAD")
		w.commit("tamsin", mine, branch, "a\n", branch)
		w.must("tamsin", mine, "push", "-q", "origin", branch)
		k, err := w.as("tamsin").OpenChange(t.Context(), repo, wire.NewChange{Source: branch, Target: "line/1", Title: branch})
		w.ok(err)
		w.join("tamsin", k, "rebase")
		return k
	}
	k := propose("forced")
	before := w.rehearsed(k)
	w.must("ines", dir, "checkout", "-q", "--orphan", "anew")
	w.commit("ines", dir, "other", "other\n", "begun anew")
	w.must("ines", dir, "push", "-q", "-f", "origin", "HEAD:line/1")
	anew := w.head(dir)
	w.until(k, "rehearsed anew", func(k wire.Change) bool {
		return k.Entry.Rehearsal != nil && k.Entry.Rehearsal.Base == anew && k.Entry.Rehearsal.Commit != "" && k.Entry.Rehearsal.Commit != before
	})
	w.answerUntil(k)
	w.must("ines", dir, "fetch", "-q", "origin", "line/1")
	if held := strings.Fields(w.must("ines", dir, "ls-tree", "--name-only", "FETCH_HEAD")); !slices.Contains(held, "forced") || !slices.Contains(held, "other") {
		t.Errorf("line/1 holds %v", held)
	}
	w.must("ines", dir, "push", "-q", "-f", "origin", "origin/main:line/1")
	k = propose("gone")
	w.rehearsed(k)
	w.must("ines", dir, "push", "-q", "origin", ":line/1")
	if now := w.ejected(k); !strings.Contains(now.Entry.Reason, "the target branch line/1 is gone") {
		t.Errorf("its target gone, it leaves with %q", now.Entry.Reason)
	}
	w.says("admin", 0, "unbroken", "journal", "verify")
}

// A clock that jumps, back or ahead, loses nothing and holds nothing up.
func TestAClockThatJumps(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	w.close()
	var ahead atomic.Int64
	w.open(service.Options{Now: func() time.Time { return time.Now().Add(time.Duration(ahead.Load())) }})
	w.admin = w.as("admin")
	for i, jump := range []time.Duration{-49 * time.Hour, 49 * time.Hour, -time.Second} {
		k := w.propose("tamsin", fmt.Sprintf("topic-%d", i), fmt.Sprintf("f%d", i), "a\n")
		w.approve("odo", k)
		w.join("tamsin", k, "squash")
		commit := w.rehearsed(k)
		ahead.Add(int64(jump))
		w.report(commit, "unit", "passed")
		w.landed(k)
	}
	w.close()
	w.reopen()
	w.says("admin", 0, "unbroken", "journal", "verify")
}

// A disk that fills in the middle, of a push, of a rehearsal, of a landing: whoever pushes is told, nobody is ejected, nothing is half
// done, and all of it goes on when there is room.
func TestADiskThatFillsInTheMiddle(t *testing.T) {
	w := aloneTown(t)
	w.begin(lenient)
	dir := w.nearby("tamsin")
	w.must("tamsin", dir, "checkout", "-q", "-b", "topic", "origin/main")
	w.commit("tamsin", dir, "a", "a\n", "a")
	full := func(when string) (mend func()) {
		return w.sabotage(fmt.Sprintf(`case "$*" in %s) echo "fatal: write error: No space left on device" >&2; exit 128 ;; esac`, when))
	}
	mend := full(`*index-pack*`)
	out, err := w.gitAs("tamsin", dir, "push", "origin", "topic")
	if err == nil || w.tip("topic") != "" {
		t.Errorf("a push that could not be written: %v %s", err, out)
	}
	mend()
	w.must("tamsin", dir, "push", "-q", "origin", "topic")
	k := w.openChange("tamsin", "topic")
	mend = full(`*pack-objects*`)
	w.join("tamsin", k, "squash")
	w.until(k, "resting", func(k wire.Change) bool {
		return k.Entry != nil && k.Entry.State == "queued" && strings.Contains(k.Entry.Reason, "which is not about the change")
	})
	mend()
	commit := w.rehearsed(k)
	before := w.tip("main")
	mend = full(`*"update-ref -z --stdin"*`)
	w.report(commit, "unit", "passed")
	w.until(k, "held up", func(k wire.Change) bool {
		return k.Entry.State != "landed" && strings.Contains(k.Entry.Reason, "No space left")
	})
	if w.tip("main") != before {
		t.Error("main has moved")
	}
	mend()
	w.answerUntil(k)
	w.says("admin", 0, "unbroken", "journal", "verify")
	if n := strings.Count(strings.Join(w.kinds(), " "), "queue.ejected"); n != 0 {
		t.Errorf("somebody was ejected: %d", n)
	}
}
