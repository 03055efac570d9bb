package queues

import (
	"errors"

	"gorm.io/gorm"

	"tavrin/internal/checks"
	"tavrin/internal/core/event"
	"tavrin/internal/core/queue"
	"tavrin/internal/records"
)

// What a queue knows is one value on record, and what it was told, with it. Whoever has something to tell does so in
// the transaction in which it happened. The rows of entries and rehearsals follow from the value; nobody else writes
// them.

// load reads what the queue of a target knows; version 0: nothing yet.
func load(db *gorm.DB, repo int64, target string) (records.Queue, error) {
	q := records.Queue{RepositoryID: repo, Target: target}
	err := db.Where("repository_id = ? AND target = ?", repo, target).Limit(1).Find(&q).Error
	return q, err
}

// Loaded returns what the queue of a target knows, and which version that is.
func (s *Queues) Loaded(db *gorm.DB, repo *records.Repository, target string) (queue.State, int64, error) {
	q, err := load(db, repo.ID, target)
	return q.State, q.Version, err
}

// now is the time of a transaction, for what happens in it.
func now(tx *records.Tx) queue.At { return queue.At{At: tx.Now()} }

// Tell tells a queue what happened, and puts what it makes of that on record.
func (s *Queues) Tell(tx *records.Tx, repo *records.Repository, target string, events ...queue.Event) error {
	q, err := load(tx.DB, repo.ID, target)
	if err != nil {
		return err
	}
	return s.tell(tx, repo, &q, events)
}

// ErrMovedOn says that a queue knows more than whoever wanted to go on with it.
var ErrMovedOn = errors.New("the queue has moved on meanwhile")

// TellIf is Tell for what was found out by looking at a version of a queue: if it has moved on since, or what an entry
// that would move or end is judged by has, nothing is told. judge says whether it still is for an entry as it was
// looked at.
func (s *Queues) TellIf(tx *records.Tx, repo *records.Repository, target string, version int64, events []queue.Event,
	judge func(entry int64) (same bool, err error)) ([]queue.Action, error) {
	q, err := load(tx.DB, repo.ID, target)
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
		state, actions = queue.Plan(queue.Apply(state, e))
		all = append(all, actions...)
	}
	for _, a := range all {
		if a.Do == queue.Build || a.Do == queue.Land {
			continue // both are judged when they are done
		}
		if same, err := judge(a.Entry); err != nil || !same {
			return nil, errors.Join(err, ErrMovedOn)
		}
	}
	return all, s.tell(tx, repo, &q, events)
}

// tell applies events to what a queue knows, plans after each, and saves all of it.
func (s *Queues) tell(tx *records.Tx, repo *records.Repository, q *records.Queue, events []queue.Event) error {
	tx.TouchesNothing() // no gate depends on what a queue knows; what of it one does is told as an event of the change
	if q.ID == 0 {
		if err := tx.Create(q).Error; err != nil {
			return err
		}
	}
	for _, e := range events {
		before := q.State
		q.State, _ = queue.Plan(queue.Apply(before, e))
		q.Version++
		data, err := queue.Encode(e)
		if err == nil {
			err = tx.Create(&records.QueueEvent{QueueID: q.ID, Version: q.Version, Event: string(data)}).Error
		}
		if err == nil {
			err = s.follow(tx, repo, before, q.State)
		}
		if err != nil {
			return err
		}
	}
	return tx.Save(q).Error
}

// follow has the rows of entries and rehearsals follow from one state of their queue to the next.
func (s *Queues) follow(tx *records.Tx, repo *records.Repository, before, after queue.State) error {
	for _, r := range after.Rehearsals {
		if was := before.Rehearsal(r.ID); was != nil && r.Ended != "" {
			if err := endRehearsal(tx, repo, r); err != nil {
				return err
			}
		}
	}
	for _, e := range after.Entries {
		was := before.Entry(e.ID) // nil: it joined
		if was != nil && was.State == e.State && was.Place == e.Place && was.Reason == e.Reason {
			continue
		}
		set := map[string]any{"state": string(e.State), "place": e.Place, "reason": e.Reason}
		if e.State.Ended() {
			set["ended_at"] = tx.Now()
		}
		if err := tx.Model(&records.Entry{}).Where("id = ?", e.ID).Updates(set).Error; err != nil {
			return err
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
func endRehearsal(tx *records.Tx, repo *records.Repository, r queue.Rehearsal) error {
	var row records.Rehearsal
	err := tx.Where("entry_id = ? AND number = ? AND ended = ''", r.Entry, r.ID).Limit(1).Find(&row).Error
	if err != nil || row.ID == 0 { // it was never begun
		return err
	}
	if err := tx.Model(&row).Update("ended", r.Ended).Error; err != nil {
		return err
	}
	if r.Ended == queue.ByLanding {
		return nil // what is only advice may still be answered
	}
	return checks.CallOff(tx, repo, row, r.Ended)
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
