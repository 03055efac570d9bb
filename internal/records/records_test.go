package records

import (
	"context"
	"errors"
	"maps"
	"path/filepath"
	"testing"
	"testing/fstest"
	"time"

	"tavrin/internal/core/event"
	"tavrin/internal/core/journal"
	"tavrin/internal/problem"
)

func opened(t *testing.T) *Records { return open4test(t, filepath.Join(t.TempDir(), "records.sqlite")) }

// What is read in one view is of one moment, whatever is written meanwhile.
func TestViewIsOneSnapshot(t *testing.T) {
	r := opened(t)
	if err := write(t, r, &House{Name: "growers"}); err != nil {
		t.Fatal(err)
	}
	count := func(v *View) (n int64) {
		t.Helper()
		if err := v.Model(&House{}).Count(&n).Error; err != nil {
			t.Fatal(err)
		}
		return n
	}
	snap := r.View(t.Context())
	defer snap.Close()
	if n := count(snap); n != 1 {
		t.Fatalf("%d houses", n)
	}
	since := snap.Since()
	if err := write(t, r, &House{Name: "millers"}); err != nil {
		t.Fatal(err)
	}
	if n := count(snap); n != 1 || snap.Since() != since {
		t.Errorf("in the view there are %d houses", n)
	}
	later := r.View(t.Context())
	defer later.Close()
	if n := count(later); n != 2 || later.Since() != since+1 {
		t.Errorf("in a later one there are %d, since %d", n, later.Since())
	}
}

// Whoever goes by what is written is told before it is committed and after, with one number for each transaction; of one
// that was taken back by itself nobody is told.
func TestListeners(t *testing.T) {
	r := opened(t)
	var told []string
	var last Commit
	r.Listen(Listener{Before: func(Commit) { told = append(told, "before") }, After: func(c Commit) { told, last = append(told, "after"), c }})
	grown := r.Grown()
	err := r.Write(t.Context(), func(tx *Tx) error { return tx.Record("ines", nil, event.HouseCreated{House: "growers"}) })
	if err != nil || len(told) != 2 || told[0] != "before" || last.Seq != 1 || last.Lines != 1 || last.Head.Seq != 1 {
		t.Errorf("%v: told %v, %+v", err, told, last)
	}
	select {
	case <-grown:
	default:
		t.Error("nobody hears that the journal has grown")
	}
	full := errors.New("the disk is full")
	if err := r.Write(t.Context(), func(*Tx) error { return full }); !errors.Is(err, full) || len(told) != 2 {
		t.Errorf("%v: told %v", err, told)
	}
	ended, end := context.WithCancel(t.Context())
	end()
	if err := r.Write(ended, func(*Tx) error { t.Error("it wrote"); return nil }); err == nil {
		t.Error("a write of a request that is over")
	}
}

// What a write touches is what its events say; where it says nothing, everything.
func TestTouched(t *testing.T) {
	repo := &Repository{ID: 3, Name: "growers/irrigation"}
	change := event.OfChange{Number: 7}
	cases := []struct {
		name  string
		write func(tx *Tx) error
		want  Touched
	}{
		{"a review", func(tx *Tx) error {
			return tx.Record("ines", repo, event.ReviewApproved{Word: event.Word{OfChange: change}})
		},
			Touched{Said: true, Things: map[Thing]bool{{3, "change/7"}: true}}},
		{"a waiver of a push", func(tx *Tx) error {
			return tx.Record("ines", repo, event.WaiverUsed{OfWaiver: event.OfWaiver{Ref: "refs/heads/main"}})
		},
			Touched{Said: true, Repos: map[int64]bool{3: true}}},
		{"a push", func(tx *Tx) error {
			return tx.Record("ines", repo, event.BranchMoved{RefMove: event.RefMove{Ref: "refs/heads/evening", Old: "a", New: "b"}})
		},
			Touched{Said: true, Things: map[Thing]bool{{3, "refs/heads/evening"}: true}}},
		{"a check for a change", func(tx *Tx) error {
			return tx.Record("bench", repo, event.CheckReported{OfCheck: event.OfCheck{Name: "unit", Commit: "c", Attempt: 1, Number: 7}})
		},
			Touched{Said: true, Things: map[Thing]bool{{3, "commit/c"}: true}}},
		{"a check on a tip", func(tx *Tx) error {
			return tx.Record("bench", repo, event.CheckReported{OfCheck: event.OfCheck{Name: "unit", Commit: "c", Attempt: 1}})
		},
			Touched{Said: true, Repos: map[int64]bool{3: true}}},
		{"a landing", func(tx *Tx) error { return tx.Record("ines", repo, event.ChangeLanded{OfChange: change}) }, Touched{Said: true, Repos: map[int64]bool{3: true},
			Things: map[Thing]bool{{3, "change/7"}: true}}},
		{"rules of a house", func(tx *Tx) error { return tx.Record("ines", nil, event.RulesApplied{RulesOf: "growers"}) }, Touched{Said: true, All: true}},
		{"a team", func(tx *Tx) error { return tx.Record("ines", nil, event.TeamChanged{Team: "duty"}) }, Touched{Said: true, All: true}},
		{"somebody signs in", func(tx *Tx) error { return tx.Record("ines", nil, event.SessionBegun{}) }, Touched{Said: true}},
		{"without a line", func(tx *Tx) error { tx.Touches(repo); return nil }, Touched{Said: true, Repos: map[int64]bool{3: true}}},
		{"nothing that counts", func(tx *Tx) error { tx.TouchesNothing(); return nil }, Touched{Said: true}},
		{"nothing said", func(*Tx) error { return nil }, Touched{}},
	}
	r := opened(t)
	var last Commit
	r.Listen(Listener{After: func(c Commit) { last = c }})
	for _, c := range cases {
		if err := r.Write(t.Context(), c.write); err != nil {
			t.Fatalf("%s: %v", c.name, err)
		}
		got := last.Touched
		if got.Said != c.want.Said || got.All != c.want.All || len(got.Repos) != len(c.want.Repos) || !maps.Equal(got.Things, c.want.Things) ||
			got.Repos[3] != c.want.Repos[3] {
			t.Errorf("%s touches %+v, want %+v", c.name, got, c.want)
		}
		if moved := last.Moved[3] != 0; moved != (c.name == "a landing" || c.name == "a push") {
			t.Errorf("%s: a branch moved: %v", c.name, moved)
		}
	}
}

