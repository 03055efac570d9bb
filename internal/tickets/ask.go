package tickets

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"time"
	"unicode"

	"tavrin/internal/core/change"
	"tavrin/internal/core/event"
	"tavrin/internal/core/kind"
	"tavrin/internal/outbound"
	"tavrin/internal/records"
)

const (
	// batch is of how many tickets a tracker is asked before what it answered is written down; together, how many calls are
	// under way at once.
	batch, together = 40, 4
	// firstPause and longestPause lie between two tries that come to nothing; each is twice the one before.
	firstPause, longestPause = 10 * time.Second, 10 * time.Minute
	// longestTicket and longestTitle are in bytes and in characters.
	longestTicket, longestTitle = 100, 200
)

// askable says whether a tracker can be asked about what a change calls a ticket.
func askable(ticket string) bool {
	return ticket != "." && ticket != ".." && len(ticket) <= longestTicket && !strings.ContainsFunc(ticket, unicode.IsControl)
}

// again is how long after an answer it is asked for once more, so that the next is there before this is too old.
func again(maxAge time.Duration) time.Duration { return maxAge / 2 }

// pauseAfter is the pause after so many tries in a row that came to nothing, at least what the tracker asks for.
func pauseAfter(tries int, asked time.Duration) time.Duration {
	pause := longestPause
	if tries < 7 {
		pause = min(firstPause<<tries, longestPause)
	}
	return max(pause, min(asked, longestPause))
}

// answer is what came of asking about one ticket.
type answer struct {
	ticket  string
	state   change.TicketState // TicketNotAsked: there is none
	title   string
	trouble string // why there is none
	// down says that it is the tracker's trouble, which would be met with any other ticket too; pause is what it asks for.
	down  bool
	pause time.Duration

	sent *outbound.Answer
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
		out.trouble = err.Error()
		return out
	}
	got, err := s.caller.Do(ctx, http.MethodGet, to, h, nil)
	if err != nil {
		out.trouble, out.down = err.Error(), true
		return out
	}
	out.sent, out.pause = got, got.RetryAfter
	out.state, out.title, out.trouble, out.down = read(ticket, got)
	return out
}

// read says what an answer means.
func read(ticket string, got *outbound.Answer) (state change.TicketState, title, trouble string, down bool) {
	var said struct {
		Ticket string `json:"ticket"`
		State  string `json:"state"`
		Title  string `json:"title"`
	}
	switch {
	case got.Status == http.StatusNotFound || got.Status == http.StatusGone:
		return change.TicketNone, "", "", false
	case got.Status == http.StatusUnauthorized || got.Status == http.StatusForbidden:
		return "", "", fmt.Sprintf("it answered %d: a header that it wants is missing or wrong", got.Status), true
	case got.Status >= 300 && got.Status < 400:
		return "", "", fmt.Sprintf("it answered %d, and redirects are not followed", got.Status), true
	case got.Status >= 500 || got.Status == http.StatusTooManyRequests || got.Status == http.StatusRequestTimeout:
		return "", "", fmt.Sprintf("it answered %d", got.Status), true
	case got.Status != http.StatusOK:
		return "", "", fmt.Sprintf("it answered %d, where 200 or 404 are meant", got.Status), false
	case got.Cut:
		return "", "", fmt.Sprintf("its answer has more than %d bytes", outbound.Kept), false
	}
	if err := json.Unmarshal(got.Body, &said); err != nil {
		return "", "", "its answer is not JSON: " + err.Error(), false
	}
	if said.Ticket != "" && said.Ticket != ticket {
		return "", "", fmt.Sprintf("it answered about %.100q, which was not the question", said.Ticket), false
	}
	switch state = change.TicketState(said.State); state {
	case change.TicketOpen, change.TicketClosed:
		return state, shown(said.Title), "", false
	case change.TicketNone:
		return state, "", "", false
	case change.TicketNotAsked:
		return "", "", `its answer has no "state"`, false
	}
	return "", "", fmt.Sprintf(`its answer has the state %.100q, where "open", "closed" and "none" are meant`, said.State), false
}

// shown is a title fit to be shown in one line.
func shown(title string) string {
	title = strings.Join(strings.FieldsFunc(title, func(r rune) bool { return unicode.IsSpace(r) || !unicode.IsGraphic(r) }), " ")
	if runes := []rune(title); len(runes) > longestTitle {
		return string(runes[:longestTitle-1]) + "…"
	}
	return title
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
			answers, down = append(answers, a), down || a.down
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
			if a.down {
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
		at := now.Add(pauseAfter(t.Tries, down.pause))
		t.TryAt, t.Trouble, t.Tries = &at, down.trouble, t.Tries+1
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
	if a.state == change.TicketNotAsked {
		row.Trouble, row.DueAt, row.Tries = a.trouble, now.Add(pauseAfter(row.Tries, a.pause)), row.Tries+1
		return tx.Save(&row).Error
	}
	row.State, row.Title, row.AnsweredAt, row.Trouble, row.Tries = string(a.state), a.title, &now, "", 0
	row.DueAt = now.Add(again(least))
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
