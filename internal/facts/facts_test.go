package facts_test

import (
	"testing"

	"tavrin/internal/core/change"
	"tavrin/internal/core/event"
	"tavrin/internal/lab"
	"tavrin/internal/records"
	"tavrin/wire"
)

const guarded = "tavrin: rules/1\nprotect:\n  - name: trunk\n    branches: main\n    require: [{approvals: 1}]\n"

// two is a lab with two open changes.
func two(t *testing.T) *lab.Lab {
	l := lab.New(t)
	l.Rules(guarded)
	l.Commit("main", "", "a=1")
	for _, source := range []string{"first", "second"} {
		l.Commit(source, "main", source+"=1")
		l.Open(l.Admin, source)
	}
	return l
}

// A gate is remembered until something is written that it depends on, and read as of its own snapshot all the while. The lab
// judges every remembered gate anew and compares.
func TestRememberedGates(t *testing.T) {
	l := two(t)
	ready := func(snap *records.View, number int) bool {
		t.Helper()
		g, err := l.Facts.Remembered(snap, l.Repo, l.Row(number))
		l.Ok(err)
		return g.Judge().Ready
	}
	now := func(number int) bool {
		t.Helper()
		snap := l.Records.View(t.Context())
		defer snap.Close()
		return ready(snap, number)
	}
	if now(1) || now(1) || now(2) {
		t.Fatal("ready without an approval")
	}
	before := l.Records.View(t.Context())
	defer before.Close()
	var n int64
	l.Ok(before.Model(&records.Change{}).Count(&n).Error) // from here on it is a snapshot
	odo := l.Person("odo", "writer")
	_, err := l.Changes.Review(t.Context(), odo, lab.Name, 1, wire.NewReview{Verdict: change.Approve, Revision: 1})
	l.Ok(err)
	if !now(1) || now(2) {
		t.Errorf("after the approval of 1: 1 is ready %v, 2 %v", now(1), now(2))
	}
	if ready(before, 1) {
		t.Error("a snapshot of before sees what came after")
	}
	if !now(1) {
		t.Error("what a snapshot of before saw is taken for what holds now")
	}
	_, err = l.People.SetDisabled(t.Context(), l.Admin, "odo", true)
	l.Ok(err)
	if now(1) {
		t.Error("the approval of an account that is disabled counts")
	}
}

// While a transaction is being committed that touches a gate, nothing remembered of it is used.
func TestNothingIsRememberedWhileItIsWritten(t *testing.T) {
	l := two(t)
	judged := func() {
		t.Helper()
		snap := l.Records.View(t.Context())
		defer snap.Close()
		_, err := l.Facts.Remembered(snap, l.Repo, l.Row(1))
		l.Ok(err)
	}
	judged()
	l.Records.Listen(records.Listener{Before: func(records.Commit) { judged() }, After: func(records.Commit) { judged() }})
	l.Ok(l.Records.Write(t.Context(), func(tx *records.Tx) error {
		l.Ok(tx.Create(&records.ChangeLabel{ChangeID: l.Row(1).ID, Label: "urgent", SetBy: "ines", SetAt: tx.Now()}).Error)
		return tx.Record("ines", l.Repo, event.ChangeLabelled{OfChange: event.OfChange{Number: 1}, Set: []string{"urgent"}})
	}))
	judged()
}

// Gathered together, changes have the facts that each has by itself.
func TestGatheredTogetherOrAlone(t *testing.T) {
	l := two(t)
	odo := l.Person("odo", "writer")
	_, err := l.Changes.Review(t.Context(), odo, lab.Name, 2, wire.NewReview{Verdict: change.Object, Revision: 1, Text: "the valve"})
	l.Ok(err)
	_, err = l.Threads.BeginThread(t.Context(), odo, lab.Name, 1, wire.NewThread{Text: "why?"})
	l.Ok(err)
	on := []int{1}
	_, err = l.Changes.EditChange(t.Context(), l.Admin, lab.Name, 2, wire.ChangeEdit{DependsOn: &on})
	l.Ok(err)
	db := l.Records.Read(t.Context())
	all, err := l.Facts.GatherAll(db, l.Repo, []records.Change{l.Row(2), l.Row(1)})
	l.Ok(err)
	for i, number := range []int{2, 1} {
		alone, err := l.Facts.Gather(db, l.Repo, l.Row(number))
		l.Ok(err)
		if got, want := all[i].Judge().Summary, alone.Judge().Summary; got != want || all[i].Change.Number != number {
			t.Errorf("change %d: together %q, alone %q", number, got, want)
		}
	}
	if f := all[0].Facts; len(f.Reviews) != 1 || len(f.Dependencies) != 1 || len(f.Threads) != 0 {
		t.Errorf("the facts about 2 are %+v", f)
	}
	if f := all[1].Facts; len(f.Reviews) != 0 || len(f.Dependencies) != 0 || len(f.Threads) != 1 {
		t.Errorf("the facts about 1 are %+v", f)
	}
}
