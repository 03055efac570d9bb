package changes

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"gorm.io/gorm"

	"tavrin/internal/core/change"
	"tavrin/internal/core/event"
	"tavrin/internal/core/require"
	"tavrin/internal/facts"
	"tavrin/internal/records"
)

// Where rules ask that a commit is on another branch already, the branches that hold it are among the facts. Git knows them, and
// Git is not asked while the records are written: so they are found when a revision comes, and again whenever a branch has
// moved or rules were applied. A gate that has not heard of it yet lacks something that is there; it is judged again.

// mostSought is how many commits of a revision are looked for on other branches. Those beyond are found on none.
const mostSought = 200

// traced says whether the rules of a target ask on which branches commits are.
func (s *Changes) traced(db *gorm.DB, repo *records.Repository, target string) (bool, error) {
	force, err := s.rulebook.RulesOf(db, repo)
	if err != nil {
		return false, err
	}
	return slices.ContainsFunc(force.Set.For(target).Requirements, func(q require.Sourced) bool { return q.Kind.Elsewhere }), nil
}

// trace finds the branches that hold the commits which those of a revision were picked from; where the rules ask for it, also
// those that hold the revision's own. The source is none of them.
func (s *Changes) trace(ctx context.Context, repo *records.Repository, source string, asked bool, commits []records.BroughtCommit) error {
	sought := 0
	for i := range commits {
		c := &commits[i]
		id := change.PickedFrom(c.Message)
		if id == "" && asked {
			id = c.ID
		}
		if id == "" || sought == mostSought {
			continue
		}
		sought++
		on, err := s.disk.Bare(repo).Holding(ctx, id)
		if err != nil {
			return err
		}
		c.On = slices.DeleteFunc(on, func(branch string) bool { return branch == source })
	}
	return nil
}

// Trace keeps what is known of the branches that hold commits up to date until the context ends. Trouble with one repository
// is no other's.
func (s *Changes) Trace(ctx context.Context) {
	t := tracer{changes: s, again: map[int64]bool{}}
	for {
		grown := s.records.Grown() // before anything is looked at, so that nothing is missed
		if err := t.look(ctx); err != nil && ctx.Err() == nil {
			s.log.Error("the branches that hold the commits of changes could not be looked for", "error", err)
		}
		var retry <-chan time.Time
		if len(t.again) > 0 {
			retry = time.After(time.Minute)
		}
		select {
		case <-ctx.Done():
			return
		case <-grown:
		case <-retry:
		}
	}
}

// tracer knows what has been looked at.
type tracer struct {
	changes *Changes
	seen    int64          // the line of the journal up to which it has looked; 0: nowhere yet
	again   map[int64]bool // repositories in which it could not look
}

// telling lists the kinds of events after which other branches may hold a commit, or rules may ask for it.
var telling = func() []string {
	kinds := []string{"rules.applied"}
	for _, k := range event.Kinds {
		if k.Moves {
			kinds = append(kinds, k.Name)
		}
	}
	return kinds
}()

// look looks again in every repository in which something moved, or for which other rules came, since it last did; at the
// start, everywhere.
func (t *tracer) look(ctx context.Context) error {
	db := t.changes.records.Read(ctx)
	var upTo int64
	if err := db.Model(&records.JournalLine{}).Select("coalesce(max(seq), 0)").Scan(&upTo).Error; err != nil {
		return err
	}
	repos := records.Going(db).Order("id")
	if t.seen > 0 {
		var where []int64
		// Not DISTINCT, for which SQLite would go through the lines by repository.
		err := db.Model(&records.JournalLine{}).Where("seq > ? AND seq <= ? AND kind IN ?", t.seen, upTo, telling).
			Pluck("repository_id", &where).Error
		if err != nil {
			return err
		}
		slices.Sort(where)
		where = slices.Compact(where)
		if where = slices.AppendSeq(where, maps.Keys(t.again)); len(where) == 0 {
			t.seen = upTo
			return nil
		}
		if !slices.Contains(where, 0) { // of no repository: of a house
			repos = repos.Where("id IN ?", where)
		}
	}
	var all []records.Repository
	if err := repos.Find(&all).Error; err != nil {
		return err
	}
	t.seen = upTo
	clear(t.again)
	var trouble error
	for i := range all {
		if err := t.changes.traceIn(ctx, &all[i]); err != nil {
			t.again[all[i].ID] = true
			trouble = errors.Join(trouble, fmt.Errorf("%s: %w", all[i].Name, err))
		}
	}
	return trouble
}

// traceIn looks again for the commits of a repository's open changes, where the rules of their targets ask for it.
func (s *Changes) traceIn(ctx context.Context, repo *records.Repository) error {
	db := s.records.Read(ctx)
	var targets []string
	err := db.Model(&records.Change{}).Where("repository_id = ? AND state IN ('draft', 'open')", repo.ID).Distinct().Pluck("target", &targets).Error
	if err != nil {
		return err
	}
	for _, target := range targets {
		asked, err := s.traced(db, repo, target)
		if err != nil {
			return err
		}
		if !asked {
			continue
		}
		var changes []records.Change
		err = db.Where("repository_id = ? AND target = ? AND state IN ('draft', 'open')", repo.ID, target).Find(&changes).Error
		if err != nil {
			return err
		}
		for _, c := range changes {
			if err := s.traceAgain(ctx, repo, c); err != nil {
				return err
			}
		}
	}
	return nil
}

// traceAgain looks for the commits of a change's newest revision, and keeps what is found where it is news.
func (s *Changes) traceAgain(ctx context.Context, repo *records.Repository, c records.Change) error {
	r, err := facts.RevisionRow(s.records.Read(ctx), c)
	if err != nil {
		return err
	}
	found := slices.Clone(r.Commits)
	if err := s.trace(ctx, repo, c.Source, true, found); err != nil {
		return err
	}
	on := []string{}
	for _, c := range found {
		on = append(on, c.On...)
	}
	if same := slices.EqualFunc(found, r.Commits, func(a, b records.BroughtCommit) bool { return slices.Equal(a.On, b.On) }); same {
		return nil
	}
	slices.Sort(on)
	return s.records.Write(ctx, func(tx *records.Tx) error {
		if err := tx.Model(&r).Select("Commits").Updates(records.Revision{Commits: found}).Error; err != nil {
			return err
		}
		return tx.Record(records.Itself, repo, event.ChangeTraced{OfChange: event.OfChange{Number: c.Number},
			Revision: r.Number, On: slices.Compact(on)})
	})
}
