package service

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
	"tavrin/internal/core/rules"
	"tavrin/internal/core/trailer"
	"tavrin/internal/git"
	"tavrin/internal/store"
	"tavrin/wire"
)

// gathered is what judging a change needs and yields.
type gathered struct {
	change    store.Change
	revision  store.Revision
	entry     *store.Entry     // the newest, alive or ended
	rehearsal *store.Rehearsal // the one of use, built or not
	set       *rules.Set       // nothing suspended: the facts say what is
	facts     gate.Facts
	report    *gate.Report // once it was judged for reading; see judgedOf
}

// gather reads all facts about a change from the records.
func (s *Service) gather(db *gorm.DB, repo *store.Repository, c store.Change) (gathered, error) {
	revision, err := revisionRow(db, c)
	if err != nil {
		return gathered{change: c}, err
	}
	return s.gatherRevision(db, repo, c, revision)
}

// gatherRevision is gather for a revision at hand, which need not be on record.
func (s *Service) gatherRevision(db *gorm.DB, repo *store.Repository, c store.Change, r store.Revision) (gathered, error) {
	g := gathered{change: c, revision: r}
	force, err := s.rulesOf(db, repo)
	if err != nil {
		return g, err
	}
	g.set = force.set
	g.facts = gate.Facts{Repository: repo.Name, Number: c.Number, State: c.State, Title: c.Title, Description: c.Description, Source: c.Source, Target: c.Target,
		Revision: c.Revision, Head: r.Head, Opener: c.OpenedBy, Authors: r.Authors, LastPusher: r.LastPusher, Paths: r.Paths, Files: r.Files, Added: r.Added, Removed: r.Removed,
		CommitAuthors: r.CommitAuthors, RulesVersion: force.own.Version, HouseVersion: force.house.Version, Suspended: force.suspended, At: s.now()}
	g.facts.Bases, g.facts.History = r.Bases, gate.History(r.History)
	if g.facts.Commits, err = gateCommits(db, repo.ID, r.Commits); err != nil {
		return g, err
	}
	g.facts.TargetGone = !s.bare(repo).HasBranch(c.Target)
	g.facts.SourceGone = (c.State == "open" || c.State == "draft") && !s.bare(repo).HasBranch(c.Source)
	if g.facts.People, err = peopleOf(db, repo); err != nil {
		return g, err
	}
	if g.facts.AuthorTeams, err = teamsOf(db, r.Authors); err != nil {
		return g, err
	}
	if err := db.Model(&store.ChangeLabel{}).Where("change_id = ?", c.ID).Order("label").Pluck("label", &g.facts.Labels).Error; err != nil {
		return g, err
	}
	if g.facts.Reviews, err = gateReviews(db, c, r, nil); err != nil {
		return g, err
	}
	if g.facts.Threads, err = gateThreads(db, c); err != nil {
		return g, err
	}
	if g.facts.HeadChecks, err = gateChecks(db, repo.ID, g.revision.Head); err != nil {
		return g, err
	}
	if g.facts.Dependencies, err = dependencies(db, c); err != nil {
		return g, err
	}
	if g.facts.Overrides, err = liveOverrides(db, c); err != nil {
		return g, err
	}
	if len(g.facts.Overrides) > 0 && !g.facts.TargetGone {
		if g.facts.Tip, err = s.bare(repo).Tip(db.Statement.Context, "refs/heads/"+c.Target); err != nil {
			return g, err
		}
	}
	var entry store.Entry
	if err := db.Where("change_id = ?", c.ID).Order("id DESC").Limit(1).Find(&entry).Error; err != nil {
		return g, err
	}
	if entry.ID == 0 {
		return g, nil
	}
	g.entry = &entry
	if queue.State(entry.State).Ended() {
		return g, nil
	}
	g.facts.Asker, g.facts.Strategy, g.facts.Message = entry.JoinedBy, rules.Strategy(entry.Strategy), entry.Message
	var rehearsal store.Rehearsal
	if err := db.Where("entry_id = ? AND ended = ''", entry.ID).Order("id DESC").Limit(1).Find(&rehearsal).Error; err != nil {
		return g, err
	}
	if rehearsal.ID != 0 {
		g.rehearsal = &rehearsal
	}
	if g.rehearsal != nil {
		if g.facts.Reviews, err = gateReviews(db, c, r, g.rehearsal); err != nil {
			return g, err
		}
	}
	if g.rehearsal != nil && rehearsal.CommitID != "" {
		g.facts.Rehearsal = &gate.Rehearsal{Commit: rehearsal.CommitID, Base: rehearsal.Base, BuiltAt: rehearsal.CreatedAt.UTC()}
		g.facts.Rehearsal.Checks, err = gateChecks(db, repo.ID, rehearsal.CommitID)
	}
	return g, err
}

