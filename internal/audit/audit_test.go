package audit_test

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"tavrin/internal/accounts"
	"tavrin/internal/core/event"
	"tavrin/internal/lab"
	"tavrin/internal/problem"
	"tavrin/internal/records"
	"tavrin/wire"
)

// Records and branches that are not as the journal tells are found, each named (P10).
func TestP10VerifyFindsWhatDoesNotAgree(t *testing.T) {
	l := lab.New(t)
	ctx := t.Context()
	head, _, err := l.Audit.VerifyJournal(ctx, l.Admin, nil, true, func(float64, string) {})
	l.Ok(err)
	l.Rules("tavrin: rules/1\nprotect:\n  - name: kept\n    branches: main\n    delete: never\n")
	_, _, err = l.Audit.VerifyJournal(ctx, l.Admin, &head, true, func(float64, string) {})
	l.Ok(err)
	for _, c := range []struct {
		name  string
		alter string
		back  string
		words string
	}{
		{"another text of rules", "UPDATE rules_versions SET text = text || '#'", "UPDATE rules_versions SET text = rtrim(text, '#')", "version 1 of the rules of growers/irrigation is not the one"},
		{"a check from nowhere", "INSERT INTO check_runs (repository_id, commit_id, name, attempt, state, created_at) VALUES (1, 'c', 'unit', 1, 'passed', '2026-11-02')",
			"DELETE FROM check_runs", "the records have attempt 1 of unit on c"},
	} {
		alter := func(sql string) {
			t.Helper()
			l.Ok(l.Records.Write(ctx, func(tx *records.Tx) error { return tx.Exec(sql).Error }))
		}
		alter(c.alter)
		_, _, err := l.Audit.VerifyJournal(ctx, l.Admin, nil, true, func(float64, string) {})
		l.Is(err, problem.Conflict, c.words)
		alter(c.back)
		if _, _, err := l.Audit.VerifyJournal(ctx, l.Admin, nil, true, func(float64, string) {}); err != nil {
			t.Errorf("%s: put back: %v", c.name, err)
		}
	}
	l.Commit("main", "", "a=1") // a branch that moved behind the service's back
	_, _, err = l.Audit.VerifyJournal(ctx, l.Admin, nil, true, func(float64, string) {})
	l.Is(err, problem.Conflict, "refs/heads/main of growers/irrigation is at")
}

// A journal goes on from a head that was exported, or does not.
func TestP10Heads(t *testing.T) {
	l := lab.New(t)
	head, err := l.Audit.JournalHead(t.Context(), l.Admin)
	l.Ok(err)
	l.Ok(l.Records.Write(t.Context(), func(tx *records.Tx) error { return tx.Record("admin", nil, event.HouseCreated{House: "millers"}) }))
	_, _, err = l.Audit.VerifyJournal(t.Context(), l.Admin, &head, true, func(float64, string) {})
	l.Ok(err)
	later := l.Key.Head(head.JournalHead)
	later.Seq += 100
	_, _, err = l.Audit.VerifyJournal(t.Context(), l.Admin, &later, true, func(float64, string) {})
	l.Is(err, problem.Invalid, "was altered")
	cut := l.Key.Head(later.JournalHead)
	_, _, err = l.Audit.VerifyJournal(t.Context(), l.Admin, &cut, true, func(float64, string) {})
	l.Is(err, problem.Conflict, "the journal was cut")
	_, _, err = l.Audit.VerifyJournal(t.Context(), l.Person("ines", "reader"), nil, true, func(float64, string) {})
	l.Is(err, problem.Forbidden, "for service administrators")
}

// Lines are shown to those who may read their repository, and no further back or on than asked (P11).
func TestP11JournalIsForReaders(t *testing.T) {
	l := lab.New(t)
	l.Rules("tavrin: rules/1\nprotect:\n  - name: kept\n    branches: main\n    delete: never\n")
	ines := l.Person("ines", "reader")
	mine, err := l.Audit.Journal(t.Context(), ines, wire.JournalQuery{Limit: 100})
	l.Ok(err)
	all, err := l.Audit.Journal(t.Context(), l.Admin, wire.JournalQuery{Limit: 100})
	l.Ok(err)
	for _, line := range mine {
		if line.Repository != lab.Name {
			t.Errorf("a reader sees %+v", line)
		}
	}
	if len(mine) == 0 || len(mine) >= len(all) {
		t.Errorf("a reader sees %d of %d lines", len(mine), len(all))
	}
	page, err := l.Audit.Journal(t.Context(), l.Admin, wire.JournalQuery{After: 2, Limit: 2})
	l.Ok(err)
	if seqs := func(lines []wire.JournalLine) (out []int64) {
		for _, x := range lines {
			out = append(out, x.Seq)
		}
		return out
	}(page); len(seqs) != 2 || seqs[0] != 3 || seqs[1] != 4 {
		t.Errorf("after line 2 come %v", seqs)
	}
}

