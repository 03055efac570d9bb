package rehearsal

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"

	"tavrin/internal/git/workshop"
)

// shownOn is a plan for a change as it was shown when the target stood at a commit.
func (w *shop) shownOn(s Strategy, shownAt, base, head string) Plan {
	p := plan(s, base, head)
	p.Shown = w.Git("merge-base", shownAt, head)
	return p
}

// tells says what an attempt to build gives: "lands", or the kind of refusal and the files.
func (w *shop) tells(p Plan) (string, Built) {
	w.Helper()
	built, err := Build(w.Context(), w.Repo, p)
	var conflict *ConflictError
	var different *DifferentError
	switch {
	case err == nil:
		return "lands", built
	case errors.As(err, &different) && different.Conflict != nil:
		return "cannot be written: " + strings.Join(different.Conflict.Files, " "), built
	case errors.As(err, &different) && different.Unshown != "":
		return "unshown", built
	case errors.As(err, &different) && different.Behind:
		return "behind", built
	case errors.As(err, &different):
		return "differs: " + strings.Join(different.Files, " "), built
	case errors.As(err, &conflict):
		return "conflict: " + strings.Join(conflict.Files, " "), built
	case errors.As(err, &NothingError{}):
		return "nothing", built
	}
	w.Fatalf("%+v: %v", p, err)
	return "", built
}

