package landing

import (
	"context"
	"errors"
	"fmt"
	"runtime/debug"
	"slices"
	"time"

	"gorm.io/gorm"

	"tavrin/internal/core/gate"
	"tavrin/internal/core/queue"
	"tavrin/internal/core/require"
	"tavrin/internal/facts"
	"tavrin/internal/queues"
	"tavrin/internal/records"
)

// How a queue goes on. There is one loop for each repository (movers), and each of its rounds, for each target:
//
//  1. looks: what the queue knows, the target's tip, the gate of each entry. No lock is held; what is read may be of
//     different moments, and is only compared with what the queue knows.
//  2. tells the queue what is different (queues.TellIf): one write transaction, in which the queue must be at the version
//     that was looked at, and what would move or end is judged again. Else the round begins anew.
//  3. has workers build the rehearsals that the plan wants (rehearse.go). They hold no lock either; what became of one
//     they tell the queue themselves. A worker whose rehearsal is of no more use is called off.
//  4. lands what the plan says can land (landing.go), under the repository's lock.
//
// Pushes and landings settle what is open before they begin (package moves); a round does so at its beginning.

// tick is how often queues are looked at when nothing happens, for what rests.
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
	full := s.disk.Full()
	s.noteFull(full)
	if full != "" {
		return nil // what is under way comes to its end, and nothing else is begun
	}
	var repos []records.Repository
	err := records.Going(s.records.Read(ctx)).Where("(EXISTS (SELECT 1 FROM entries e WHERE e.repository_id = " +
		"repositories.id AND e.ended_at IS NULL) OR " +
		"EXISTS (SELECT 1 FROM intents i WHERE i.repository_id = repositories.id AND i.outcome = ''))").Find(&repos).Error
	if err != nil {
		return err
	}
	for i := range repos {
		repo := &repos[i]
		s.movers.move(repo.ID, &s.tasks, func() {
			if s.queues.Rests.Resting(repo.ID, s.records.Now()) != "" || ctx.Err() != nil {
				return
			}
			err := safely(func() error { return s.advance(ctx, repo) })
			switch {
			case err == nil:
				s.queues.Rests.Over(repo.ID)
			case ctx.Err() == nil:
				s.log.Error("a queue could not go on", "repository", repo.Name, "error", err)
				s.queues.Rests.Rest(repo.ID, s.records.Now(), err)
			}
		})
	}
	return nil
}

// noteFull has the log say when the disk is nearly full, and when it is no more.
func (s *Conductor) noteFull(full string) {
	switch {
	case full != "" && !s.full:
		s.log.Error("NOTHING IS REHEARSED OR LANDED, AND NO PUSH IS TAKEN", "why", full)
	case full == "" && s.full:
		s.log.Info("there is room on the disk again")
	}
	s.full = full != ""
}

// safely does some work of a task of its own: a fault in the program is trouble of the service's own with what it was
// doing, and no other's end.
func safely(work func() error) (err error) {
	defer func() {
		if fault := recover(); fault != nil {
			err = fmt.Errorf("a fault in the program: %v\n%s", fault, debug.Stack())
		}
	}()
	return work()
}

// maxRounds bounds the rounds for one repository before others have their turn.
const maxRounds = 50

// advance goes round for one repository until nothing is left to do now.
func (s *Conductor) advance(ctx context.Context, repo *records.Repository) error {
	if err := s.settleOpen(ctx, repo); err != nil {
		return err
	}
	for range maxRounds {
		var targets []string
		err := s.records.Read(ctx).Model(&records.Entry{}).Where("repository_id = ? AND ended_at IS NULL",
			repo.ID).Distinct().Order("target").Pluck("target", &targets).Error
		if err != nil {
			return err
		}
		moved := false
		for _, target := range targets {
			on, err := s.round(ctx, repo, target)
			if err != nil {
				return err
			}
			moved = moved || on
		}
		if !moved || ctx.Err() != nil {
			return nil
		}
	}
	s.moves.Nudge()
	return nil
}

// settleOpen settles the open intents of a repository, if there are any: under its lock, as every writer does.
func (s *Conductor) settleOpen(ctx context.Context, repo *records.Repository) error {
	var open int64
	err := s.records.Read(ctx).Model(&records.Intent{}).Where("repository_id = ? AND outcome = ''",
		repo.ID).Count(&open).Error
	if err != nil || open == 0 {
		return err
	}
	unlock, err := s.moves.Lock(ctx, repo)
	if err == nil {
		unlock()
	}
	return err
}

// seen is what a round has looked at: a queue, and the gates of its entries.
type seen struct {
	target  string
	version int64
	state   queue.State
	events  []queue.Event // what the queue does not know yet
	judged  map[int64]judged
}

// judged is how an entry was judged: its gate, and its rehearsal where one is built.
type judged struct {
	gate    queue.Gate
	verdict queue.Verdict
}

