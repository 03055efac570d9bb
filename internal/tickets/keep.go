package tickets

import (
	"context"
	"maps"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"tavrin/internal/accounts"
	"tavrin/internal/core/event"
	"tavrin/internal/core/kind"
	"tavrin/internal/core/people"
	"tavrin/internal/core/tracker"
	"tavrin/internal/facts"
	"tavrin/internal/problem"
	"tavrin/internal/records"
	"tavrin/internal/typed"
	"tavrin/wire"
)

// maxURL is how long an address may be, in bytes.
const maxURL = 2000

// house finds a house for an actor who may say what is asked for it, and its tracker, if it has one.
func house(db *gorm.DB, a accounts.Actor, name string) (h records.House, t records.Tracker, err error) {
	if h, err = accounts.HouseByName(db, a, name); err != nil {
		return h, t, err
	}
	if err = accounts.MustMaintainHouse(db, a, h, "its tracker"); err != nil {
		return h, t, err
	}
	return h, t, db.Where("house_id = ?", h.ID).Limit(1).Find(&t).Error
}

func view(h records.House, t records.Tracker) wire.Tracker {
	return wire.Tracker{House: h.Name, URL: t.URL, Headers: append([]string{}, slices.Sorted(maps.Keys(t.Headers))...), SetBy: t.SetBy, SetAt: t.SetAt,
		FailingSince: t.FailingSince, Trouble: t.Trouble, TryAt: t.TryAt}
}

func none(h records.House) error {
	return problem.New(problem.Unknown, "house %s has no tracker: tavrin tracker set %s URL", h.Name, h.Name)
}

// Tracker describes the tracker of a house.
func (s *Tickets) Tracker(ctx context.Context, a accounts.Actor, name string) (wire.Tracker, error) {
	v := s.records.View(ctx)
	defer v.Close()
	h, t, err := house(v.DB, a, name)
	if err == nil && t.HouseID == 0 {
		err = none(h)
	}
	return view(h, t), err
}

// Set says which tracker is asked for a house. What another one answered counts no more.
func (s *Tickets) Set(ctx context.Context, a accounts.Actor, name string, n wire.NewTracker) (wire.Tracker, error) {
	var out wire.Tracker
	err := s.records.Write(ctx, func(tx *records.Tx) error {
		h, before, err := house(tx.DB, a, name)
		if err != nil {
			return err
		}
		t := records.Tracker{HouseID: h.ID, URL: n.URL, Headers: typed.CanonicalHeaders(n.Headers), SetBy: a.Login(), SetAt: tx.Now()}
		if err := s.valid(t, n.Reason); err != nil {
			return err
		}
		if err := tx.Save(&t).Error; err != nil {
			return err
		}
		if err := forget(tx, h); err != nil {
			return err
		}
		out = view(h, t)
		return tx.Record(a.Login(), nil, event.TrackerSet{OfTracker: event.OfTracker{House: h.Name, Host: t.Host()}, Before: before.Host(), Reason: n.Reason})
	})
	return out, err
}

// forget forgets what is wanted and answered in a house.
func forget(tx *records.Tx, h records.House) error {
	for _, row := range []any{&records.TicketWant{}, &records.TicketAnswer{}} {
		if err := tx.Where("house_id = ?", h.ID).Delete(row).Error; err != nil {
			return err
		}
	}
	return nil
}

func (s *Tickets) valid(t records.Tracker, reason string) error {
	if err := typed.Line("reason", reason, 1, typed.MaxTitle); err != nil {
		return err
	}
	if len(t.URL) > maxURL || strings.ContainsFunc(t.URL, func(r rune) bool { return r <= ' ' || r == 0x7f }) {
		return problem.Wrong("url", "an address has at most %d bytes and no spaces", maxURL)
	}
	if wrong := kind.ValidTicketAddress(t.URL); wrong != "" {
		return problem.Wrong("url", "%s, such as https://tickets.example/api/{ticket}", wrong)
	}
	if err := s.caller.List().Allows(kind.TicketAddress(t.URL, "FEN-1")); err != nil {
		return problem.Wrong("url", "%v", err)
	}
	return typed.Headers("headers", t.Headers)
}

