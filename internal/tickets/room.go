// Package tickets asks the trackers of houses about the tickets that changes refer to.
//
// Which tickets a gate wants to know of, and what an answer is worth, is decided in core/kind; what an
// answer means and when it is asked again, in core/tracker; who may be called, in
// package outbound. This room promises that every ticket which an open change's gate wants to know of is asked about, and
// again before the answer is too old; that a tracker which is dead, slow or wrong delays nothing but what waits for its
// answers, and says so there; and that what it answers for one house is never told of another.
package tickets

import (
	"context"
	"errors"
	"log/slog"
	"maps"
	"slices"
	"sync"
	"time"

	"gorm.io/gorm/clause"

	"tavrin/internal/core/event"
	"tavrin/internal/core/gate"
	"tavrin/internal/core/journal"
	"tavrin/internal/core/tracker"
	"tavrin/internal/facts"
	"tavrin/internal/outbound"
	"tavrin/internal/records"
)

// Tickets is the room. Its methods may be called concurrently.
type Tickets struct {
	records *records.Records
	facts   *facts.Gatherer
	caller  *outbound.Caller
	log     *slog.Logger

	mu     sync.Mutex
	writes marks              // in the transaction under way
	look   marks              // not looked at yet
	asking map[int64]struct{} // houses whose tracker is being asked
	woken  chan struct{}      // holds one when there may be something to do
	done   sync.WaitGroup
}

// marks are what may want to know of other tickets than before.
type marks struct {
	changes map[records.ChangeKey]bool
	repos   map[int64]bool // every open change of them
	all     bool           // everything
}

func (m *marks) change(k records.ChangeKey) {
	if m.changes == nil {
		m.changes = map[records.ChangeKey]bool{}
	}
	m.changes[k] = true
}

func (m *marks) repo(id int64) {
	if m.repos == nil {
		m.repos = map[int64]bool{}
	}
	m.repos[id] = true
}

func (m *marks) add(o marks) {
	for k := range o.changes {
		m.change(k)
	}
	for id := range o.repos {
		m.repo(id)
	}
	m.all = m.all || o.all
}

// New makes the room. It asks once it runs.
func New(r *records.Records, f *facts.Gatherer, c *outbound.Caller, log *slog.Logger) *Tickets {
	s := &Tickets{records: r, facts: f, caller: c, log: log, look: marks{all: true}, asking: map[int64]struct{}{}, woken: make(chan struct{}, 1)}
	r.OnRecord(s.recorded)
	r.Listen(records.Listener{After: s.committed})
	return s
}

// recorded marks a change of which something else is known from now on.
func (s *Tickets) recorded(_ *records.Tx, repo *records.Repository, _ journal.Line, e event.Event) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	switch e := e.(type) {
	case event.ChangeOpened, event.ChangeEdited, event.ChangeRevised, event.ChangeClosed, event.ChangeReopened, event.ChangeLanded:
		s.writes.change(records.ChangeKey{Repo: repo.ID, Number: event.ChangeOf(e)})
	case event.RepositoryRenamed, event.RepositoryDeleted, event.RepositoryRestored:
		s.writes.repo(repo.ID)
	case event.TrackerSet, event.TrackerRemoved:
		s.writes.all = true
	}
	return nil
}

// RulesChanged marks the open changes of a repository for which other rules hold.
func (s *Tickets) RulesChanged(_ *records.Tx, repo *records.Repository) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.writes.repo(repo.ID)
	return nil
}

func (s *Tickets) committed(c records.Commit) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if c.Done {
		s.look.add(s.writes)
		if s.look.all || len(s.look.changes)+len(s.look.repos) > 0 {
			s.wake()
		}
	}
	s.writes = marks{}
}

func (s *Tickets) wake() {
	select {
	case s.woken <- struct{}{}:
	default:
	}
}

// idle is how long it is waited where nothing is due: whatever is due later wakes the room or is found then.
const idle = time.Minute

