package queues

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"gorm.io/gorm"

	"tavrin/internal/accounts"
	"tavrin/internal/checks"
	"tavrin/internal/core/event"
	"tavrin/internal/core/gate"
	"tavrin/internal/core/queue"
	"tavrin/internal/core/rules"
	"tavrin/internal/core/trailer"
	"tavrin/internal/facts"
	"tavrin/internal/git"
	"tavrin/internal/problem"
	"tavrin/internal/records"
	"tavrin/internal/typed"
	"tavrin/wire"
)

// NewEntry is how somebody wants a change to land.
type NewEntry struct {
	Strategy     rules.Strategy // empty: the rules' default
	Message      string         // empty: from the rules' template or the change
	RemoveSource *bool          // nil: as the rules say
}

// Join asks for a change to land as soon as it may. It can be asked for before the gate is ready.
func (s *Queues) Join(ctx context.Context, a accounts.Actor, name string, number int, n NewEntry) (wire.Entry, error) {
	if err := typed.Prose("message", n.Message, typed.MaxProse); err != nil {
		return wire.Entry{}, err
	}
	if m := trailer.Typed(n.Message); m != "" {
		return wire.Entry{}, problem.Wrong("message", "the trailer %q is written by the service; leave it out of the message", m)
	}
	if n.Strategy != "" && !slices.Contains(rules.Strategies, n.Strategy) {
		return wire.Entry{}, problem.Wrong("strategy", "%q is not a strategy: one of %s", n.Strategy, gate.Join(rules.Strategies))
	}
	var entry records.Entry
	err := s.records.Write(ctx, func(tx *records.Tx) error {
		repo, c, err := facts.ChangeRow(tx.DB, a, name, number, gate.Writer)
		if err != nil {
			return err
		}
		if c.State != "draft" && c.State != "open" {
			return problem.New(problem.Conflict, "change %d is %s, so it cannot join the queue", number, c.State)
		}
		g, err := s.facts.Gather(tx.DB, repo, c)
		if err != nil {
			return err
		}
		asker := g.Facts.People[a.Login()]
		effective := g.Set.Without(g.Facts.Suspended).Binding(c.Target, asker.Is)
		strategy, why, err := effective.Choose(n.Strategy)
		if err != nil {
			return problem.Wrong("strategy", "%v", err)
		}
		if report := g.Judge(); !effective.JoinEarly.Value && !report.Ready {
			return problem.New(problem.Conflict, "change %d may join only when its gate is ready, says %s. %s", number, rules.Because(effective.JoinEarly.From), report.Summary)
		}
		remove := effective.RemoveSource.Value
		if n.RemoveSource != nil {
			remove = *n.RemoveSource
		}
		entry = records.Entry{RepositoryID: repo.ID, ChangeID: c.ID, Target: c.Target, State: string(queue.Waiting), Strategy: string(strategy),
			Message: n.Message, RemoveSource: remove, JoinedBy: a.Login(), Reason: "its gate is about to be judged", CreatedAt: s.records.Now()}
		if err := tx.Create(&entry).Error; err != nil {
			return records.OrTaken(err, "change %d is in the queue already: tavrin queue leave %d takes it out", number, number)
		}
		if err := s.Tell(tx, repo, c.Target, queue.Joined{At: now(tx), Entry: entry.ID, Change: number}); err != nil {
			return err
		}
		return tx.Record(a.Login(), repo, event.QueueJoined{OfChange: event.OfChange{Number: number},
			Target: c.Target, Strategy: string(strategy), Why: why, RemoveSource: remove})
	})
	if err != nil {
		return wire.Entry{}, err
	}
	snap := s.records.View(ctx)
	defer snap.Close()
	repo, err := accounts.Reach(snap.DB, a, name, gate.Reader)
	if err == nil {
		err = snap.First(&entry, entry.ID).Error
	}
	if err != nil {
		return wire.Entry{}, err
	}
	return s.EntryView(snap, repo, entry)
}

// Leave takes a change out of the queue again.
func (s *Queues) Leave(ctx context.Context, a accounts.Actor, name string, number int) (wire.Entry, error) {
	repo, c, err := facts.ChangeRow(s.records.Read(ctx), a, name, number, gate.Writer)
	if err != nil {
		return wire.Entry{}, err
	}
	unlock, err := s.moves.Lock(ctx, repo) // what was landing has landed or not by then
	if err != nil {
		return wire.Entry{}, err
	}
	defer unlock()
	var entry records.Entry
	err = s.records.Write(ctx, func(tx *records.Tx) error {
		if err := tx.Where("change_id = ? AND ended_at IS NULL", c.ID).First(&entry).Error; err != nil {
			return records.OrUnknown(err, "change %d is not in the queue", number)
		}
		if entry.JoinedBy != a.Login() {
			if err := facts.MayEdit(tx.DB, a, repo, c, "withdrawing"); err != nil {
				return err
			}
		}
		return s.Tell(tx, repo, entry.Target, queue.Left{At: now(tx), Entry: entry.ID, By: a.Login(), Why: a.Login() + " withdrew it"})
	})
	if err != nil {
		return wire.Entry{}, err
	}
	snap := s.records.View(ctx)
	defer snap.Close()
	if err := snap.First(&entry, entry.ID).Error; err != nil {
		return wire.Entry{}, err
	}
	return s.EntryView(snap, repo, entry)
}

