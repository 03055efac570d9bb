package git

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"tavrin/internal/bounds"
)

// workshop is an ordinary clone next to a bare repository, to make history with and compare results against.
type workshop struct {
	t    testing.TB
	dir  string
	repo *Repo
	tick int
}

func newWorkshop(t testing.TB) *workshop {
	t.Helper()
	root := t.TempDir()
	p := &Program{Home: root}
	repo, err := p.Create(t.Context(), filepath.Join(root, "bare.git"), "main")
	if err != nil {
		t.Fatal(err)
	}
	w := &workshop{t: t, dir: filepath.Join(root, "work"), repo: repo}
	if err := os.Mkdir(w.dir, 0o755); err != nil {
		t.Fatal(err)
	}
	w.git("init", "-q", "-b", "main")
	w.git("remote", "add", "origin", repo.dir)
	return w
}

func (w *workshop) git(args ...string) string {
	w.t.Helper()
	out, err := w.try(args...)
	if err != nil {
		w.t.Fatalf("git %v: %v\n%s", args, err, out)
	}
	return strings.TrimSpace(out)
}

func (w *workshop) try(args ...string) (string, error) { return w.tryWith(nil, args...) }

func (w *workshop) tryWith(stdin io.Reader, args ...string) (string, error) {
	w.tick++
	cmd := exec.Command("git", args...)
	cmd.Stdin = stdin
	cmd.Dir = w.dir
	when := fmt.Sprintf("%d +0000", 1790000000+w.tick)
	cmd.Env = append(os.Environ(), "GIT_CONFIG_GLOBAL=/dev/null", "GIT_CONFIG_NOSYSTEM=1", "GIT_AUTHOR_NAME=Ines Varga", "GIT_AUTHOR_EMAIL=ines@fennmoor.example",
		"GIT_COMMITTER_NAME=Ines Varga", "GIT_COMMITTER_EMAIL=ines@fennmoor.example", "GIT_AUTHOR_DATE="+when, "GIT_COMMITTER_DATE="+when)
	out, err := cmd.CombinedOutput()
	return string(out), err
}

func (w *workshop) write(path, text string) {
	w.t.Helper()
	full := filepath.Join(w.dir, path)
	if err := os.MkdirAll(filepath.Dir(full), 0o755); err != nil {
		w.t.Fatal(err)
	}
	if err := os.WriteFile(full, []byte(text), 0o644); err != nil {
		w.t.Fatal(err)
	}
}

func (w *workshop) commit(message string) string {
	w.t.Helper()
	w.git("add", "-A")
	w.git("commit", "-q", "--allow-empty", "-m", message)
	return w.git("rev-parse", "HEAD")
}

func (w *workshop) push() { w.git("push", "-q", "--force", "origin", "--all") }

func lines(n int, change map[int]string) string {
	var b strings.Builder
	for i := range n {
		if text, ok := change[i]; ok {
			b.WriteString(text + "\n")
		} else {
			fmt.Fprintf(&b, "line %d\n", i)
		}
	}
	return b.String()
}

func plan(s Strategy, base, head string) Plan {
	who := Signature{Name: "Tavrin", Email: "landing@tavrin.invalid", When: time.Unix(1790009999, 0).UTC()}
	return Plan{Base: base, Head: head, Strategy: s, Message: "Open the valves\n\nSlowly.", Author: who, Committer: who}
}

