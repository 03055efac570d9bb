package changes

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"gorm.io/gorm"

	"tavrin/internal/accounts"
	"tavrin/internal/core/event"
	"tavrin/internal/core/people"
	"tavrin/internal/core/queue"
	"tavrin/internal/facts"
	"tavrin/internal/git"
	"tavrin/internal/problem"
	"tavrin/internal/records"
	"tavrin/internal/typed"
	"tavrin/wire"
)

// EditChange alters a change: its title, description, draft state, target, and what it depends on. A change that goes
// to another branch gets a new revision, is judged by that branch's rules from then on, and leaves the queue.
func (s *Changes) EditChange(ctx context.Context, a accounts.Actor, name string, number int,
	e wire.ChangeEdit) (wire.Change, error) {
	repo, c, err := facts.ChangeRow(s.records.Read(ctx), a, name, number, people.Writer)
	if err != nil {
		return wire.Change{}, err
	}
	unlock, err := s.moves.Lock(ctx, repo) // so that it neither lands nor gets a revision meanwhile
	if err != nil {
		return wire.Change{}, err
	}
	defer unlock()
	if err := s.records.Read(ctx).First(&c, c.ID).Error; err != nil {
		return wire.Change{}, err
	}
	if err := facts.MayEdit(s.records.Read(ctx), a, repo, c, "editing"); err != nil {
		return wire.Change{}, err
	}
	var revision *PendingRevision
	if e.Target != nil && *e.Target != c.Target {
		if revision, err = s.retargeted(ctx, repo, c, *e.Target, a.Login()); err != nil {
			return wire.Change{}, err
		}
	}
	if revision != nil {
		if err := s.Keep(ctx, repo, *revision); err != nil {
			return wire.Change{}, err
		}
	}
	err = s.records.Write(ctx, func(tx *records.Tx) error { return s.edit(tx, a, repo, c.ID, e, revision) })
	if err != nil {
		return wire.Change{}, err
	}
	return s.Change(ctx, a, name, number)
}

// edit records an edit, with the revision that a new target makes.
func (s *Changes) edit(tx *records.Tx, a accounts.Actor, repo *records.Repository, id int64, e wire.ChangeEdit,
	revision *PendingRevision) error {
	var c records.Change
	if err := tx.First(&c, id).Error; err != nil {
		return err
	}
	if err := facts.MayEdit(tx.DB, a, repo, c, "editing"); err != nil {
		return err
	}
	told := event.ChangeEdited{OfChange: event.OfChange{Number: c.Number}, DependsOn: e.DependsOn}
	if e.Title != nil {
		if err := typed.Line("title", *e.Title, 1, typed.MaxTitle); err != nil {
			return err
		}
		c.Title = typed.Mask(*e.Title)
		told.Title = &c.Title
	}
	if e.Description != nil {
		if err := typed.Prose("description", *e.Description, typed.MaxProse); err != nil {
			return err
		}
		c.Description = typed.Mask(*e.Description)
		told.Description = &c.Description
	}
	if e.Draft != nil {
		if c.State != "draft" && c.State != "open" {
			return problem.New(problem.Conflict, "change %d is %s, so it is neither draft nor open", c.Number, c.State)
		}
		c.State = "open"
		if *e.Draft {
			c.State = "draft"
		}
		told.State = &c.State
	}
	if revision != nil {
		goTo(&c, revision.Change.Target)
		told.Target = &c.Target
	}
	c.UpdatedAt = s.records.Now()
	if err := tx.Save(&c).Error; err != nil {
		return err
	}
	if e.DependsOn != nil {
		if c.State == "landed" {
			return problem.New(problem.Conflict, "change %d has landed; it waits for nothing any more", c.Number)
		}
		if err := setDependencies(tx.DB, c, *e.DependsOn); err != nil {
			return err
		}
	}
	err := tx.Record(a.Login(), repo, told)
	if err != nil || revision == nil {
		return err
	}
	return s.recordRetarget(tx, a.Login(), repo, c, *revision)
}