// What lands is what was shown, by whatever strategy, or nothing lands (P2). Each case says what becomes of it by rebase,
// squash and merge, and what the tree holds where it lands.
func TestP2OneTree(t *testing.T) {
	t.Parallel()
	on := func(w *shop, branch string) { w.Git("checkout", "-q", branch) }
	cases := []struct {
		name string
		// make makes topic and main, and returns what main was when the change was shown (empty: what it is now).
		make                  func(w *shop) (shownAt string, landed []string)
		rebase, squash, merge string
		holds                 map[string]string // of what lands: path to content; "-" is no such path
	}{
		{"a side branch brought in by -s ours", func(w *shop) (string, []string) {
			w.Git("checkout", "-q", "-b", "side")
			w.Write("hidden", "x\n")
			w.Commit("side")
			w.Git("checkout", "-q", "-b", "topic", "main")
			w.Write("a", workshop.Lines(9, map[int]string{0: "one line"}))
			w.Commit("one line")
			w.Git("merge", "-q", "-s", "ours", "-m", "take it in", "side")
			return "", nil
		}, "differs: hidden", "lands", "lands", map[string]string{"hidden": "-"}},
		{"a commit that the target has, its reversal, and a typo", func(w *shop) (string, []string) {
			w.Git("checkout", "-q", "-b", "topic")
			w.Write("b", "b\n")
			x := w.Commit("x")
			w.Git("revert", "--no-edit", "HEAD")
			w.Write("a", workshop.Lines(9, map[int]string{0: "typo"}))
			w.Commit("typo")
			shownAt := w.Git("rev-parse", "main")
			on(w, "main")
			w.Write("c", "c\n")
			w.Commit("moves on")
			w.Git("cherry-pick", x)
			return shownAt, nil
		}, "differs: b", "lands", "lands", map[string]string{"b": "b\n"}},
		{"a commit that the target has, and another", func(w *shop) (string, []string) {
			w.Git("checkout", "-q", "-b", "topic")
			w.Write("b", "b\n")
			x := w.Commit("x")
			w.Write("c", "c\n")
			w.Commit("y")
			shownAt := w.Git("rev-parse", "main")
			on(w, "main")
			w.Write("d", "d\n")
			w.Commit("moves on")
			w.Git("cherry-pick", x)
			return shownAt, nil
		}, "lands", "lands", "lands", map[string]string{"b": "b\n", "c": "c\n", "d": "d\n"}},
		{"half of it landed and was taken back", func(w *shop) (string, []string) {
			w.Git("checkout", "-q", "-b", "topic")
			w.Write("b", "b\n")
			x := w.Commit("half")
			w.Write("c", "c\n")
			w.Commit("other half")
			shownAt := w.Git("rev-parse", "main")
			on(w, "main")
			w.Git("merge", "-q", "--ff-only", x)
			w.Git("revert", "--no-edit", "HEAD")
			return shownAt, nil
		}, "differs: b", "lands", "differs: b", map[string]string{"b": "b\n", "c": "c\n"}},
		{"one that depends on what landed in other clothes", func(w *shop) (string, []string) {
			w.Git("checkout", "-q", "-b", "first")
			w.Write("b", workshop.Lines(9, nil))
			first := w.Commit("first")
			w.Git("checkout", "-q", "-b", "topic")
			w.Write("c", "c\n")
			w.Commit("second")
			shownAt := w.Git("rev-parse", "main")
			on(w, "main")
			w.Write("b", workshop.Lines(9, nil))
			w.Commit("first, squashed")
			w.Write("b", workshop.Lines(9, map[int]string{4: "mended since"}))
			w.Commit("mended")
			return shownAt, []string{first}
		}, "conflict: b", "conflict: b", "conflict: b", nil}, // brought up, it shows what it brings
		{"one that depends on what landed in other clothes, untouched since", func(w *shop) (string, []string) {
			w.Git("checkout", "-q", "-b", "first")
			w.Write("b", workshop.Lines(9, nil))
			w.Commit("draft")
			w.Write("b", workshop.Lines(9, map[int]string{4: "mended"}))
			w.Commit("mend")
			first := strings.Fields(w.Git("rev-list", "--max-count=2", "HEAD"))
			w.Git("checkout", "-q", "-b", "topic")
			w.Write("c", "c\n")
			w.Commit("second")
			shownAt := w.Git("rev-parse", "main")
			on(w, "main")
			w.Write("b", workshop.Lines(9, map[int]string{4: "mended"}))
			w.Commit("first, squashed")
			return shownAt, first
		}, "lands", "lands", "lands", map[string]string{"c": "c\n", "b": workshop.Lines(9, map[int]string{4: "mended"})}},
		{"one that depends on what landed and was taken back", func(w *shop) (string, []string) {
			w.Git("checkout", "-q", "-b", "first")
			w.Write("b", "b\n")
			first := w.Commit("first")
			w.Git("checkout", "-q", "-b", "topic")
			w.Write("c", "c\n")
			w.Commit("second")
			shownAt := w.Git("rev-parse", "main")
			on(w, "main")
			w.Write("d", "d\n")
			w.Commit("moves on")
			w.Git("cherry-pick", first)
			w.Git("revert", "--no-edit", "HEAD")
			return shownAt, []string{first}
		}, "lands", "lands", "lands", map[string]string{"b": "b\n", "c": "c\n"}},
		{"a rename, then a rewrite, while the target edited", func(w *shop) (string, []string) {
			w.Git("checkout", "-q", "-b", "topic")
			w.Git("mv", "a", "z")
			w.Commit("rename")
			w.Write("z", strings.Repeat("new\n", 30))
			w.Commit("rewrite")
			shownAt := w.Git("rev-parse", "main")
			on(w, "main")
			w.Write("a", workshop.Lines(9, map[int]string{8: "edited"}))
			w.Commit("edit")
			return shownAt, nil
		}, "conflict: a", "conflict: a", "conflict: a", nil},
		{"an update by a merge with a resolution", func(w *shop) (string, []string) {
			w.Git("checkout", "-q", "-b", "topic")
			w.Write("a", workshop.Lines(9, map[int]string{0: "topic"}))
			w.Commit("topic")
			on(w, "main")
			w.Write("a", workshop.Lines(9, map[int]string{0: "main"}))
			w.Commit("main")
			on(w, "topic")
			w.Try("merge", "-q", "main")
			w.Write("a", workshop.Lines(9, map[int]string{0: "both"}))
			w.Commit("resolved")
			shownAt := w.Git("rev-parse", "main")
			on(w, "main")
			w.Write("d", "d\n")
			w.Commit("moves on")
			return shownAt, nil
		}, "cannot be written: a", "lands", "lands", map[string]string{"a": workshop.Lines(9, map[int]string{0: "both"}), "d": "d\n"}},
		{"an update by a merge without one", func(w *shop) (string, []string) {
			w.Git("checkout", "-q", "-b", "topic")
			w.Write("b", "b\n")
			w.Commit("topic")
			on(w, "main")
			w.Write("d", "d\n")
			w.Commit("main")
			on(w, "topic")
			w.Git("merge", "-q", "-m", "up", "main")
			w.Write("c", "c\n")
			w.Commit("more")
			return "", nil
		}, "lands", "lands", "lands", map[string]string{"b": "b\n", "c": "c\n", "d": "d\n"}},
		{"a merge that brings what neither side has", func(w *shop) (string, []string) {
			w.Git("checkout", "-q", "-b", "topic")
			w.Write("b", "b\n")
			w.Commit("topic")
			on(w, "main")
			w.Write("d", "d\n")
			w.Commit("main")
			on(w, "topic")
			w.Git("merge", "-q", "--no-commit", "main")
			w.Write("smuggled", "x\n")
			w.Commit("up")
			return "", nil
		}, "differs: smuggled", "lands", "lands", map[string]string{"smuggled": "x\n"}},
		{"a commit without a parent", func(w *shop) (string, []string) {
			w.Git("checkout", "-q", "--orphan", "other")
			w.Git("rm", "-rfq", ".")
			w.Write("o", "o\n")
			w.Commit("root")
			w.Git("checkout", "-q", "-b", "topic", "main")
			w.Git("merge", "-q", "--allow-unrelated-histories", "-m", "take in", "other")
			return "", nil
		}, "lands", "lands", "lands", map[string]string{"o": "o\n", "a": workshop.Lines(9, nil)}},
		{"what the target has already", func(w *shop) (string, []string) {
			w.Git("checkout", "-q", "-b", "topic")
			w.Write("b", "b\n")
			x := w.Commit("x")
			shownAt := w.Git("rev-parse", "main")
			on(w, "main")
			w.Write("d", "d\n")
			w.Commit("moves on")
			w.Git("cherry-pick", x)
			return shownAt, nil
		}, "nothing", "nothing", "lands", map[string]string{"b": "b\n"}},
		{"a submodule that both moved", func(w *shop) (string, []string) {
			module := func(id string) {
				w.Git("update-index", "--add", "--cacheinfo", "160000,"+strings.Repeat(id, 40)+",sub")
				w.Git("commit", "-q", "-m", "sub "+id)
			}
			module("1")
			w.Git("checkout", "-q", "-b", "topic")
			module("2")
			shownAt := w.Git("rev-parse", "main")
			on(w, "main")
			module("3")
			return shownAt, nil
		}, "conflict: sub", "conflict: sub", "conflict: sub", nil},
		{"a target whose history was rewritten", func(w *shop) (string, []string) {
			start := w.Git("rev-parse", "HEAD")
			w.Git("commit", "-q", "--allow-empty", "-m", "dropped")
			w.Git("checkout", "-q", "-b", "topic")
			w.Write("b", "b\n")
			w.Commit("b")
			shownAt := w.Git("rev-parse", "main")
			on(w, "main")
			w.Git("reset", "-q", "--hard", start)
			w.Write("d", "d\n")
			w.Commit("moves on")
			return shownAt, nil
		}, "lands", "lands", "unshown", map[string]string{"b": "b\n"}},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			w := newShop(t)
			w.Write("a", workshop.Lines(9, nil))
			w.Commit("start")
			shownAt, landed := c.make(w)
			w.Push()
			base, head := w.Git("rev-parse", "main"), w.Git("rev-parse", "topic")
			if shownAt == "" {
				shownAt = base
			}
			for strategy, want := range map[Strategy]string{Rebase: c.rebase, Squash: c.squash, Merge: c.merge} {
				p := w.shownOn(strategy, shownAt, base, head)
				p.Landed = map[string]bool{}
				for _, id := range landed {
					p.Landed[id] = true
				}
				got, built := w.tells(p)
				if got != want {
					t.Errorf("by %s: %s, not %s", strategy, got, want)
				}
				if got == "lands" {
					w.mustHold(built, c.holds)
				}
			}
		})
	}
}

