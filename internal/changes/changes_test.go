package changes_test

import (
	"strings"
	"testing"

	"tavrin/internal/core/change"
	"tavrin/internal/core/event"
	"tavrin/internal/lab"
	"tavrin/internal/problem"
	"tavrin/internal/records"
	"tavrin/wire"
)

// What a revision did to the one before is found out with Git, and an approval stays where the difference does (P6).
func TestP6RevisionKinds(t *testing.T) {
	l := lab.New(t)
	ctx := t.Context()
	l.Commit("main", "", "a=1\n")
	l.Commit("topic", "main", "b=1\n")
	l.Open(l.Admin, "topic")
	follow := func() records.Revision {
		t.Helper()
		i := &records.Intent{RepositoryID: l.Repo.ID, Kind: "push", Ref: "refs/heads/topic", New: l.Tip("topic"), Actor: "admin"}
		revisions, told, err := l.Changes.Followed(ctx, l.Repo, i)
		l.Ok(err)
		if len(revisions) != 1 {
			t.Fatalf("%d revisions; told %v", len(revisions), told)
		}
		l.Ok(l.Changes.Keep(ctx, l.Repo, revisions...))
		l.Ok(l.Records.Write(ctx, func(tx *records.Tx) error { return l.Changes.SaveRevision(tx, l.Repo, revisions[0]) }))
		return revisions[0].Row
	}
	l.Commit("topic", "topic", "c=1\n")
	if r := follow(); r.Kind != event.Added || r.SameAsLast || r.Number != 2 {
		t.Errorf("commits on top: %s, the same: %v", r.Kind, r.SameAsLast)
	}
	l.Commit("main", "main", "z=1\n")
	l.Commit("topic", "main", "b=1\n", "c=1\n")
	if r := follow(); r.Kind != event.Rebased || !r.SameAsLast {
		t.Errorf("the same on another base: %s, the same: %v", r.Kind, r.SameAsLast)
	}
	l.Commit("topic", "main", "b=2\n")
	if r := follow(); r.Kind != event.Rewritten || r.SameAsLast || r.Files != 1 {
		t.Errorf("another difference: %s, the same: %v", r.Kind, r.SameAsLast)
	}
	if l.Row(1).Revision != 4 || !strings.HasSuffix(l.Kinds(3), "change.revised") {
		t.Errorf("the change is at revision %d; the journal ends with %s", l.Row(1).Revision, l.Kinds(3))
	}
}

// A word is on the revision that it names, only on the newest, and only from who has a role of their own.
func TestReviews(t *testing.T) {
	l := lab.New(t)
	ctx := t.Context()
	l.Commit("main", "", "a=1")
	l.Commit("topic", "main", "a=2")
	l.Open(l.Admin, "topic")
	odo := l.Person("odo", "reader")
	bench := l.Person("wren", "none")
	review := func(n wire.NewReview) error { _, err := l.Changes.Review(ctx, odo, lab.Name, 1, n); return err }
	l.Is(review(wire.NewReview{Verdict: change.Approve, Revision: 2}), problem.Conflict, "the newest revision of change 1 is 1, not 2")
	l.Is(review(wire.NewReview{Verdict: change.Object, Revision: 1}), problem.Invalid, "needs words")
	l.Ok(review(wire.NewReview{Verdict: change.Approve, Revision: 1, Text: "good: tvr_ABCDEFGHIJKLMNOP"}))
	_, err := l.Changes.Review(ctx, bench, lab.Name, 1, wire.NewReview{Verdict: change.Approve, Revision: 1})
	l.Is(err, problem.Unknown, "no repository")
	all, err := l.Changes.Reviews(ctx, odo, lab.Name, 1)
	l.Ok(err)
	if len(all) != 1 || all[0].Text != "good: tvr_…" || !all[0].Standing {
		t.Errorf("reviews are %+v", all)
	}
	_, err = l.Changes.Withdraw(ctx, odo, lab.Name, 1)
	l.Ok(err)
	_, err = l.Changes.Withdraw(ctx, odo, lab.Name, 1)
	l.Is(err, problem.Conflict, "no standing approval")
}

// Lines that a discussion is about are followed to the newest revision, and said to be gone where they are.
func TestThreadsFollowTheirLines(t *testing.T) {
	l := lab.New(t)
	ctx := t.Context()
	l.Commit("main", "", "a=one\ntwo\nthree\n")
	l.Commit("topic", "main", "a=one\ntwo\nthree\nfour\n")
	l.Open(l.Admin, "topic")
	on := func(line int) {
		t.Helper()
		_, err := l.Threads.BeginThread(ctx, l.Admin, lab.Name, 1, wire.NewThread{Revision: 1, Path: "a", First: line, Text: "why?"})
		l.Ok(err)
	}
	on(4)
	on(2)
	_, err := l.Threads.BeginThread(ctx, l.Admin, lab.Name, 1, wire.NewThread{Revision: 1, Path: "a", First: 9, Text: "why?"})
	l.Is(err, problem.Invalid, "has 4 lines")
	l.Commit("topic", "main", "a=zero\none\nTWO\nthree\nfour\n")
	i := &records.Intent{RepositoryID: l.Repo.ID, Ref: "refs/heads/topic", New: l.Tip("topic"), Actor: "admin"}
	revisions, _, err := l.Changes.Followed(ctx, l.Repo, i)
	l.Ok(err)
	l.Ok(l.Records.Write(ctx, func(tx *records.Tx) error { return l.Changes.SaveRevision(tx, l.Repo, revisions[0]) }))
	all, err := l.Threads.Threads(ctx, l.Admin, lab.Name, 1)
	l.Ok(err)
	if len(all) != 2 || all[0].Now == nil || all[0].Now.First != 5 || all[1].Now != nil || !all[1].Gone || all[0].Quoted != "four" {
		t.Errorf("the discussions are %+v", all)
	}
}

// A change that waits for itself, however far round, is refused, and so is a second one from a branch to another.
func TestWhatCannotBe(t *testing.T) {
	l := lab.New(t)
	ctx := t.Context()
	l.Commit("main", "", "a=1")
	for _, source := range []string{"first", "second"} {
		l.Commit(source, "main", source+"=1")
		l.Open(l.Admin, source)
	}
	wait := func(number, on int) error {
		_, err := l.Changes.EditChange(ctx, l.Admin, lab.Name, number, wire.ChangeEdit{DependsOn: &[]int{on}})
		return err
	}
	l.Ok(wait(1, 2))
	l.Is(wait(2, 1), problem.Invalid, "neither could ever land")
	l.Is(wait(1, 1), problem.Invalid, "cannot wait for itself")
	l.Is(wait(1, 7), problem.Invalid, "there is no change 7")
	_, err := l.Changes.OpenChange(ctx, l.Admin, lab.Name, wire.NewChange{Source: "first", Title: "again"})
	l.Is(err, problem.Conflict, "change 1 brings first into main already")
	_, err = l.Changes.CloseChange(ctx, l.Admin, lab.Name, 1)
	l.Ok(err)
	third, err := l.Changes.OpenChange(ctx, l.Admin, lab.Name, wire.NewChange{Source: "first", Title: "again"})
	l.Ok(err)
	if third.Number != 3 {
		t.Errorf("the third change has the number %d", third.Number)
	}
}
