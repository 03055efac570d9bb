package queues_test

import (
	"errors"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"tavrin/internal/core/queue"
	"tavrin/internal/lab"
	"tavrin/internal/problem"
	"tavrin/internal/queues"
	"tavrin/internal/records"
	"tavrin/wire"
)

// prepared is a lab with two changes in the queue of main.
func prepared(t *testing.T) *lab.Lab {
	l := lab.New(t)
	l.Commit("main", "", "a=1")
	for i, source := range []string{"first", "second"} {
		l.Commit(source, "main", source+"=1")
		l.Open(l.Admin, source)
		_, err := l.Queues.Join(t.Context(), l.Admin, lab.Name, i+1, wire.NewEntry{})
		l.Ok(err)
	}
	return l
}

func tell(l *lab.Lab, events ...queue.Event) {
	l.T.Helper()
	l.Ok(l.Records.Write(l.T.Context(), func(tx *records.Tx) error { return l.Queues.Tell(tx, l.Repo, "main", events...) }))
}

func entry(l *lab.Lab, id int64) records.Entry {
	l.T.Helper()
	var e records.Entry
	l.Ok(l.Records.Read(l.T.Context()).First(&e, id).Error)
	return e
}

// The rows of entries and rehearsals, and the journal, follow from what the queue is told.
func TestRowsFollowTheState(t *testing.T) {
	l := prepared(t)
	at := queue.At{At: l.Now()}
	ready := queue.Gate{Revision: 1, Ready: true}
	tell(l, queue.TargetMoved{At: at, Tip: l.Tip("main")}, queue.Seen{At: at, Entry: 1, Gate: ready})
	if e := entry(l, 1); e.State != "queued" || e.Place <= entry(l, 2).Place || l.Kinds(1) != "queue.queued" {
		t.Errorf("the entry is %+v; the journal ends with %s", e, l.Kinds(1))
	}
	l.Ok(l.Records.Write(t.Context(), func(tx *records.Tx) error {
		l.Ok(tx.Create(&records.Rehearsal{QueueID: 1, EntryID: 1, Number: 1, Base: l.Tip("main"), CommitID: "c", Tested: "c", Approvers: []string{}, CreatedAt: tx.Now()}).Error)
		return tx.Create(&records.CheckRun{RepositoryID: l.Repo.ID, CommitID: "c", Name: "unit", Attempt: 1, State: "running", AskedFor: "rehearsal/1", CreatedAt: tx.Now()}).Error
	}))
	tell(l, queue.Built{At: at, Rehearsal: 1, Commits: []string{"c"}})
	if e := entry(l, 1); e.State != "rehearsing" {
		t.Errorf("the entry is %+v", e)
	}
	tell(l, queue.Judged{At: at, Rehearsal: 1, Verdict: queue.Verdict{Red: "unit failed"}})
	e := entry(l, 1)
	var r records.Rehearsal
	var run records.CheckRun
	l.Ok(l.Records.Read(t.Context()).First(&r).Error)
	l.Ok(l.Records.Read(t.Context()).First(&run).Error)
	if e.State != "ejected" || e.Reason != "unit failed" || e.EndedAt == nil || r.Ended != "unit failed" || run.State != "cancelled" {
		t.Errorf("the entry is %+v, its rehearsal %+v, the check %+v", e, r, run)
	}
	if got := l.Kinds(3); got != "queue.queued rehearsal.begun queue.ejected" {
		t.Errorf("the journal says %s", got)
	}
}

// What was found out by looking is told only to a queue that is as it was looked at, and only while what moves is judged as
// it was.
func TestP8TellIf(t *testing.T) {
	l := prepared(t)
	at := queue.At{At: l.Now()}
	q, err := l.Queues.Loaded(l.Records.Read(t.Context()), l.Repo, "main")
	l.Ok(err)
	version := q.Version
	seen := queue.Seen{At: at, Entry: 1, Gate: queue.Gate{Revision: 1, Ready: true}}
	tellIf := func(version int64, judge func(queue.Action) (bool, error)) error {
		return l.Records.Write(t.Context(), func(tx *records.Tx) error {
			_, err := l.Queues.TellIf(tx, l.Repo, "main", version, []queue.Event{seen}, judge)
			return err
		})
	}
	asked := 0
	same := func(queue.Action) (bool, error) { asked++; return true, nil }
	other := func(queue.Action) (bool, error) { return false, nil }
	if err := tellIf(version-1, same); !errors.Is(err, queues.ErrMovedOn) || asked != 0 {
		t.Errorf("told to a queue that has moved on: %v", err)
	}
	if err := tellIf(version, other); !errors.Is(err, queues.ErrMovedOn) {
		t.Errorf("told although it is judged otherwise now: %v", err)
	}
	trouble := errors.New("no room")
	if err := tellIf(version, func(queue.Action) (bool, error) { return false, trouble }); !errors.Is(err, trouble) {
		t.Errorf("trouble in judging: %v", err)
	}
	if e := entry(l, 1); e.State != "waiting" {
		t.Errorf("the entry is %+v", e)
	}
	l.Ok(tellIf(version, same))
	if e := entry(l, 1); e.State != "queued" || asked != 1 {
		t.Errorf("the entry is %+v, judged %d times", e, asked)
	}
}

