package landing

import (
	"context"
	"errors"
	"fmt"
	"runtime/debug"
	"slices"
	"time"

	"tavrin/internal/core/gate"
	"tavrin/internal/core/queue"
	"tavrin/internal/core/rules"
	"tavrin/internal/facts"
	"tavrin/internal/git"
	"tavrin/internal/queues"
	"tavrin/internal/records"
)

// tick is how often the queue is looked at when nothing happens, for rests that are over.
const tick = 2 * time.Second

// Run keeps the queues moving until the context ends, and waits for what is under way.
func (s *Conductor) Run(ctx context.Context) {
	defer s.tasks.Wait()
	timer := time.NewTicker(tick)
	defer timer.Stop()
	for {
		grown := s.records.Grown() // before anything is looked at, so that nothing is missed
		if err := s.advanceAll(ctx); err != nil && ctx.Err() == nil {
			s.log.Error("the queues could not be looked at", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-grown:
		case <-s.moves.Woken():
		case <-timer.C:
		}
	}
}

// advanceAll moves every queue as far as it goes now, each by itself: trouble with one repository, or a slow one, is no
// other's.
func (s *Conductor) advanceAll(ctx context.Context) error {
	var repos []records.Repository
	err := s.records.Read(ctx).Where("trouble = '' AND (EXISTS (SELECT 1 FROM entries e WHERE e.repository_id = repositories.id AND e.ended_at IS NULL) OR " +
		"EXISTS (SELECT 1 FROM intents i WHERE i.repository_id = repositories.id AND i.outcome = ''))").Find(&repos).Error
	if err != nil {
		return err
	}
	for i := range repos {
		repo := &repos[i]
		s.movers.move(repo.ID, &s.tasks, func() {
			if s.queues.Rests.Resting(-repo.ID, s.records.Now()) != "" || ctx.Err() != nil {
				return
			}
			err := s.advanceSafely(ctx, repo)
			switch {
			case err == nil:
				s.queues.Rests.Over(-repo.ID)
			case ctx.Err() == nil:
				s.log.Error("a queue could not go on", "repository", repo.Name, "error", err)
				s.queues.Rests.Rest(-repo.ID, s.records.Now(), "the service has trouble", err)
			}
		})
	}
	return nil
}

// advanceSafely is advance for a task of its own: a fault in the program is trouble of the service's own with this repository,
// and no other's end.
func (s *Conductor) advanceSafely(ctx context.Context, repo *records.Repository) (err error) {
	defer func() {
		if fault := recover(); fault != nil {
			err = fmt.Errorf("a fault in the program: %v\n%s", fault, debug.Stack())
		}
	}()
	return s.advance(ctx, repo)
}

// maxRounds bounds the steps taken for one repository before its lock is given up for others.
const maxRounds = 50

// advance plans and takes steps for one repository until nothing is left to do now.
func (s *Conductor) advance(ctx context.Context, repo *records.Repository) error {
	unlock, err := s.moves.Lock(ctx, repo)
	if err != nil {
		return err
	}
	defer unlock()
	for range maxRounds {
		moved, err := s.round(ctx, repo)
		if err != nil || !moved || ctx.Err() != nil {
			return err
		}
		if err := s.moves.SettleOpen(ctx, repo); err != nil {
			return err
		}
	}
	s.moves.Nudge()
	return nil
}

func (s *Conductor) round(ctx context.Context, repo *records.Repository) (bool, error) {
	db := s.records.Read(ctx)
	var entries []records.Entry
	if err := db.Where("repository_id = ? AND ended_at IS NULL", repo.ID).Find(&entries).Error; err != nil {
		return false, err
	}
	lines := map[string]*queue.Line{}
	all := map[int64]facts.Gathered{}
	for _, e := range entries {
		var c records.Change
		if err := db.First(&c, e.ChangeID).Error; err != nil {
			return false, err
		}
		g, err := s.facts.Gather(db, repo, c)
		if err != nil {
			return false, err
		}
		g.Entry = &e
		if err := s.checks.Renew(ctx, repo, g); err != nil {
			return false, err
		}
		all[e.ID] = g
		if lines[e.Target] == nil {
			tip, err := s.disk.Bare(repo).Tip(ctx, "refs/heads/"+e.Target)
			if err != nil && !errors.Is(err, git.ErrNotFound) {
				return false, err
			}
			lines[e.Target] = &queue.Line{Tip: tip}
		}
		planned := planned(g, lines[e.Target].Tip)
		planned.Resting = s.queues.Rests.Resting(e.ID, s.records.Now()) != ""
		lines[e.Target].Entries = append(lines[e.Target].Entries, planned)
	}
	moved := false
	for _, l := range lines {
		for _, step := range queue.Plan(*l) {
			g := all[step.Entry]
			if err := s.take(ctx, repo, &g, l.Tip, step); err != nil {
				return moved, fmt.Errorf("%s change %d of %s: %w", step.Action, g.Change.Number, repo.Name, err)
			}
			moved = true
			if step.Action == queue.Land {
				return true, nil // the tip has moved: plan anew
			}
		}
	}
	return moved, nil
}

// planned puts an entry into the words of the plan.
func planned(g facts.Gathered, tip string) queue.Entry {
	report := g.Judge()
	e := queue.Entry{ID: g.Entry.ID, Place: g.Entry.Place, State: queue.State(g.Entry.State), Revision: g.Change.Revision, Ready: report.Ready, First: len(report.Overrides) > 0}
	switch {
	case g.Change.State == "closed":
		e.Gone = "the change was closed"
	case tip == "":
		e.Gone = "the target branch " + g.Entry.Target + " is gone"
	}
	if r := g.Rehearsal; r != nil && r.CommitID != "" {
		e.Rehearsal = &queue.Rehearsal{Base: r.Base, Revision: r.Revision, Clear: report.Clear}
		for _, q := range report.Requirements {
			if q.At == "rehearsal" && q.Level == rules.Required && q.State == gate.Unmet {
				e.Rehearsal.Red = q.Next
			}
		}
		for _, login := range r.Approvers {
			if !slices.Contains(report.Approvers, login) {
				e.Rehearsal.Stale = "the approval of " + login + ", which its message names, no longer counts"
			}
		}
	}
	return e
}

// take carries out one step of the plan.
func (s *Conductor) take(ctx context.Context, repo *records.Repository, g *facts.Gathered, tip string, step queue.Step) error {
	s.log.Info("queue", "repository", repo.Name, "change", g.Change.Number, "action", string(step.Action), "why", step.Why)
	switch step.Action {
	case queue.LineUp:
		return s.records.Write(ctx, func(tx *records.Tx) error {
			place := "max(place) + 1"
			if len(g.Judge().Overrides) > 0 {
				place = "min(place) - 1"
			}
			err := tx.Exec("UPDATE entries SET place = (SELECT "+place+" FROM entries WHERE repository_id = ?) WHERE id = ?", repo.ID, g.Entry.ID).Error
			if err != nil {
				return err
			}
			return queues.Move(tx, repo, g, queue.LinedUp, step.Why)
		})
	case queue.SendBack, queue.Discard:
		to := queue.Waiting
		if step.Action == queue.Discard {
			to = queue.LinedUp
		}
		g.Rehearsal, g.Facts.Rehearsal = nil, nil
		return s.records.Write(ctx, func(tx *records.Tx) error {
			if err := s.queues.EndRehearsals(tx, *g.Entry, step.Why); err != nil {
				return err
			}
			return queues.Move(tx, repo, g, to, step.Why)
		})
	case queue.Eject:
		return s.records.Write(ctx, func(tx *records.Tx) error {
			return s.queues.EndEntry(tx, repo, g.Change, g.Entry, queue.Ejected, records.Itself, step.Why)
		})
	case queue.Build:
		return s.build(ctx, repo, g, tip)
	case queue.Land:
		return s.land(ctx, repo, g)
	}
	return fmt.Errorf("no such action: %q", step.Action)
}
