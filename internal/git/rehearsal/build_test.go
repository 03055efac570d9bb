package rehearsal

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"tavrin/internal/git"
	"tavrin/internal/git/internal/process"
	"tavrin/internal/git/workshop"
	"tavrin/internal/often"
)

// shop is a workshop in which rehearsals are built.
type shop struct{ *workshop.Workshop }

// every strategy there is.
var every = []Strategy{Rebase, Squash, Merge, Fold, FastForward, SquashThenMerge, RebaseThenMerge}

func newShop(t testing.TB) *shop { return &shop{workshop.New(t)} }

func plan(s Strategy, base, head string) Plan {
	who := git.Signature{Name: "Tavrin", Email: "landing@tavrin.invalid", When: time.Unix(1790009999, 0).UTC()}
	return Plan{Base: base, Head: head, Strategy: s, Message: "Open the valves\n\nSlowly.\n\nLanded-change: growers/irrigation 4\n", Author: who, Committer: who}
}

// A rebase without a checkout gives the trees that git rebase gives, on random histories, or conflicts as it does.
func TestRebaseAgreesWithGit(t *testing.T) {
	t.Parallel()
	rng := rand.New(rand.NewPCG(7, 7))
	clean, conflicts := 0, 0
	for range 25 {
		w := newShop(t)
		for i := range 4 {
			w.Write(fmt.Sprintf("d%d/f", i), workshop.Lines(20, nil))
		}
		w.Commit("start")
		w.Git("branch", "topic")
		edit := func(who string, n int) {
			for i := range n {
				w.Write(fmt.Sprintf("d%d/f", rng.IntN(4)), workshop.Lines(20, map[int]string{rng.IntN(20): fmt.Sprintf("%s %d", who, i)}))
				if rng.IntN(5) == 0 {
					os.Rename(filepath.Join(w.Dir, "d3"), filepath.Join(w.Dir, "e3"))
				}
				if rng.IntN(6) == 0 {
					w.Write(who+".bin", string([]byte{0, byte(i), 255}))
				}
				w.Commit(who + fmt.Sprint(i))
			}
		}
		edit("main", 2)
		w.Git("checkout", "-q", "topic")
		edit("topic", 3)
		w.Push()
		base, head := w.Git("rev-parse", "main"), w.Git("rev-parse", "topic")
		built, err := Build(t.Context(), w.Repo, plan(Rebase, base, head))
		_, gitErr := w.Try("-c", "merge.directoryRenames=conflict", "rebase", "-q", "main")
		var conflict *ConflictError
		var different *DifferentError
		switch {
		case errors.As(err, &conflict), errors.As(err, &different):
			conflicts++
			// Either Git does not rebase it, or its rebase is not what its merge is, which is what is judged by.
			rebased := w.Git("rev-parse", "HEAD^{tree}")
			merged, mergeErr := w.Try("merge-tree", "--write-tree", base, head)
			if gitErr == nil && mergeErr == nil && strings.Fields(merged)[0] == rebased {
				t.Fatalf("git rebased what Build calls %v", err)
			}
			if conflict != nil && len(conflict.Files) == 0 || different != nil && len(different.Files) == 0 && different.Conflict == nil {
				t.Fatal("a conflict names no file")
			}
		case err != nil:
			if !errors.As(err, &NothingError{}) || gitErr != nil || w.Git("rev-parse", "HEAD") != base {
				t.Fatal(err)
			}
		case gitErr != nil:
			t.Fatal("Build rebased what git could not")
		default:
			clean++
			if want := w.Git("rev-parse", "HEAD^{tree}"); want != built.Tree {
				t.Fatalf("tree is %s, git's is %s", built.Tree, want)
			}
			ours, _ := w.Repo.Log(t.Context(), built.Commit, []string{base}, 0, 50)
			if theirs := strings.Fields(w.Git("rev-list", "main..HEAD")); len(ours) != len(theirs) {
				t.Fatalf("%d commits, git has %d", len(ours), len(theirs))
			}
		}
	}
	if clean == 0 || conflicts == 0 {
		t.Fatalf("%d clean and %d conflicting histories: the test says nothing", clean, conflicts)
	}
}