// Run asks what is due, until the context ends and what is under way has ended. Each house has its own turn.
func (s *Tickets) Run(ctx context.Context) {
	defer s.done.Wait()
	for ctx.Err() == nil {
		pause := idle
		err := s.lookAgain(ctx)
		if err == nil {
			pause, err = s.begin(ctx)
		}
		if err != nil && ctx.Err() == nil {
			s.log.Error("tickets could not be looked at", "error", err)
			pause = idle
		}
		timer := time.NewTimer(pause)
		select {
		case <-ctx.Done():
		case <-s.woken:
		case <-timer.C:
		}
		timer.Stop()
	}
}

// begin has the trackers of houses asked for which something is due, and says when something is due next.
func (s *Tickets) begin(ctx context.Context) (time.Duration, error) {
	due, err := s.due(ctx)
	if err != nil {
		return 0, err
	}
	now, pause := s.records.Now(), idle
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, d := range due {
		if _, busy := s.asking[d.HouseID]; busy {
			continue
		}
		if wait := d.at().Sub(now); wait > 0 {
			pause = min(pause, wait)
			continue
		}
		s.asking[d.HouseID] = struct{}{}
		s.done.Go(func() {
			err := s.askHouse(ctx, d.HouseID)
			s.mu.Lock()
			delete(s.asking, d.HouseID)
			s.mu.Unlock()
			if err != nil && ctx.Err() == nil {
				s.log.Error("a tracker could not be asked", "error", err)
				return // it is tried again after a while
			}
			s.wake()
		})
	}
	return pause, nil
}

// AskDue looks at what is marked, asks what is due, and returns when that is done. Tests use it, whose clock does not go by
// itself.
func (s *Tickets) AskDue(ctx context.Context) error {
	if err := s.lookAgain(ctx); err != nil {
		return err
	}
	due, err := s.due(ctx)
	for _, d := range due {
		if !d.at().After(s.records.Now()) {
			err = errors.Join(err, s.askHouse(ctx, d.HouseID))
		}
	}
	return err
}

// next is when the tracker of a house is to be asked.
type next struct {
	HouseID int64
	DueAt   time.Time
	TryAt   *time.Time
}

func (d next) at() time.Time {
	if d.TryAt != nil && d.TryAt.After(d.DueAt) {
		return *d.TryAt
	}
	return d.DueAt
}

func (s *Tickets) due(ctx context.Context) ([]next, error) {
	var out []next
	err := s.records.Read(ctx).Raw("SELECT t.house_id, t.try_at, a.due_at FROM trackers t JOIN ticket_answers a ON a.house_id = t.house_id " +
		"AND a.due_at = (SELECT min(due_at) FROM ticket_answers WHERE house_id = t.house_id) GROUP BY t.house_id").Scan(&out).Error
	return out, err
}

// lookAgain brings what changes want to know of up to what is marked.
func (s *Tickets) lookAgain(ctx context.Context) (err error) {
	s.mu.Lock()
	marked := s.look
	s.look = marks{}
	s.mu.Unlock()
	defer func() {
		if err != nil { // it is looked at later
			s.mu.Lock()
			s.look.add(marked)
			s.mu.Unlock()
		}
	}()
	if !marked.all && len(marked.changes)+len(marked.repos) == 0 {
		return nil
	}
	wants, err := s.wanted(ctx, marked)
	if err != nil {
		return err
	}
	return s.keep(ctx, wants)
}

