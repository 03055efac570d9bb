package rehearsal

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"tavrin/internal/git/workshop"
)

// children are the git processes that this program has started and that run in a folder.
func children(t *testing.T, dir string) (pids []int) {
	t.Helper()
	tasks, err := filepath.Glob("/proc/self/task/*/children")
	if err != nil {
		t.Fatal(err)
	}
	for _, task := range tasks {
		text, _ := os.ReadFile(task) // a thread may have ended
		for _, f := range strings.Fields(string(text)) {
			if at, err := os.Readlink("/proc/" + f + "/cwd"); err == nil && at == dir {
				var pid int
				fmt.Sscan(f, &pid)
				pids = append(pids, pid)
			}
		}
	}
	return pids
}

// twoBranches makes main and topic, which go together.
func twoBranches(w *shop) (base, head string) {
	w.Write("a", workshop.Lines(20, nil))
	w.Commit("start")
	w.Git("checkout", "-q", "-b", "topic")
	w.Write("a", workshop.Lines(20, map[int]string{2: "topic"}))
	w.Commit("topic")
	w.Git("checkout", "-q", "main")
	w.Write("a", workshop.Lines(20, map[int]string{12: "main"}))
	w.Commit("main")
	w.Push()
	return w.Git("rev-parse", "main"), w.Git("rev-parse", "topic")
}

// One rehearsal after another is built by the same processes, and leaves no more behind than its objects, in one pack.
func TestAHundredRehearsalsInARow(t *testing.T) {
	w := newShop(t)
	base, head := twoBranches(w)
	var started atomic.Int64
	w.Program.Started = func([]string) { started.Add(1) }
	build := func(i int) {
		t.Helper()
		p := plan(every[i%3], base, head)
		p.Committer.When = p.Committer.When.Add(time.Duration(i) * time.Hour)
		if _, err := Build(t.Context(), w.Repo, p); err != nil {
			t.Fatal(err)
		}
	}
	build(0)
	first := started.Load()
	build(3)
	if again := started.Load() - first; again > first-3 {
		t.Errorf("the first started %d processes, the second %d", first, again)
	}
	open := func() int {
		names, err := os.ReadDir("/proc/self/fd")
		if err != nil {
			t.Fatal(err)
		}
		return len(names)
	}
	memory := func() (kilobytes int) {
		for _, pid := range children(t, w.Bare) {
			text, _ := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
			_, after, _ := strings.Cut(string(text), "VmRSS:")
			var n int
			fmt.Sscan(after, &n)
			kilobytes += n
		}
		return kilobytes
	}
	files, held, crew := open(), memory(), children(t, w.Bare)
	for i := range 120 { // more than one crew serves
		build(i + 4)
	}
	if now := children(t, w.Bare); slices.Equal(now, crew) {
		t.Errorf("%v serve for ever, and remember all they have read", now)
	}
	if now := open(); now > files+4 {
		t.Errorf("%d files were open, %d are", files, now)
	}
	if now := len(children(t, w.Bare)); now > 3 {
		t.Errorf("%d processes rest", now)
	}
	if now := memory(); now > 2*held+8<<10 {
		t.Errorf("the processes held %d kB, and hold %d", held, now)
	}
	if loose, _ := filepath.Glob(w.Bare + "/objects/??/*"); len(loose) > 60 { // those of the push
		t.Errorf("%d loose objects", len(loose))
	}
	if left, _ := filepath.Glob("/dev/shm/" + filepath.Base(w.Repo.Place().Memory()) + "*/??"); len(left) > 0 {
		t.Errorf("a crew at rest holds %v", left)
	}
	if out, err := w.Try("--git-dir="+w.Bare, "fsck", "--full", "--no-dangling"); err != nil {
		t.Error(out)
	}
}

