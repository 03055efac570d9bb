package rulebook_test

import (
	"context"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"sync"
	"testing"
	"time"

	"tavrin/internal/core/rules"
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

// Whoever has to know hears of every open change that other rules hold: of a repository's rules for it, of a house's for each of its
// repositories, of a suspension's beginning and end. Trouble of theirs takes nothing of the rules back, and is tried again.
func TestChangesOfRulesAreTold(t *testing.T) {
	l := lab.New(t)
	l.Commit("main", "", "a=1")
	for n := range 45 {
		l.Commit(fmt.Sprintf("topic-%d", n), "main", fmt.Sprintf("b%d=1", n))
		l.Open(l.Admin, fmt.Sprintf("topic-%d", n))
	}
	var told []int
	hears := func(_ *records.Tx, _ *records.Repository, changes []records.Change) error {
		if len(changes) > 20 {
			t.Errorf("%d changes in one transaction", len(changes))
		}
		for _, c := range changes {
			told = append(told, c.Number)
		}
		return nil
	}
	all := func(after string) {
		t.Helper()
		slices.Sort(told)
		if len(told) != 45 || len(slices.Compact(slices.Clone(told))) != 45 {
			t.Errorf("after %s were told %v", after, told)
		}
		told = nil
		if r, err := l.Rulebook.Rules(t.Context(), l.Admin, lab.Name, 0); err != nil || r.ToJudge != 0 {
			t.Errorf("after %s %d changes are still to be judged, %v", after, r.ToJudge, err)
		}
	}
	l.Rulebook.OnChange(hears)
	l.Rules(kept)
	all("rules")
	_, err := l.Rulebook.ApplyRules(t.Context(), l.Admin, lab.House, "tavrin: rules/1\nprotect:\n  - name: house\n    branches: main\n    delete: never\n", "for all", -1)
	l.Ok(err)
	all("rules of the house")
	_, err = l.Rulebook.Suspend(t.Context(), l.Admin, lab.Name, "kept", time.Hour, "the pumps stand still")
	l.Ok(err)
	all("a suspension")
	l.Ok(l.Rulebook.EndSuspensions(t.Context()))
	if len(told) != 0 {
		t.Errorf("told %v, although nothing ended", told)
	}
	l.Wait(time.Hour)
	l.Ok(l.Rulebook.EndSuspensions(t.Context()))
	all("the end of it")
	if l.Kinds(4) != "rules.applied rules.applied rules.suspended rules.resumed" {
		t.Errorf("the journal says %s", l.Kinds(4))
	}
	l.Rulebook.OnChange(func(*records.Tx, *records.Repository, []records.Change) error { return errors.New("no") })
	r, err := l.Rulebook.ApplyRules(t.Context(), l.Admin, lab.Name, lost, "again", -1)
	if err != nil || r.ToJudge != 45 {
		t.Errorf("applied with %+v, %v", r, err)
	}
	l.Rulebook.OnChange(hears)
	working, stop := context.WithCancel(t.Context())
	defer stop()
	go l.Rulebook.JudgeDue(working)
	for range 400 {
		if r, err := l.Rulebook.Rules(t.Context(), l.Admin, lab.Name, 0); err != nil || r.ToJudge == 0 {
			break
		}
		time.Sleep(5 * time.Millisecond)
	}
	all("trouble")
}

// Whatever is applied meanwhile, a document is in force only with the others that it was read with.
func TestRulesAppliedAtOnce(t *testing.T) {
	l := lab.New(t)
	house := func(kind string) string {
		return "tavrin: rules/1\nbranches: {" + kind + ": main}\nprotect:\n  - name: house\n    branches: " + kind + "\n    delete: never\n"
	}
	apply := func(where, text string) error {
		_, err := l.Rulebook.ApplyRules(t.Context(), l.Admin, where, text, "for the test", -1)
		return err
	}
	l.Ok(apply(lab.House, house("trunk")))
	var all sync.WaitGroup
	for n := range 24 {
		all.Go(func() {
			// One takes a kind away that the other names: whichever comes second is refused.
			if n%2 == 0 {
				_ = apply(lab.House, house([]string{"trunk", "stem"}[n/2%2]))
			} else {
				_ = apply(lab.Name, "tavrin: rules/1\nprotect:\n  - name: p\n    branches: "+[]string{"trunk", "main"}[n/2%2]+"\n    rewrite: never\n")
			}
		})
	}
	all.Wait()
	var versions []records.RulesVersion
	l.Ok(l.Records.Read(t.Context()).Order("id").Find(&versions).Error)
	used := func(house *rules.Document, own string) map[string][]string {
		doc, findings := rules.Under{House: house, Accepted: true}.Parse(own)
		if len(findings) > 0 {
			t.Fatalf("%v", findings)
		}
		return doc.Used
	}
	var before *rules.Document
	own, applied := "tavrin: rules/1\n", 0
	for _, v := range versions {
		if v.RepositoryID != nil {
			own = v.Text
			continue
		}
		now, findings := rules.Under{OfHouse: true, Accepted: true}.Parse(v.Text)
		if len(findings) > 0 {
			t.Fatalf("%v", findings)
		}
		if was, is := used(before, own), used(now, own); before != nil && !reflect.DeepEqual(was, is) {
			t.Errorf("with version %d of the house's, what was %v is %v in\n%s", v.Version, was, is, own)
		}
		before = now
		applied++
	}
	if len(versions) < 3 {
		t.Errorf("%d versions came about, %d of them the house's: the test says little", len(versions), applied)
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
