package records

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"
)

func open4test(t *testing.T, path string) *Records {
	t.Helper()
	s, err := Open(t.Context(), path, time.Now)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	return s
}

func write(t *testing.T, s *Records, value any) error {
	t.Helper()
	return s.Write(t.Context(), func(tx *Tx) error { return tx.Create(value).Error })
}

func TestRecordsSurviveReopening(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a folder with spaces", "records.sqlite")
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		t.Fatal(err)
	}
	s := open4test(t, path)
	at := time.Date(2026, 11, 1, 8, 0, 0, 123, time.UTC)
	revision := &Revision{ChangeID: 1, Number: 1, Authors: []string{"ines", "odo"}, Paths: []string{"a/ü", "b\n"}, CreatedAt: at}
	for _, v := range []any{&House{Name: "growers", CreatedAt: at}, &Repository{HouseID: 1, Name: "growers/irrigation", DefaultBranch: "main", CreatedAt: at},
		&Change{RepositoryID: 1, Number: 1, State: "open", Revision: 1, CreatedAt: at, UpdatedAt: at}, revision} {
		if err := write(t, s, v); err != nil {
			t.Fatal(err)
		}
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	if info, err := os.Stat(path); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the file is %v, %v", info.Mode(), err)
	}
	s = open4test(t, path)
	var r Revision
	if err := s.Read(t.Context()).First(&r).Error; err != nil {
		t.Fatal(err)
	}
	if fmt.Sprint(r.Authors, r.Paths) != fmt.Sprint(revision.Authors, revision.Paths) || !r.CreatedAt.Equal(at) {
		t.Errorf("read back as %+v", r)
	}
}

func TestTransactionsAreAllOrNothing(t *testing.T) {
	s := open4test(t, filepath.Join(t.TempDir(), "r"))
	stop := errors.New("stop")
	err := s.Write(t.Context(), func(tx *Tx) error {
		if err := tx.Create(&House{Name: "a"}).Error; err != nil {
			return err
		}
		return stop
	})
	var n int64
	if s.Read(t.Context()).Model(&House{}).Count(&n); !errors.Is(err, stop) || n != 0 {
		t.Errorf("%d houses after %v", n, err)
	}
}

func TestWhatMayNotBeTwice(t *testing.T) {
	s := open4test(t, filepath.Join(t.TempDir(), "r"))
	must := func(v any) {
		t.Helper()
		if err := write(t, s, v); err != nil {
			t.Fatal(err)
		}
	}
	one := int64(1)
	must(&House{Name: "growers"})
	must(&Repository{HouseID: 1, Name: "growers/a"})
	must(&Account{Login: "ines"})
	must(&Change{RepositoryID: 1, Number: 1, State: "open"})
	must(&Entry{RepositoryID: 1, ChangeID: 1, State: "waiting"})
	must(&Grant{AccountID: &one, RepositoryID: &one, Role: "reader"})
	must(&CheckRun{RepositoryID: 1, CommitID: "c", Name: "unit", Attempt: 1, State: "waiting"})
	for name, v := range map[string]any{
		"house": &House{Name: "growers"}, "repository": &Repository{HouseID: 1, Name: "growers/a"}, "login": &Account{Login: "ines"},
		"number of a change": &Change{RepositoryID: 1, Number: 1, State: "open"}, "entry that is alive": &Entry{RepositoryID: 1, ChangeID: 1, State: "queued"},
		"grant": &Grant{AccountID: &one, RepositoryID: &one, Role: "writer"}, "attempt": &CheckRun{RepositoryID: 1, CommitID: "c", Name: "unit", Attempt: 1, State: "passed"},
	} {
		if err := write(t, s, v); !errors.Is(err, ErrTaken) {
			t.Errorf("a second %s: %v", name, err)
		}
	}
	for name, v := range map[string]any{
		"state of a change": &Change{RepositoryID: 1, Number: 2, State: "merged"}, "state of an entry": &Entry{RepositoryID: 1, ChangeID: 1, State: "lost"},
		"repository of an unknown house": &Repository{HouseID: 9, Name: "x/y"}, "grant to nobody": &Grant{RepositoryID: &one, Role: "reader"},
		"grant in two places": &Grant{AccountID: &one, RepositoryID: &one, HouseID: &one, Role: "reader"},
	} {
		if err := write(t, s, v); err == nil {
			t.Errorf("%s was taken", name)
		}
	}
	must(&Entry{RepositoryID: 1, ChangeID: 1, State: "ejected"}) // those that have ended may be many
	must(&Entry{RepositoryID: 1, ChangeID: 1, State: "ejected"})
}

func TestP10JournalLinesStay(t *testing.T) {
	s := open4test(t, filepath.Join(t.TempDir(), "r"))
	if err := write(t, s, &JournalLine{Seq: 1, Text: "x"}); err != nil {
		t.Fatal(err)
	}
	for _, statement := range []string{"UPDATE journal_lines SET text = 'y'", "DELETE FROM journal_lines", "INSERT OR REPLACE INTO journal_lines SELECT 1, at, actor, kind, repository_id, repository, subject, 'y', data, prev, hash FROM journal_lines"} {
		err := s.Write(t.Context(), func(tx *Tx) error { return tx.Exec(statement).Error })
		var l JournalLine
		s.Read(t.Context()).First(&l)
		if l.Text != "x" {
			t.Errorf("%s changed the journal (%v)", statement, err)
		}
	}
}

// Many writers at once: none fails for being late, and none is lost.
func TestWritersTakeTurns(t *testing.T) {
	s := open4test(t, filepath.Join(t.TempDir(), "r"))
	if err := write(t, s, &House{Name: "h"}); err != nil {
		t.Fatal(err)
	}
	if err := write(t, s, &Repository{HouseID: 1, Name: "h/r"}); err != nil {
		t.Fatal(err)
	}
	var group sync.WaitGroup
	for range 40 {
		group.Go(func() {
			err := s.Write(t.Context(), func(tx *Tx) error {
				var r Repository
				if err := tx.First(&r, 1).Error; err != nil {
					return err
				}
				return tx.Model(&r).Update("changes", r.Changes+1).Error
			})
			if err != nil {
				t.Error(err)
			}
		})
		group.Go(func() {
			var r Repository
			if err := s.Read(t.Context()).First(&r, 1).Error; err != nil {
				t.Error(err)
			}
		})
	}
	group.Wait()
	var r Repository
	if s.Read(t.Context()).First(&r, 1); r.Changes != 40 {
		t.Errorf("%d of 40 writes are there", r.Changes)
	}
	if err := s.Read(t.Context()).Exec("UPDATE repositories SET changes = 0").Error; err == nil {
		t.Error("the reading handle writes")
	}
}