// retargeted works out the revision that a change gets by going to another branch.
func (s *Changes) retargeted(ctx context.Context, repo *records.Repository, c records.Change, target, by string) (*PendingRevision, error) {
	if c.State != "draft" && c.State != "open" {
		return nil, problem.New(problem.Conflict, "change %d is %s; only an open change goes to another branch",
			c.Number, c.State)
	}
	switch {
	case git.CheckBranch(target) != nil:
		return nil, problem.Wrong("target", "%v", git.CheckBranch(target))
	case target == c.Source:
		return nil, problem.Wrong("target", "source and target would both be %s; a change goes from one branch to "+
			"another", target)
	case !s.disk.Bare(repo).HasBranch(target):
		return nil, s.disk.NoBranch(ctx, repo, "target", target)
	}
	last, err := facts.RevisionRow(s.records.Read(ctx), c)
	if err != nil {
		return nil, err
	}
	c.Target = target
	p, err := s.RevisionOf(ctx, s.records.Read(ctx), repo, c, &last, last.Head, by)
	if err != nil {
		return nil, err
	}
	if p.Row.Files == 0 {
		return nil, problem.Wrong("target", "%s brings nothing that %s does not have", c.Source, target)
	}
	// Nobody has pushed: whose work it is stays as it was, but for commits that come into view with the other base.
	p.Row.Kind, p.Row.LastPusher, p.Row.Authors, p.commits = event.Retargeted, last.LastPusher, last.Authors, p.Brought
	return &p, nil
}

// mostOnward is how many changes go on to another branch at once: it is done under the repository's lock.
const mostOnward = 20

// Onward has the open changes for a branch that is about to be removed go to another one, on which it has landed; they are judged by
// that one's rules from then on. It says why the branch has to stay, where one of them cannot go there. The repository's lock is held.
func (s *Changes) Onward(ctx context.Context, repo *records.Repository, branch, target string) (stays string, err error) {
	var open []records.Change
	if err := s.records.Read(ctx).Where("repository_id = ? AND target = ? AND state IN ('draft', 'open')", repo.ID, branch).Order("number").Find(&open).Error; err != nil {
		return "", err
	}
	if len(open) > mostOnward {
		return fmt.Sprintf("%d changes go to it, more than are moved at once: %d", len(open), mostOnward), nil
	}
	for _, c := range open {
		err := s.onward(ctx, repo, c, target)
		if why := (*problem.Problem)(nil); errors.As(err, &why) {
			return fmt.Sprintf("change %d goes to it, and cannot go to %s instead: %s", c.Number, target, why.Text), nil
		}
		if err != nil {
			return "", err
		}
	}
	return "", nil
}

func (s *Changes) onward(ctx context.Context, repo *records.Repository, c records.Change, target string) error {
	revision, err := s.retargeted(ctx, repo, c, target, records.Itself)
	if err != nil {
		return err
	}
	if err := s.Keep(ctx, repo, *revision); err != nil {
		return err
	}
	return s.records.Write(ctx, func(tx *records.Tx) error {
		if err := tx.First(&c, c.ID).Error; err != nil {
			return err
		}
		goTo(&c, target)
		c.UpdatedAt = tx.Now()
		if err := tx.Save(&c).Error; err != nil {
			return err
		}
		if err := tx.Record(records.Itself, repo, event.ChangeEdited{OfChange: event.OfChange{Number: c.Number}, Target: &c.Target}); err != nil {
			return err
		}
		return s.recordRetarget(tx, records.Itself, repo, c, *revision)
	})
}

// goTo has a change go to another branch. What it was prepared to take back was on the one before.
func goTo(c *records.Change, target string) {
	c.Target, c.Undoes, c.UndoHead = target, 0, ""
}