// A rebase without a checkout gives the trees that git rebase gives, on random histories, or conflicts as it does.
func TestRebaseAgreesWithGit(t *testing.T) {
	t.Parallel()
	rng := rand.New(rand.NewPCG(7, 7))
	clean, conflicts := 0, 0
	for range 25 {
		w := newWorkshop(t)
		for i := range 4 {
			w.write(fmt.Sprintf("d%d/f", i), lines(20, nil))
		}
		w.commit("start")
		w.git("branch", "topic")
		edit := func(who string, n int) {
			for i := range n {
				w.write(fmt.Sprintf("d%d/f", rng.IntN(4)), lines(20, map[int]string{rng.IntN(20): fmt.Sprintf("%s %d", who, i)}))
				if rng.IntN(5) == 0 {
					os.Rename(filepath.Join(w.dir, "d3"), filepath.Join(w.dir, "e3"))
				}
				if rng.IntN(6) == 0 {
					w.write(who+".bin", string([]byte{0, byte(i), 255}))
				}
				w.commit(who + fmt.Sprint(i))
			}
		}
		edit("main", 2)
		w.git("checkout", "-q", "topic")
		edit("topic", 3)
		w.push()
		base, head := w.git("rev-parse", "main"), w.git("rev-parse", "topic")
		built, err := w.repo.Build(t.Context(), plan(Rebase, base, head))
		_, gitErr := w.try("-c", "merge.directoryRenames=conflict", "rebase", "-q", "main")
		var conflict *ConflictError
		var different *DifferentError
		switch {
		case errors.As(err, &conflict), errors.As(err, &different):
			conflicts++
			// Either Git does not rebase it, or its rebase is not what its merge is, which is what is judged by.
			rebased := w.git("rev-parse", "HEAD^{tree}")
			merged, mergeErr := w.try("merge-tree", "--write-tree", base, head)
			if gitErr == nil && mergeErr == nil && strings.Fields(merged)[0] == rebased {
				t.Fatalf("git rebased what Build calls %v", err)
			}
			if conflict != nil && len(conflict.Files) == 0 || different != nil && len(different.Files) == 0 && different.Conflict == nil {
				t.Fatal("a conflict names no file")
			}
		case err != nil:
			if !errors.As(err, &NothingError{}) || gitErr != nil || w.git("rev-parse", "HEAD") != base {
				t.Fatal(err)
			}
		case gitErr != nil:
			t.Fatal("Build rebased what git could not")
		default:
			clean++
			if want := w.git("rev-parse", "HEAD^{tree}"); want != built.Tree {
				t.Fatalf("tree is %s, git's is %s", built.Tree, want)
			}
			ours, _ := w.repo.Log(t.Context(), built.Commit, []string{base}, 0, 50)
			if theirs := strings.Fields(w.git("rev-list", "main..HEAD")); len(ours) != len(theirs) {
				t.Fatalf("%d commits, git has %d", len(ours), len(theirs))
			}
		}
	}
	if clean == 0 || conflicts == 0 {
		t.Fatalf("%d clean and %d conflicting histories: the test says nothing", clean, conflicts)
	}
}

func TestBuildStrategies(t *testing.T) {
	w := newWorkshop(t)
	w.write("a", lines(9, nil))
	w.commit("start")
	w.git("checkout", "-q", "-b", "topic")
	w.write("a", lines(9, map[int]string{0: "topic"}))
	first := w.commit("one")
	w.write("b", "b\n")
	head := w.commit("two")
	w.git("checkout", "-q", "main")
	w.write("a", lines(9, map[int]string{8: "main"}))
	base := w.commit("main moves")
	w.push()
	for strategy, wantParents := range map[Strategy][]string{Rebase: nil, Squash: {base}, Merge: {base, head}} {
		p := plan(strategy, base, head)
		built, err := w.repo.Build(t.Context(), p)
		if err != nil {
			t.Fatalf("%s: %v", strategy, err)
		}
		again, err := w.repo.Build(t.Context(), p)
		if err != nil || again != built {
			t.Errorf("%s: building again gives %v, %v, not %v", strategy, again, err, built)
		}
		log, err := w.repo.Log(t.Context(), built.Commit, []string{base, head}, 0, 10)
		if err != nil {
			t.Fatal(err)
		}
		if strategy == Rebase {
			if len(log) != 2 || log[1].Parents[0] != base || log[1].Subject != "one" || log[0].Author.Name != "Ines Varga" {
				t.Errorf("rebase gives %+v", log)
			}
		} else if len(log) != 1 || !slices.Equal(log[0].Parents, wantParents) || log[0].Subject != "Open the valves" {
			t.Errorf("%s gives %+v", strategy, log)
		}
		if out, err := w.repo.run(t.Context(), nil, "fsck", "--no-dangling", "--strict"); err != nil {
			t.Errorf("%s: fsck: %v %s", strategy, err, out)
		}
	}
	inPlace, err := w.repo.Build(t.Context(), plan(Rebase, first, head))
	if err != nil || inPlace.Commit != head {
		t.Errorf("commits already in place were replayed: %v, %v", inPlace, err)
	}
	for _, s := range []Strategy{Rebase, Squash, Merge} {
		if _, err := w.repo.Build(t.Context(), plan(s, head, first)); !errors.As(err, &NothingError{}) {
			t.Errorf("%s of what is there already: %v", s, err)
		}
	}
	if left, _ := filepath.Glob(filepath.Join(w.repo.dir, scratchPrefix+"*")); len(left) > 0 {
		t.Errorf("scratch folders are left: %v", left)
	}
}