func TestBuildStrategies(t *testing.T) {
	w := newShop(t)
	w.Write("a", workshop.Lines(9, nil))
	w.Commit("start")
	w.Git("checkout", "-q", "-b", "topic")
	w.Write("a", workshop.Lines(9, map[int]string{0: "topic"}))
	first := w.Commit("one")
	w.Write("b", "b\n")
	head := w.Commit("two")
	w.Git("checkout", "-q", "main")
	w.Write("a", workshop.Lines(9, map[int]string{8: "main"}))
	base := w.Commit("main moves")
	w.Push()
	for strategy, wantParents := range map[Strategy][]string{Rebase: nil, Fold: nil, Squash: {base}, Merge: {base, head}, SquashThenMerge: {base, ""}, RebaseThenMerge: {base, ""}} {
		p := plan(strategy, base, head)
		built, err := Build(t.Context(), w.Repo, p)
		if err != nil {
			t.Fatalf("%s: %v", strategy, err)
		}
		again, err := Build(t.Context(), w.Repo, p)
		if err != nil || again != built {
			t.Errorf("%s: building again gives %v, %v, not %v", strategy, again, err, built)
		}
		log, err := w.Repo.Log(t.Context(), built.Commit, []string{base, head}, 0, 10)
		if err != nil {
			t.Fatal(err)
		}
		switch {
		case len(wantParents) == 0:
			if len(log) != 2 || log[1].Parents[0] != base || log[1].Subject != "one" || log[0].Author.Name != "Ines Varga" {
				t.Errorf("%s gives %+v", strategy, log)
			}
		case slices.Contains(wantParents, ""): // a merge commit of the base and of what follows on it
			inner := log[1:]
			if n := map[Strategy]int{SquashThenMerge: 1, RebaseThenMerge: 2}[strategy]; len(inner) != n || !slices.Equal(log[0].Parents, []string{base, inner[0].ID}) ||
				inner[n-1].Parents[0] != base || log[0].Subject != "Open the valves" || log[0].Tree != inner[0].Tree {
				t.Errorf("%s gives %+v", strategy, log)
			}
			if strategy == SquashThenMerge && (inner[0].Subject != "Open the valves" || strings.Contains(inner[0].Body, "Landed-change") || !strings.Contains(log[0].Body, "Landed-change")) {
				t.Errorf("%s says %q, then %q", strategy, inner[0].Body, log[0].Body)
			}
		case len(log) != 1 || !slices.Equal(log[0].Parents, wantParents) || log[0].Subject != "Open the valves":
			t.Errorf("%s gives %+v", strategy, log)
		}
		if out, err := w.Repo.Place().Run(t.Context(), nil, "fsck", "--no-dangling", "--strict"); err != nil {
			t.Errorf("%s: fsck: %v %s", strategy, err, out)
		}
	}
	inPlace, err := Build(t.Context(), w.Repo, plan(Rebase, first, head))
	if err != nil || inPlace.Commit != head {
		t.Errorf("commits already in place were replayed: %v, %v", inPlace, err)
	}
	forward, err := Build(t.Context(), w.Repo, plan(FastForward, first, head))
	if err != nil || forward.Commit != head {
		t.Errorf("fast-forward gives %v, %v", forward, err)
	}
	var different *DifferentError
	if _, err := Build(t.Context(), w.Repo, plan(FastForward, base, head)); !errors.As(err, &different) || !different.Behind || !strings.Contains(err.Error(), "commits that the branch does not have") {
		t.Errorf("fast-forward onto what moved on: %v", err)
	}
	for _, s := range every {
		if _, err := Build(t.Context(), w.Repo, plan(s, head, first)); !errors.As(err, &NothingError{}) {
			t.Errorf("%s of what is there already: %v", s, err)
		}
	}
	if left, _ := filepath.Glob(filepath.Join(w.Bare, process.ScratchPrefix+"*")); len(left) > 0 {
		t.Errorf("scratch folders are left: %v", left)
	}
}

func TestConflictNamesFiles(t *testing.T) {
	w := newShop(t)
	w.Write("firmware/valves.c", workshop.Lines(5, nil))
	w.Commit("start")
	w.Git("checkout", "-q", "-b", "topic")
	w.Write("firmware/valves.c", workshop.Lines(5, map[int]string{2: "topic"}))
	head := w.Commit("topic")
	w.Git("checkout", "-q", "main")
	w.Write("firmware/valves.c", workshop.Lines(5, map[int]string{2: "main"}))
	base := w.Commit("main")
	w.Push()
	for _, s := range every {
		_, err := Build(t.Context(), w.Repo, plan(s, base, head))
		var c *ConflictError
		if !errors.As(err, &c) || !slices.Equal(c.Files, []string{"firmware/valves.c"}) || !strings.Contains(err.Error(), "firmware/valves.c") {
			t.Errorf("%s: %v", s, err)
		}
	}
	if _, err := Build(t.Context(), w.Repo, plan(Squash, base, strings.Repeat("1", 40))); err == nil {
		t.Error("a commit that does not exist was built")
	}
}