func (w *shop) mustHold(built Built, holds map[string]string) {
	w.Helper()
	for path, want := range holds {
		out, err := w.Repo.Place().Run(w.Context(), nil, "cat-file", "blob", built.Commit+":"+path)
		if err != nil != (want == "-") || err == nil && string(out) != want {
			w.Errorf("%s is %q, %v; not %q", path, out, err, want)
		}
	}
}

// judgedApart is the judge's tree, worked out with nothing of the package's: both sides as commits on the shown base, so that
// no history has a say.
func (w *shop) judgedApart(shown, onto, head string) (string, bool) {
	w.Helper()
	ours := w.Git("commit-tree", onto+"^{tree}", "-p", shown, "-m", "ours")
	theirs := w.Git("commit-tree", head+"^{tree}", "-p", shown, "-m", "theirs")
	out, err := w.Try("-c", "merge.directoryRenames=conflict", "merge-tree", "--write-tree", ours, theirs)
	return strings.Fields(out)[0], err == nil
}

// Random histories, with merges of every kind, reversals, cherry-picks, renames, submodules, and merges back and forth: by no
// strategy lands anything but the judge's tree (P2). TAVRIN_HISTORIES says how many; make histories runs many.
func TestP2RandomHistoriesLandTheJudgesTree(t *testing.T) {
	t.Parallel()
	n := 12
	if text := os.Getenv("TAVRIN_HISTORIES"); text != "" {
		n, _ = strconv.Atoi(text)
	}
	seed := uint64(11)
	if text := os.Getenv("TAVRIN_SEED"); text != "" {
		seed, _ = strconv.ParseUint(text, 10, 64)
	}
	tally := map[string]int{}
	for i := range n {
		rng := rand.New(rand.NewPCG(seed, uint64(i)))
		w := newShop(t)
		w.grow(rng)
		w.Push()
		head, now := w.Git("rev-parse", "topic"), w.Git("rev-parse", "main")
		shownAt := w.Git("rev-parse", "shown")
		bases := strings.Fields(w.Git("merge-base", "--all", shownAt, head))
		if len(bases) > 1 {
			tally["several bases"]++ // the gate asks for bringing it up; what was shown is still what would land
		}
		want, clean := w.judgedApart(bases[0], now, head)
		// Approvals are compared by Judge, and a rehearsal is built by the same merge through processes of its own: one answer.
		if tree, err := Judge(t.Context(), w.Repo, Shown{bases[0], head}, now); (err == nil) != clean || clean && tree != want {
			t.Fatalf("history %d of seed %d: Judge says %s, %v, not %s (clean %v)", i, seed, tree, err, want, clean)
		}
		for _, s := range every {
			p := plan(s, now, head)
			p.Shown = bases[0]
			got, built := w.tells(p)
			kind, _, _ := strings.Cut(got, ":")
			tally[fmt.Sprintf("%s %s", s, kind)]++
			switch {
			case got == "lands" && (!clean || built.Tree != want):
				t.Fatalf("history %d of seed %d, by %s: %s lands, and the judge has %s (clean %v)", i, seed, s, built.Tree, want, clean)
			case got != "lands" && !clean && kind != "conflict" && kind != "nothing":
				t.Fatalf("history %d of seed %d, by %s: %s, and the judge conflicts", i, seed, s, got)
			case kind == "conflict" && clean:
				t.Fatalf("history %d of seed %d, by %s: %s, and the judge has %s", i, seed, s, got, want)
			case (s == Squash || s == SquashThenMerge) && clean && kind != "lands" && kind != "nothing":
				t.Fatalf("history %d of seed %d: a squash of what goes together %s", i, seed, got)
			}
			if got == "lands" && s == Merge {
				if own, err := w.Try("merge-tree", "--write-tree", now, head); err != nil || strings.Fields(own)[0] != built.Tree {
					t.Fatalf("history %d of seed %d: the merge has %s, git's own has %s", i, seed, built.Tree, own)
				}
			}
			if got == "lands" && s == FastForward && built.Commit != head {
				t.Fatalf("history %d of seed %d: a fast-forward lands %s, not %s", i, seed, built.Commit, head)
			}
			if got == "lands" && (s == SquashThenMerge || s == RebaseThenMerge) {
				if parents := strings.Fields(w.bareGit("rev-list", "--max-count=1", "--parents", built.Commit)); len(parents) != 3 || parents[1] != now {
					t.Fatalf("history %d of seed %d: by %s there come %v", i, seed, s, parents)
				}
				if s == RebaseThenMerge && w.bareGit("rev-list", "--merges", "--count", built.Commit+"^2", "^"+now) != "0" {
					t.Fatalf("history %d of seed %d: a merge is replayed", i, seed)
				}
			}
			if got == "lands" && (s == Rebase || s == Fold) && w.bareGit("rev-list", "--merges", "--count", built.Commit, "^"+now) != "0" {
				t.Fatalf("history %d of seed %d: a rebase lands a merge", i, seed)
			}
		}
	}
	t.Log(tally)
	if n >= 100 && tally["several bases"] == 0 || tally["rebase lands"] == 0 || tally["rebase differs"]+tally["rebase cannot be written"] == 0 || tally["squash conflict"] == 0 {
		t.Errorf("%v: the test says nothing", tally)
	}
}

