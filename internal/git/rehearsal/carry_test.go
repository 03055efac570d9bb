package rehearsal

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"tavrin/internal/git/workshop"
)

// Carrying a difference over to another base agrees with what says whether an approval still counts: the tree is that of
// the later head exactly when the difference is the same (P6). Where the two do not go together, the files are named.
func TestP6CarryOverAgreesWithSameDifference(t *testing.T) {
	t.Parallel()
	w := newShop(t)
	rng := rand.New(rand.NewPCG(31, 32))
	files := []string{"a", "b", "dir/c"}
	edit := func() {
		f := files[rng.IntN(len(files))]
		text, err := os.ReadFile(filepath.Join(w.Dir, f))
		if err != nil || rng.IntN(12) == 0 {
			w.Write(f, workshop.Lines(12, nil))
			return
		}
		all := strings.SplitAfter(string(text), "\n")
		all[rng.IntN(max(1, len(all)-1))] = fmt.Sprintf("edit %d\n", rng.IntN(1000))
		w.Write(f, strings.Join(all, ""))
	}
	for _, f := range files {
		w.Write(f, workshop.Lines(12, nil))
	}
	root := w.Commit("start")
	same, clean, conflicting := 0, 0, 0
	for round := range 25 {
		branch := fmt.Sprintf("topic-%d", round)
		w.Git("checkout", "-q", "-B", branch, root)
		for range 1 + rng.IntN(2) {
			edit()
			w.Commit("mine")
		}
		head := w.Git("rev-parse", "HEAD")
		w.Git("checkout", "-q", "-B", "base-"+branch, root)
		edit()
		base := w.Commit("theirs")
		w.Git("checkout", "-q", "-B", "later-"+branch, head)
		if _, err := w.Try("rebase", "-q", base); err != nil {
			w.Git("rebase", "--abort")
			w.Git("checkout", "-q", "-B", "later-"+branch, base)
		}
		if rng.IntN(3) == 0 {
			edit()
			w.Commit("more")
		}
		later := w.Git("rev-parse", "HEAD")
		w.Push()
		tree, named, err := CarryOver(t.Context(), w.Repo, Shown{root, head}, base)
		if err != nil {
			t.Fatal(err)
		}
		unchanged, err := Same(t.Context(), w.Repo, Shown{root, head}, Shown{base, later}, base)
		if err != nil {
			t.Fatal(err)
		}
		left, err := w.Repo.Diff(t.Context(), tree, later)
		if err != nil {
			t.Fatal(err)
		}
		if len(named) == 0 {
			clean++
			if (len(left) == 0) != unchanged {
				t.Errorf("round %d: %d files are new, and the same difference is %v", round, len(left), unchanged)
			}
		} else {
			conflicting++
			for _, path := range named {
				had, want := w.Git("cat-file", "blob", head+":"+path), ""
				if text, _, err := w.Repo.File(t.Context(), tree, path, 1<<20); err == nil {
					want = strings.TrimSpace(text)
				}
				if had != want {
					t.Errorf("round %d: %s, which conflicts, does not stand as it was", round, path)
				}
			}
		}
		if unchanged {
			same++
		}
	}
	if same == 0 || clean == 0 || conflicting == 0 {
		t.Errorf("%d the same, %d clean, %d conflicting: the test says little", same, clean, conflicting)
	}
}

func TestCarryOverWhereAFileIsGone(t *testing.T) {
	w := newShop(t)
	w.Write("a", workshop.Lines(5, nil))
	w.Write("b", "b\n")
	root := w.Commit("start")
	w.Git("rm", "-q", "a")
	head := w.Commit("without a")
	w.Git("checkout", "-q", "-B", "main2", root)
	w.Write("a", workshop.Lines(5, map[int]string{2: "theirs"}))
	base := w.Commit("theirs")
	w.Git("branch", "-f", "one", head)
	w.Push()
	tree, named, err := CarryOver(t.Context(), w.Repo, Shown{root, head}, base)
	if err != nil || !slices.Equal(named, []string{"a"}) {
		t.Fatalf("%v, %v", named, err)
	}
	if paths, err := w.Repo.Paths(t.Context(), tree); err != nil || !slices.Equal(paths, []string{"b"}) {
		t.Errorf("it holds %v, %v", paths, err)
	}
	if tree, named, err = CarryOver(t.Context(), w.Repo, Shown{root, head}, root); err != nil || named != nil || tree != w.Git("rev-parse", head+"^{tree}") {
		t.Errorf("on the same base: %s, %v, %v", tree, named, err)
	}
	if _, _, err := CarryOver(t.Context(), w.Repo, Shown{root, strings.Repeat("1", 40)}, base); err == nil {
		t.Error("a commit that is not there was carried over")
	}
}