func (g gathered) judge() gate.Report {
	if g.report != nil {
		return *g.report
	}
	return gate.Judge(g.set, g.facts)
}

// Gate gives the gate report of a change. A change that has landed shows the gate it landed through.
func (s *Service) Gate(ctx context.Context, a Actor, name string, number int) (wire.Report, error) {
	db := s.store.Read(ctx)
	repo, c, err := s.changeRow(db, a, name, number, gate.Reader)
	if err != nil {
		return wire.Report{}, err
	}
	if c.State == "landed" {
		landing, err := s.landingView(db, repo, c)
		return landing.Report, err
	}
	g, err := s.judgedOf(db, repo, c)
	if err != nil {
		return wire.Report{}, err
	}
	return gate.JudgeInFull(g.set, g.facts), nil
}

// NewEntry is how somebody wants a change to land.
type NewEntry struct {
	Strategy     rules.Strategy // empty: the rules' default
	Message      string         // empty: from the rules' template or the change
	RemoveSource *bool          // nil: as the rules say
}

// Join asks for a change to land as soon as it may. It can be asked for before the gate is ready.
func (s *Service) Join(ctx context.Context, a Actor, name string, number int, n NewEntry) (wire.Entry, error) {
	if err := prose("message", n.Message, MaxProse); err != nil {
		return wire.Entry{}, err
	}
	if m := trailer.Typed(n.Message); m != "" {
		return wire.Entry{}, invalid("message", "the trailer %q is written by the service; leave it out of the message", m)
	}
	if n.Strategy != "" && !slices.Contains(rules.Strategies, n.Strategy) {
		return wire.Entry{}, invalid("strategy", "%q is not a strategy: one of %s", n.Strategy, gate.Join(rules.Strategies))
	}
	var entry store.Entry
	err := s.write(ctx, func(tx *tx) error {
		repo, c, err := s.changeRow(tx.DB, a, name, number, gate.Writer)
		if err != nil {
			return err
		}
		if c.State != "draft" && c.State != "open" {
			return problem(Conflict, "change %d is %s, so it cannot join the queue", number, c.State)
		}
		g, err := s.gather(tx.DB, repo, c)
		if err != nil {
			return err
		}
		asker := g.facts.People[a.Login()]
		effective := g.set.Without(g.facts.Suspended).Binding(c.Target, asker.Is)
		strategy, why, err := effective.Choose(n.Strategy)
		if err != nil {
			return invalid("strategy", "%v", err)
		}
		if report := g.judge(); !effective.JoinEarly.Value && !report.Ready {
			return problem(Conflict, "change %d may join only when its gate is ready, says %s. %s", number, rules.Because(effective.JoinEarly.From), report.Summary)
		}
		remove := effective.RemoveSource.Value
		if n.RemoveSource != nil {
			remove = *n.RemoveSource
		}
		entry = store.Entry{RepositoryID: repo.ID, ChangeID: c.ID, Target: c.Target, State: string(queue.Waiting), Strategy: string(strategy),
			Message: n.Message, RemoveSource: remove, JoinedBy: a.Login(), Reason: "its gate is about to be judged", CreatedAt: s.now()}
		if err := tx.Create(&entry).Error; err != nil {
			return taken(err, "change %d is in the queue already: tavrin queue leave %d takes it out", number, number)
		}
		if err := tx.Model(&entry).Update("place", entry.ID).Error; err != nil {
			return err
		}
		return tx.record(event{actor: a.Login(), kind: "queue.joined", repo: repo, subject: fmt.Sprintf("change/%d", number),
			text: fmt.Sprintf("%s joined change %d to the queue of %s, by %s%s", a.Login(), number, c.Target, strategy, why),
			data: map[string]any{"number": number, "strategy": strategy, "remove_source": remove}})
	})
	if err != nil {
		return wire.Entry{}, err
	}
	db := s.store.Read(ctx)
	repo, err := s.reach(db, a, name, gate.Reader)
	if err == nil {
		err = db.First(&entry, entry.ID).Error
	}
	if err != nil {
		return wire.Entry{}, err
	}
	return s.entryView(db, repo, entry)
}

