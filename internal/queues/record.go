package queues

import (
	"errors"
	"fmt"
	"reflect"

	"gorm.io/gorm"

	"tavrin/internal/checks"
	"tavrin/internal/core/event"
	"tavrin/internal/core/queue"
	"tavrin/internal/facts"
	"tavrin/internal/records"
)

// What a queue knows is one value on record, and what it was told, with it. Whoever has something to tell does so in
// the transaction in which it happened. The rows of entries and rehearsals follow from the value; nobody else writes
// them.

// load reads what the queue of a target knows; version 0: nothing yet. What it knew at a version never changes: outside of writes, whose
// versions may never come to be, it is taken from memory as long as it is the newest, and shared. Nobody may alter it.
func (s *Queues) load(db *gorm.DB, repo int64, target string) (records.Queue, error) {
	q := records.Queue{RepositoryID: repo, Target: target}
	of := db.Where("repository_id = ? AND target = ?", repo, target).Limit(1)
	if _, certain := records.EditionOf(db, repo); !certain {
		return q, of.Find(&q).Error
	}
	var now records.Queue
	if err := db.Select("id", "version").Where("repository_id = ? AND target = ?", repo, target).Limit(1).Find(&now).Error; err != nil || now.ID == 0 {
		return q, err
	}
	known, _ := s.newest.Load(now.ID)
	had, _ := known.(records.Queue)
	same := had.ID == now.ID && had.RepositoryID == repo && had.Target == target && had.Version == now.Version
	if same && !s.facts.Doubts() {
		return had, nil
	}
	err := of.Find(&q).Error
	if err == nil && q.ID != 0 {
		s.newest.Store(q.ID, q)
	}
	if same && err == nil && q.Version == had.Version && !reflect.DeepEqual(q, had) {
		s.facts.Doubt(fmt.Sprintf("the queue of %s is remembered as %+v and is %+v", target, had, q))
	}
	return q, err
}

// Loaded returns the queue of a target as it is on record; number 0: nobody has joined it yet.
func (s *Queues) Loaded(db *gorm.DB, repo *records.Repository, target string) (records.Queue, error) {
	return s.load(db, repo.ID, target)
}

// now is the time of a transaction, for what happens in it.
func now(tx *records.Tx) queue.At { return queue.At{At: tx.Now()} }

// Tell tells a queue what happened, and puts what it makes of that on record.
func (s *Queues) Tell(tx *records.Tx, repo *records.Repository, target string, events ...queue.Event) error {
	q, err := s.load(tx.DB, repo.ID, target)
	if err != nil {
		return err
	}
	return s.tell(tx, repo, &q, events)
}

// stateEvery is after how many events what a queue knows is kept besides, so that what was decided since can be told without telling
// everything again.
const stateEvery = 1000

// ErrMovedOn says that a queue knows more than whoever wanted to go on with it.
var ErrMovedOn = errors.New("the queue has moved on meanwhile")

// TellIf is Tell for what was found out by looking at a version of a queue: if it has moved on since, or what an action
// rests on has, nothing is told. same says whether it still is as it was looked at.
func (s *Queues) TellIf(tx *records.Tx, repo *records.Repository, target string, version int64, events []queue.Event,
	same func(queue.Action) (bool, error)) ([]queue.Action, error) {
	q, err := s.load(tx.DB, repo.ID, target)
	if err != nil {
		return nil, err
	}
	if q.Version != version {
		return nil, ErrMovedOn
	}
	state := q.State
	var all []queue.Action
	for _, e := range events {
		var actions []queue.Action
		state, actions = queue.Tell(state, e)
		all = append(all, actions...)
	}
	for _, a := range all {
		if a.Do == queue.Build || a.Do == queue.Rebuild || a.Do == queue.Land || a.Do == queue.Explain {
			continue // what is only said, or is judged when it is done
		}
		if still, err := same(a); err != nil || !still {
			return nil, errors.Join(err, ErrMovedOn)
		}
	}
	return all, s.tell(tx, repo, &q, events)
}

// tell applies events to what a queue knows, plans after each, and saves all of it.
func (s *Queues) tell(tx *records.Tx, repo *records.Repository, q *records.Queue, events []queue.Event) error {
	tx.TouchesQueue(repo) // no gate depends on what a queue knows but as it is said below, and as events of changes
	if q.ID == 0 {
		if err := tx.Create(q).Error; err != nil {
			return err
		}
	}
	for _, e := range events {
		before := q.State
		var actions []queue.Action
		q.State, actions = queue.Tell(before, e)
		q.Watch = q.Watch.Told(&q.State)
		q.Version++
		data, err := queue.Encode(e)
		if err == nil {
			err = tx.Create(&records.QueueEvent{QueueID: q.ID, Version: q.Version, Event: string(data)}).Error
		}
		if err == nil && q.Version%stateEvery == 0 {
			err = tx.Create(&records.QueueState{QueueID: q.ID, Version: q.Version, At: tx.Now(), State: q.State, Watch: q.Watch}).Error
		}
		if err == nil {
			err = s.follow(tx, repo, q.ID, before, q.State)
		}
		for _, a := range actions {
			// In the same transaction: were it known to be planned and not yet done, the old answers would count as the new.
			if err == nil && a.Do == queue.Rerun {
				err = s.rerun(tx, repo, q.ID, a)
			}
		}
		if err != nil {
			return err
		}
	}
	return tx.Save(q).Error
}