// recordRetarget records that a change goes to another branch. In the queue of the one before it has no place any more.
func (s *Changes) recordRetarget(tx *records.Tx, by string, repo *records.Repository, c records.Change,
	revision PendingRevision) error {
	if err := noTwin(tx.DB, c); err != nil {
		return err
	}
	var entry records.Entry
	if err := tx.Where("change_id = ? AND ended_at IS NULL", c.ID).Limit(1).Find(&entry).Error; err != nil {
		return err
	}
	if entry.ID != 0 {
		why := fmt.Sprintf("%s had it go to %s instead of %s: join again", by, c.Target, entry.Target)
		left := queue.Left{At: queue.At{At: tx.Now()}, Entry: entry.ID, By: by, Why: why}
		if err := s.queues.Tell(tx, repo, entry.Target, left); err != nil {
			return err
		}
	}
	revision.Change = c
	return s.SaveRevision(tx, repo, revision)
}

// noTwin refuses a second open change from one branch to another.
func noTwin(db *gorm.DB, c records.Change) error {
	var twin records.Change
	err := db.Where("repository_id = ? AND source = ? AND target = ? AND id <> ? AND state IN ('draft', 'open')",
		c.RepositoryID, c.Source, c.Target, c.ID).First(&twin).Error
	switch {
	case err == nil:
		return problem.New(problem.Conflict, "change %d brings %s into %s already", twin.Number, c.Source, c.Target)
	case errors.Is(err, records.ErrNotFound):
		return nil
	}
	return err
}

// FirstDescription is what the description of a new change begins with: its author's words, or the rules'.
func (s *Changes) FirstDescription(db *gorm.DB, repo *records.Repository, n wire.NewChange) (string, error) {
	if n.Description != nil {
		return *n.Description, nil
	}
	force, err := s.rulebook.RulesOf(db, repo)
	if err != nil {
		return "", err
	}
	return force.Set.Description(), nil
}

// maxDependencies is how many changes one may wait for.
const maxDependencies = 20

// setDependencies says which changes a change waits for, in place of those before. None may wait for itself, however
// far round.
func setDependencies(db *gorm.DB, c records.Change, on []int) error {
	if len(on) > maxDependencies {
		return problem.Wrong("depends_on", "a change waits for at most %d others", maxDependencies)
	}
	on = slices.Compact(slices.Sorted(slices.Values(on)))
	var rows []records.Change
	if err := db.Where("repository_id = ? AND number IN ?", c.RepositoryID, on).Find(&rows).Error; err != nil {
		return err
	}
	if err := db.Where("change_id = ?", c.ID).Delete(&records.ChangeDependency{}).Error; err != nil {
		return err
	}
	for _, n := range on {
		i := slices.IndexFunc(rows, func(r records.Change) bool { return r.Number == n })
		switch {
		case n == c.Number:
			return problem.Wrong("depends_on", "change %d cannot wait for itself", n)
		case i < 0:
			return problem.Wrong("depends_on", "there is no change %d", n)
		}
		waits, err := waitsFor(db, rows[i].ID, c.ID)
		if err != nil {
			return err
		}
		if waits {
			return problem.Wrong("depends_on", "change %d waits for change %d already, so that neither could ever land",
				n, c.Number)
		}
		if err := db.Create(&records.ChangeDependency{ChangeID: c.ID, OnID: rows[i].ID}).Error; err != nil {
			return err
		}
	}
	return nil
}

// waitsFor says whether a change waits for another, through however many in between.
func waitsFor(db *gorm.DB, change, other int64) (bool, error) {
	var n int64
	err := db.Raw(`WITH RECURSIVE ahead (id) AS (SELECT on_id FROM change_dependencies WHERE change_id = ? UNION SELECT d.on_id FROM change_dependencies d JOIN ahead a ON d.change_id = a.id)
SELECT count(*) FROM ahead WHERE id = ?`, change, other).Scan(&n).Error
	return n > 0, err
}