func (w *shop) bareGit(args ...string) string {
	w.Helper()
	out, err := w.Repo.Place().Run(w.Context(), nil, args...)
	if err != nil {
		w.Fatal(err)
	}
	return strings.TrimSpace(string(out))
}

// grow grows a history at random: main, topic, a branch aside, and "shown" where main was when topic was shown.
func (w *shop) grow(rng *rand.Rand) {
	w.Helper()
	for i := range 3 {
		w.Write(fmt.Sprintf("f%d", i), workshop.Lines(12, nil))
	}
	w.Commit("start")
	for _, b := range []string{"topic", "side", "shown"} {
		w.Git("branch", b)
	}
	ours := func(branch string) []string {
		return strings.Fields(w.Git("rev-list", "--no-merges", "--max-count=6", branch))
	}
	commit := func(message string, more ...string) { // a submodule has no files here that could be added
		w.Git("add", "-A", "--", ".", ":!sub")
		if w.Git("ls-files", "-u", "--", "sub") != "" {
			w.Git("update-index", "--add", "--cacheinfo", "160000,"+strings.Repeat("4", 40)+",sub")
		}
		w.Git(append([]string{"commit", "-q", "--allow-empty", "-m", message}, more...)...)
	}
	mend := func() { // whatever is in the way is committed as it is, marks and all
		commit("mended")
		w.Try("cherry-pick", "--quit")
		w.Try("revert", "--quit")
	}
	step := func(branch string, n int) {
		w.Git("checkout", "-q", "-f", branch)
		switch k := rng.IntN(14); {
		case k < 5:
			f := fmt.Sprintf("f%d", rng.IntN(4))
			w.Write(f, workshop.Lines(12, map[int]string{rng.IntN(12): fmt.Sprintf("%s %d", branch, n), rng.IntN(12): "same"}))
			commit(fmt.Sprintf("%s edits %d", branch, n))
		case k == 5:
			w.Try("mv", "f1", fmt.Sprintf("r%d", rng.IntN(2)))
			commit("rename")
		case k == 6:
			w.Try("rm", "-q", "f2")
			commit("remove")
		case k == 7:
			w.Try("update-index", "--add", "--cacheinfo", fmt.Sprintf("160000,%s,sub", strings.Repeat(strconv.Itoa(1+rng.IntN(3)), 40)))
			w.Git("commit", "-q", "--allow-empty", "-m", "sub")
		case k == 8:
			if all := ours(branch); len(all) > 1 {
				if _, err := w.Try("revert", "--no-edit", all[rng.IntN(len(all)-1)]); err != nil {
					mend()
				}
			}
		case k == 9:
			from := []string{"main", "topic", "side"}[rng.IntN(3)]
			if all := ours(from); len(all) > 1 && from != branch {
				if _, err := w.Try("cherry-pick", "--allow-empty", all[rng.IntN(len(all)-1)]); err != nil {
					mend()
				}
			}
		default:
			from := []string{"side", "main", "topic"}[rng.IntN(3)]
			how := [][]string{nil, nil, {"-s", "ours"}, {"-X", "ours"}, {"-X", "theirs"}}[rng.IntN(5)]
			if from == branch || branch == "main" && rng.IntN(4) > 0 { // main takes topic in now and then: several bases
				w.Write(fmt.Sprintf("n%d", n), branch)
				commit("new file")
				return
			}
			args := append(append([]string{"merge", "-q", "--no-edit", "--no-ff"}, how...), from)
			if _, err := w.Try(args...); err != nil {
				mend()
			} else if _, err := w.Try("rev-parse", "-q", "--verify", "HEAD^2"); err == nil && rng.IntN(4) == 0 {
				w.Write("evil", fmt.Sprint(n))
				commit("with something of its own", "--amend")
			}
		}
	}
	cross := func() { // main and topic take in what the other had: several merge bases
		a, b := w.Git("rev-parse", "main"), w.Git("rev-parse", "topic")
		for _, take := range [][2]string{{"main", b}, {"topic", a}} {
			w.Git("checkout", "-q", "-f", take[0])
			if _, err := w.Try("merge", "-q", "--no-edit", "--no-ff", take[1]); err != nil {
				mend()
			}
		}
	}
	for i := range 5 + rng.IntN(5) {
		step([]string{"main", "topic", "topic", "side"}[rng.IntN(4)], i)
		if i == 3 && rng.IntN(4) == 0 {
			cross()
		}
	}
	w.Git("checkout", "-q", "-f", "topic")
	w.Write("own", "topic's own\n")
	commit("its own")
	w.Git("branch", "-f", "shown", "main")
	for i := range rng.IntN(4) {
		step("main", 100+i)
	}
}

