package rehearsal

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"tavrin/internal/core/fold"
	"tavrin/internal/core/trailer"
	"tavrin/internal/often"
)

// The commits come in the order, and with the messages, by which the gate has judged them: with merges inside the branch, with
// lines of it that the target has already, with marked commits on each, and with trailers that only the service writes.
func TestCommitsComeAsTheGateKnowsThem(t *testing.T) {
	t.Parallel()
	rng := rand.New(rand.NewPCG(5, 16))
	folded := 0
	for n := range often.Times(8) {
		w := newShop(t)
		w.Write("a", "a\n")
		w.Commit("start")
		for _, b := range []string{"topic", "side"} {
			w.Git("branch", b)
		}
		var subjects []string
		for i := range 8 + rng.IntN(6) {
			branch := []string{"topic", "side"}[rng.IntN(2)]
			w.Git("checkout", "-q", branch)
			if i > 3 && rng.IntN(4) == 0 {
				w.Git("merge", "-q", "--no-ff", "--no-edit", map[string]string{"topic": "side", "side": "topic"}[branch])
				continue
			}
			w.Write(fmt.Sprintf("f%d", i), "x\n")
			message := fmt.Sprintf("commit %d", i)
			if len(subjects) > 0 && rng.IntN(2) == 0 {
				message = []string{"fixup! ", "squash! ", "amend! "}[rng.IntN(3)] + subjects[rng.IntN(len(subjects))] + []string{"\n\nbody\n", "\n\nApproved-by: nobody <x>\n"}[rng.IntN(2)]
			} else {
				subjects = append(subjects, message)
			}
			w.Commit(message)
		}
		w.Git("checkout", "-q", "topic")
		w.Git("merge", "-q", "--no-ff", "--no-edit", "side")
		w.Write("own", "own\n")
		w.Commit("own")
		w.Git("checkout", "-q", "main")
		w.Write("m", "m\n")
		w.Commit("main moves")
		if rng.IntN(2) == 0 {
			w.Git("merge", "-q", "--no-ff", "--no-edit", "side~1")
		}
		w.Push()
		base, head := w.Git("rev-parse", "main"), w.Git("rev-parse", "topic")
		p := plan(Fold, base, head)
		p.Shown = w.Git("rev-list", "--max-parents=0", "main")
		log, err := w.Repo.LogAll(t.Context(), head, []string{p.Shown}, "change.commits") // as the gate has it, the newest first
		if err != nil {
			t.Fatal(err)
		}
		var known []fold.Commit
		for _, c := range slices.Backward(log) {
			p.Order = append([]string{c.ID}, p.Order...)
			if landed := w.Git("branch", "--contains", c.ID, "--list", "main") != ""; len(c.Parents) < 2 && !landed {
				known = append(known, fold.Commit{ID: c.ID, Message: trailer.Drop(w.Git("log", "-1", "--format=%B", c.ID) + "\n")})
			}
		}
		built, err := Build(t.Context(), w.Repo, p)
		if err != nil {
			t.Fatal(err)
		}
		var want, got []string
		for _, f := range fold.Plan(known) {
			want = append(want, strings.TrimSpace(f.Message))
			folded += len(f.With)
		}
		made, err := w.Repo.LogAll(t.Context(), built.Commit, []string{base}, "change.commits")
		if err != nil {
			t.Fatal(err)
		}
		for _, c := range slices.Backward(made) {
			got = append(got, strings.TrimSpace(w.bareGit("log", "-1", "--format=%B", c.ID)))
		}
		if !slices.Equal(got, want) {
			t.Errorf("history %d comes as\n%q, and was judged as\n%q\n%s", n, got, want, w.Git("log", "--graph", "--all", "--format=%h %s"))
		}
	}
	if folded == 0 {
		t.Error("nothing was folded: the test says nothing")
	}
}