func TestConflictNamesFiles(t *testing.T) {
	w := newWorkshop(t)
	w.write("firmware/valves.c", lines(5, nil))
	w.commit("start")
	w.git("checkout", "-q", "-b", "topic")
	w.write("firmware/valves.c", lines(5, map[int]string{2: "topic"}))
	head := w.commit("topic")
	w.git("checkout", "-q", "main")
	w.write("firmware/valves.c", lines(5, map[int]string{2: "main"}))
	base := w.commit("main")
	w.push()
	for _, s := range []Strategy{Rebase, Squash, Merge} {
		_, err := w.repo.Build(t.Context(), plan(s, base, head))
		var c *ConflictError
		if !errors.As(err, &c) || !slices.Equal(c.Files, []string{"firmware/valves.c"}) || !strings.Contains(err.Error(), "firmware/valves.c") {
			t.Errorf("%s: %v", s, err)
		}
	}
	if _, err := w.repo.Build(t.Context(), plan(Squash, base, strings.Repeat("1", 40))); err == nil {
		t.Error("a commit that does not exist was built")
	}
}

// An approval counts for the unchanged difference: a clean rebase and a fold keep it, anything else does not (P6).
func TestP6SameDifference(t *testing.T) {
	w := newWorkshop(t)
	w.write("a.py", lines(30, nil))
	root := w.commit("start")
	w.git("checkout", "-q", "-b", "topic")
	w.write("a.py", lines(30, map[int]string{10: "if open:", 11: "    close()", 12: "    log()"}))
	w.commit("one")
	w.write("b", "b\n")
	approved := w.commit("fixup! one")
	w.git("checkout", "-q", "main")
	w.write("a.py", lines(30, map[int]string{29: "main"}))
	base := w.commit("main moves")
	rewritten := func(name string, f func()) string {
		w.git("checkout", "-q", "-B", name, "topic")
		f()
		return w.git("rev-parse", "HEAD")
	}
	cases := []struct {
		name    string
		newBase string
		head    string
		same    bool
	}{
		{"clean rebase", base, rewritten("r1", func() { w.git("rebase", "-q", "main") }), true},
		{"folded into one commit", root, rewritten("r2", func() { w.git("reset", "-q", "--soft", root); w.commit("folded") }), true},
		{"one more line", root, rewritten("r3", func() { w.write("b", "b\nc\n"); w.commit("more") }), false},
		{"white space that matters", root, rewritten("r4", func() {
			w.write("a.py", lines(30, map[int]string{10: "if open:", 11: "    close()", 12: "log()"}))
			w.commit("dedent")
		}), false},
		{"something taken out", base, rewritten("r5", func() { w.git("rebase", "-q", "main"); w.git("rm", "-q", "b"); w.commit("less") }), false},
	}
	w.push()
	for _, c := range cases {
		same, err := w.repo.Same(t.Context(), Shown{root, approved}, Shown{c.newBase, c.head}, c.newBase)
		if err != nil || same != c.same {
			t.Errorf("%s: same difference is %v, %v; want %v", c.name, same, err, c.same)
		}
	}
}