// The lines of the journal follow one another, and of a repository that is stopped only the service itself records.
func TestP10LinesFollow(t *testing.T) {
	r := opened(t)
	apart := &Repository{ID: 1, Name: "growers/irrigation", Trouble: "its refs cannot be read"}
	err := r.Write(t.Context(), func(tx *Tx) error {
		for range 3 {
			if err := tx.Record("ines", nil, event.HouseCreated{House: "growers"}); err != nil {
				return err
			}
		}
		err := tx.Record("ines", apart, event.ChangeClosed{})
		if p, ok := errors.AsType[*problem.Problem](err); !ok || p.Kind != problem.Unavailable {
			t.Errorf("recorded of a repository that is stopped: %v", err)
		}
		return tx.Record(Itself, apart, event.CheckTimedOut{})
	})
	if err != nil {
		t.Fatal(err)
	}
	var rows []JournalLine
	if err := r.Read(t.Context()).Order("seq").Find(&rows).Error; err != nil || len(rows) != 4 {
		t.Fatalf("%d lines, %v", len(rows), err)
	}
	var v journal.Verifier
	for _, x := range rows {
		at, err := time.Parse(time.RFC3339Nano, x.At)
		if err != nil {
			t.Fatal(err)
		}
		l := journal.Line{Seq: x.Seq, At: at, Actor: x.Actor, Kind: x.Kind, Repository: x.Repository, Subject: x.Subject, Text: x.Text, Data: []byte(x.Data), Prev: x.Prev, Hash: x.Hash}
		if err := v.Next(l); err != nil {
			t.Error(err)
		}
	}
}

// Reading beside an open snapshot of the same request is told of; that of another request, or after it, is not.
func TestNestedReadingIsSeen(t *testing.T) {
	r := opened(t)
	nested := 0
	r.Nested(func() { nested++ })
	one, other := Watched(t.Context()), Watched(t.Context())
	r.Read(one)
	snap := r.View(one)
	r.Read(other)
	r.Read(t.Context())
	if nested != 0 {
		t.Errorf("told %d times of what is not nested", nested)
	}
	r.Read(one)
	r.View(one).Close()
	snap.Close()
	r.View(one).Close()
	if nested != 2 {
		t.Errorf("told %d times", nested)
	}
}

// Records of an older schema are brought up to date when they are opened, and say so beforehand.
func TestOlderRecordsAreBroughtUpToDate(t *testing.T) {
	path := filepath.Join(t.TempDir(), "records.sqlite")
	open4test(t, path).Close()
	now := migrations
	defer func() { migrations = now }()
	first, err := now.ReadFile("migrations/00001_schema.sql")
	if err != nil {
		t.Fatal(err)
	}
	next := fstest.MapFS{
		"migrations/00001_schema.sql": {Data: first},
		"migrations/00002_wells.sql":  {Data: []byte("-- +goose Up\nCREATE TABLE wells (id INTEGER PRIMARY KEY);\n")},
	}
	migrations = next
	if from, to, err := Schema(t.Context(), path); from != 1 || to != 2 || err != nil {
		t.Errorf("from %d to %d, %v", from, to, err)
	}
	r := open4test(t, path)
	if err := r.Read(t.Context()).Exec("SELECT id FROM wells").Error; err != nil {
		t.Error(err)
	}
	r.Close()
	migrations = now
	if _, _, err := Schema(t.Context(), path); !errors.Is(err, ErrSchema) {
		t.Errorf("an older program: %v", err)
	}
}