// reason says why an entry is where it is. For one that has not ended it is worked out when asked, so that it is
// never behind.
func (s *Queues) reason(db *gorm.DB, g facts.Gathered) (string, error) {
	switch queue.EntryState(g.Entry.State) {
	case queue.Waiting:
		return g.Judge().Summary, nil
	case queue.LinedUp:
		q, err := load(db, g.Entry.RepositoryID, g.Entry.Target)
		if e := q.State.Entry(g.Entry.ID); err == nil && e != nil && e.Resting(s.records.Now()) {
			return e.Rest.Words, nil
		}
		return "ready; waiting for those ahead", err
	case queue.Rehearsing:
		return rehearsing(g), nil
	case queue.Landing, queue.Landed, queue.Ejected, queue.Withdrawn:
	}
	return g.Entry.Reason, nil
}

// rehearsing says what a rehearsal waits for.
func rehearsing(g facts.Gathered) string {
	var open []string
	for _, q := range g.Judge().Requirements {
		if q.At == "rehearsal" && q.Level == rules.Required && q.State == gate.Pending {
			open = append(open, q.Next)
		}
	}
	if len(open) == 0 {
		return "rehearsed; about to land"
	}
	return "rehearsing: " + strings.Join(open, "; ")
}

// EntryView describes an entry.
func (s *Queues) EntryView(snap *records.View, repo *records.Repository, e records.Entry) (wire.Entry, error) {
	var c records.Change
	if err := snap.First(&c, e.ChangeID).Error; err != nil {
		return wire.Entry{}, err
	}
	out := wire.Entry{ID: e.ID, Number: c.Number, Title: c.Title, Target: e.Target, State: e.State, Strategy: e.Strategy, Message: e.Message,
		RemoveSource: e.RemoveSource, JoinedBy: e.JoinedBy, Reason: e.Reason, CreatedAt: e.CreatedAt, EndedAt: e.EndedAt}
	if e.EndedAt == nil {
		g, err := s.facts.Remembered(snap, repo, c)
		if err != nil {
			return out, err
		}
		g.Entry = &e
		if out.Reason, err = s.reason(snap.DB, g); err != nil {
			return out, err
		}
		if why := s.Rests.Resting(repo.ID, s.records.Now()); why != "" {
			out.Reason = why
		}
		ahead, err := aliveEntries(snap.DB, repo, e.Target)
		if err != nil {
			return out, err
		}
		out.Position = 1 + slices.IndexFunc(ahead, func(x records.Entry) bool { return x.ID == e.ID })
	}
	var r records.Rehearsal
	if err := snap.Where("entry_id = ? AND commit_id <> ''", e.ID).Order("id DESC").Limit(1).Find(&r).Error; err != nil || r.ID == 0 || (r.Ended != "" && e.EndedAt == nil) {
		return out, err
	}
	checks, err := checks.CheckViews(snap.DB, repo, r.CommitID)
	out.Rehearsal = &wire.Rehearsal{ID: r.ID, Base: r.Base, Commit: r.CommitID, Checks: checks}
	return out, err
}

// aliveEntries returns the entries of a target that have not ended, in order: those in line before those waiting.
func aliveEntries(db *gorm.DB, repo *records.Repository, target string) ([]records.Entry, error) {
	var rows []records.Entry
	err := db.Where("repository_id = ? AND target = ? AND ended_at IS NULL", repo.ID, target).
		Order("CASE state WHEN 'landing' THEN 0 WHEN 'rehearsing' THEN 1 WHEN 'lined-up' THEN 2 ELSE 3 END, place").Find(&rows).Error
	return rows, err
}

// Queue shows the line of one target branch, by default the default branch's.
func (s *Queues) Queue(ctx context.Context, a accounts.Actor, name, branch string) (wire.Queue, error) {
	snap := s.records.View(ctx)
	defer snap.Close()
	db := snap.DB
	repo, err := accounts.Reach(db, a, name, gate.Reader)
	if err != nil {
		return wire.Queue{}, err
	}
	if branch == "" {
		branch = repo.DefaultBranch
	}
	if err := git.CheckBranch(branch); err != nil {
		return wire.Queue{}, problem.Wrong("branch", "%v", err)
	}
	out := wire.Queue{Branch: branch, Entries: []wire.Entry{}, Recent: []wire.Entry{}}
	if out.Tip, err = s.disk.Bare(repo).Tip(ctx, "refs/heads/"+branch); err != nil {
		return out, problem.New(problem.Unknown, "%s has no branch %s", name, branch)
	}
	alive, err := aliveEntries(db, repo, branch)
	if err != nil {
		return out, err
	}
	var ended []records.Entry
	if err := db.Where("repository_id = ? AND target = ? AND ended_at IS NOT NULL", repo.ID, branch).Order("ended_at DESC").Limit(20).Find(&ended).Error; err != nil {
		return out, err
	}
	for _, e := range append(alive, ended...) {
		view, err := s.EntryView(snap, repo, e)
		if err != nil {
			return out, err
		}
		if e.EndedAt == nil {
			out.Entries = append(out.Entries, view)
		} else {
			out.Recent = append(out.Recent, view)
		}
	}
	if out.Silent, err = s.checks.SilentChecks(db, repo); err != nil {
		return out, err
	}
	out.Caption = caption(out)
	return out, nil
}

// caption says in a sentence what a queue is doing.
func caption(q wire.Queue) string {
	if len(q.Entries) == 0 {
		return fmt.Sprintf("The queue of %s is empty.", q.Branch)
	}
	first := q.Entries[0]
	switch queue.EntryState(first.State) {
	case queue.Landing:
		return fmt.Sprintf("Change %d is landing on %s.", first.Number, q.Branch)
	case queue.Rehearsing:
		return fmt.Sprintf("Change %d is rehearsed on %s's tip: %s.", first.Number, q.Branch, strings.TrimPrefix(first.Reason, "rehearsing: "))
	case queue.LinedUp:
		return fmt.Sprintf("Change %d is next for %s.", first.Number, q.Branch)
	}
	return fmt.Sprintf("Nothing is ready for %s: change %d waits. %s", q.Branch, first.Number, first.Reason)
}