func TestMoveRefsIsCompareAndSwap(t *testing.T) {
	w := newWorkshop(t)
	w.write("a", "1")
	one := w.commit("one")
	w.write("a", "2")
	two := w.commit("two")
	w.push()
	ctx := t.Context()
	if err := w.repo.MoveRefs(ctx, Move{"refs/heads/main", one, two}); !errors.Is(err, ErrMoved) {
		t.Errorf("P3: a move from a commit the ref is not at: %v", err)
	}
	both := []Move{{"refs/heads/new", "", one}, {"refs/heads/main", one, two}}
	if err := w.repo.MoveRefs(ctx, both...); !errors.Is(err, ErrMoved) {
		t.Errorf("half a transaction: %v", err)
	}
	if _, err := w.repo.Tip(ctx, "refs/heads/new"); !errors.Is(err, ErrNotFound) {
		t.Error("half a transaction was carried out")
	}
	if err := w.repo.MoveRefs(ctx, Move{"refs/heads/main", two, one}); err != nil {
		t.Error(err)
	}
}

func TestPackKeepsEverything(t *testing.T) {
	t.Parallel()
	w := newWorkshop(t)
	var last string
	for i := range manyPacks + 1 {
		w.write("a", fmt.Sprint(i))
		last = w.commit(fmt.Sprint(i))
		w.push()
		w.git("--git-dir="+w.repo.dir, "repack", "-q", "-d")
	}
	if packed, err := w.repo.Pack(t.Context()); err != nil || !packed {
		t.Fatalf("packed %v, %v", packed, err)
	}
	if packed, err := w.repo.Pack(t.Context()); err != nil || packed {
		t.Errorf("packed a tidy repository: %v, %v", packed, err)
	}
	if log, err := w.repo.Log(t.Context(), last, nil, 0, 100); err != nil || len(log) != manyPacks+1 {
		t.Errorf("%d commits, %v", len(log), err)
	}
}

