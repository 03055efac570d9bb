package conflicts_test

import (
	"context"
	"log/slog"
	"slices"
	"strings"
	"testing"

	"tavrin/internal/conflicts"
	"tavrin/internal/core/event"
	"tavrin/internal/lab"
	"tavrin/internal/records"
)

// followed has a room that has just started follow the journal to its end.
func followed(l *lab.Lab) *conflicts.Conflicts {
	l.T.Helper()
	s := conflicts.New(l.Records, l.Disk, l.Facts, slog.New(slog.DiscardHandler))
	l.Ok(s.Catch(l.T.Context()))
	return s
}

// found are the files in which a change was found to conflict.
func found(l *lab.Lab, number int) []string {
	l.T.Helper()
	id := l.Row(number).ID
	rows, err := conflicts.Found(l.Records.Read(l.T.Context()), []int64{id})
	l.Ok(err)
	return rows[id].Files
}

// push moves main, as a push would.
func push(l *lab.Lab, file string) {
	l.T.Helper()
	old := l.Tip("main")
	moved := event.BranchMoved{RefMove: event.RefMove{Ref: "refs/heads/main", Old: old, New: l.Commit("main", "main", file)}}
	l.Ok(l.Records.Write(l.T.Context(), func(tx *records.Tx) error { return tx.Record("wren", l.Repo, moved) }))
}

func told(l *lab.Lab) int {
	l.T.Helper()
	var n int64
	l.Ok(l.Records.Read(l.T.Context()).Model(&records.JournalLine{}).Where("seq > 0 AND kind LIKE 'change.conflict-%'").Count(&n).Error)
	return int(n)
}

// What a move of a branch brings into conflict is found and told once, however often the service is started; what touches nothing of it is
// left alone; and what has ended is forgotten.
func TestConflictsAreFoundOnce(t *testing.T) {
	l := lab.New(t)
	l.Commit("main", "", "a=1", "b=1")
	for _, source := range []string{"one", "two"} {
		l.Commit(source, "main", map[string]string{"one": "a=one", "two": "b=two"}[source])
		l.Open(l.Admin, source)
	}
	followed(l)
	if n := told(l); n != 0 {
		t.Fatalf("%d are told of before anything conflicts", n)
	}
	push(l, "a=main")
	for range 3 { // as after three kills
		followed(l)
		if !slices.Equal(found(l, 1), []string{"a"}) || found(l, 2) != nil || told(l) != 1 {
			t.Fatalf("found %v and %v, told of %d", found(l, 1), found(l, 2), told(l))
		}
	}
	push(l, "b=main")
	s := followed(l)
	if !slices.Equal(found(l, 2), []string{"b"}) || told(l) != 2 {
		t.Errorf("found %v, told of %d", found(l, 2), told(l))
	}
	_, err := l.Changes.CloseChange(t.Context(), l.Admin, lab.Name, 1)
	l.Ok(err)
	l.Ok(s.Catch(t.Context()))
	if found(l, 1) != nil {
		t.Errorf("of a closed change %v is kept", found(l, 1))
	}
	push(l, "b=two") // as the change has it
	followed(l)
	if found(l, 2) != nil || told(l) != 3 {
		t.Errorf("found %v, told of %d", found(l, 2), told(l))
	}
}

// Who waits is not kept waiting, and a line that nobody can read holds nothing up.
func TestNobodyIsHeldUp(t *testing.T) {
	l := lab.New(t)
	l.Commit("main", "", "a=1")
	l.Commit("one", "main", "a=one")
	l.Open(l.Admin, "one")
	over, cancel := context.WithCancel(t.Context())
	cancel()
	s := conflicts.New(l.Records, l.Disk, l.Facts, slog.New(slog.DiscardHandler))
	if err := s.TryNow(over, records.ChangeKey{Repo: l.Repo.ID, Number: 1}); err == nil {
		t.Error("it is tried although nobody waits any more")
	}
	push(l, "a=main")
	if lines, err := s.TellPusher(t.Context(), l.Repo, []string{"one", "main"}); err != nil || len(lines) != 1 || !strings.Contains(lines[0], "Change 1 does not go together with main in a: tavrin change conflicts 1") {
		t.Errorf("who pushes is told %q, %v", lines, err)
	}
	if lines, err := s.TellPusher(t.Context(), l.Repo, strings.Fields("a b c d e f g one")); err != nil || lines != nil {
		t.Errorf("of a push of many branches: %q, %v", lines, err)
	}
	followed(l)
	if told(l) != 1 {
		t.Errorf("it was told %d times", told(l))
	}
}