func judge(g facts.Gathered) judged {
	j := judged{gate: gateOf(g)}
	if g.Rehearsal != nil && g.Rehearsal.CommitID != "" {
		j.verdict = verdictOf(g)
	}
	return j
}

// round takes a queue one round on, and says whether there may be more to do.
func (s *Conductor) round(ctx context.Context, repo *records.Repository, target string) (bool, error) {
	look, err := s.look(ctx, repo, target)
	if err != nil {
		return false, err
	}
	state := look.state
	if len(look.events) > 0 {
		err := s.records.Write(ctx, func(tx *records.Tx) error {
			actions, err := s.queues.TellIf(tx, repo, target, look.version, look.events,
				func(entry int64) (bool, error) {
					g, err := s.gathered(tx.DB, repo, entry)
					return err == nil && look.judged[entry] == judge(g), err
				})
			for _, a := range actions {
				s.log.Info("queue", "repository", repo.Name, "target", target, "entry", a.Entry, "action", string(a.Do),
					"why", a.Why)
			}
			return err
		})
		if errors.Is(err, queues.ErrMovedOn) {
			return true, nil // look again
		}
		if err != nil {
			return false, err
		}
		if state, _, err = s.queues.Loaded(s.records.Read(ctx), repo, target); err != nil {
			return false, err
		}
	}
	s.build(ctx, repo, target, state)
	landed, err := s.landClear(ctx, repo, target, state)
	return len(look.events) > 0 || landed, err
}

// look finds out what a queue does not know yet.
func (s *Conductor) look(ctx context.Context, repo *records.Repository, target string) (seen, error) {
	v := seen{target: target, judged: map[int64]judged{}}
	var err error
	snap := s.records.View(ctx)
	defer snap.Close()
	if v.state, v.version, err = s.queues.Loaded(snap.DB, repo, target); err != nil {
		return v, err
	}
	at := queue.At{At: s.records.Now()}
	tip, err := s.disk.Bare(repo).At("refs/heads/" + target)
	if err != nil {
		return v, err
	}
	if tip != v.state.Tip {
		v.events = append(v.events, queue.TargetMoved{At: at, Tip: tip})
	}
	rested := false
	for _, e := range v.state.Entries {
		if e.State.Ended() {
			continue
		}
		rested = rested || e.Resting(v.state.At) && !e.Resting(at.At)
		_, c, err := facts.EntryAndChange(snap.DB, e.ID)
		if err != nil {
			return v, err
		}
		g, err := s.facts.Remembered(snap, repo, c)
		if err != nil {
			return v, err
		}
		if err := s.checks.Renew(ctx, repo, g); err != nil {
			return v, err
		}
		j := judge(g)
		v.judged[e.ID] = j
		if j.gate != e.Gate {
			v.events = append(v.events, queue.Seen{At: at, Entry: e.ID, Gate: j.gate})
		}
		r := v.state.Rehearsal(e.Rehearsal)
		if r != nil && r.Commit != "" && g.Rehearsal != nil && g.Rehearsal.Number == r.ID && j.verdict != r.Verdict {
			v.events = append(v.events, queue.Judged{At: at, Rehearsal: r.ID, Verdict: j.verdict})
		}
	}
	if rested && len(v.events) == 0 {
		v.events = append(v.events, queue.Tick{At: at})
	}
	return v, nil
}

// gathered gathers what judging an entry's change needs.
func (s *Conductor) gathered(db *gorm.DB, repo *records.Repository, entry int64) (facts.Gathered, error) {
	_, c, err := facts.EntryAndChange(db, entry)
	if err != nil {
		return facts.Gathered{}, err
	}
	return s.facts.Gather(db, repo, c)
}

// gateOf is what a queue has to know of an entry's gate.
func gateOf(g facts.Gathered) queue.Gate {
	report := g.Judge()
	v := queue.Gate{Revision: g.Change.Revision, Ready: report.Ready, First: gate.GoesFirst(g.Set, g.Facts, report)}
	switch {
	case g.Change.State == "closed":
		v.Gone = "the change was closed"
	case g.Facts.TargetGone:
		v.Gone = "the target branch " + g.Entry.Target + " is gone"
	}
	return v
}

// verdictOf is what a queue has to know of an entry's rehearsal that is built.
func verdictOf(g facts.Gathered) queue.Verdict {
	report := g.Judge()
	v := queue.Verdict{Clear: report.Clear}
	for _, q := range report.Requirements {
		if q.At == "rehearsal" && q.Level == require.Required && q.State == require.Missing {
			v.Red = q.Told()
		}
	}
	if g.Rehearsal.LeftOut > 0 && keepsEmpty(&g) {
		v.Stale = "commits that change nothing were left out of it, which the rules do not have any more"
	}
	for _, login := range g.Rehearsal.Approvers {
		if !slices.Contains(report.Approvers, login) {
			v.Stale = "the approval of " + login + ", which its message names, no longer counts"
		}
	}
	return v
}