func TestTidyRemovesWhatAKilledProcessLeaves(t *testing.T) {
	w := newWorkshop(t)
	w.write("a", "1")
	one := w.commit("one")
	w.push()
	for _, name := range []string{"refs/heads/main.lock", "HEAD.lock", "objects/pack/tmp_pack_x"} {
		if err := os.WriteFile(filepath.Join(w.repo.dir, name), nil, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	os.MkdirAll(filepath.Join(w.repo.dir, scratchPrefix+"1", "ab"), 0o755)
	if err := w.repo.Tidy(); err != nil {
		t.Fatal(err)
	}
	if err := w.repo.MoveRefs(t.Context(), Move{"refs/heads/main", one, ""}); err != nil {
		t.Error(err)
	}
	if _, err := os.Stat(filepath.Join(w.repo.dir, scratchPrefix+"1")); err == nil {
		t.Error("a scratch folder was left")
	}
}

func TestCheckRef(t *testing.T) {
	bad := []string{"", "refs/", "refs/heads", "refs/heads/", "refs/heads/../x", "refs/heads/a..b", "refs/heads/.a", "refs/heads/a.lock",
		"refs/heads/a b", "refs/heads/a\x00b", "refs/heads/a~1", "refs/heads/a^", "refs/heads/a:b", "refs/heads/a?", "refs/heads/a*",
		"refs/heads/a[", "refs/heads/a\\b", "refs/heads//a", "refs/heads/a/", "refs/heads/a@{b", "refs/heads/a.", "refs/heads/a\u202eb", "refs/heads/a\u200b", "refs/heads/\xff", "heads/a", "refs/heads/" + strings.Repeat("x", 300)}
	for _, ref := range bad {
		if CheckRef(ref) == nil {
			t.Errorf("%q was accepted", ref)
		}
	}
	for _, ref := range []string{"refs/heads/main", "refs/heads/feature/ä-1", "refs/tags/v1.0", "refs/heads/-x"} {
		if err := CheckRef(ref); err != nil {
			t.Error(err)
		}
	}
	for _, name := range []string{"-x", "HEAD", "refs/heads/x", ""} {
		if CheckBranch(name) == nil {
			t.Errorf("branch %q was accepted", name)
		}
	}
}

func FuzzReadRequest(f *testing.F) {
	f.Add([]byte("0000"))
	f.Add([]byte(packet(ZeroID+" "+strings.Repeat("a", 40)+" refs/heads/x\x00report-status push-options") + "0000" + packet("x=y") + "0000"))
	f.Add([]byte("0003"))
	b := bounds.Default()
	b.PushRefs, b.PushCommandBytes = 20, 2000
	f.Fuzz(func(t *testing.T, body []byte) {
		q, err := readRequest(bufio.NewReader(strings.NewReader(string(body))), &b)
		if err == nil && q != nil {
			if q.reached == nil && len(q.updates) > 20 {
				t.Errorf("%d updates", len(q.updates))
			}
			for _, u := range q.updates {
				if u.Problem == "" && CheckRef(u.Ref) != nil {
					t.Errorf("%q passed", u.Ref)
				}
			}
			report(q, nil, make([]Result, len(q.updates)), []string{"x"})
		}
	})
}

// Whatever kind of conflict: it is found, its files are named, and nothing is left in the repository.
func TestKindsOfConflict(t *testing.T) {
	t.Parallel()
	cases := map[string]struct {
		topic, main func(w *workshop)
		file        string
	}{
		"both added":          {func(w *workshop) { w.write("n", "t\n") }, func(w *workshop) { w.write("n", "m\n") }, "n"},
		"deleted and changed": {func(w *workshop) { w.git("rm", "-q", "a") }, func(w *workshop) { w.write("a", lines(9, map[int]string{1: "m"})) }, "a"},
		"binary":              {func(w *workshop) { w.write("bin", "\x00t") }, func(w *workshop) { w.write("bin", "\x00m") }, "bin"},
		"renamed twice":       {func(w *workshop) { w.git("mv", "a", "t") }, func(w *workshop) { w.git("mv", "a", "m") }, "a"},
		"odd name":            {func(w *workshop) { w.write("ä \"b\"\n", "t\n") }, func(w *workshop) { w.write("ä \"b\"\n", "m\n") }, "ä \"b\"\n"},
	}
	for name, c := range cases {
		t.Run(name, func(t *testing.T) {
			w := newWorkshop(t)
			w.write("a", lines(9, nil))
			w.write("bin", "\x00")
			w.commit("start")
			w.git("checkout", "-q", "-b", "topic")
			c.topic(w)
			head := w.commit("topic")
			w.git("checkout", "-q", "main")
			c.main(w)
			base := w.commit("main")
			w.push()
			before := w.git("--git-dir="+w.repo.dir, "count-objects", "-v")
			for _, s := range []Strategy{Rebase, Squash, Merge} {
				_, err := w.repo.Build(t.Context(), plan(s, base, head))
				var conflict *ConflictError
				if !errors.As(err, &conflict) || !slices.Contains(conflict.Files, c.file) {
					t.Errorf("%s: %v", s, err)
				}
			}
			if after := w.git("--git-dir="+w.repo.dir, "count-objects", "-v"); after != before {
				t.Errorf("objects of a failed rehearsal are left:\n%s\n%s", before, after)
			}
		})
	}
}

// For random rewritings, the difference is said to be the same exactly when applying it by git itself gives the same
// tree (P6).
func TestP6SameDifferenceOnRandomHistories(t *testing.T) {
	t.Parallel()
	rng := rand.New(rand.NewPCG(5, 6))
	answers := map[bool]int{}
	for range 12 {
		w := newWorkshop(t)
		w.write("f", lines(30, nil))
		root := w.commit("start")
		w.git("checkout", "-q", "-b", "topic")
		w.write("f", lines(30, map[int]string{rng.IntN(30): "topic"}))
		approved := w.commit("topic")
		w.git("checkout", "-q", "main")
		w.write("f", lines(30, map[int]string{rng.IntN(30): "main"}))
		base := w.commit("main")
		w.git("checkout", "-q", "-B", "again", "topic")
		if _, err := w.try("rebase", "-q", "main"); err != nil {
			continue // they conflict
		}
		clean := w.git("rev-parse", "HEAD")
		if rng.IntN(2) == 0 { // somebody slips something in
			w.write("f", lines(30, map[int]string{rng.IntN(30): "slipped"}))
			w.git("commit", "-q", "-a", "--amend", "--allow-empty", "-m", "topic")
		}
		head := w.git("rev-parse", "HEAD")
		w.push()
		same, err := w.repo.Same(t.Context(), Shown{root, approved}, Shown{base, head}, base)
		if want := w.git("rev-parse", clean+"^{tree}") == w.git("rev-parse", head+"^{tree}"); err != nil || same != want {
			t.Errorf("same is %v, %v; want %v", same, err, want)
		}
		answers[same]++
	}
	if answers[true] == 0 || answers[false] == 0 {
		t.Errorf("answers %v: the test says nothing", answers)
	}
}

func TestReadingHistoryTreesAndFiles(t *testing.T) {
	w := newWorkshop(t)
	w.write("dir/ü file", "text\n")
	w.write("bin", "\x00\x01")
	one := w.commit("subject\n\nbody of it\n\nSigned-off-by: x")
	w.git("mv", "dir/ü file", "dir/moved")
	w.write("dir/moved", "text\nmore\n")
	w.write("bin", "\x00\x02")
	two := w.commit("move")
	w.push()
	ctx := t.Context()
	log, err := w.repo.Log(ctx, two, nil, 0, 10)
	if err != nil || len(log) != 2 || log[1].Subject != "subject" || !strings.HasPrefix(log[1].Body, "body of it") || log[0].Parents[0] != one || log[0].Author.Email != "ines@fennmoor.example" {
		t.Errorf("log is %+v, %v", log, err)
	}
	files, err := w.repo.Diff(ctx, one, two)
	for i := range files {
		files[i].oldID, files[i].newID = "", ""
	}
	want := []FileDiff{{Path: "bin", Status: "changed", Binary: true, Added: 1, Removed: 1, OldMode: "100644", NewMode: "100644"},
		{Path: "dir/moved", OldPath: "dir/ü file", Status: "renamed", Added: 1, OldMode: "100644", NewMode: "100644", Similarity: files[len(files)-1].Similarity}}
	if err != nil || !slices.Equal(files, want) {
		t.Errorf("difference is %+v, %v", files, err)
	}
	tree, err := w.repo.Tree(ctx, two, "dir")
	if err != nil || len(tree) != 1 || tree[0] != (TreeEntry{"moved", "blob", 10}) {
		t.Errorf("tree is %+v, %v", tree, err)
	}
	text, more, err := w.repo.File(ctx, two, "dir/moved", 4)
	if err != nil || text != "text" || !more {
		t.Errorf("file is %q, %v, %v", text, more, err)
	}
	if _, _, err := w.repo.File(ctx, two, "none", 4); !errors.Is(err, ErrNotFound) {
		t.Errorf("a file that is not there: %v", err)
	}
	patch, cut, err := w.repo.Patch(ctx, one, two, 60, DiffOptions{Context: 3}, false)
	if err != nil || !cut || len(patch) != 60 {
		t.Errorf("a cut patch is %q, %v, %v", patch, cut, err)
	}
	if _, err := w.repo.MergeBases(ctx, one, strings.Repeat("1", 40)); err == nil {
		t.Error("a merge base with a commit that is not there")
	}
}
