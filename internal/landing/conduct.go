package landing

import (
	"context"
	"errors"
	"fmt"
	"runtime/debug"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"tavrin/internal/core/gate"
	"tavrin/internal/core/queue"
	"tavrin/internal/facts"
	"tavrin/internal/freezes"
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
// A repository in which there was nothing to do, and nothing comes by itself, is not looked at again before something is written
// on which its queues depend (quiet.go).
//
// Pushes and landings settle what is open before they begin (package moves); a round does so at its beginning.

// tick is how often queues are looked at when nothing happens, for what rests.
const tick = 2 * time.Second

// Run keeps the queues moving until the context ends, and waits for what is under way.
func (s *Conductor) Run(ctx context.Context) {
	defer s.tasks.Wait()
	if err := s.restarted(ctx); err != nil && ctx.Err() == nil {
		s.log.Error("the queues could not be told of the start", "error", err)
	}
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

// restarted tells every queue in which somebody is in line that the service was started: what was under way is begun again.
func (s *Conductor) restarted(ctx context.Context) error {
	var lines []struct {
		RepositoryID int64
		Target       string
	}
	err := s.records.Read(ctx).Raw("SELECT repository_id, target FROM entries INDEXED BY entries_one_alive " +
		"WHERE state IN ('waiting', 'queued', 'rehearsing', 'landing') GROUP BY repository_id, target").Scan(&lines).Error
	if err != nil {
		return err
	}
	for _, line := range lines {
		err := s.records.Write(ctx, func(tx *records.Tx) error {
			var repo records.Repository
			if err := records.Going(tx.DB).Where("id = ?", line.RepositoryID).Limit(1).Find(&repo).Error; err != nil || repo.ID == 0 {
				return err // it is stopped, or only to be read
			}
			return s.queues.Tell(tx, &repo, line.Target, queue.Restarted{At: queue.At{At: tx.Now()}})
		})
		if err != nil {
			return err
		}
	}
	return nil
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
	var unsettled []int64 // whose moves may have to be settled, whatever the queue has to do
	if err := s.records.Read(ctx).Raw("SELECT DISTINCT repository_id FROM intents WHERE outcome = ''").Scan(&unsettled).Error; err != nil {
		return err
	}
	for i := range repos {
		repo := &repos[i]
		if !slices.Contains(unsettled, repo.ID) && s.quiet.still(s.facts, repo.ID) {
			continue
		}
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
		asOf := s.records.Done() // before anything is looked at
		things := []records.Thing{records.QueueThing(repo.ID)}
		var targets []string
		err := s.records.Read(ctx).Model(&records.Entry{}).Where("repository_id = ? AND ended_at IS NULL",
			repo.ID).Distinct().Order("target").Pluck("target", &targets).Error
		if err != nil {
			return err
		}
		moved, quiet := false, true
		for _, target := range targets {
			on, rests, looked, err := s.round(ctx, repo, target)
			if err != nil {
				return err
			}
			moved, quiet, things = moved || on, quiet && rests, append(things, looked...)
		}
		if !moved || ctx.Err() != nil {
			if quiet && !moved {
				s.quiet.until(repo.ID, asOf, things)
			}
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
	queue    records.Queue
	events   []queue.Event // what the queue does not know yet
	gates    map[int64]queue.Gate
	verdicts map[int64]queue.Verdict // of rehearsals that are built
	lasts    bool                    // no gate becomes another by the time alone
	things   []records.Thing         // on which all of it depends
}

// round takes a queue one round on, and says whether there may be more to do; and, if not, whether nothing comes by itself, and on what that
// depends.
func (s *Conductor) round(ctx context.Context, repo *records.Repository, target string) (more, quiet bool, things []records.Thing, err error) {
	look, err := s.look(ctx, repo, target)
	if err != nil {
		return false, false, nil, err
	}
	q := look.queue
	if len(look.events) > 0 {
		err := s.records.Write(ctx, func(tx *records.Tx) error {
			actions, err := s.queues.TellIf(tx, repo, target, q.Version, look.events,
				func(a queue.Action) (bool, error) { return s.same(tx.DB, repo, look, a) })
			for _, a := range actions {
				s.log.Info("queue", "repository", repo.Name, "target", target, "entry", a.Entry, "rehearsal", a.Rehearsal,
					"action", string(a.Do), "why", a.Why)
			}
			return err
		})
		if errors.Is(err, queues.ErrMovedOn) {
			return true, false, nil, nil // look again
		}
		if err != nil {
			return false, false, nil, err
		}
		if q, err = s.queues.Loaded(s.records.Read(ctx), repo, target); err != nil {
			return false, false, nil, err
		}
	}
	s.build(ctx, repo, target, q.State)
	landed, err := s.landClear(ctx, repo, target, q.State)
	return len(look.events) > 0 || landed, look.lasts && waits(&q.State), look.things, err
}

// look finds out what a queue does not know yet.
func (s *Conductor) look(ctx context.Context, repo *records.Repository, target string) (seen, error) {
	v := seen{gates: map[int64]queue.Gate{}, verdicts: map[int64]queue.Verdict{}, lasts: true,
		things: []records.Thing{records.BranchThing(repo.ID, target)}}
	var err error
	snap := s.records.View(ctx)
	defer snap.Close()
	if v.queue, err = s.queues.Loaded(snap.DB, repo, target); err != nil {
		return v, err
	}
	state, at := &v.queue.State, queue.At{At: s.records.Now()}
	if v.events, err = s.surroundings(snap.DB, repo, target, *state, at); err != nil {
		return v, err
	}
	rested := false
	gathered, err := s.entries(snap, repo, state)
	if err != nil {
		return v, err
	}
	for _, e := range state.Entries {
		if e.State.Ended() {
			continue
		}
		rested = rested || e.Resting(state.At) && !e.Resting(at.At)
		g, there := gathered[e.ID]
		if !there {
			return v, fmt.Errorf("entry %d of %s is not on record", e.ID, repo.Name)
		}
		v.lasts = v.lasts && !g.DependsOnTime()
		v.things = append(v.things, g.Things(repo.ID)...)
		if err := s.checks.Renew(ctx, repo, g); err != nil {
			return v, err
		}
		if v.gates[e.ID] = gateOf(g, state.Settings); !v.gates[e.ID].Equal(e.Gate) {
			v.events = append(v.events, queue.Seen{At: at, Entry: e.ID, Gate: v.gates[e.ID]})
		}
	}
	if err := s.judgeAll(snap.DB, repo, &v, gathered, at); err != nil {
		return v, err
	}
	if rested && len(v.events) == 0 {
		v.events = append(v.events, queue.Tick{At: at})
	}
	return v, nil
}

// entries gathers what judging the entries of a queue needs, by entry. Those whose gates nothing has touched are not read again.
func (s *Conductor) entries(snap *records.View, repo *records.Repository, state *queue.State) (map[int64]facts.Gathered, error) {
	var numbers []int
	for _, e := range state.Entries {
		if !e.State.Ended() {
			numbers = append(numbers, e.Change)
		}
	}
	all, err := s.facts.RememberedOf(snap, repo, numbers)
	out := make(map[int64]facts.Gathered, len(all))
	for _, e := range state.Entries {
		if g, there := all[e.Change]; there && !e.State.Ended() {
			out[e.ID] = g
		}
	}
	return out, err
}

// surroundings finds out what is new around a queue: what the rules say of it, where the target stands, whether it is held.
func (s *Conductor) surroundings(db *gorm.DB, repo *records.Repository, target string, state queue.State,
	at queue.At) (events []queue.Event, err error) {
	settings, err := s.settings(db, repo, target)
	if err != nil {
		return nil, err
	}
	if settings != state.Settings {
		events = append(events, queue.Configured{At: at, Settings: settings})
	}
	tip, err := s.disk.Bare(repo).At("refs/heads/" + target)
	if err != nil {
		return nil, err
	}
	if tip != state.Tip {
		events = append(events, queue.TargetMoved{At: at, Tip: tip})
	}
	standing, err := freezes.InForce(db, repo, at.At)
	if err != nil {
		return nil, err
	}
	var why []string
	for _, stop := range standing.Of(target) {
		why = append(why, target+" "+stop.Says())
	}
	if held := strings.Join(why, "; "); held != state.Held {
		events = append(events, queue.Held{At: at, Why: held})
	}
	return events, nil
}

// judgeAll judges the rehearsals of a queue that are built, by what was gathered of their entries.
func (s *Conductor) judgeAll(db *gorm.DB, repo *records.Repository, v *seen, gathered map[int64]facts.Gathered,
	at queue.At) error {
	var numbers []int64
	for _, r := range v.queue.State.Rehearsals {
		if r.Ended == "" && len(r.Commits) > 0 {
			numbers = append(numbers, r.ID)
			for _, commit := range r.Commits {
				v.things = append(v.things, records.CommitThing(repo.ID, commit))
			}
		}
	}
	on, err := facts.RehearsedIn(db, repo, v.queue.ID, numbers...)
	if err != nil {
		return err
	}
	for _, number := range numbers {
		r := v.queue.State.Rehearsal(number)
		verdict, whole := verdictOf(on, *r, gathered)
		if !whole {
			continue // the records are of another moment than the state
		}
		if v.verdicts[number] = verdict; verdict != r.Verdict {
			v.events = append(v.events, queue.Judged{At: at, Rehearsal: number, Verdict: verdict})
		}
	}
	return nil
}

// same says whether what an action rests on is still as it was looked at.
func (s *Conductor) same(db *gorm.DB, repo *records.Repository, look seen, a queue.Action) (bool, error) {
	g, err := s.gathered(db, repo, a.Entry)
	if err != nil {
		return false, err
	}
	if was, seen := look.gates[a.Entry]; seen && !gateOf(g, look.queue.State.Settings).Equal(was) {
		return false, nil
	}
	was, judged := look.verdicts[a.Rehearsal]
	r := look.queue.State.Rehearsal(a.Rehearsal)
	if !judged || r == nil {
		return true, nil
	}
	gathered := map[int64]facts.Gathered{a.Entry: g}
	for _, id := range r.Path {
		if gathered[id], err = s.gathered(db, repo, id); err != nil {
			return false, err
		}
	}
	on, err := facts.RehearsedIn(db, repo, look.queue.ID, r.ID)
	if err != nil {
		return false, err
	}
	verdict, _ := verdictOf(on, *r, gathered)
	return verdict == was, nil
}

// settings are what the rules say of a queue now.
func (s *Conductor) settings(db *gorm.DB, repo *records.Repository, target string) (queue.Settings, error) {
	force, err := s.rulebook.RulesOf(db, repo)
	if err != nil {
		return queue.Settings{}, err
	}
	settings := force.Now().For(target).Queue.Settings()
	if settings.Areas {
		settings.Drawn = fmt.Sprintf("%d.%d", force.Own.Version, force.House.Version) // any new rules may draw them anew
	}
	return settings, nil
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
func gateOf(g facts.Gathered, settings queue.Settings) queue.Gate {
	report := g.Judge()
	v := queue.Gate{Revision: g.Change.Revision, Ready: report.Ready, First: gate.GoesFirst(g.Set, g.Facts, report), Stopped: report.Stopped()}
	switch {
	case g.Change.State == "closed":
		v.Gone = "the change was closed"
	case g.Facts.TargetGone:
		v.Gone = "the target branch " + g.Entry.Target + " is gone"
	}
	if v.Touches.Everywhere = true; settings.Areas {
		v.Touches.Areas, v.Touches.Everywhere = gate.Touches(g.Set, g.Facts)
	}
	return v
}

// verdictOf is what a queue has to know of a rehearsal that is built: of each entry of its path, judged for its part. It is
// whole if all of them are on record.
func verdictOf(on facts.Rehearsed, r queue.Rehearsal, gathered map[int64]facts.Gathered) (v queue.Verdict, whole bool) {
	v.Passed, v.Clear = true, true
	for _, id := range r.Path {
		g, there := gathered[id]
		part := on.Of(r.ID, id)
		if !there || part == nil {
			return queue.Verdict{}, false
		}
		g = on.Judged(g, *part)
		report := g.Judge()
		passed, red := report.Rehearsed()
		v.Passed, v.Clear = v.Passed && passed, v.Clear && report.Clear
		if red != "" && v.Red == "" {
			v.Red = red
			if len(r.Path) > 1 {
				v.Red = fmt.Sprintf("change %d: %s", g.Change.Number, red)
			}
		}
		if stale := staleBy(g, *part, report); stale != "" {
			v.Stale = stale
		}
	}
	return v, true
}

// staleBy says what was fixed when an entry's part of a rehearsal was built and does not hold any more.
func staleBy(g facts.Gathered, part records.Rehearsal, report gate.Report) string {
	if part.LeftOut > 0 && keepsEmpty(&g) {
		return "commits that change nothing were left out of it, which the rules do not have any more"
	}
	for _, login := range part.Approvers {
		if !slices.Contains(report.Approvers, login) {
			return "the approval of " + login + ", which its message names, no longer counts"
		}
	}
	return ""
}