// wanted is what changes want to know of, by their ids, as far as they are marked; nothing, for those that are open no
// more, and where there is nobody to ask.
func (s *Tickets) wanted(ctx context.Context, m marks) (map[int64][]records.TicketWant, error) {
	v := s.records.View(ctx)
	defer v.Close()
	const asked = "house_id IN (SELECT house_id FROM trackers) AND deleted_at IS NULL"
	const known = "id IN (SELECT c.repository_id FROM ticket_wants w JOIN changes c ON c.id = w.change_id)"
	query := v.DB.Where("(" + asked + ") OR " + known)
	if !m.all {
		ids := slices.Collect(maps.Keys(m.repos))
		for k := range m.changes {
			ids = append(ids, k.Repo)
		}
		query = query.Where("id IN ?", ids)
	}
	var repos []records.Repository
	if err := query.Find(&repos).Error; err != nil {
		return nil, err
	}
	wants := map[int64][]records.TicketWant{}
	for i := range repos {
		repo := &repos[i]
		all := v.DB.Where("repository_id = ?", repo.ID)
		if m.all || m.repos[repo.ID] {
			all = all.Where("state IN ('draft', 'open') OR id IN (SELECT change_id FROM ticket_wants)")
		} else {
			var numbers []int
			for k := range m.changes {
				if k.Repo == repo.ID {
					numbers = append(numbers, k.Number)
				}
			}
			all = all.Where("number IN ?", numbers)
		}
		var changes []records.Change
		if err := all.Find(&changes).Error; err != nil {
			return nil, err
		}
		if err := s.wantedOf(v, repo, changes, wants); err != nil {
			return nil, err
		}
	}
	return wants, nil
}

func (s *Tickets) wantedOf(v *records.View, repo *records.Repository, changes []records.Change, wants map[int64][]records.TicketWant) error {
	all, err := s.facts.GatherAll(v.DB, repo, changes)
	for _, g := range all {
		wants[g.Change.ID] = []records.TicketWant{}
		if g.Change.State != "open" && g.Change.State != "draft" || g.Facts.Tracker == "" || repo.DeletedAt != nil {
			continue
		}
		for _, w := range gate.WantedTickets(g.Set, g.Facts) {
			if tracker.Askable(w.Ticket) {
				wants[g.Change.ID] = append(wants[g.Change.ID], records.TicketWant{ChangeID: g.Change.ID, HouseID: repo.HouseID, Ticket: w.Ticket,
					MaxAge: int64(w.MaxAge / time.Second)})
			}
		}
	}
	return err
}

// keep writes down what is wanted, where it is another than before. An answer that is there stays, and is asked for again
// in time for whoever wants it; one that nobody wants any more is forgotten.
func (s *Tickets) keep(ctx context.Context, wants map[int64][]records.TicketWant) error {
	if len(wants) == 0 {
		return nil
	}
	return s.records.Write(ctx, func(tx *records.Tx) error {
		tx.TouchesNothing() // gates that want to know are judged anew each time
		for id, list := range wants {
			var there []records.TicketWant
			if err := tx.Where("change_id = ?", id).Order("rowid").Find(&there).Error; err != nil {
				return err
			}
			if slices.Equal(there, list) {
				continue
			}
			if err := tx.Where("change_id = ?", id).Delete(&records.TicketWant{}).Error; err != nil {
				return err
			}
			for _, w := range list {
				if err := want(tx, w); err != nil {
					return err
				}
			}
			for _, w := range there {
				err := tx.Exec("DELETE FROM ticket_answers WHERE house_id = ? AND ticket = ? AND NOT EXISTS (SELECT 1 FROM ticket_wants w "+
					"WHERE w.house_id = ticket_answers.house_id AND w.ticket = ticket_answers.ticket)", w.HouseID, w.Ticket).Error
				if err != nil {
					return err
				}
			}
		}
		return nil
	})
}

func want(tx *records.Tx, w records.TicketWant) error {
	if err := tx.Create(&w).Error; err != nil {
		return err
	}
	now := tx.Now()
	row := records.TicketAnswer{HouseID: w.HouseID, Ticket: w.Ticket, DueAt: now}
	if err := tx.Clauses(clause.OnConflict{DoNothing: true}).Create(&row).Error; err != nil {
		return err
	}
	return tx.Exec("UPDATE ticket_answers SET due_at = ? WHERE house_id = ? AND ticket = ? AND due_at > ? AND answered_at < ?", now, w.HouseID, w.Ticket,
		now, now.Add(-tracker.Again(time.Duration(w.MaxAge)*time.Second))).Error
}
