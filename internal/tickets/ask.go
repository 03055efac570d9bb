package tickets

import (
	"cmp"
	"context"
	"errors"
	"net/http"
	"sync"
	"time"

	"tavrin/internal/core/change"
	"tavrin/internal/core/event"
	"tavrin/internal/core/kind"
	"tavrin/internal/core/tracker"
	"tavrin/internal/outbound"
	"tavrin/internal/records"
)

const (
	// batch is of how many tickets a tracker is asked before what it answered is written down; together, how many calls are
	// under way at once.
	batch, together = 40, 4
)

// answer is what came of asking about one ticket.
type answer struct {
	tracker.Answer
	ticket string
	pause  time.Duration    // that the tracker asks for
	sent   *outbound.Answer // nil: none came
}

// askOne asks a tracker about one ticket.
func (s *Tickets) askOne(ctx context.Context, t records.Tracker, ticket string) answer {
	h := http.Header{"Accept": {"application/json"}, "User-Agent": {"tavrin"}}
	for name, value := range t.Headers {
		h.Set(name, value)
	}
	out := answer{ticket: ticket}
	to := kind.TicketAddress(t.URL, ticket)
	if err := s.caller.List().Allows(to); err != nil { // which says nothing of the tracker, but of what somebody calls a ticket
		out.Trouble = err.Error()
		return out
	}
	got, err := s.caller.Do(ctx, http.MethodGet, to, h, nil)
	if err != nil {
		out.Trouble, out.Down = err.Error(), true
		return out
	}
	out.sent, out.pause = got, got.RetryAfter
	out.Answer = tracker.Read(ticket, tracker.Received{Status: got.Status, Body: got.Body, Cut: got.Cut})
	return out
}

// askHouse asks the tracker of a house about what is due, until nothing is or the tracker itself is in trouble.
func (s *Tickets) askHouse(ctx context.Context, house int64) error {
	for ctx.Err() == nil {
		var t records.Tracker
		var due []string
		db := s.records.Read(ctx)
		if err := db.Where("house_id = ?", house).Limit(1).Find(&t).Error; err != nil || t.HouseID == 0 {
			return err
		}
		if now := s.records.Now(); t.TryAt == nil || !t.TryAt.After(now) {
			err := s.records.Read(ctx).Model(&records.TicketAnswer{}).Where("house_id = ? AND due_at <= ?", house, now).Order("due_at, ticket").
				Limit(batch).Pluck("ticket", &due).Error
			if err != nil {
				return err
			}
		}
		if len(due) == 0 {
			return nil
		}
		if t.Trouble != "" {
			due = due[:1] // whether it is well again, one will show
		}
		answers := s.askAll(ctx, t, due)
		if ctx.Err() != nil {
			return nil
		}
		if err := s.note(ctx, t, answers); err != nil {
			return err
		}
	}
	return nil
}

// askAll asks about several tickets, some at once, until one shows that the tracker is in trouble.
func (s *Tickets) askAll(ctx context.Context, t records.Tracker, tickets []string) []answer {
	var mu sync.Mutex
	var answers []answer
	down := false
	var asking sync.WaitGroup
	slots := make(chan struct{}, together)
	for _, ticket := range tickets {
		slots <- struct{}{}
		mu.Lock()
		stop := down
		mu.Unlock()
		if stop {
			break
		}
		asking.Go(func() {
			defer func() { <-slots }()
			a := s.askOne(ctx, t, ticket)
			mu.Lock()
			defer mu.Unlock()
			answers, down = append(answers, a), down || a.Down
		})
	}
	asking.Wait()
	return answers
}

// note writes down what a tracker answered, unless it is another by now.
func (s *Tickets) note(ctx context.Context, asked records.Tracker, answers []answer) error {
	return s.records.Write(ctx, func(tx *records.Tx) error {
		tx.TouchesNothing() // but what the events say
		var t records.Tracker
		if err := tx.Where("house_id = ?", asked.HouseID).Limit(1).Find(&t).Error; err != nil || t.HouseID == 0 || t.URL != asked.URL || !t.SetAt.Equal(asked.SetAt) {
			return err
		}
		var down *answer
		for i, a := range answers {
			if a.Down {
				down = &answers[i]
			}
			// also one that met with trouble: what breaks the tracker may be this very ticket, and others go before it next
			if err := s.noteOne(tx, t, a); err != nil {
				return err
			}
		}
		if down == nil {
			t.FailingSince, t.Trouble, t.Tries, t.TryAt = nil, "", 0, nil
			return tx.Save(&t).Error
		}
		now := tx.Now()
		at := now.Add(tracker.PauseAfter(t.Tries, down.pause))
		t.TryAt, t.Trouble, t.Tries = &at, down.Trouble, t.Tries+1
		if t.FailingSince == nil {
			t.FailingSince = &now
		}
		return tx.Save(&t).Error
	})
}

// noteOne writes down the answer about one ticket, and tells the changes that refer to it where it is
// another than before, or the one before did not count any more.
func (s *Tickets) noteOne(tx *records.Tx, t records.Tracker, a answer) error {
	var row records.TicketAnswer
	var seconds int64
	if err := tx.Where("house_id = ? AND ticket = ?", t.HouseID, a.ticket).First(&row).Error; errors.Is(err, records.ErrNotFound) {
		return nil // nobody wants to know any more
	} else if err != nil {
		return err
	}
	if err := tx.Raw("SELECT ifnull(min(max_age), 0) FROM ticket_wants WHERE house_id = ? AND ticket = ?", t.HouseID, a.ticket).Scan(&seconds).Error; err != nil || seconds == 0 {
		return err
	}
	now, before, least := tx.Now(), row.State, time.Duration(seconds)*time.Second
	counted := row.AnsweredAt != nil && now.Sub(*row.AnsweredAt) <= least && row.Trouble == ""
	if a.State == change.TicketNotAsked {
		row.Trouble, row.DueAt, row.Tries = a.Trouble, now.Add(tracker.PauseAfter(row.Tries, a.pause)), row.Tries+1
		return tx.Save(&row).Error
	}
	row.State, row.Title, row.AnsweredAt, row.Trouble, row.Tries = string(a.State), a.Title, &now, "", 0
	row.DueAt = now.Add(tracker.Again(least))
	if err := tx.Save(&row).Error; err != nil || before == row.State && counted {
		return err
	}
	var told []struct {
		RepositoryID int64
		Number       int
	}
	err := tx.Raw("SELECT c.repository_id, c.number FROM ticket_wants w JOIN changes c ON c.id = w.change_id WHERE w.house_id = ? AND w.ticket = ? ORDER BY c.id",
		t.HouseID, a.ticket).Scan(&told).Error
	for _, c := range told {
		var repo records.Repository
		if err = cmp.Or(err, tx.First(&repo, c.RepositoryID).Error); err != nil {
			return err
		}
		if err := tx.Record(records.Itself, &repo, event.TicketAnswered{OfChange: event.OfChange{Number: c.Number}, Ticket: a.ticket, State: row.State,
			Before: before, Host: t.Host()}); err != nil {
			return err
		}
	}
	return err
}