// The order in which a plan's sets are given changes nothing, and what was built stands whole in the repository.
func TestP2WhatIsBuiltIsWhole(t *testing.T) {
	w := newShop(t)
	w.Write("a", workshop.Lines(9, nil))
	w.Commit("start")
	w.Git("checkout", "-q", "-b", "topic")
	w.Write("b", "b\n")
	w.Git("add", "-A")
	w.Git("commit", "-q", "-m", "Open\n\nApproved-by: nobody <x>\nLanded-change: growers/irrigation 9\n")
	head := w.Git("rev-parse", "HEAD")
	base := w.Git("rev-parse", "main")
	w.Push()
	p := plan(Rebase, base, head)
	p.Shown = base
	built, err := Build(t.Context(), w.Repo, p)
	if err != nil {
		t.Fatal(err)
	}
	if text := w.bareGit("cat-file", "commit", built.Commit); built.Commit == head || strings.Contains(text, "Approved-by") || strings.Contains(text, "Landed-change") || !strings.Contains(text, "Open") {
		t.Errorf("a rebase keeps what only the service says:\n%s", text)
	}
	p.Genuine = map[string]bool{head: true}
	if built, err = Build(t.Context(), w.Repo, p); err != nil || built.Commit != head {
		t.Errorf("what the records know as landed is written anew: %v, %v", built, err)
	}
	if out := w.bareGit("fsck", "--strict", "--no-dangling"); strings.Contains(out, "error") {
		t.Error(out)
	}
}