// People join once, leave what is theirs, and see why they wait.
func TestJoinAndLeave(t *testing.T) {
	l := prepared(t)
	_, err := l.Queues.Join(t.Context(), l.Admin, lab.Name, 1, wire.NewEntry{})
	l.Is(err, problem.Conflict, "is in the queue already")
	_, err = l.Queues.Join(t.Context(), l.Admin, lab.Name, 2, wire.NewEntry{Message: "x\n\nLanded-change: 7"})
	l.Is(err, problem.Invalid, "is written by the service")
	wren := l.Person("wren", "writer")
	_, err = l.Queues.Leave(t.Context(), wren, lab.Name, 1)
	l.Is(err, problem.Forbidden, "is for its authors")
	v, err := l.Queues.Leave(t.Context(), l.Admin, lab.Name, 1)
	l.Ok(err)
	if v.State != "withdrawn" || v.Reason != "admin withdrew it" || v.EndedAt == nil {
		t.Errorf("the entry is %+v", v)
	}
	_, err = l.Queues.Leave(t.Context(), l.Admin, lab.Name, 1)
	l.Is(err, problem.Unknown, "is not in the queue")
	q, err := l.Queues.Queue(t.Context(), wren, lab.Name, "main")
	l.Ok(err)
	if len(q.Entries) != 1 || q.Entries[0].Number != 2 || q.Entries[0].Position != 1 || len(q.Recent) != 1 {
		t.Errorf("the queue is %+v", q)
	}
}

func TestRests(t *testing.T) {
	var r queues.Rests
	at := time.Date(2026, 11, 2, 8, 0, 0, 0, time.UTC)
	if r.Resting(1, at) != "" {
		t.Error("it rests from the beginning")
	}
	for range 20 {
		r.Rest(1, at, errors.New("no\n room"))
	}
	if why := r.Resting(1, at.Add(119*time.Second)); why != "the service has trouble, which is not about the change: no room. It is tried again at 08:02:00 UTC" {
		t.Errorf("it rests: %q", why)
	}
	if r.Resting(1, at.Add(2*time.Minute)) != "" || r.Resting(2, at) != "" {
		t.Error("it rests too long, or another with it")
	}
	if r.Over(1); r.Resting(1, at) != "" {
		t.Error("it rests on")
	}
}

// What was decided is told again by stretches, from what is kept each thousand events: the same whichever part is asked for, and
// nothing where what is on record is otherwise than what the queue was told makes it (P10).
func TestDecisionsAreToldByStretches(t *testing.T) {
	l := prepared(t)
	var times []time.Time
	for n := range 23 {
		l.Wait(time.Minute)
		times = append(times, l.Now())
		var events []queue.Event
		for i := range 100 { // it lines up, and is sent back
			events = append(events, queue.Seen{At: queue.At{At: l.Now()}, Entry: 1 + int64(n%2), Gate: queue.Gate{Revision: 1, Ready: i%2 == 0}})
		}
		tell(l, events...)
	}
	decisions := func(q wire.DecisionQuery) []wire.QueueDecision {
		t.Helper()
		all, err := l.Queues.Decisions(t.Context(), l.Admin, lab.Name, q)
		l.Ok(err)
		return all
	}
	newest := decisions(wire.DecisionQuery{Limit: 1000})
	sorted := slices.IsSortedFunc(newest, func(a, b wire.QueueDecision) int { return a.At.Compare(b.At) })
	if len(newest) != 1000 || !sorted || !newest[999].At.Equal(times[22]) {
		t.Fatalf("%d decisions, from %s to %s", len(newest), newest[0].At, newest[len(newest)-1].At)
	}
	within := func(all []wire.QueueDecision, from, to time.Time) []wire.QueueDecision {
		return slices.DeleteFunc(slices.Clone(all), func(d wire.QueueDecision) bool { return d.At.Before(from) || d.At.After(to) })
	}
	// The state that is kept at 2,000 lies between these two minutes.
	middle := decisions(wire.DecisionQuery{Since: times[19], Until: times[20], Limit: 1000})
	if want := within(newest, times[19], times[20]); len(want) < 200 || !reflect.DeepEqual(middle, want) {
		t.Errorf("of two minutes there are %d decisions, and %d of them among the newest", len(middle), len(want))
	}
	early := decisions(wire.DecisionQuery{Until: times[1], Limit: 1000})
	if len(early) < 200 || !early[0].At.Equal(times[0]) || len(within(early, times[0], times[1])) != len(early) {
		t.Errorf("of the first two minutes there are %d decisions", len(early))
	}
	one := decisions(wire.DecisionQuery{Number: 2, Limit: 1000, Weighed: true})
	if want := within(one, times[1], times[22]); len(one) != 1000 || len(want) != 1000 || slices.ContainsFunc(one, func(d wire.QueueDecision) bool { return d.Number != 2 }) {
		t.Errorf("of one change there are %d decisions", len(one))
	}
	l.Ok(l.Records.Write(t.Context(), func(tx *records.Tx) error {
		tx.TouchesNothing()
		return tx.Exec(`UPDATE queue_states SET state = replace(state, '"back":', '"back":1') WHERE version = 2000`).Error
	}))
	if _, err := l.Queues.Decisions(t.Context(), l.Admin, lab.Name, wire.DecisionQuery{Limit: 1000}); err == nil || !strings.Contains(err.Error(), "on record otherwise") {
		t.Errorf("of a record that was altered it is said %v", err)
	}
}
