package git

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// Carrying a difference over to another base agrees with what says whether an approval still counts: the tree is that of
// the later head exactly when the difference is the same (P6). Where the two do not go together, the files are named.
func TestP6CarryOverAgreesWithSameDifference(t *testing.T) {
	t.Parallel()
	w := newWorkshop(t)
	rng := rand.New(rand.NewPCG(31, 32))
	files := []string{"a", "b", "dir/c"}
	edit := func() {
		f := files[rng.IntN(len(files))]
		text, err := os.ReadFile(filepath.Join(w.dir, f))
		if err != nil || rng.IntN(12) == 0 {
			w.write(f, lines(12, nil))
			return
		}
		all := strings.SplitAfter(string(text), "\n")
		all[rng.IntN(max(1, len(all)-1))] = fmt.Sprintf("edit %d\n", rng.IntN(1000))
		w.write(f, strings.Join(all, ""))
	}
	for _, f := range files {
		w.write(f, lines(12, nil))
	}
	root := w.commit("start")
	same, clean, conflicting := 0, 0, 0
	for round := range 25 {
		branch := fmt.Sprintf("topic-%d", round)
		w.git("checkout", "-q", "-B", branch, root)
		for range 1 + rng.IntN(2) {
			edit()
			w.commit("mine")
		}
		head := w.git("rev-parse", "HEAD")
		w.git("checkout", "-q", "-B", "base-"+branch, root)
		edit()
		base := w.commit("theirs")
		w.git("checkout", "-q", "-B", "later-"+branch, head)
		if _, err := w.try("rebase", "-q", base); err != nil {
			w.git("rebase", "--abort")
			w.git("checkout", "-q", "-B", "later-"+branch, base)
		}
		if rng.IntN(3) == 0 {
			edit()
			w.commit("more")
		}
		later := w.git("rev-parse", "HEAD")
		w.push()
		tree, named, err := w.repo.CarryOver(t.Context(), Shown{root, head}, base)
		if err != nil {
			t.Fatal(err)
		}
		unchanged, err := w.repo.Same(t.Context(), Shown{root, head}, Shown{base, later}, base)
		if err != nil {
			t.Fatal(err)
		}
		left, err := w.repo.Diff(t.Context(), tree, later)
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
				had, want := w.git("cat-file", "blob", head+":"+path), ""
				if text, _, err := w.repo.File(t.Context(), tree, path, 1<<20); err == nil {
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
	w := newWorkshop(t)
	w.write("a", lines(5, nil))
	w.write("b", "b\n")
	root := w.commit("start")
	w.git("rm", "-q", "a")
	head := w.commit("without a")
	w.git("checkout", "-q", "-B", "main2", root)
	w.write("a", lines(5, map[int]string{2: "theirs"}))
	base := w.commit("theirs")
	w.git("branch", "-f", "one", head)
	w.push()
	tree, named, err := w.repo.CarryOver(t.Context(), Shown{root, head}, base)
	if err != nil || !slices.Equal(named, []string{"a"}) {
		t.Fatalf("%v, %v", named, err)
	}
	if paths, err := w.repo.Paths(t.Context(), tree); err != nil || !slices.Equal(paths, []string{"b"}) {
		t.Errorf("it holds %v, %v", paths, err)
	}
	if tree, named, err = w.repo.CarryOver(t.Context(), Shown{root, head}, root); err != nil || named != nil || tree != w.git("rev-parse", head+"^{tree}") {
		t.Errorf("on the same base: %s, %v, %v", tree, named, err)
	}
	if _, _, err := w.repo.CarryOver(t.Context(), Shown{root, strings.Repeat("1", 40)}, base); err == nil {
		t.Error("a commit that is not there was carried over")
	}
}

func TestCommitFiles(t *testing.T) {
	w := newWorkshop(t)
	w.write("tool", "a\n")
	w.write("dir/x", "x\n")
	w.write("other", "o\n")
	if err := os.Chmod(filepath.Join(w.dir, "tool"), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink("tool", filepath.Join(w.dir, "link")); err != nil {
		t.Fatal(err)
	}
	one := w.commit("one")
	w.push()
	ctx := t.Context()
	me := Signature{Name: "Wren Askew", Email: "wren@fennmoor.example"}
	two, err := w.repo.CommitFiles(ctx, one, []Written{{"tool", "b\n"}, {"dir/x", ""}}, me, me, "two\n")
	if err != nil {
		t.Fatal(err)
	}
	files, err := w.repo.Diff(ctx, one, two)
	if err != nil || len(files) != 2 || files[1].Path != "tool" || files[1].NewMode != "100755" {
		t.Errorf("it differs in %+v, %v", files, err)
	}
	log, err := w.repo.Log(ctx, two, []string{one}, 0, 5)
	if err != nil || len(log) != 1 || log[0].Author.Name != "Wren Askew" || log[0].Parents[0] != one {
		t.Errorf("log is %+v, %v", log, err)
	}
	for _, path := range []string{"none", "dir", "link", "*"} {
		if _, err := w.repo.CommitFiles(ctx, one, []Written{{path, "x"}}, me, me, "x\n"); !errors.Is(err, ErrNotFound) {
			t.Errorf("%s was written: %v", path, err)
		}
	}
}

func TestBlame(t *testing.T) {
	w := newWorkshop(t)
	w.write("a", "1\n2\n3\n")
	one := w.commit("one")
	w.write("a", "1\n2\nmore\n3\n")
	two := w.commit("two")
	w.git("mv", "a", "b")
	w.commit("moved")
	w.push()
	blocks, err := w.repo.Blame(t.Context(), w.git("rev-parse", "HEAD"), "b")
	var told []string
	for _, b := range blocks {
		told = append(told, fmt.Sprintf("%d-%d %s %s %s", b.First, b.Last, b.Commit, b.Subject, b.Author))
	}
	want := []string{"1-2 " + one + " one Ines Varga", "3-3 " + two + " two Ines Varga", "4-4 " + one + " one Ines Varga"}
	if err != nil || !slices.Equal(told, want) {
		t.Errorf("blamed on %q, %v", told, err)
	}
}
