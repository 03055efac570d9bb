package moves_test

import (
	"context"
	"errors"
	"testing"

	"tavrin/internal/lab"
	"tavrin/internal/moves"
	"tavrin/internal/problem"
	"tavrin/internal/records"
)

func intend(l *lab.Lab, kind, ref, old, new string) *records.Intent {
	l.T.Helper()
	i := &records.Intent{RepositoryID: l.Repo.ID, Kind: kind, Ref: ref, Old: old, New: new, Actor: "ines", CreatedAt: l.Now()}
	l.Ok(l.Records.Write(l.T.Context(), func(tx *records.Tx) error { return tx.Create(i).Error }))
	return i
}

// Whoever takes the lock settles what is open first, and is told whether the ref had moved (P4).
func TestP4LockSettles(t *testing.T) {
	l := lab.New(t)
	first := l.Commit("main", "", "a=1")
	second := l.Commit("topic", "main", "a=2")
	type outcome struct {
		made bool
		tip  string
	}
	var settled []outcome
	l.Moves.Settles(moves.Push, func(ctx context.Context, _ *records.Repository, i *records.Intent, made bool, tip string) error {
		settled = append(settled, outcome{made, tip})
		return l.Moves.Close(ctx, i, moves.Done)
	})
	intend(l, moves.Push, "refs/heads/main", first, second)  // not moved
	intend(l, moves.Push, "refs/heads/topic", first, second) // moved
	intend(l, moves.Push, "refs/heads/topic", "", first)     // moved, and further since
	intend(l, moves.Push, "refs/heads/gone", second, "")     // deleted
	intend(l, moves.Push, "refs/heads/topic", second, "")    // not deleted
	intend(l, moves.Push, "refs/heads/new", "", second)      // not made
	unlock, err := l.Moves.Lock(t.Context(), l.Repo)
	l.Ok(err)
	unlock()
	want := []outcome{{false, first}, {true, second}, {true, second}, {true, ""}, {false, second}, {false, ""}}
	if len(settled) != len(want) {
		t.Fatalf("settled %+v", settled)
	}
	for i := range want {
		if settled[i] != want[i] {
			t.Errorf("intent %d was settled as %+v, want %+v", i+1, settled[i], want[i])
		}
	}
	unlock, err = l.Moves.Lock(t.Context(), l.Repo) // nothing is open any more
	l.Ok(err)
	unlock()
	if len(settled) != len(want) {
		t.Error("settled twice")
	}
}

// What cannot be settled refuses the writer and keeps nothing locked; a repository that is stopped refuses every writer,
// until somebody settles it.
func TestTroubleRefusesWriters(t *testing.T) {
	l := lab.New(t)
	first := l.Commit("main", "", "a=1")
	trouble := errors.New("no room")
	l.Moves.Settles(moves.Push, func(context.Context, *records.Repository, *records.Intent, bool, string) error { return trouble })
	i := intend(l, moves.Push, "refs/heads/main", first, "")
	for range 2 {
		_, err := l.Moves.Lock(t.Context(), l.Repo)
		l.Is(err, problem.Unavailable, "could not be finished yet")
	}
	l.Ok(l.Moves.SettleAll(t.Context()))
	_, err := l.Moves.Lock(t.Context(), l.Repo)
	l.Is(err, problem.Unavailable, "is stopped and read-only: intent 1 of growers/irrigation: no room")
	if l.Kinds(1) != "repository.stopped" {
		t.Errorf("the journal ends with %s", l.Kinds(1))
	}
	l.Ok(l.Moves.Close(t.Context(), i, moves.Dropped))
	_, err = l.Repositories.ResumeRepository(t.Context(), l.Admin, lab.Name)
	l.Ok(err)
	unlock, err := l.Moves.Lock(t.Context(), l.Repo)
	l.Ok(err)
	unlock()
}

// A move is by compare-and-swap, and the ref says what came of it, not git's exit code (P3).
func TestP3Try(t *testing.T) {
	l := lab.New(t)
	first := l.Commit("main", "", "a=1")
	second := l.Commit("topic", "main", "a=2")
	for _, c := range []struct {
		name, old, new string
		made           bool
		tip            string
	}{
		{"from where it stands", first, second, true, second},
		{"made already", first, second, true, second},
		{"from where it does not stand", first, l.Commit("other", "main", "b=1"), false, second},
		{"back again", second, first, true, first},
	} {
		made, tip, err := l.Moves.Try(t.Context(), l.Repo, &records.Intent{Ref: "refs/heads/main", Old: c.old, New: c.new})
		var not *moves.NotMadeError
		if made != c.made || tip != c.tip || errors.As(err, &not) == c.made {
			t.Errorf("%s: made %v, at %s, %v", c.name, made, tip, err)
		}
	}
}