// Remove leaves a house without a tracker. Rules that want one are not met from then on.
func (s *Tickets) Remove(ctx context.Context, a accounts.Actor, name, reason string) error {
	return s.records.Write(ctx, func(tx *records.Tx) error {
		h, t, err := house(tx.DB, a, name)
		if err != nil {
			return err
		}
		if t.HouseID == 0 {
			return none(h)
		}
		if err := typed.Line("reason", reason, 1, typed.MaxTitle); err != nil {
			return err
		}
		if err := tx.Delete(&t).Error; err != nil {
			return err
		}
		if err := forget(tx, h); err != nil {
			return err
		}
		return tx.Record(a.Login(), nil, event.TrackerRemoved{OfTracker: event.OfTracker{House: h.Name, Host: t.Host()}, Reason: reason})
	})
}

// Try asks the tracker of a house about one ticket, and shows what it answers. Nothing comes of it but that.
func (s *Tickets) Try(ctx context.Context, a accounts.Actor, name, ticket string) (wire.TrackerTried, error) {
	h, t, err := house(s.records.Read(ctx), a, name)
	if err == nil && t.HouseID == 0 {
		err = none(h)
	}
	if err == nil && (ticket == "" || !tracker.Askable(ticket)) {
		err = problem.Wrong("ticket", "%q is no name of a ticket", ticket)
	}
	if err != nil {
		return wire.TrackerTried{}, err
	}
	began := time.Now()
	got := s.askOne(ctx, t, ticket)
	out := wire.TrackerTried{Request: "GET " + kind.TicketAddress(t.URL, ticket), Headers: slices.Sorted(maps.Keys(t.Headers)), State: string(got.State), Title: got.Title,
		Trouble: got.Trouble, Milliseconds: time.Since(began).Milliseconds()}
	if out.Headers == nil {
		out.Headers = []string{}
	}
	if got.sent != nil {
		out.Status, out.Answer = got.sent.Status, typed.Mask(string(got.sent.Body))
	}
	return out, nil
}

// soonest is how soon after an answer, or a failure, somebody may have the tracker asked once more.
const soonest = 2 * time.Second

// Ask has the tracker asked again about the tickets of a change, at once or after a moment.
func (s *Tickets) Ask(ctx context.Context, a accounts.Actor, name string, number int) (wire.Done, error) {
	err := s.records.Write(ctx, func(tx *records.Tx) error {
		tx.TouchesNothing()
		_, c, err := facts.ChangeRow(tx.DB, a, name, number, people.Writer)
		if err != nil {
			return err
		}
		var wants []records.TicketWant
		if err := tx.Where("change_id = ?", c.ID).Find(&wants).Error; err != nil {
			return err
		}
		if len(wants) == 0 {
			return problem.New(problem.Conflict, "the gate of change %d wants no answer of a tracker", number)
		}
		now := tx.Now()
		for _, w := range wants {
			var row records.TicketAnswer
			if err := tx.Where("house_id = ? AND ticket = ?", w.HouseID, w.Ticket).First(&row).Error; err != nil {
				return err
			}
			at := now
			if row.AnsweredAt != nil && row.AnsweredAt.Add(soonest).After(now) {
				at = row.AnsweredAt.Add(soonest)
			}
			if row.DueAt.After(at) {
				if err := tx.Model(&row).Update("due_at", at).Error; err != nil {
					return err
				}
			}
		}
		// a tracker in trouble is tried at once too, but not by everybody all the time
		var t records.Tracker
		if err := tx.Where("house_id = ?", wants[0].HouseID).Limit(1).Find(&t).Error; err != nil || t.TryAt == nil || t.TryAt.Before(now.Add(soonest)) {
			return err
		}
		if err := tx.Model(&t).Update("try_at", now.Add(soonest)).Error; err != nil {
			return err
		}
		return nil
	})
	if err == nil {
		s.wake()
	}
	return wire.Done{Done: err == nil}, err
}