// Folding gives what "git rebase --autosquash" gives: the same commits, on random histories, with the messages that core's plan
// says; or it is refused as git refuses it, or where git's result is not the judge's tree.
func TestFoldAgreesWithGit(t *testing.T) {
	t.Parallel()
	rng := rand.New(rand.NewPCG(17, 3))
	tally := map[string]int{}
	for n := range often.Times(12) {
		w := newShop(t)
		for i := range 4 {
			w.Write(fmt.Sprintf("f%d", i), workshop.Lines(12, nil))
		}
		w.Commit("start")
		w.Git("checkout", "-q", "-b", "topic")
		var subjects []string
		for i := range 3 + rng.IntN(4) {
			w.Write(fmt.Sprintf("f%d", rng.IntN(4)), workshop.Lines(12, map[int]string{rng.IntN(12): fmt.Sprint("topic ", i), rng.IntN(12): fmt.Sprint("also ", i)}))
			message := fmt.Sprintf("commit %d", i)
			if len(subjects) > 0 && rng.IntN(2) == 0 {
				of := subjects[rng.IntN(len(subjects))]
				message = []string{"fixup! ", "squash! ", "amend! "}[rng.IntN(3)] + of
			} else {
				subjects = append(subjects, message)
			}
			if rng.IntN(2) == 0 || strings.HasPrefix(message, "amend!") {
				message += fmt.Sprintf("\n\nbody of %d", i)
			}
			w.Commit(message)
		}
		w.Git("checkout", "-q", "main")
		w.Write(fmt.Sprintf("f%d", rng.IntN(4)), workshop.Lines(12, map[int]string{rng.IntN(12): "main"}))
		base := w.Commit("main moves")
		w.Git("checkout", "-q", "topic")
		w.Push()
		head := w.Git("rev-parse", "topic")
		built, err := Build(t.Context(), w.Repo, plan(Fold, base, head))
		_, gitErr := w.Try("-c", "sequence.editor=:", "-c", "core.editor=:", "-c", "merge.directoryRenames=conflict", "rebase", "-q", "-i", "--autosquash", "main")
		if err != nil {
			var conflict *ConflictError
			var different *DifferentError
			switch {
			case errors.As(err, &conflict): // as a whole
			case errors.As(err, &different) && gitErr != nil: // git stops too
			case errors.As(err, &different) && len(different.Files) > 0: // what git makes is not what was shown
				if merged, mergeErr := w.Try("merge-tree", "--write-tree", base, head); mergeErr == nil && strings.Fields(merged)[0] == w.Git("rev-parse", "HEAD^{tree}") {
					t.Errorf("history %d: git folds what is refused with %v", n, err)
				}
			default:
				t.Errorf("history %d: %v, and git says %v", n, err, gitErr)
			}
			tally["refused"]++
			continue
		}
		if gitErr != nil { // it stops where a fold comes to nothing, which is left out here
			tally["git stops"]++
			continue
		}
		told := func(what ...string) string {
			return w.bareGit(append([]string{"log", "--reverse", "--format=%T %an <%ae> %at%n%B%x00"}, what...)...)
		}
		w.Git("push", "-q", "--force", "origin", "HEAD:refs/heads/folded")
		if ours, theirs := told(built.Commit, "^"+base), told("folded", "^"+base); ours != theirs {
			t.Errorf("history %d folds to\n%s\ngit's is\n%s", n, ours, theirs)
		}
		tally["same"]++
	}
	t.Log(tally)
	if tally["same"] == 0 || tally["refused"] == 0 {
		t.Errorf("%v: the test says nothing", tally)
	}
}