// Whoever follows the journal hears the lines that they may read at the moment, the same from what is at hand as from the records.
func TestP11Hear(t *testing.T) {
	l := lab.New(t)
	ctx := t.Context()
	from, err := l.Records.JournalEnd(ctx)
	l.Ok(err)
	ines := l.Person("ines", "reader")
	l.Rules("tavrin: rules/1\nprotect:\n  - name: kept\n    branches: main\n    delete: never\n")
	l.Ok(l.Records.Write(ctx, func(tx *records.Tx) error { return tx.Record("admin", nil, event.HouseCreated{House: "millers"}) }))
	hear := func(a accounts.Actor, repository string, after int64) (seqs []int64) {
		t.Helper()
		_, err := l.Audit.Hear(ctx, a, repository, after, func(told *records.Told) error { seqs = append(seqs, told.Seq); return nil })
		l.Ok(err)
		return seqs
	}
	follow := func(a accounts.Actor, repository string, after int64) (seqs []int64) {
		t.Helper()
		lines, err := l.Audit.Following(ctx, a, repository, after, 200)
		l.Ok(err)
		for _, x := range lines {
			seqs = append(seqs, x.Seq)
		}
		return seqs
	}
	for _, a := range []accounts.Actor{l.Admin, ines} {
		for _, of := range []string{"", lab.Name} {
			for after := from - 2; after <= from+4; after++ {
				if got, want := hear(a, of, after), follow(a, of, after); !slices.Equal(got, want) {
					t.Errorf("%s hears %v of %q after %d, and the records have %v", a.Login(), got, of, after, want)
				}
			}
		}
	}
	if len(hear(ines, "", from)) == 0 {
		t.Error("a reader hears nothing")
	}
	l.Ok(l.People.Grant(ctx, l.Admin, lab.Name, "ines", "none"))
	if got := hear(ines, "", from); len(got) > 0 {
		t.Errorf("without a role they still hear %v", got)
	}
	_, err = l.Repositories.DeleteRepository(ctx, l.Admin, lab.Name, wire.RepositoryDeletion{Reason: "it is elsewhere", Confirm: lab.Name})
	l.Ok(err)
	if _, err := l.Audit.Hear(ctx, l.Admin, lab.Name, from, func(*records.Told) error { return nil }); err == nil {
		t.Error("who follows a repository is not told that it is gone")
	}
}

// A verification goes on from the last one's checkpoint, which nobody but the service can have made; asked for the whole, or from a head
// of before, it reads everything.
func TestP10Checkpoints(t *testing.T) {
	l := lab.New(t)
	ctx := t.Context()
	l.Rules("tavrin: rules/1\nprotect:\n  - name: kept\n    branches: main\n    delete: never\n")
	old, err := l.Audit.JournalHead(ctx, l.Admin)
	l.Ok(err)
	verify := func(earlier *wire.SignedHead, whole bool) (from string, err error) {
		_, _, err = l.Audit.VerifyJournal(ctx, l.Admin, earlier, whole, func(_ float64, words string) {
			if from == "" {
				from = words
			}
		})
		return from, err
	}
	house := func(name string) {
		t.Helper()
		l.Ok(l.Records.Write(ctx, func(tx *records.Tx) error { return tx.Record("admin", nil, event.HouseCreated{House: name}) }))
	}
	if from, err := verify(nil, false); err != nil || !strings.HasPrefix(from, "line 0 ") {
		t.Fatalf("the first began at %q: %v", from, err)
	}
	house("millers")
	end, err := l.Records.JournalEnd(ctx)
	l.Ok(err)
	if from, err := verify(nil, false); err != nil || from != fmt.Sprintf("line %d of %d", end-1, end) {
		t.Errorf("the second began at %q: %v", from, err)
	}
	for _, earlier := range []*wire.SignedHead{nil, &old} {
		if from, err := verify(earlier, earlier == nil); err != nil || !strings.HasPrefix(from, "line 0 ") {
			t.Errorf("the whole, and from a head of before, began at %q: %v", from, err)
		}
	}
	// A line that the checkpoint stands on was altered; and one before it, which only the whole sees.
	alter := func(seq int64, text string) {
		t.Helper()
		l.Ok(l.Records.Write(ctx, func(tx *records.Tx) error {
			for _, sql := range []string{"DROP TRIGGER IF EXISTS journal_lines_stay", "UPDATE journal_lines SET text = '" + text + "' WHERE seq = " + fmt.Sprint(seq)} {
				if err := tx.Exec(sql).Error; err != nil {
					return err
				}
			}
			return nil
		}))
	}
	alter(2, "nothing")
	if _, err := verify(nil, false); err != nil {
		t.Errorf("what is before the checkpoint was read: %v", err)
	}
	_, err = verify(nil, true)
	l.Is(err, problem.Conflict, "line 2 was altered")
	// One that another has made is left aside: everything is read, and the line found.
	file := filepath.Join(l.Dir, "journal.checkpoint")
	text, err := os.ReadFile(file)
	l.Ok(err)
	for name, forged := range map[string]string{"cut short": string(text[:len(text)/2]), "of another payload": strings.Replace(string(text), `"payload":"`, `"payload":"AAAA`, 1)} {
		l.Ok(os.WriteFile(file, []byte(forged), 0o600))
		if _, err := verify(nil, false); err == nil || !strings.Contains(err.Error(), "line 2 was altered") {
			t.Errorf("%s: a forged checkpoint is believed: %v", name, err)
		}
	}
	sealed, err := l.Key.Seal("text/plain", []byte("hello"))
	l.Ok(err)
	l.Ok(os.WriteFile(file, []byte(sealed), 0o600))
	if _, err := verify(nil, false); err == nil {
		t.Error("whatever the service has signed is taken for a checkpoint")
	}
	// A journal that was cut back to before the checkpoint.
	l.Ok(os.WriteFile(file, text, 0o600))
	l.Ok(l.Records.Write(ctx, func(tx *records.Tx) error {
		for _, sql := range []string{"DROP TRIGGER journal_lines_stay_too", fmt.Sprintf("DELETE FROM journal_lines WHERE seq >= %d", end)} {
			if err := tx.Exec(sql).Error; err != nil {
				return err
			}
		}
		return nil
	}))
	_, err = verify(nil, false)
	l.Is(err, problem.Conflict, "rewritten or cut")
}