// Leave takes a change out of the queue again.
func (s *Service) Leave(ctx context.Context, a Actor, name string, number int) (wire.Entry, error) {
	repo, c, err := s.changeRow(s.store.Read(ctx), a, name, number, gate.Writer)
	if err != nil {
		return wire.Entry{}, err
	}
	unlock, err := s.writing(ctx, repo) // what was landing has landed or not by then
	if err != nil {
		return wire.Entry{}, err
	}
	defer unlock()
	var entry store.Entry
	err = s.write(ctx, func(tx *tx) error {
		if err := tx.Where("change_id = ? AND ended_at IS NULL", c.ID).First(&entry).Error; err != nil {
			return orUnknown(err, "change %d is not in the queue", number)
		}
		if entry.JoinedBy != a.Login() {
			if err := s.mayEdit(tx.DB, a, repo, c, "withdrawing"); err != nil {
				return err
			}
		}
		return s.endEntry(tx, repo, c, &entry, queue.Withdrawn, a.Login(), a.Login()+" withdrew it")
	})
	if err != nil {
		return wire.Entry{}, err
	}
	return s.entryView(s.store.Read(ctx), repo, entry)
}

// endEntry ends an entry: by a person, or by the service with a reason.
func (s *Service) endEntry(tx *tx, repo *store.Repository, c store.Change, e *store.Entry, state queue.State, actor, reason string) error {
	if err := s.endRehearsals(tx, *e, reason); err != nil {
		return err
	}
	now := s.now()
	e.State, e.Reason, e.EndedAt = string(state), reason, &now
	if err := tx.Model(e).Updates(map[string]any{"state": e.State, "reason": reason, "ended_at": now}).Error; err != nil {
		return err
	}
	return tx.record(event{actor: actor, kind: "queue." + string(state), repo: repo, subject: fmt.Sprintf("change/%d", c.Number),
		text: fmt.Sprintf("change %d was %s: %s", c.Number, state, reason), data: map[string]any{"number": c.Number, "reason": reason}})
}

// endRehearsals says of an entry's rehearsals that they are of no more use, and calls off what they wait for.
func (s *Service) endRehearsals(tx *tx, e store.Entry, why string) error {
	var alive []store.Rehearsal
	if err := tx.Where("entry_id = ? AND ended = ''", e.ID).Find(&alive).Error; err != nil {
		return err
	}
	for _, r := range alive {
		if err := tx.Model(&r).Update("ended", why).Error; err != nil {
			return err
		}
		err := tx.Model(&store.CheckRun{}).Where("repository_id = ? AND commit_id = ? AND asked_for = ? AND state IN ('waiting', 'running')",
			e.RepositoryID, r.CommitID, rehearsalName(r)).
			Updates(map[string]any{"state": "cancelled", "finished_at": s.now(), "lease_hash": "", "lease_until": nil, "summary": why}).Error
		if err != nil {
			return err
		}
	}
	return nil
}

func rehearsalName(r store.Rehearsal) string { return fmt.Sprintf("rehearsal/%d", r.ID) }

// conduct keeps the queues moving until the service stops.
func (s *Service) conduct(ctx context.Context) {
	timer := time.NewTicker(tick)
	defer timer.Stop()
	for {
		if err := s.advanceAll(ctx); err != nil && ctx.Err() == nil {
			s.log.Error("the queues could not be looked at", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-s.wake:
		case <-timer.C:
			for _, err := range []error{s.dropSilentLeases(ctx), s.endSilentChecks(ctx), s.endSuspensions(s.store.Read(ctx), func(f func(tx *tx) error) error { return s.write(ctx, f) }), s.endOverrides(ctx)} {
				if err != nil && ctx.Err() == nil {
					s.log.Error("what ends by itself could not be looked at", "error", err)
				}
			}
		}
	}
}

// tidyEvery is how often repositories are looked at for being untidy.
const tidyEvery = time.Minute

// tidyUp packs repositories now and then until the service stops.
func (s *Service) tidyUp(ctx context.Context) {
	timer := time.NewTicker(tidyEvery)
	defer timer.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-timer.C:
			if err := s.packAll(ctx); err != nil && ctx.Err() == nil {
				s.log.Error("repositories could not be packed", "error", err)
			}
		}
	}
}

// TidyNow does what is otherwise done now and then.
func (s *Service) TidyNow(ctx context.Context) error { return s.packAll(ctx) }

// packAll packs the repositories that have grown untidy, and clears their scratch spaces.
func (s *Service) packAll(ctx context.Context) error {
	var repos []store.Repository
	if err := s.store.Read(ctx).Where("trouble = ''").Find(&repos).Error; err != nil {
		return err
	}
	var errs []error
	for _, repo := range repos {
		packed, err := s.bare(&repo).Pack(ctx)
		if packed {
			s.log.Info("repository packed", "repository", repo.Name)
		}
		errs = append(errs, err, s.clearScratch(ctx, &repo))
	}
	return errors.Join(errs...)
}

