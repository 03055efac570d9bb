package rehearsal

import (
	"errors"
	"slices"
	"strings"
	"testing"

	"tavrin/internal/git/workshop"
)

// What is taken back is exactly what a move brought, whatever came since, as git revert does it; and nothing else is touched.
func TestUndo(t *testing.T) {
	w := newShop(t)
	w.Write("a", workshop.Lines(30, nil))
	w.Write("b", "b\n")
	old := w.Commit("start")
	w.Write("a", workshop.Lines(30, map[int]string{3: "landed"}))
	w.Commit("one")
	w.Write("new", "n\n")
	w.Git("rm", "-q", "b")
	landed := w.Commit("two")
	at := func(onto string) UndoPlan {
		p := plan(Rebase, old, landed)
		return UndoPlan{Old: old, New: landed, Onto: onto, Message: "Undo\n", Author: p.Author}
	}
	w.Write("a", workshop.Lines(30, map[int]string{3: "landed", 25: "later"}))
	later := w.Commit("later")
	w.Write("a", workshop.Lines(30, map[int]string{3: "another", 25: "later"}))
	clash := w.Commit("clash")
	w.Git("checkout", "-q", "-B", "reverted", later)
	w.Git("revert", "--no-edit", old+".."+landed)
	again := w.Git("rev-parse", "HEAD")
	w.Push()
	for _, onto := range []string{landed, later} {
		built, err := Undo(t.Context(), w.Repo, at(onto))
		if err != nil {
			t.Fatal(err)
		}
		want := map[string]string{landed: w.Git("rev-parse", old+"^{tree}"), later: w.Git("rev-parse", again+"^{tree}")}[onto]
		if built.Tree != want || w.bareGit("rev-parse", built.Commit+"^") != onto || w.bareGit("rev-parse", built.Commit+"^{tree}") != want {
			t.Errorf("onto %s it is %+v, not %s", onto, built, want)
		}
	}
	var conflict *ConflictError
	if _, err := Undo(t.Context(), w.Repo, at(clash)); !errors.As(err, &conflict) || !slices.Equal(conflict.Files, []string{"a"}) {
		t.Errorf("where it was changed since: %v", err)
	}
	if _, err := Undo(t.Context(), w.Repo, at(again)); !errors.As(err, &NothingError{}) {
		t.Errorf("a second time: %v", err)
	}
	if _, err := Undo(t.Context(), w.Repo, at(strings.Repeat("1", 40))); err == nil {
		t.Error("onto a commit that does not exist")
	}
	if out, err := w.Repo.Place().Run(t.Context(), nil, "fsck", "--no-dangling", "--strict"); err != nil {
		t.Errorf("fsck: %v %s", err, out)
	}
}
