package git_test

import (
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"tavrin/internal/git"
	"tavrin/internal/git/workshop"
)

// What no ref reaches goes when it is old, and what a young object stands on stays with it; what refs reach stays whatever its age.
func TestPruneRemovesWhatNothingReaches(t *testing.T) {
	t.Parallel()
	w := workshop.New(t)
	ctx := t.Context()
	w.Write("a", "kept\n")
	kept := w.Commit("kept")
	w.Git("checkout", "-q", "-b", "gone")
	w.Write("old", "old\n")
	old := w.Commit("old")
	w.Git("checkout", "-q", "-b", "base", "main")
	w.Write("base", "base\n")
	base := w.Commit("base of a young one")
	w.Push()
	w.Git("--git-dir="+w.Bare, "repack", "-a", "-d", "-q")
	w.Git("--git-dir="+w.Bare, "update-ref", "-d", "refs/heads/gone")
	w.Git("--git-dir="+w.Bare, "update-ref", "-d", "refs/heads/base")
	now := time.Now()
	before := now.Add(-60 * 24 * time.Hour)
	filepath.WalkDir(filepath.Join(w.Bare, "objects"), func(path string, d os.DirEntry, err error) error {
		return errors.Join(err, os.Chtimes(path, before, before))
	})
	young, err := w.Repo.WriteCommit(ctx, "tree "+w.Git("rev-parse", base+"^{tree}")+"\nparent "+base+"\nauthor A <a> 1 +0000\ncommitter A <a> 1 +0000\n\nyoung\n")
	if err != nil {
		t.Fatal(err)
	}
	const fortnight, week = 14 * 24 * time.Hour, 7 * 24 * time.Hour
	prune := func(now time.Time) bool {
		t.Helper()
		done, err := w.Repo.Prune(ctx, now, fortnight, week)
		if err != nil {
			t.Fatal(err)
		}
		return done
	}
	if prune(now.Add(-week / 2)) {
		t.Error("a repository that was not looked at before is pruned at once")
	}
	if prune(now) {
		t.Error("it is pruned twice in a week")
	}
	later := now.Add(week)
	release := w.Repo.Place().Use()
	if _, err := w.Repo.Prune(ctx, later, fortnight, week); !errors.Is(err, git.ErrUsed) {
		t.Errorf("it is pruned while it is used: %v", err)
	}
	release()
	if !prune(later) || prune(later.Add(time.Hour)) {
		t.Error("it is to be pruned once")
	}
	for id, stays := range map[string]bool{kept: true, old: false, base: true, young: true} {
		if w.Repo.HasCommit(ctx, id) != stays {
			t.Errorf("%.10s is there: %v", id, !stays)
		}
	}
	if !prune(now.Add(3 * week)) {
		t.Error("it is pruned no more")
	}
	if w.Repo.HasCommit(ctx, young) || w.Repo.HasCommit(ctx, base) || !w.Repo.HasCommit(ctx, kept) {
		t.Error("what was young then stays for good, or too much goes")
	}
	if out, err := w.Try("--git-dir="+w.Bare, "fsck", "--full"); err != nil || strings.Contains(out, "missing") {
		t.Error(out)
	}
}

// Who wants to use a repository while it is pruned does not wait for that, and nothing half done is left.
func TestPruningGivesWay(t *testing.T) {
	w := workshop.New(t)
	w.Write("a", "a\n")
	head := w.Commit("a")
	w.Push()
	// A git that packs without end, and leaves what a real one would.
	path := t.TempDir()
	real, err := exec.LookPath("git")
	if err != nil {
		t.Fatal(err)
	}
	script := "#!/bin/sh\ncase \" $* \" in *\" repack \"*) touch objects/pack/.tmp-7-pack-x objects/pack/tmp_pack_y; exec sleep 600;; esac\nexec " + real + " \"$@\"\n"
	if err := os.WriteFile(path+"/git", []byte(script), 0o755); err != nil {
		t.Fatal(err)
	}
	t.Setenv("PATH", path+":"+os.Getenv("PATH"))
	now := time.Now()
	if _, err := w.Repo.Prune(t.Context(), now.Add(-time.Hour), 0, time.Minute); err != nil { // the first look
		t.Fatal(err)
	}
	ended := make(chan error)
	go func() {
		_, err := w.Repo.Prune(t.Context(), now, 0, time.Minute)
		ended <- err
	}()
	for range 1000 {
		if _, err := os.Stat(w.Bare + "/objects/pack/tmp_pack_y"); err == nil {
			break
		}
		time.Sleep(5 * time.Millisecond)
	}
	if err := w.Repo.MoveRefs(t.Context(), git.Move{Ref: "refs/heads/other", New: head}); err != nil { // as a push, a landing does
		t.Error(err)
	}
	if err := <-ended; !errors.Is(err, git.ErrUsed) {
		t.Errorf("the pruning ended with %v", err)
	}
	if left, _ := filepath.Glob(w.Bare + "/objects/pack/*tmp*"); len(left) > 0 {
		t.Errorf("%v are left", left)
	}
	if left, _ := filepath.Glob(w.Bare + "/objects/pack/.tmp*"); len(left) > 0 {
		t.Errorf("%v are left", left)
	}
}