// What commits bring one by one: merges by what they change beyond Git's own merge.
func TestBrings(t *testing.T) {
	w := newShop(t)
	w.Write("a", workshop.Lines(9, nil))
	w.Commit("start")
	w.Git("checkout", "-q", "-b", "topic")
	w.Write("seen", "x\n")
	w.Commit("seen")
	w.Write("hidden", strings.Repeat("secret\n", 50))
	w.Commit("hide")
	w.Git("rm", "-q", "hidden")
	w.Commit("take away")
	w.Git("checkout", "-q", "main")
	w.Write("d", "d\n")
	base := w.Commit("main")
	w.Git("checkout", "-q", "topic")
	w.Git("merge", "-q", "--no-commit", "main")
	w.Write("evil", "e\n")
	w.Commit("up")
	head := w.Git("rev-parse", "HEAD")
	w.Push()
	log, err := w.Repo.LogAll(t.Context(), head, []string{base}, "change.commits")
	if err != nil {
		t.Fatal(err)
	}
	brought, err := Brings(t.Context(), w.Repo, log)
	if err != nil || !slices.Equal(brought.Paths, []string{"evil", "hidden", "seen"}) || brought.Added != 50 || brought.Removed != 50 || brought.Files != 1 {
		t.Errorf("it brings %+v, %v", brought, err)
	}
	w.Repo.Place().Bounds().ChangePaths = 2
	if _, err := Brings(t.Context(), w.Repo, log); err == nil || !strings.Contains(err.Error(), "change.paths") {
		t.Errorf("more paths than the bound: %v", err)
	}
	w.Repo.Place().Bounds().ChangeCommits = 3
	if _, err := w.Repo.LogAll(t.Context(), head, []string{base}, "change.commits"); err == nil || !strings.Contains(err.Error(), "change.commits") {
		t.Errorf("more commits than the bound: %v", err)
	}
}