// A process that dies while it rests is replaced, whichever it is, and so is what was cleared away under it.
func TestACrewThatDiesIsReplaced(t *testing.T) {
	w := newShop(t)
	base, head := twoBranches(w)
	want, err := Build(t.Context(), w.Repo, plan(Rebase, base, head))
	if err != nil {
		t.Fatal(err)
	}
	again := func(what string) {
		t.Helper()
		if got, err := Build(t.Context(), w.Repo, plan(Rebase, base, head)); err != nil || got != want {
			t.Errorf("%s: %v, %v, not %v", what, got, err, want)
		}
	}
	for i := range 3 {
		crew := children(t, w.Bare)
		if len(crew) != 3 {
			t.Fatalf("%d processes rest", len(crew))
		}
		syscall.Kill(crew[i], syscall.SIGKILL)
		again(fmt.Sprintf("process %d was killed", i))
	}
	if err := w.Repo.Tidy(); err != nil { // as at the start, after a kill
		t.Fatal(err)
	}
	again("its folder was removed")
	// A conflict ends the process that found it, and no other is left over.
	w.Git("checkout", "-q", "topic")
	w.Write("a", workshop.Lines(20, map[int]string{12: "other"}))
	bad := w.Commit("conflicts")
	w.Push()
	for range 3 {
		if _, err := Build(t.Context(), w.Repo, plan(Squash, base, bad)); !errors.As(err, new(*ConflictError)) {
			t.Errorf("conflict: %v", err)
		}
	}
	again("after conflicts")
	if now := children(t, w.Bare); len(now) > 3 {
		t.Errorf("%d processes rest", len(now))
	}
	// Work that is called off takes its processes along.
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if _, err := Build(ctx, w.Repo, plan(Rebase, base, head)); !errors.Is(err, context.Canceled) {
		t.Errorf("called off: %v", err)
	}
	again("after it was called off")
	w.Program.Close()
	if now := children(t, w.Bare); len(now) > 0 {
		t.Errorf("%d processes rest after the end", len(now))
	}
	again("after the end")
	if now := children(t, w.Bare); len(now) > 0 {
		t.Errorf("%d processes rest that nobody will end", len(now))
	}
}

// However many repositories are built in, so many crews rest and no more.
func TestFewCrewsRest(t *testing.T) {
	first := newShop(t)
	first.Program.Bounds.GitIdle = 0
	base, head := twoBranches(first)
	for _, most := range []int64{4, 2, 0} {
		first.Program.Bounds.GitIdle = most
		for i := range 6 {
			first.Git("checkout", "-q", "main")
			first.Write(".gitattributes", fmt.Sprintf("*.x%d merge=union\n", i)) // each needs a crew of its own
			base = first.Commit("attributes")
			first.Push()
			if err := Try(t.Context(), first.Repo, plan(Squash, base, head)); err != nil {
				t.Fatal(err)
			}
		}
		crews := len(children(t, first.Bare)) / 2 // the third runs where the attributes lie
		if int64(crews) != most {
			t.Errorf("%d crews rest, not %d", crews, most)
		}
		for _, pid := range children(t, first.Bare) {
			syscall.Kill(pid, syscall.SIGKILL)
		}
	}
}

// What a file's lines are merged by is said by the attributes of the commit that is built on, in whatever folder they stand, and never
// by those that the change brings; git merges the same where that commit is checked out.
func TestP5AttributesAreThoseOfTheBase(t *testing.T) {
	t.Parallel()
	cases := []struct {
		name        string
		before      map[string]string // attributes from the start
		main, topic map[string]string // what each side changes of them
		lands       bool
		holds       string
	}{
		{name: "none", lands: false},
		{name: "in the root", before: map[string]string{".gitattributes": "log merge=union\n"}, lands: true, holds: "a\nmain\ntopic\nb\n"},
		{name: "in a folder", before: map[string]string{"sub/deep/.gitattributes": "log merge=union\n"}, lands: true, holds: "a\nmain\ntopic\nb\n"},
		{name: "in another folder", before: map[string]string{"other/.gitattributes": "log merge=union\n"}, lands: false},
		{name: "added by the target", main: map[string]string{"sub/.gitattributes": "log merge=union\n"}, lands: true, holds: "a\nmain\ntopic\nb\n"},
		{name: "added by the change", topic: map[string]string{"sub/.gitattributes": "log merge=union\n"}, lands: false},
		{name: "taken away by the change", before: map[string]string{"sub/.gitattributes": "log merge=union\n"}, topic: map[string]string{"sub/.gitattributes": ""}, lands: true, holds: "a\nmain\ntopic\nb\n"},
		{name: "taken away by the target", before: map[string]string{"sub/.gitattributes": "log merge=union\n"}, main: map[string]string{"sub/.gitattributes": ""}, lands: false},
		{name: "a driver that nobody has", before: map[string]string{".gitattributes": "log merge=ledger\n"}, lands: false},
		{name: "never merged", before: map[string]string{".gitattributes": "log -merge\n"}, lands: false},
		{name: "a macro", before: map[string]string{".gitattributes": "[attr]notes merge=union\nlog notes\n"}, lands: true, holds: "a\nmain\ntopic\nb\n"},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			w := newShop(t)
			write := func(files map[string]string) {
				for path, text := range files {
					if w.Write(path, text); text == "" {
						os.Remove(filepath.Join(w.Dir, path))
					}
				}
			}
			w.Write("sub/deep/log", "a\nb\n")
			write(c.before)
			w.Commit("start")
			w.Git("branch", "topic")
			w.Write("sub/deep/log", "a\nmain\nb\n")
			write(c.main)
			base := w.Commit("main")
			w.Git("checkout", "-q", "topic")
			w.Write("sub/deep/log", "a\ntopic\nb\n")
			write(c.topic)
			head := w.Commit("topic")
			w.Git("checkout", "-q", "main")
			w.Push()
			for range 2 { // by a new crew, and by one at rest
				for _, by := range []Strategy{Rebase, Squash, Merge, Fold, SquashThenMerge, RebaseThenMerge} {
					p := w.shownOn(by, base, base, head)
					built, err := Build(t.Context(), w.Repo, p)
					if (err == nil) != c.lands {
						t.Fatalf("%s: %v", by, err)
					}
					if err == nil {
						if got := w.Git("--git-dir="+w.Bare, "cat-file", "blob", built.Commit+":sub/deep/log"); got+"\n" != c.holds {
							t.Errorf("%s: %q", by, got)
						}
					}
				}
				shown, err := Conflicts(t.Context(), w.Repo, Shown{w.Git("merge-base", base, head), head}, base, Sides{"main", "topic"})
				if err != nil || (len(shown) == 0) != c.lands {
					t.Errorf("shown: %v, %v", shown, err)
				}
			}
			out, err := w.Try("merge", "-q", "--no-ff", "-m", "by hand", "topic")
			if (err == nil) != c.lands {
				t.Errorf("git: %v %s", err, out)
			}
		})
	}
}