// An approval counts for the unchanged difference: a clean rebase and a fold keep it, anything else does not (P6).
func TestP6SameDifference(t *testing.T) {
	w := newShop(t)
	w.Write("a.py", workshop.Lines(30, nil))
	root := w.Commit("start")
	w.Git("checkout", "-q", "-b", "topic")
	w.Write("a.py", workshop.Lines(30, map[int]string{10: "if open:", 11: "    close()", 12: "    log()"}))
	w.Commit("one")
	w.Write("b", "b\n")
	approved := w.Commit("fixup! one")
	w.Git("checkout", "-q", "main")
	w.Write("a.py", workshop.Lines(30, map[int]string{29: "main"}))
	base := w.Commit("main moves")
	rewritten := func(name string, f func()) string {
		w.Git("checkout", "-q", "-B", name, "topic")
		f()
		return w.Git("rev-parse", "HEAD")
	}
	cases := []struct {
		name    string
		newBase string
		head    string
		same    bool
	}{
		{"clean rebase", base, rewritten("r1", func() { w.Git("rebase", "-q", "main") }), true},
		{"folded into one commit", root, rewritten("r2", func() { w.Git("reset", "-q", "--soft", root); w.Commit("folded") }), true},
		{"one more line", root, rewritten("r3", func() { w.Write("b", "b\nc\n"); w.Commit("more") }), false},
		{"white space that matters", root, rewritten("r4", func() {
			w.Write("a.py", workshop.Lines(30, map[int]string{10: "if open:", 11: "    close()", 12: "log()"}))
			w.Commit("dedent")
		}), false},
		{"something taken out", base, rewritten("r5", func() { w.Git("rebase", "-q", "main"); w.Git("rm", "-q", "b"); w.Commit("less") }), false},
	}
	w.Push()
	for _, c := range cases {
		same, err := Same(t.Context(), w.Repo, Shown{root, approved}, Shown{c.newBase, c.head}, c.newBase)
		if err != nil || same != c.same {
			t.Errorf("%s: same difference is %v, %v; want %v", c.name, same, err, c.same)
		}
	}
}

// Whatever kind of conflict: it is found, its files are named, and nothing is left in the repository.
func TestKindsOfConflict(t *testing.T) {
	t.Parallel()
	cases := map[string]struct {
		topic, main func(w *shop)
		file        string
	}{
		"both added":          {func(w *shop) { w.Write("n", "t\n") }, func(w *shop) { w.Write("n", "m\n") }, "n"},
		"deleted and changed": {func(w *shop) { w.Git("rm", "-q", "a") }, func(w *shop) { w.Write("a", workshop.Lines(9, map[int]string{1: "m"})) }, "a"},
		"binary":              {func(w *shop) { w.Write("bin", "\x00t") }, func(w *shop) { w.Write("bin", "\x00m") }, "bin"},
		"renamed twice":       {func(w *shop) { w.Git("mv", "a", "t") }, func(w *shop) { w.Git("mv", "a", "m") }, "a"},
		"odd name":            {func(w *shop) { w.Write("ä \"b\"\n", "t\n") }, func(w *shop) { w.Write("ä \"b\"\n", "m\n") }, "ä \"b\"\n"},
	}
	for name, c := range cases {
		t.Run(name, func(t *testing.T) {
			w := newShop(t)
			w.Write("a", workshop.Lines(9, nil))
			w.Write("bin", "\x00")
			w.Commit("start")
			w.Git("checkout", "-q", "-b", "topic")
			c.topic(w)
			head := w.Commit("topic")
			w.Git("checkout", "-q", "main")
			c.main(w)
			base := w.Commit("main")
			w.Push()
			before := w.Git("--git-dir="+w.Bare, "count-objects", "-v")
			for _, s := range every {
				_, err := Build(t.Context(), w.Repo, plan(s, base, head))
				var conflict *ConflictError
				if !errors.As(err, &conflict) || !slices.Contains(conflict.Files, c.file) {
					t.Errorf("%s: %v", s, err)
				}
			}
			if after := w.Git("--git-dir="+w.Bare, "count-objects", "-v"); after != before {
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
		w := newShop(t)
		w.Write("f", workshop.Lines(30, nil))
		root := w.Commit("start")
		w.Git("checkout", "-q", "-b", "topic")
		w.Write("f", workshop.Lines(30, map[int]string{rng.IntN(30): "topic"}))
		approved := w.Commit("topic")
		w.Git("checkout", "-q", "main")
		w.Write("f", workshop.Lines(30, map[int]string{rng.IntN(30): "main"}))
		base := w.Commit("main")
		w.Git("checkout", "-q", "-B", "again", "topic")
		if _, err := w.Try("rebase", "-q", "main"); err != nil {
			continue // they conflict
		}
		clean := w.Git("rev-parse", "HEAD")
		if rng.IntN(2) == 0 { // somebody slips something in
			w.Write("f", workshop.Lines(30, map[int]string{rng.IntN(30): "slipped"}))
			w.Git("commit", "-q", "-a", "--amend", "--allow-empty", "-m", "topic")
		}
		head := w.Git("rev-parse", "HEAD")
		w.Push()
		same, err := Same(t.Context(), w.Repo, Shown{root, approved}, Shown{base, head}, base)
		if want := w.Git("rev-parse", clean+"^{tree}") == w.Git("rev-parse", head+"^{tree}"); err != nil || same != want {
			t.Errorf("same is %v, %v; want %v", same, err, want)
		}
		answers[same]++
	}
	if answers[true] == 0 || answers[false] == 0 {
		t.Errorf("answers %v: the test says nothing", answers)
	}
}
