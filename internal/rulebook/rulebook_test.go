package rulebook_test

import (
	"errors"
	"testing"
	"time"

	"tavrin/internal/lab"
	"tavrin/internal/problem"
	"tavrin/internal/records"
)

const (
	lost = "tavrin: rules/1\nprotect:\n  - name: lost\n    branches: main\n    delete: never\n"
	kept = "tavrin: rules/1\nprotect:\n  - name: kept\n    branches: main\n    delete: never\n"
)

// A version that was rolled back leaves nothing behind, though the record that comes after it takes its number (P5).
func TestP5RulesNeverInForceJudgeNothing(t *testing.T) {
	l := lab.New(t)
	full := errors.New("the disk is full")
	err := l.Records.Write(t.Context(), func(tx *records.Tx) error {
		l.Ok(tx.Create(&records.RulesVersion{RepositoryID: &l.Repo.ID, Version: 1, Text: lost, Reason: "a first try", AppliedBy: "admin", AppliedAt: l.Now()}).Error)
		within, err := l.Rulebook.RulesOf(tx.DB, l.Repo)
		l.Ok(err)
		if got := within.Set.Layers(); got[len(got)-1].Document.Protections[0].Name != "lost" {
			t.Errorf("within the write: %+v; want the version being applied", got)
		}
		return full
	})
	if !errors.Is(err, full) {
		t.Fatalf("write: %v; want %v", err, full)
	}
	l.Rules(kept)
	force, err := l.Rulebook.RulesOf(l.Records.Read(t.Context()), l.Repo)
	l.Ok(err)
	layers := force.Set.Layers()
	if got := layers[len(layers)-1].Document.Protections[0].Name; got != "kept" {
		t.Errorf("protection %q is in force; want %q, the one applied", got, "kept")
	}
}

// Whoever has to know hears that other rules hold, in the same transaction: of a repository's for it, of a house's for each
// of its repositories, of a suspension's beginning and end.
func TestChangesOfRulesAreTold(t *testing.T) {
	l := lab.New(t)
	var told []string
	l.Rulebook.OnChange(func(_ *records.Tx, repo *records.Repository) error { told = append(told, repo.Name); return nil })
	l.Rules(kept)
	_, err := l.Rulebook.ApplyRules(t.Context(), l.Admin, lab.House, "tavrin: rules/1\nprotect:\n  - name: house\n    branches: main\n    delete: never\n", "for all", -1)
	l.Ok(err)
	_, err = l.Rulebook.Suspend(t.Context(), l.Admin, lab.Name, "kept", time.Hour, "the pumps stand still")
	l.Ok(err)
	l.Ok(l.Rulebook.EndSuspensions(t.Context()))
	if len(told) != 3 {
		t.Errorf("told %v", told)
	}
	l.Wait(time.Hour)
	l.Ok(l.Rulebook.EndSuspensions(t.Context()))
	if len(told) != 4 || l.Kinds(4) != "rules.applied rules.applied rules.suspended rules.resumed" {
		t.Errorf("told %v; the journal says %s", told, l.Kinds(4))
	}
	refused := errors.New("no")
	l.Rulebook.OnChange(func(*records.Tx, *records.Repository) error { return refused })
	if _, err := l.Rulebook.ApplyRules(t.Context(), l.Admin, lab.Name, lost, "again", -1); !errors.Is(err, refused) {
		t.Errorf("applied with %v, although what follows was refused", err)
	}
	if r, err := l.Rulebook.Rules(t.Context(), l.Admin, lab.Name, 0); err != nil || r.Text != kept {
		t.Errorf("in force is %+v, %v", r, err)
	}
}

// Nobody's edit is overwritten unseen, and a document that cannot be read is told with what is wrong.
func TestApplyRefuses(t *testing.T) {
	l := lab.New(t)
	l.Rules(kept)
	_, err := l.Rulebook.ApplyRules(t.Context(), l.Admin, lab.Name, lost, "over what I read", 0)
	l.Is(err, problem.Precondition, "are at version 1, not 0")
	_, err = l.Rulebook.ApplyRules(t.Context(), l.Admin, lab.Name, "tavrin: rules/1\nprotekt: []\n", "a slip", 1)
	if found := problem.FindingsOf(err); len(found) != 1 || found[0].Line != 2 {
		t.Errorf("found %+v, %v", found, err)
	}
	_, err = l.Rulebook.ApplyRules(t.Context(), l.Person("ines", "writer"), lab.Name, lost, "as a writer", 1)
	l.Is(err, problem.Forbidden, "needs the role maintainer")
}