// Attributes are read from files alone, and no more of them than may be.
func TestOddAttributes(t *testing.T) {
	t.Parallel()
	w := newShop(t)
	os.Symlink("rules", filepath.Join(w.Dir, ".gitattributes"))
	w.Write("rules", "log merge=union\n")
	w.Write("log", "a\nb\n")
	w.Commit("start")
	w.Git("branch", "topic")
	w.Write("log", "a\nmain\nb\n")
	base := w.Commit("main")
	w.Git("checkout", "-q", "topic")
	w.Write("log", "a\ntopic\nb\n")
	head := w.Commit("topic")
	w.Push()
	if err := Try(t.Context(), w.Repo, plan(Squash, base, head)); !errors.As(err, new(*ConflictError)) {
		t.Errorf("a link is read: %v", err)
	}
	w.Git("checkout", "-q", "main")
	os.Remove(filepath.Join(w.Dir, ".gitattributes"))
	w.Write(".gitattributes", strings.Repeat("log merge=union\n", 1<<17))
	base = w.Commit("large")
	w.Push()
	err := Try(t.Context(), w.Repo, plan(Squash, base, head))
	if err == nil || !strings.Contains(err.Error(), "attributes.bytes") {
		t.Errorf("2 MB of attributes: %v", err)
	}
}

// A commit that would change nothing is left out and counted, or refused by its name, as the plan says; one that was empty where
// it was made stays either way.
func TestCommitsThatChangeNothing(t *testing.T) {
	t.Parallel()
	w := newShop(t)
	w.Write("a", workshop.Lines(9, nil))
	w.Commit("start")
	w.Git("checkout", "-q", "-b", "topic")
	w.Write("b", "b\n")
	same := w.Commit("the same")
	w.Commit("empty")
	w.Write("c", "c\n")
	head := w.Commit("own")
	w.Git("checkout", "-q", "main")
	w.Write("b", "b\n")
	base := w.Commit("there already")
	w.Push()
	for _, by := range every {
		p := w.shownOn(by, base, base, head)
		built, err := Build(t.Context(), w.Repo, p)
		replays := by == Rebase || by == Fold || by == RebaseThenMerge
		if by == FastForward {
			continue
		}
		if err != nil || built.Left != map[bool]int{true: 1}[replays] {
			t.Errorf("%s: %+v, %v", by, built, err)
		}
		p.KeepEmpty = true
		kept, err := Build(t.Context(), w.Repo, p)
		var different *DifferentError
		switch {
		case !replays && (err != nil || kept != built):
			t.Errorf("%s: %+v, %v", by, kept, err)
		case replays && (!errors.As(err, &different) || different.Emptied != same || !strings.Contains(err.Error(), "commit "+same[:10]+" would change nothing")):
			t.Errorf("%s: %v", by, err)
		}
		if replays {
			if n := w.bareGit("rev-list", "--count", "--no-merges", built.Commit, "^"+base); n != "2" {
				t.Errorf("%s brings %s commits", by, n)
			}
		}
	}
}