// rerun asks once more for the checks of a rehearsal that failed.
func (s *Queues) rerun(tx *records.Tx, repo *records.Repository, queueID int64, a queue.Action) error {
	r, err := facts.RehearsedIn(tx.DB, repo, queueID, a.Rehearsal)
	if err != nil {
		return err
	}
	_, c, err := facts.EntryAndChange(tx.DB, a.Entry)
	if err != nil {
		return err
	}
	g, err := s.facts.Gather(tx.DB, repo, c)
	if err != nil {
		return err
	}
	part := r.Of(a.Rehearsal, a.Entry)
	if part == nil {
		return nil
	}
	return s.checks.AskRehearsal(tx, repo, r.Judged(g, *part), *part, true)
}

// follow has the rows of entries and rehearsals follow from one state of their queue to the next.
func (s *Queues) follow(tx *records.Tx, repo *records.Repository, queueID int64, before, after queue.State) error {
	for _, r := range after.Rehearsals {
		if was := before.Rehearsal(r.ID); was != nil && r.Ended != "" {
			if err := endRehearsal(tx, repo, queueID, r); err != nil {
				return err
			}
		}
	}
	for _, e := range after.Entries {
		was := before.Entry(e.ID) // nil: it joined
		if was != nil && was.State == e.State && was.Place == e.Place && was.Reason == e.Reason && was.Rehearsal == e.Rehearsal {
			continue
		}
		set := map[string]any{"state": string(e.State), "place": e.Place, "reason": e.Reason, "rehearsal": e.Rehearsal}
		if e.State.Ended() {
			set["ended_at"], set["cause"] = tx.Now(), string(e.Cause)
			set["waited"], set["queued"], set["rehearsed"], set["landed"] = e.Spent.Waiting.Milliseconds(), e.Spent.Queued.Milliseconds(),
				e.Spent.Rehearsing.Milliseconds(), e.Spent.Landing.Milliseconds()
		}
		if err := tx.Model(&records.Entry{}).Where("id = ?", e.ID).Updates(set).Error; err != nil {
			return err
		}
		if was != nil && was.Rehearsal != e.Rehearsal {
			tx.TouchesChange(repo, e.Change) // its gate is judged for another rehearsal
		}
		// what joined and what landed is told elsewhere
		if was == nil || was.State == e.State || e.State == queue.Landed {
			continue
		}
		by := records.Itself
		if e.By != "" {
			by = e.By
		}
		if err := tx.Record(by, repo, placed(e)); err != nil {
			return err
		}
	}
	return nil
}

// endRehearsal says of a rehearsal that it is of no more use, and calls off what it waits for.
func endRehearsal(tx *records.Tx, repo *records.Repository, queueID int64, r queue.Rehearsal) error {
	var parts []records.Rehearsal
	err := tx.Where("queue_id = ? AND number = ? AND ended = ''", queueID, r.ID).Order("position").Find(&parts).Error
	if err != nil || len(parts) == 0 { // it was never begun
		return err
	}
	err = tx.Model(&records.Rehearsal{}).Where("queue_id = ? AND number = ? AND ended = ''", queueID, r.ID).Update("ended", r.Ended).Error
	if err != nil || r.Ended == queue.ByLanding || r.Of != 0 {
		return err // after a landing, what is only advice may still be answered
	}
	return checks.CallOff(tx, repo, parts, r.Ended)
}

// placed is the event of an entry that goes on in its queue, or ends.
func placed(e queue.Entry) event.Event {
	p := event.Placed{OfChange: event.OfChange{Number: e.Change}, Reason: e.Reason}
	switch e.State {
	case queue.Waiting:
		return event.QueueSentBack{Placed: p}
	case queue.Queued:
		return event.QueueQueued{Placed: p}
	case queue.Rehearsing:
		return event.RehearsalBegun{Placed: p}
	case queue.Landing:
		return event.LandingBegun{Placed: p}
	case queue.Withdrawn:
		return event.QueueWithdrawn{Placed: p}
	case queue.Ejected, queue.Landed:
	}
	return event.QueueEjected{Placed: p}
}
