package git

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"
)

// shownOn is a plan for a change as it was shown when the target stood at a commit.
func (w *workshop) shownOn(s Strategy, shownAt, base, head string) Plan {
	p := plan(s, base, head)
	p.Shown = w.git("merge-base", shownAt, head)
	return p
}

// tells says what an attempt to build gives: "lands", or the kind of refusal and the files.
func (w *workshop) tells(p Plan) (string, Built) {
	w.t.Helper()
	built, err := w.repo.Build(w.t.Context(), p)
	var conflict *ConflictError
	var different *DifferentError
	switch {
	case err == nil:
		return "lands", built
	case errors.As(err, &different) && different.Conflict != nil:
		return "cannot be written: " + strings.Join(different.Conflict.Files, " "), built
	case errors.As(err, &different) && different.Unshown != "":
		return "unshown", built
	case errors.As(err, &different):
		return "differs: " + strings.Join(different.Files, " "), built
	case errors.As(err, &conflict):
		return "conflict: " + strings.Join(conflict.Files, " "), built
	case errors.As(err, &NothingError{}):
		return "nothing", built
	}
	w.t.Fatalf("%+v: %v", p, err)
	return "", built
}

// What lands is what was shown, by whatever strategy, or nothing lands (P2). Each case says what becomes of it by rebase,
// squash and merge, and what the tree holds where it lands.
func TestP2OneTree(t *testing.T) {
	t.Parallel()
	on := func(w *workshop, branch string) { w.git("checkout", "-q", branch) }
	cases := []struct {
		name string
		// make makes topic and main, and returns what main was when the change was shown (empty: what it is now).
		make                  func(w *workshop) (shownAt string, landed []string)
		rebase, squash, merge string
		holds                 map[string]string // of what lands: path to content; "-" is no such path
	}{
		{"a side branch brought in by -s ours", func(w *workshop) (string, []string) {
			w.git("checkout", "-q", "-b", "side")
			w.write("hidden", "x\n")
			w.commit("side")
			w.git("checkout", "-q", "-b", "topic", "main")
			w.write("a", lines(9, map[int]string{0: "one line"}))
			w.commit("one line")
			w.git("merge", "-q", "-s", "ours", "-m", "take it in", "side")
			return "", nil
		}, "differs: hidden", "lands", "lands", map[string]string{"hidden": "-"}},
		{"a commit that the target has, its reversal, and a typo", func(w *workshop) (string, []string) {
			w.git("checkout", "-q", "-b", "topic")
			w.write("b", "b\n")
			x := w.commit("x")
			w.git("revert", "--no-edit", "HEAD")
			w.write("a", lines(9, map[int]string{0: "typo"}))
			w.commit("typo")
			shownAt := w.git("rev-parse", "main")
			on(w, "main")
			w.write("c", "c\n")
			w.commit("moves on")
			w.git("cherry-pick", x)
			return shownAt, nil
		}, "differs: b", "lands", "lands", map[string]string{"b": "b\n"}},
		{"a commit that the target has, and another", func(w *workshop) (string, []string) {
			w.git("checkout", "-q", "-b", "topic")
			w.write("b", "b\n")
			x := w.commit("x")
			w.write("c", "c\n")
			w.commit("y")
			shownAt := w.git("rev-parse", "main")
			on(w, "main")
			w.write("d", "d\n")
			w.commit("moves on")
			w.git("cherry-pick", x)
			return shownAt, nil
		}, "lands", "lands", "lands", map[string]string{"b": "b\n", "c": "c\n", "d": "d\n"}},
		{"half of it landed and was taken back", func(w *workshop) (string, []string) {
			w.git("checkout", "-q", "-b", "topic")
			w.write("b", "b\n")
			x := w.commit("half")
			w.write("c", "c\n")
			w.commit("other half")
			shownAt := w.git("rev-parse", "main")
			on(w, "main")
			w.git("merge", "-q", "--ff-only", x)
			w.git("revert", "--no-edit", "HEAD")
			return shownAt, nil
		}, "differs: b", "lands", "differs: b", map[string]string{"b": "b\n", "c": "c\n"}},
		{"one that depends on what landed in other clothes", func(w *workshop) (string, []string) {
			w.git("checkout", "-q", "-b", "first")
			w.write("b", lines(9, nil))
			first := w.commit("first")
			w.git("checkout", "-q", "-b", "topic")
			w.write("c", "c\n")
			w.commit("second")
			shownAt := w.git("rev-parse", "main")
			on(w, "main")
			w.write("b", lines(9, nil))
			w.commit("first, squashed")
			w.write("b", lines(9, map[int]string{4: "mended since"}))
			w.commit("mended")
			return shownAt, []string{first}
		}, "conflict: b", "conflict: b", "conflict: b", nil}, // brought up, it shows what it brings
		{"one that depends on what landed in other clothes, untouched since", func(w *workshop) (string, []string) {
			w.git("checkout", "-q", "-b", "first")
			w.write("b", lines(9, nil))
			w.commit("draft")
			w.write("b", lines(9, map[int]string{4: "mended"}))
			w.commit("mend")
			first := strings.Fields(w.git("rev-list", "--max-count=2", "HEAD"))
			w.git("checkout", "-q", "-b", "topic")
			w.write("c", "c\n")
			w.commit("second")
			shownAt := w.git("rev-parse", "main")
			on(w, "main")
			w.write("b", lines(9, map[int]string{4: "mended"}))
			w.commit("first, squashed")
			return shownAt, first
		}, "lands", "lands", "lands", map[string]string{"c": "c\n", "b": lines(9, map[int]string{4: "mended"})}},
		{"one that depends on what landed and was taken back", func(w *workshop) (string, []string) {
			w.git("checkout", "-q", "-b", "first")
			w.write("b", "b\n")
			first := w.commit("first")
			w.git("checkout", "-q", "-b", "topic")
			w.write("c", "c\n")
			w.commit("second")
			shownAt := w.git("rev-parse", "main")
			on(w, "main")
			w.write("d", "d\n")
			w.commit("moves on")
			w.git("cherry-pick", first)
			w.git("revert", "--no-edit", "HEAD")
			return shownAt, []string{first}
		}, "lands", "lands", "lands", map[string]string{"b": "b\n", "c": "c\n"}},
		{"a rename, then a rewrite, while the target edited", func(w *workshop) (string, []string) {
			w.git("checkout", "-q", "-b", "topic")
			w.git("mv", "a", "z")
			w.commit("rename")
			w.write("z", strings.Repeat("new\n", 30))
			w.commit("rewrite")
			shownAt := w.git("rev-parse", "main")
			on(w, "main")
			w.write("a", lines(9, map[int]string{8: "edited"}))
			w.commit("edit")
			return shownAt, nil
		}, "conflict: a", "conflict: a", "conflict: a", nil},
		{"an update by a merge with a resolution", func(w *workshop) (string, []string) {
			w.git("checkout", "-q", "-b", "topic")
			w.write("a", lines(9, map[int]string{0: "topic"}))
			w.commit("topic")
			on(w, "main")
			w.write("a", lines(9, map[int]string{0: "main"}))
			w.commit("main")
			on(w, "topic")
			w.try("merge", "-q", "main")
			w.write("a", lines(9, map[int]string{0: "both"}))
			w.commit("resolved")
			shownAt := w.git("rev-parse", "main")
			on(w, "main")
			w.write("d", "d\n")
			w.commit("moves on")
			return shownAt, nil
		}, "cannot be written: a", "lands", "lands", map[string]string{"a": lines(9, map[int]string{0: "both"}), "d": "d\n"}},
		{"an update by a merge without one", func(w *workshop) (string, []string) {
			w.git("checkout", "-q", "-b", "topic")
			w.write("b", "b\n")
			w.commit("topic")
			on(w, "main")
			w.write("d", "d\n")
			w.commit("main")
			on(w, "topic")
			w.git("merge", "-q", "-m", "up", "main")
			w.write("c", "c\n")
			w.commit("more")
			return "", nil
		}, "lands", "lands", "lands", map[string]string{"b": "b\n", "c": "c\n", "d": "d\n"}},
		{"a merge that brings what neither side has", func(w *workshop) (string, []string) {
			w.git("checkout", "-q", "-b", "topic")
			w.write("b", "b\n")
			w.commit("topic")
			on(w, "main")
			w.write("d", "d\n")
			w.commit("main")
			on(w, "topic")
			w.git("merge", "-q", "--no-commit", "main")
			w.write("smuggled", "x\n")
			w.commit("up")
			return "", nil
		}, "differs: smuggled", "lands", "lands", map[string]string{"smuggled": "x\n"}},
		{"a commit without a parent", func(w *workshop) (string, []string) {
			w.git("checkout", "-q", "--orphan", "other")
			w.git("rm", "-rfq", ".")
			w.write("o", "o\n")
			w.commit("root")
			w.git("checkout", "-q", "-b", "topic", "main")
			w.git("merge", "-q", "--allow-unrelated-histories", "-m", "take in", "other")
			return "", nil
		}, "lands", "lands", "lands", map[string]string{"o": "o\n", "a": lines(9, nil)}},
		{"what the target has already", func(w *workshop) (string, []string) {
			w.git("checkout", "-q", "-b", "topic")
			w.write("b", "b\n")
			x := w.commit("x")
			shownAt := w.git("rev-parse", "main")
			on(w, "main")
			w.write("d", "d\n")
			w.commit("moves on")
			w.git("cherry-pick", x)
			return shownAt, nil
		}, "nothing", "nothing", "lands", map[string]string{"b": "b\n"}},
		{"a submodule that both moved", func(w *workshop) (string, []string) {
			module := func(id string) {
				w.git("update-index", "--add", "--cacheinfo", "160000,"+strings.Repeat(id, 40)+",sub")
				w.git("commit", "-q", "-m", "sub "+id)
			}
			module("1")
			w.git("checkout", "-q", "-b", "topic")
			module("2")
			shownAt := w.git("rev-parse", "main")
			on(w, "main")
			module("3")
			return shownAt, nil
		}, "conflict: sub", "conflict: sub", "conflict: sub", nil},
		{"a target whose history was rewritten", func(w *workshop) (string, []string) {
			start := w.git("rev-parse", "HEAD")
			w.git("commit", "-q", "--allow-empty", "-m", "dropped")
			w.git("checkout", "-q", "-b", "topic")
			w.write("b", "b\n")
			w.commit("b")
			shownAt := w.git("rev-parse", "main")
			on(w, "main")
			w.git("reset", "-q", "--hard", start)
			w.write("d", "d\n")
			w.commit("moves on")
			return shownAt, nil
		}, "lands", "lands", "unshown", map[string]string{"b": "b\n"}},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			w := newWorkshop(t)
			w.write("a", lines(9, nil))
			w.commit("start")
			shownAt, landed := c.make(w)
			w.push()
			base, head := w.git("rev-parse", "main"), w.git("rev-parse", "topic")
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

func (w *workshop) mustHold(built Built, holds map[string]string) {
	w.t.Helper()
	for path, want := range holds {
		out, err := w.repo.run(w.t.Context(), nil, "cat-file", "blob", built.Commit+":"+path)
		if err != nil != (want == "-") || err == nil && string(out) != want {
			w.t.Errorf("%s is %q, %v; not %q", path, out, err, want)
		}
	}
}

// judgedApart is the judge's tree, worked out with nothing of the package's: both sides as commits on the shown base, so that
// no history has a say.
func (w *workshop) judgedApart(shown, onto, head string) (string, bool) {
	w.t.Helper()
	ours := w.git("commit-tree", onto+"^{tree}", "-p", shown, "-m", "ours")
	theirs := w.git("commit-tree", head+"^{tree}", "-p", shown, "-m", "theirs")
	out, err := w.try("-c", "merge.directoryRenames=conflict", "merge-tree", "--write-tree", ours, theirs)
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
		w := newWorkshop(t)
		w.grow(rng)
		w.push()
		head, now := w.git("rev-parse", "topic"), w.git("rev-parse", "main")
		shownAt := w.git("rev-parse", "shown")
		bases := strings.Fields(w.git("merge-base", "--all", shownAt, head))
		if len(bases) > 1 {
			tally["several bases"]++ // the gate asks for bringing it up; what was shown is still what would land
		}
		want, clean := w.judgedApart(bases[0], now, head)
		// Approvals are compared by Judge, and a rehearsal is built by the same merge through processes of its own: one answer.
		if tree, err := w.repo.Judge(t.Context(), Shown{bases[0], head}, now); (err == nil) != clean || clean && tree != want {
			t.Fatalf("history %d of seed %d: Judge says %s, %v, not %s (clean %v)", i, seed, tree, err, want, clean)
		}
		for _, s := range []Strategy{Rebase, Squash, Merge} {
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
			case s == Squash && clean && kind != "lands" && kind != "nothing":
				t.Fatalf("history %d of seed %d: a squash of what goes together %s", i, seed, got)
			}
			if got == "lands" && s == Merge {
				if own, err := w.try("merge-tree", "--write-tree", now, head); err != nil || strings.Fields(own)[0] != built.Tree {
					t.Fatalf("history %d of seed %d: the merge has %s, git's own has %s", i, seed, built.Tree, own)
				}
			}
			if got == "lands" && s == Rebase && w.bareGit("rev-list", "--merges", "--count", built.Commit, "^"+now) != "0" {
				t.Fatalf("history %d of seed %d: a rebase lands a merge", i, seed)
			}
		}
	}
	t.Log(tally)
	if n >= 100 && tally["several bases"] == 0 || tally["rebase lands"] == 0 || tally["rebase differs"]+tally["rebase cannot be written"] == 0 || tally["squash conflict"] == 0 {
		t.Errorf("%v: the test says nothing", tally)
	}
}

