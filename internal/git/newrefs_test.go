package git_test

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"strings"
	"testing"

	"tavrin/internal/git"
	"tavrin/internal/git/workshop"
)

// Many new refs that are made at once are there as if git had made them, tags with what they stand for; where git refuses one, none is
// made.
func TestManyNewRefsAreAsGitMakesThem(t *testing.T) {
	rng := rand.New(rand.NewPCG(8, 3))
	w := workshop.New(t)
	w.Write("a", "a")
	commit := w.Commit("a")
	w.Git("tag", "-a", "-m", "t", "annotated")
	w.Git("tag", "-a", "-m", "t", "twice", "annotated")
	objects := []string{commit, w.Commit("b"), w.Git("rev-parse", "annotated"), w.Git("rev-parse", "twice"), w.Git("rev-parse", "HEAD^{tree}"), strings.Repeat("e", 40)}
	run := func(dir, in string, args ...string) (string, error) {
		cmd := exec.Command("git", append([]string{"--git-dir", dir}, args...)...)
		cmd.Stdin = strings.NewReader(in)
		out, err := cmd.CombinedOutput()
		return string(out), err
	}
	refs := func(dir string) string {
		t.Helper()
		out, err := run(dir, "", "show-ref", "--dereference") // by what the packed refs say
		if err != nil {
			t.Fatal(err, out)
		}
		return out
	}
	made, refused := 0, 0
	for round := range 60 {
		ours, theirs := filepath.Join(t.TempDir(), "ours"), filepath.Join(t.TempDir(), "theirs")
		w.Git("push", "-q", "origin", "HEAD:refs/heads/main", "refs/tags/twice")
		pool := []int{60, 300, 3000}[round%3]
		name := func() string {
			return fmt.Sprintf("refs/%s/%c%d", []string{"heads", "tags", "heads/deep", "tags/a1", "tavrin/revisions/3"}[rng.IntN(5)], 'a'+rune(rng.IntN(3)), rng.IntN(pool))
		}
		var before strings.Builder
		for range rng.IntN(6) {
			fmt.Fprintf(&before, "update %s %s\n", name(), commit)
		}
		fmt.Fprintf(&before, "update refs/heads/deep/kept %s\n", commit)
		for _, dir := range []string{ours, theirs} {
			w.Git("clone", "-q", "--mirror", w.Bare, dir)
			run(dir, before.String(), "update-ref", "--stdin") // some of it does not go together: then there is none of it
			if round%2 == 0 {
				run(dir, "", "pack-refs", "--all")
			}
			if round%5 == 0 {
				plainly(t, filepath.Join(dir, "packed-refs"))
			}
		}
		var moves []git.Move
		var in strings.Builder
		seen := map[string]bool{}
		for len(moves) < 50+rng.IntN(20) {
			m := git.Move{Ref: name(), New: objects[rng.IntN(2)]}
			if !strings.HasPrefix(m.Ref, "refs/heads/") {
				m.New = objects[rng.IntN(5)]
			}
			if !seen[m.Ref] {
				seen[m.Ref] = true
				moves = append(moves, m)
			}
		}
		if round%2 == 0 { // one that cannot be
			moves[rng.IntN(len(moves))] = []git.Move{
				{Ref: "refs/heads/main", New: commit}, {Ref: "refs/heads/main/below", New: commit}, {Ref: "refs/tags/twice/below/deeper", New: commit},
				{Ref: "refs/heads/deep", New: commit}, {Ref: moves[0].Ref + "/below", New: commit}, {Ref: path.Dir(moves[1].Ref), New: commit},
				{Ref: "refs/heads/tag", New: objects[2]}, {Ref: "refs/heads/tree", New: objects[4]}, {Ref: "refs/heads/nothing", New: objects[5]}, {Ref: "refs/tags/nothing", New: objects[5]},
			}[round/2%10]
		}
		for _, m := range moves {
			fmt.Fprintf(&in, "create %s %s\n", m.Ref, m.New)
		}
		was := refs(ours)
		out, theirErr := run(theirs, in.String(), "update-ref", "--stdin")
		err := git.Open(w.Program, ours).MoveRefs(t.Context(), moves...)
		if (err == nil) != (theirErr == nil) {
			t.Fatalf("%v, and git: %v: %s", err, theirErr, out)
		}
		if err != nil {
			if refused++; refs(ours) != was {
				t.Errorf("after %v there are\n%s", err, refs(ours))
			}
			continue
		}
		made++
		if refs(ours) != refs(theirs) {
			t.Errorf("made are\n%s\nand by git\n%s", refs(ours), refs(theirs))
		}
		if out, err := run(ours, fmt.Sprintf("delete %s\nupdate %s %s\n", moves[0].Ref, moves[1].Ref, commit), "update-ref", "--stdin"); err != nil {
			t.Errorf("git cannot go on with them: %s", out)
		}
		if left, _ := filepath.Glob(filepath.Join(ours, "*.lock")); len(left) > 0 {
			t.Errorf("%v is left", left)
		}
	}
	if made < 10 || refused < 10 {
		t.Errorf("%d made and %d refused: too few to say something", made, refused)
	}
}

// What cannot be read of packed refs is not written over.
func TestUnreadablePackedRefsStay(t *testing.T) {
	w := workshop.New(t)
	w.Write("a", "a")
	commit := w.Commit("a")
	w.Push()
	var moves []git.Move
	for n := range 50 {
		moves = append(moves, git.Move{Ref: fmt.Sprintf("refs/heads/n%d", n), New: commit})
	}
	packed := filepath.Join(w.Bare, "packed-refs")
	for _, text := range []string{"what is this\n", commit + " refs/heads/a\n^short\n", commit + " refs/heads/a\n# twice\n", "^" + commit + "\n"} {
		if err := os.WriteFile(packed, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		if err := w.Repo.MoveRefs(t.Context(), moves...); err == nil {
			t.Errorf("beside %q refs are made", text)
		}
		if now, _ := os.ReadFile(packed); string(now) != text {
			t.Errorf("%q has become %q", text, now)
		}
	}

	// A lock that a killed process has left does not stand in the way, half written or not.
	if err := errors.Join(os.Remove(packed), os.WriteFile(packed+".lock", []byte("# pack-refs wi"), 0o600)); err != nil {
		t.Fatal(err)
	}
	if err := w.Repo.MoveRefs(t.Context(), moves...); err != nil {
		t.Errorf("beside a lock that was left: %v", err)
	}
	if refs, err := w.Repo.Refs(t.Context(), "refs/heads/"); err != nil || len(refs) != len(moves)+1 {
		t.Errorf("%d refs are there, %v", len(refs), err)
	}
}

// plainly leaves out of packed refs what tags stand for, as other programs write them.
func plainly(t *testing.T, path string) {
	text, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	plain := "# pack-refs with: sorted \n"
	for line := range strings.Lines(string(text)) {
		if line[0] != '#' && line[0] != '^' {
			plain += line
		}
	}
	if err := os.WriteFile(path, []byte(plain), 0o600); err != nil {
		t.Fatal(err)
	}
}