// advanceAll moves every queue as far as it goes now, each by itself: trouble with one repository, or a slow one, is no
// other's.
func (s *Service) advanceAll(ctx context.Context) error {
	var repos []store.Repository
	err := s.store.Read(ctx).Where("trouble = '' AND (EXISTS (SELECT 1 FROM entries e WHERE e.repository_id = repositories.id AND e.ended_at IS NULL) OR " +
		"EXISTS (SELECT 1 FROM intents i WHERE i.repository_id = repositories.id AND i.outcome = ''))").Find(&repos).Error
	if err != nil {
		return err
	}
	for i := range repos {
		repo := &repos[i]
		s.movers.move(repo.ID, &s.tasks, func() {
			if s.rests.resting(-repo.ID, s.now()) != "" || ctx.Err() != nil {
				return
			}
			err := s.advanceSafely(ctx, repo)
			switch {
			case err == nil:
				s.rests.over(-repo.ID)
			case ctx.Err() == nil:
				s.log.Error("a queue could not go on", "repository", repo.Name, "error", err)
				s.rests.rest(-repo.ID, s.now(), "the service has trouble", err)
			}
		})
	}
	return nil
}

// advanceSafely is advance for a task of its own: a fault in the program is trouble of the service's own with this repository,
// and no other's end.
func (s *Service) advanceSafely(ctx context.Context, repo *store.Repository) (err error) {
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
func (s *Service) advance(ctx context.Context, repo *store.Repository) error {
	unlock, err := s.writing(ctx, repo)
	if err != nil {
		return err
	}
	defer unlock()
	for range maxRounds {
		moved, err := s.round(ctx, repo)
		if err != nil || !moved || ctx.Err() != nil {
			return err
		}
		if err := s.settleOpen(ctx, repo); err != nil {
			return err
		}
	}
	s.nudge()
	return nil
}

func (s *Service) round(ctx context.Context, repo *store.Repository) (bool, error) {
	db := s.store.Read(ctx)
	var entries []store.Entry
	if err := db.Where("repository_id = ? AND ended_at IS NULL", repo.ID).Find(&entries).Error; err != nil {
		return false, err
	}
	lines := map[string]*queue.Line{}
	all := map[int64]gathered{}
	for _, e := range entries {
		var c store.Change
		if err := db.First(&c, e.ChangeID).Error; err != nil {
			return false, err
		}
		g, err := s.gather(db, repo, c)
		if err != nil {
			return false, err
		}
		g.entry = &e
		if err := s.renew(ctx, repo, g); err != nil {
			return false, err
		}
		all[e.ID] = g
		if lines[e.Target] == nil {
			tip, err := s.bare(repo).Tip(ctx, "refs/heads/"+e.Target)
			if err != nil && !errors.Is(err, git.ErrNotFound) {
				return false, err
			}
			lines[e.Target] = &queue.Line{Tip: tip}
		}
		planned := g.planned(lines[e.Target].Tip)
		planned.Resting = s.rests.resting(e.ID, s.now()) != ""
		lines[e.Target].Entries = append(lines[e.Target].Entries, planned)
	}
	moved := false
	for _, l := range lines {
		for _, step := range queue.Plan(*l) {
			g := all[step.Entry]
			if err := s.take(ctx, repo, &g, l.Tip, step); err != nil {
				return moved, fmt.Errorf("%s change %d of %s: %w", step.Action, g.change.Number, repo.Name, err)
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
func (g gathered) planned(tip string) queue.Entry {
	report := g.judge()
	e := queue.Entry{ID: g.entry.ID, Place: g.entry.Place, State: queue.State(g.entry.State), Revision: g.change.Revision, Ready: report.Ready, First: len(report.Overrides) > 0}
	switch {
	case g.change.State == "closed":
		e.Gone = "the change was closed"
	case tip == "":
		e.Gone = "the target branch " + g.entry.Target + " is gone"
	}
	if r := g.rehearsal; r != nil && r.CommitID != "" {
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

// reason says why an entry is where it is. For one that has not ended it is worked out when asked, so that it is
// never behind.
func (g gathered) reason() string {
	switch queue.State(g.entry.State) {
	case queue.Waiting:
		return g.judge().Summary
	case queue.LinedUp:
		return "ready; waiting for those ahead"
	case queue.Rehearsing:
		return g.rehearsing()
	case queue.Landing, queue.Landed, queue.Ejected, queue.Withdrawn:
	}
	return g.entry.Reason
}

// rehearsing says what a rehearsal waits for.
func (g gathered) rehearsing() string {
	var open []string
	for _, q := range g.judge().Requirements {
		if q.At == "rehearsal" && q.Level == rules.Required && q.State == gate.Pending {
			open = append(open, q.Next)
		}
	}
	if len(open) == 0 {
		return "rehearsed; about to land"
	}
	return "rehearsing: " + strings.Join(open, "; ")
}

// rehearsalChecks lists the checks wanted on the change's rehearsal, required and advisory.
func (g gathered) rehearsalChecks() []rules.Check {
	var out []rules.Check
	for _, q := range g.judge().Requirements {
		if q.At != "rehearsal" || q.State == gate.NotApplicable {
			continue
		}
		for _, name := range q.Checks {
			out = append(out, g.set.Check(name))
		}
	}
	return out
}

// renew asks once more for the checks of a live entry whose pass has grown too old.
func (s *Service) renew(ctx context.Context, repo *store.Repository, g gathered) error {
	for _, q := range g.judge().Requirements {
		commit, purpose := g.revision.Head, fmt.Sprintf("change/%d", g.change.Number)
		if q.At == "rehearsal" && g.rehearsal != nil {
			commit, purpose = g.rehearsal.CommitID, rehearsalName(*g.rehearsal)
		}
		for _, name := range q.Again {
			err := s.write(ctx, func(tx *tx) error {
				var run store.CheckRun
				err := tx.Where("repository_id = ? AND commit_id = ? AND name = ?", repo.ID, commit, name).Order("attempt DESC").Limit(1).Find(&run).Error
				if err != nil || !gate.CheckState(run.State).Final() {
					return err
				}
				run.AskedFor = purpose
				_, err = s.nextAttempt(tx, repo, g.set.Check(name), run, itself)
				return err
			})
			if err != nil {
				return err
			}
		}
	}
	return nil
}

func (s *Service) askRehearsal(tx *tx, repo *store.Repository, g gathered, r store.Rehearsal, fresh bool) error {
	for _, c := range g.rehearsalChecks() {
		if err := s.ask(tx, repo, c, r.CommitID, rehearsalName(r), fresh); err != nil {
			return err
		}
	}
	return nil
}

// take carries out one step of the plan.
func (s *Service) take(ctx context.Context, repo *store.Repository, g *gathered, tip string, step queue.Step) error {
	s.log.Info("queue", "repository", repo.Name, "change", g.change.Number, "action", string(step.Action), "why", step.Why)
	switch step.Action {
	case queue.LineUp:
		return s.write(ctx, func(tx *tx) error {
			place := "max(place) + 1"
			if len(g.judge().Overrides) > 0 {
				place = "min(place) - 1"
			}
			err := tx.Exec("UPDATE entries SET place = (SELECT "+place+" FROM entries WHERE repository_id = ?) WHERE id = ?", repo.ID, g.entry.ID).Error
			if err != nil {
				return err
			}
			return s.move(tx, repo, g, queue.LinedUp, step.Why)
		})
	case queue.SendBack, queue.Discard:
		to := queue.Waiting
		if step.Action == queue.Discard {
			to = queue.LinedUp
		}
		g.rehearsal, g.facts.Rehearsal = nil, nil
		return s.write(ctx, func(tx *tx) error {
			if err := s.endRehearsals(tx, *g.entry, step.Why); err != nil {
				return err
			}
			return s.move(tx, repo, g, to, step.Why)
		})
	case queue.Eject:
		return s.write(ctx, func(tx *tx) error {
			return s.endEntry(tx, repo, g.change, g.entry, queue.Ejected, itself, step.Why)
		})
	case queue.Build:
		return s.build(ctx, repo, g, tip)
	case queue.Land:
		return s.land(ctx, repo, g)
	}
	return fmt.Errorf("no such action: %q", step.Action)
}

// move puts an entry into another state that is not an end.
func (s *Service) move(tx *tx, repo *store.Repository, g *gathered, to queue.State, why string) error {
	g.entry.State, g.entry.Reason = string(to), why
	if err := tx.Model(g.entry).Updates(map[string]any{"state": string(to), "reason": why}).Error; err != nil {
		return err
	}
	return tx.record(event{actor: itself, kind: "queue." + string(to), repo: repo, subject: fmt.Sprintf("change/%d", g.change.Number),
		text: fmt.Sprintf("change %d is %s: %s", g.change.Number, to, why), data: map[string]any{"number": g.change.Number, "reason": why}})
}

// build makes an entry's rehearsal. Everything that its commit depends on is on record before it is built, so that
// after a crash the same commit is built again.
func (s *Service) build(ctx context.Context, repo *store.Repository, g *gathered, tip string) error {
	same, err := s.sameOn(ctx, repo, g, tip)
	if err != nil {
		return s.notBuilt(ctx, repo, g, tip, err)
	}
	if lost := g.onBase(same); len(lost) > 0 && !g.judge().Ready {
		return s.write(ctx, func(tx *tx) error {
			return s.endEntry(tx, repo, g.change, g.entry, queue.Ejected, itself, queue.ApprovalsLost(lost, g.change.Number, g.change.Target, tip))
		})
	}
	r, err := s.plannedRehearsal(ctx, repo, g, tip, same)
	if err != nil {
		return err
	}
	s.at("rehearsal:planned")
	bare := s.bare(repo)
	plan, err := s.planOf(ctx, repo, g, r)
	if err != nil {
		return err
	}
	built, err := bare.Build(ctx, plan)
	if err == nil {
		err = bare.Keep(ctx, rehearsalRef(r), built.Commit)
	}
	if err != nil {
		return s.notBuilt(ctx, repo, g, tip, err)
	}
	s.rests.over(g.entry.ID)
	s.at("rehearsal:built")
	r.CommitID, r.Tree = built.Commit, built.Tree
	return s.write(ctx, func(tx *tx) error {
		if err := tx.Model(&r).Updates(map[string]any{"commit_id": r.CommitID, "tree": r.Tree}).Error; err != nil {
			return err
		}
		now, err := s.gather(tx.DB, repo, g.change) // by the rules of this moment; later ones ask for themselves
		if err != nil {
			return err
		}
		err = tx.record(event{actor: itself, kind: "rehearsal.built", repo: repo, subject: fmt.Sprintf("change/%d", g.change.Number),
			text: fmt.Sprintf("change %d was rehearsed as %.10s on %s's %.10s", g.change.Number, r.CommitID, g.entry.Target, r.Base),
			data: map[string]any{"number": g.change.Number, "rehearsal": r.ID, "commit": r.CommitID, "base": r.Base, "tree": r.Tree, "strategy": r.Strategy, "revision": r.Revision}})
		if err != nil {
			return err
		}
		if err := s.askRehearsal(tx, repo, now, r, true); err != nil {
			return err
		}
		return s.move(tx, repo, g, queue.Rehearsing, "the rehearsal is built")
	})
}

// onBase takes into account which earlier revisions bring the same to the base, and returns the approvals that are not for
// what would land there.
func (g *gathered) onBase(same []int) (lost []gate.Review) {
	g.facts.Reviews = slices.Clone(g.facts.Reviews)
	for i := range g.facts.Reviews {
		r := &g.facts.Reviews[i]
		if r.Verdict == gate.Approve && r.SameDifference && r.Revision != g.revision.Number && !slices.Contains(same, r.Revision) {
			r.SameDifference = false
			lost = append(lost, *r)
		}
	}
	return lost
}

// planOf is the plan of a rehearsal on record.
func (s *Service) planOf(ctx context.Context, repo *store.Repository, g *gathered, r store.Rehearsal) (git.Plan, error) {
	ids := make([]string, len(g.revision.Commits))
	for i, c := range g.revision.Commits {
		ids[i] = c.ID
	}
	db := s.store.Read(ctx)
	genuine, err := landedAmong(db, repo.ID, ids)
	if err != nil {
		return git.Plan{}, err
	}
	landed := map[string]bool{}
	for chunk := range slices.Chunk(ids, 500) {
		var some []string
		err := db.Model(&store.LandedSource{}).Joins("JOIN landings l ON l.id = landed_sources.landing_id").Joins("JOIN changes c ON c.id = l.change_id AND c.target = ? AND c.id <> ?", g.change.Target, g.change.ID).
			Where("landed_sources.repository_id = ? AND commit_id IN ?", repo.ID, chunk).Pluck("commit_id", &some).Error
		if err != nil {
			return git.Plan{}, err
		}
		for _, id := range some {
			landed[id] = true
		}
	}
	return git.Plan{
		Base: r.Base, Head: r.Head, Shown: g.revision.Base, Strategy: git.Strategy(r.Strategy), Message: r.Message, Landed: landed, Genuine: genuine,
		Author:    git.Signature{Name: r.AuthorName, Email: r.AuthorEmail, When: r.AuthoredAt},
		Committer: git.Signature{Name: "Tavrin", Email: "landing@tavrin.invalid", When: r.CommittedAt},
	}, nil
}

func rehearsalRef(r store.Rehearsal) string { return fmt.Sprintf("rehearsals/%d", r.ID) }

// notBuilt ejects an entry whose change cannot be rehearsed, with words that help. Trouble of the service's own ejects
// nobody: the entry keeps its place and rests for a while.
func (s *Service) notBuilt(ctx context.Context, repo *store.Repository, g *gathered, tip string, err error) error {
	var conflict *git.ConflictError
	var different *git.DifferentError
	if ctx.Err() != nil {
		return err
	}
	why := queue.NotBuilt{Number: g.change.Number, Source: g.change.Source, Target: g.change.Target}
	switch {
	case errors.As(err, &conflict):
		why.Kind, why.Text = queue.Conflicts, err.Error()
	case errors.As(err, &different):
		why.Kind, why.Text = queue.Differs, err.Error()
		why.Others = s.otherWays(ctx, repo, g, tip)
	case errors.As(err, new(git.NothingError)):
		why.Kind, why.Text = queue.Empty, err.Error()
	case aboutTheChange(err):
		why.Kind, why.Text = queue.TooMuch, err.Error()
	default:
		s.log.Error("a rehearsal could not be built", "repository", repo.Name, "change", g.change.Number, "error", err)
		s.rests.rest(g.entry.ID, s.now(), "its rehearsal could not be built", err)
		return nil
	}
	return s.write(ctx, func(tx *tx) error {
		return s.endEntry(tx, repo, g.change, g.entry, queue.Ejected, itself, why.Reason())
	})
}

// otherWays lists the other strategies that the rules allow and by which the change would land as it was shown.
func (s *Service) otherWays(ctx context.Context, repo *store.Repository, g *gathered, tip string) []string {
	ways := []string{}
	for _, strategy := range g.set.Without(g.facts.Suspended).For(g.change.Target).With {
		if string(strategy) == g.entry.Strategy {
			continue
		}
		plan, err := s.planOf(ctx, repo, g, store.Rehearsal{Base: tip, Head: g.revision.Head, Strategy: string(strategy)})
		if err == nil && s.bare(repo).Try(ctx, plan) == nil {
			ways = append(ways, string(strategy))
		}
	}
	return ways
}

// plannedRehearsal returns the rehearsal on record that was not built yet, or records a new plan.
func (s *Service) plannedRehearsal(ctx context.Context, repo *store.Repository, g *gathered, tip string, same []int) (store.Rehearsal, error) {
	if r := g.rehearsal; r != nil && r.CommitID == "" && r.Base == tip && r.Head == g.revision.Head && r.Strategy == g.entry.Strategy &&
		slices.Equal(r.Approvers, g.approversNamed()) && slices.Equal(r.SameAs, same) {
		return *r, nil
	}
	log, err := s.bare(repo).LogAll(ctx, g.revision.Head, []string{g.revision.Base}, "change.commits")
	if err != nil {
		return store.Rehearsal{}, err
	}
	now := s.now().Truncate(time.Second)
	r := store.Rehearsal{EntryID: g.entry.ID, Revision: g.revision.Number, Base: tip, Head: g.revision.Head, Strategy: g.entry.Strategy,
		CommittedAt: now, AuthoredAt: now, Approvers: g.approversNamed(), SameAs: same, CreatedAt: now}
	err = s.write(ctx, func(tx *tx) error {
		if err := s.endRehearsals(tx, *g.entry, "another was planned"); err != nil {
			return err
		}
		opener, err := accountByLogin(tx.DB, g.change.OpenedBy)
		if err != nil {
			return err
		}
		r.AuthorName, r.AuthorEmail = opener.Name, opener.Email
		if r.Message, err = finalMessage(tx.DB, repo, g, log, opener.Email); err != nil {
			return err
		}
		return tx.Create(&r).Error
	})
	return r, err
}

// approversNamed lists the approvals that the final message names: none for a rebase, which keeps its messages.
func (g gathered) approversNamed() []string {
	if g.entry.Strategy == string(rules.Rebase) {
		return []string{}
	}
	return g.judge().Approvers
}

// finalMessage writes the message of a squash or merge commit with its trailers.
func finalMessage(db *gorm.DB, repo *store.Repository, g *gathered, log []git.Commit, authorEmail string) (string, error) {
	if g.entry.Strategy == string(rules.Rebase) {
		return "", nil
	}
	e := g.set.Without(g.facts.Suspended).For(g.change.Target)
	text := gate.FinalText(e, g.facts)
	var trailers strings.Builder
	for _, line := range gate.Trailers(e, g.facts) {
		trailers.WriteString(line + "\n")
	}
	fmt.Fprintf(&trailers, "Landed-change: %s %d\n", repo.Name, g.change.Number)
	for _, login := range g.approversNamed() {
		account, err := accountByLogin(db, login)
		if err != nil {
			return "", err
		}
		fmt.Fprintf(&trailers, "Approved-by: %s <%s>\n", account.Name, account.Email)
	}
	if g.entry.Strategy == string(rules.Squash) {
		seen := map[string]bool{strings.ToLower(authorEmail): true}
		for _, c := range log {
			if key := strings.ToLower(c.Author.Email); !seen[key] {
				seen[key] = true
				fmt.Fprintf(&trailers, "Co-authored-by: %s <%s>\n", c.Author.Name, c.Author.Email)
			}
		}
	}
	return text + "\n\n" + trailers.String(), nil
}

// entryView describes an entry.
func (s *Service) entryView(db *gorm.DB, repo *store.Repository, e store.Entry) (wire.Entry, error) {
	var c store.Change
	if err := db.First(&c, e.ChangeID).Error; err != nil {
		return wire.Entry{}, err
	}
	v := wire.Entry{ID: e.ID, Number: c.Number, Title: c.Title, Target: e.Target, State: e.State, Strategy: e.Strategy, Message: e.Message,
		RemoveSource: e.RemoveSource, JoinedBy: e.JoinedBy, Reason: e.Reason, CreatedAt: e.CreatedAt, EndedAt: e.EndedAt}
	if e.EndedAt == nil {
		g, err := s.judgedOf(db, repo, c)
		if err != nil {
			return v, err
		}
		g.entry = &e
		v.Reason = g.reason()
		for _, id := range []int64{e.ID, -repo.ID} {
			if why := s.rests.resting(id, s.now()); why != "" {
				v.Reason = why
			}
		}
		ahead, err := aliveEntries(db, repo, e.Target)
		if err != nil {
			return v, err
		}
		v.Position = 1 + slices.IndexFunc(ahead, func(x store.Entry) bool { return x.ID == e.ID })
	}
	var r store.Rehearsal
	if err := db.Where("entry_id = ? AND commit_id <> ''", e.ID).Order("id DESC").Limit(1).Find(&r).Error; err != nil || r.ID == 0 || (r.Ended != "" && e.EndedAt == nil) {
		return v, err
	}
	checks, err := s.checkViews(db, repo, r.CommitID)
	v.Rehearsal = &wire.Rehearsal{ID: r.ID, Base: r.Base, Commit: r.CommitID, Checks: checks}
	return v, err
}

// aliveEntries returns the entries of a target that have not ended, in order: those in line before those waiting.
func aliveEntries(db *gorm.DB, repo *store.Repository, target string) ([]store.Entry, error) {
	var rows []store.Entry
	err := db.Where("repository_id = ? AND target = ? AND ended_at IS NULL", repo.ID, target).
		Order("CASE state WHEN 'landing' THEN 0 WHEN 'rehearsing' THEN 1 WHEN 'lined-up' THEN 2 ELSE 3 END, place").Find(&rows).Error
	return rows, err
}

// Queue shows the line of one target branch, by default the default branch's.
func (s *Service) Queue(ctx context.Context, a Actor, name, branch string) (wire.Queue, error) {
	db := s.store.Read(ctx)
	repo, err := s.reach(db, a, name, gate.Reader)
	if err != nil {
		return wire.Queue{}, err
	}
	if branch == "" {
		branch = repo.DefaultBranch
	}
	if err := git.CheckBranch(branch); err != nil {
		return wire.Queue{}, invalid("branch", "%v", err)
	}
	v := wire.Queue{Branch: branch, Entries: []wire.Entry{}, Recent: []wire.Entry{}}
	if v.Tip, err = s.bare(repo).Tip(ctx, "refs/heads/"+branch); err != nil {
		return v, problem(Unknown, "%s has no branch %s", name, branch)
	}
	alive, err := aliveEntries(db, repo, branch)
	if err != nil {
		return v, err
	}
	var ended []store.Entry
	if err := db.Where("repository_id = ? AND target = ? AND ended_at IS NOT NULL", repo.ID, branch).Order("ended_at DESC").Limit(20).Find(&ended).Error; err != nil {
		return v, err
	}
	for _, e := range append(alive, ended...) {
		view, err := s.entryView(db, repo, e)
		if err != nil {
			return v, err
		}
		if e.EndedAt == nil {
			v.Entries = append(v.Entries, view)
		} else {
			v.Recent = append(v.Recent, view)
		}
	}
	if v.Silent, err = s.silentChecks(db, repo); err != nil {
		return v, err
	}
	v.Caption = caption(v)
	return v, nil
}

// caption says in a sentence what a queue is doing.
func caption(q wire.Queue) string {
	if len(q.Entries) == 0 {
		return fmt.Sprintf("The queue of %s is empty.", q.Branch)
	}
	first := q.Entries[0]
	switch queue.State(first.State) {
	case queue.Landing:
		return fmt.Sprintf("Change %d is landing on %s.", first.Number, q.Branch)
	case queue.Rehearsing:
		return fmt.Sprintf("Change %d is rehearsed on %s's tip: %s.", first.Number, q.Branch, strings.TrimPrefix(first.Reason, "rehearsing: "))
	case queue.LinedUp:
		return fmt.Sprintf("Change %d is next for %s.", first.Number, q.Branch)
	}
	return fmt.Sprintf("Nothing is ready for %s: change %d waits. %s", q.Branch, first.Number, first.Reason)
}