func (w *workshop) bareGit(args ...string) string {
	w.t.Helper()
	out, err := w.repo.run(w.t.Context(), nil, args...)
	if err != nil {
		w.t.Fatal(err)
	}
	return strings.TrimSpace(string(out))
}

// grow grows a history at random: main, topic, a branch aside, and "shown" where main was when topic was shown.
func (w *workshop) grow(rng *rand.Rand) {
	w.t.Helper()
	for i := range 3 {
		w.write(fmt.Sprintf("f%d", i), lines(12, nil))
	}
	w.commit("start")
	for _, b := range []string{"topic", "side", "shown"} {
		w.git("branch", b)
	}
	ours := func(branch string) []string {
		return strings.Fields(w.git("rev-list", "--no-merges", "--max-count=6", branch))
	}
	commit := func(message string, more ...string) { // a submodule has no files here that could be added
		w.git("add", "-A", "--", ".", ":!sub")
		if w.git("ls-files", "-u", "--", "sub") != "" {
			w.git("update-index", "--add", "--cacheinfo", "160000,"+strings.Repeat("4", 40)+",sub")
		}
		w.git(append([]string{"commit", "-q", "--allow-empty", "-m", message}, more...)...)
	}
	mend := func() { // whatever is in the way is committed as it is, marks and all
		commit("mended")
		w.try("cherry-pick", "--quit")
		w.try("revert", "--quit")
	}
	step := func(branch string, n int) {
		w.git("checkout", "-q", "-f", branch)
		switch k := rng.IntN(14); {
		case k < 5:
			f := fmt.Sprintf("f%d", rng.IntN(4))
			w.write(f, lines(12, map[int]string{rng.IntN(12): fmt.Sprintf("%s %d", branch, n), rng.IntN(12): "same"}))
			commit(fmt.Sprintf("%s edits %d", branch, n))
		case k == 5:
			w.try("mv", "f1", fmt.Sprintf("r%d", rng.IntN(2)))
			commit("rename")
		case k == 6:
			w.try("rm", "-q", "f2")
			commit("remove")
		case k == 7:
			w.try("update-index", "--add", "--cacheinfo", fmt.Sprintf("160000,%s,sub", strings.Repeat(strconv.Itoa(1+rng.IntN(3)), 40)))
			w.git("commit", "-q", "--allow-empty", "-m", "sub")
		case k == 8:
			if all := ours(branch); len(all) > 1 {
				if _, err := w.try("revert", "--no-edit", all[rng.IntN(len(all)-1)]); err != nil {
					mend()
				}
			}
		case k == 9:
			from := []string{"main", "topic", "side"}[rng.IntN(3)]
			if all := ours(from); len(all) > 1 && from != branch {
				if _, err := w.try("cherry-pick", "--allow-empty", all[rng.IntN(len(all)-1)]); err != nil {
					mend()
				}
			}
		default:
			from := []string{"side", "main", "topic"}[rng.IntN(3)]
			how := [][]string{nil, nil, {"-s", "ours"}, {"-X", "ours"}, {"-X", "theirs"}}[rng.IntN(5)]
			if from == branch || branch == "main" && rng.IntN(4) > 0 { // main takes topic in now and then: several bases
				w.write(fmt.Sprintf("n%d", n), branch)
				commit("new file")
				return
			}
			args := append(append([]string{"merge", "-q", "--no-edit", "--no-ff"}, how...), from)
			if _, err := w.try(args...); err != nil {
				mend()
			} else if _, err := w.try("rev-parse", "-q", "--verify", "HEAD^2"); err == nil && rng.IntN(4) == 0 {
				w.write("evil", fmt.Sprint(n))
				commit("with something of its own", "--amend")
			}
		}
	}
	cross := func() { // main and topic take in what the other had: several merge bases
		a, b := w.git("rev-parse", "main"), w.git("rev-parse", "topic")
		for _, take := range [][2]string{{"main", b}, {"topic", a}} {
			w.git("checkout", "-q", "-f", take[0])
			if _, err := w.try("merge", "-q", "--no-edit", "--no-ff", take[1]); err != nil {
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
	w.git("checkout", "-q", "-f", "topic")
	w.write("own", "topic's own\n")
	commit("its own")
	w.git("branch", "-f", "shown", "main")
	for i := range rng.IntN(4) {
		step("main", 100+i)
	}
}

// The order in which a plan's sets are given changes nothing, and what was built stands whole in the repository.
func TestP2WhatIsBuiltIsWhole(t *testing.T) {
	w := newWorkshop(t)
	w.write("a", lines(9, nil))
	w.commit("start")
	w.git("checkout", "-q", "-b", "topic")
	w.write("b", "b\n")
	w.git("add", "-A")
	w.git("commit", "-q", "-m", "Open\n\nApproved-by: nobody <x>\nLanded-change: growers/irrigation 9\n")
	head := w.git("rev-parse", "HEAD")
	base := w.git("rev-parse", "main")
	w.push()
	p := plan(Rebase, base, head)
	p.Shown = base
	built, err := w.repo.Build(t.Context(), p)
	if err != nil {
		t.Fatal(err)
	}
	if text := w.bareGit("cat-file", "commit", built.Commit); built.Commit == head || strings.Contains(text, "Approved-by") || strings.Contains(text, "Landed-change") || !strings.Contains(text, "Open") {
		t.Errorf("a rebase keeps what only the service says:\n%s", text)
	}
	p.Genuine = map[string]bool{head: true}
	if built, err = w.repo.Build(t.Context(), p); err != nil || built.Commit != head {
		t.Errorf("what the records know as landed is written anew: %v, %v", built, err)
	}
	if out := w.bareGit("fsck", "--strict", "--no-dangling"); strings.Contains(out, "error") {
		t.Error(out)
	}
}

// What commits bring one by one: merges by what they change beyond Git's own merge.
func TestBrings(t *testing.T) {
	w := newWorkshop(t)
	w.write("a", lines(9, nil))
	w.commit("start")
	w.git("checkout", "-q", "-b", "topic")
	w.write("seen", "x\n")
	w.commit("seen")
	w.write("hidden", strings.Repeat("secret\n", 50))
	w.commit("hide")
	w.git("rm", "-q", "hidden")
	w.commit("take away")
	w.git("checkout", "-q", "main")
	w.write("d", "d\n")
	base := w.commit("main")
	w.git("checkout", "-q", "topic")
	w.git("merge", "-q", "--no-commit", "main")
	w.write("evil", "e\n")
	w.commit("up")
	head := w.git("rev-parse", "HEAD")
	w.push()
	log, err := w.repo.LogAll(t.Context(), head, []string{base}, "change.commits")
	if err != nil {
		t.Fatal(err)
	}
	brought, err := w.repo.Brings(t.Context(), log)
	if err != nil || !slices.Equal(brought.Paths, []string{"evil", "hidden", "seen"}) || brought.Added != 50 || brought.Removed != 50 || brought.Files != 1 {
		t.Errorf("it brings %+v, %v", brought, err)
	}
	w.repo.program.bounds().ChangePaths = 2
	if _, err := w.repo.Brings(t.Context(), log); err == nil || !strings.Contains(err.Error(), "change.paths") {
		t.Errorf("more paths than the bound: %v", err)
	}
	w.repo.program.bounds().ChangeCommits = 3
	if _, err := w.repo.LogAll(t.Context(), head, []string{base}, "change.commits"); err == nil || !strings.Contains(err.Error(), "change.commits") {
		t.Errorf("more commits than the bound: %v", err)
	}
}

// No attribute of the tree hides a difference, and every file counts, whatever bytes it holds.
func TestDifferencesAreWhole(t *testing.T) {
	w := newWorkshop(t)
	w.write(".gitattributes", "* -diff\n*.sh binary\n")
	w.write("a", "a\n")
	one := w.commit("start")
	w.write("a", "b\n")
	w.write("run.sh", "echo one\x00\necho two\n")
	w.write("long", strings.Repeat("x", 4000))
	w.write("noise", strings.Repeat("\x00\x01\x02\xff", 100))
	os.Chmod(w.dir+"/a", 0o755)
	os.Symlink("/etc/passwd", w.dir+"/link")
	w.git("update-index", "--add", "--cacheinfo", "160000,"+strings.Repeat("1", 40)+",sub")
	w.write(".gitmodules", "[submodule \"sub\"]\n\tpath = sub\n\turl = ../sub\n\tignore = all\n")
	w.git("add", ".gitmodules", "a", "run.sh", "long", "noise", "link")
	w.git("commit", "-q", "-m", "two")
	two := w.git("rev-parse", "HEAD")
	w.push()
	files, err := w.repo.Diff(t.Context(), one, two)
	if err != nil {
		t.Fatal(err)
	}
	got := map[string]FileDiff{}
	for _, f := range files {
		got[f.Path] = f
	}
	for path, want := range map[string]FileDiff{
		"a": {Added: 1, Removed: 1, NewMode: "100755"}, "run.sh": {Added: 2, Odd: true, NewMode: "100644"}, "long": {Added: 20, NewMode: "100644"},
		"noise": {Added: 10, Binary: true, NewMode: "100644"}, "link": {Added: 1, NewMode: "120000"}, "sub": {Added: 1, NewMode: "160000"},
	} {
		if f := got[path]; f.Added != want.Added || f.Removed != want.Removed || f.Odd != want.Odd || f.Binary != want.Binary || f.NewMode != want.NewMode {
			t.Errorf("%s is %+v", path, f)
		}
	}
	text, _, err := w.repo.Patch(t.Context(), one, two, 1<<20, DiffOptions{Context: 3}, true, "run.sh", "a", "sub", "link")
	for _, part := range []string{"+echo two", "-a", "+b", "+Subproject commit 1111", "+/etc/passwd", "new mode 100755"} {
		if err != nil || !strings.Contains(text, part) {
			t.Errorf("%q is missing, %v:\n%s", part, err, text)
		}
	}
}
