package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"gorm.io/gorm"

	"tavrin/internal/core/gate"
	"tavrin/internal/core/queue"
	"tavrin/internal/core/rules"
	"tavrin/internal/git"
	"tavrin/internal/store"
	"tavrin/wire"
)

// ChangeEdit is what may be altered of a change; nil leaves a part as it is.
type ChangeEdit struct {
	Title, Description *string
	Draft              *bool
	Target             *string
	DependsOn          *[]int
}

// mayEdit refuses those who are neither authors of a change nor maintainers.
func (s *Service) mayEdit(db *gorm.DB, a Actor, repo *store.Repository, c store.Change, what string) error {
	role, err := roleIn(db, a.account, repo)
	if err != nil || role.AtLeast(gate.Maintainer) || c.OpenedBy == a.Login() {
		return err
	}
	r, err := revisionRow(db, c)
	if err != nil || slices.Contains(r.Authors, a.Login()) {
		return err
	}
	return problem(Forbidden, "%s change %d is for its authors (%s) and maintainers", what, c.Number, strings.Join(r.Authors, ", "))
}

// EditChange alters a change: its title, description, draft state, target, and what it depends on. A change that goes to
// another branch gets a new revision, is judged by that branch's rules from then on, and leaves the queue.
func (s *Service) EditChange(ctx context.Context, a Actor, name string, number int, e ChangeEdit) (wire.Change, error) {
	repo, c, err := s.changeRow(s.store.Read(ctx), a, name, number, gate.Writer)
	if err != nil {
		return wire.Change{}, err
	}
	unlock, err := s.writing(ctx, repo) // so that it neither lands nor gets a revision meanwhile
	if err != nil {
		return wire.Change{}, err
	}
	defer unlock()
	if err := s.store.Read(ctx).First(&c, c.ID).Error; err != nil {
		return wire.Change{}, err
	}
	if err := s.mayEdit(s.store.Read(ctx), a, repo, c, "editing"); err != nil {
		return wire.Change{}, err
	}
	var revision *pendingRevision
	if e.Target != nil && *e.Target != c.Target {
		if revision, err = s.retargeted(ctx, repo, c, *e.Target, a); err != nil {
			return wire.Change{}, err
		}
	}
	err = s.write(ctx, func(tx *tx) error { return s.edit(tx, a, repo, c.ID, e, revision) })
	if err != nil {
		return wire.Change{}, err
	}
	return s.Change(ctx, a, name, number)
}

// edit records an edit, with the revision that a new target makes.
func (s *Service) edit(tx *tx, a Actor, repo *store.Repository, id int64, e ChangeEdit, revision *pendingRevision) error {
	var c store.Change
	if err := tx.First(&c, id).Error; err != nil {
		return err
	}
	if err := s.mayEdit(tx.DB, a, repo, c, "editing"); err != nil {
		return err
	}
	set := map[string]any{"updated_at": s.now()}
	if e.Title != nil {
		if err := line("title", *e.Title, 1, MaxTitle); err != nil {
			return err
		}
		set["title"] = Mask(*e.Title)
	}
	if e.Description != nil {
		if err := prose("description", *e.Description, MaxProse); err != nil {
			return err
		}
		set["description"] = Mask(*e.Description)
	}
	if e.Draft != nil {
		if c.State != "draft" && c.State != "open" {
			return problem(Conflict, "change %d is %s, so it is neither draft nor open", c.Number, c.State)
		}
		set["state"] = map[bool]string{true: "draft", false: "open"}[*e.Draft]
	}
	if revision != nil {
		set["target"] = revision.change.Target
	}
	if err := tx.Model(&c).Updates(set).Error; err != nil {
		return err
	}
	delete(set, "updated_at")
	if e.DependsOn != nil {
		if c.State == "landed" {
			return problem(Conflict, "change %d has landed; it waits for nothing any more", c.Number)
		}
		if err := setDependencies(tx.DB, c, *e.DependsOn); err != nil {
			return err
		}
		set["depends_on"] = *e.DependsOn
	}
	err := tx.record(event{actor: a.Login(), kind: "change.edited", repo: repo, subject: fmt.Sprintf("change/%d", c.Number),
		text: fmt.Sprintf("%s edited change %d", a.Login(), c.Number), data: set})
	if err != nil || revision == nil {
		return err
	}
	return s.recordRetarget(tx, a, repo, c, *revision)
}

// retargeted works out the revision that a change gets by going to another branch.
func (s *Service) retargeted(ctx context.Context, repo *store.Repository, c store.Change, target string, a Actor) (*pendingRevision, error) {
	if c.State != "draft" && c.State != "open" {
		return nil, problem(Conflict, "change %d is %s; only an open change goes to another branch", c.Number, c.State)
	}
	switch {
	case git.CheckBranch(target) != nil:
		return nil, invalid("target", "%v", git.CheckBranch(target))
	case target == c.Source:
		return nil, invalid("target", "source and target would both be %s; a change goes from one branch to another", target)
	case !s.bare(repo).HasBranch(target):
		return nil, invalid("target", "%s has no branch %s", repo.Name, target)
	}
	last, err := revisionRow(s.store.Read(ctx), c)
	if err != nil {
		return nil, err
	}
	c.Target = target
	p, err := s.revisionOf(ctx, repo, c, &last, last.Head, a.Login())
	if err != nil {
		return nil, err
	}
	if p.row.Files == 0 {
		return nil, invalid("target", "%s brings nothing that %s does not have", c.Source, target)
	}
	// Nobody has pushed: whose work it is stays as it was, but for commits that come into view with the other base.
	p.row.Kind, p.row.LastPusher, p.row.Authors, p.commits = "retargeted", last.LastPusher, last.Authors, p.brought
	return &p, nil
}

// recordRetarget records that a change goes to another branch. In the queue of the one before it has no place any more.
func (s *Service) recordRetarget(tx *tx, a Actor, repo *store.Repository, c store.Change, revision pendingRevision) error {
	if err := noTwin(tx.DB, c); err != nil {
		return err
	}
	var entry store.Entry
	if err := tx.Where("change_id = ? AND ended_at IS NULL", c.ID).Limit(1).Find(&entry).Error; err != nil {
		return err
	}
	if entry.ID != 0 {
		why := fmt.Sprintf("%s had it go to %s instead of %s: join again", a.Login(), c.Target, entry.Target)
		if err := s.endEntry(tx, repo, c, &entry, queue.Withdrawn, a.Login(), why); err != nil {
			return err
		}
	}
	revision.change = c
	return s.saveRevision(tx, repo, revision)
}

// noTwin refuses a second open change from one branch to another.
func noTwin(db *gorm.DB, c store.Change) error {
	var twin store.Change
	err := db.Where("repository_id = ? AND source = ? AND target = ? AND id <> ? AND state IN ('draft', 'open')", c.RepositoryID, c.Source, c.Target, c.ID).First(&twin).Error
	switch {
	case err == nil:
		return problem(Conflict, "change %d brings %s into %s already", twin.Number, c.Source, c.Target)
	case errors.Is(err, store.ErrNotFound):
		return nil
	}
	return err
}

// firstDescription is what the description of a new change begins with: its author's words, or the rules'.
func (s *Service) firstDescription(db *gorm.DB, repo *store.Repository, n NewChange) (string, error) {
	if n.Description != nil {
		return *n.Description, nil
	}
	force, err := s.rulesOf(db, repo)
	if err != nil {
		return "", err
	}
	return force.set.Description(), nil
}

// maxDependencies is how many changes one may wait for.
const maxDependencies = 20

// setDependencies says which changes a change waits for, in place of those before. None may wait for itself, however
// far round.
func setDependencies(db *gorm.DB, c store.Change, on []int) error {
	if len(on) > maxDependencies {
		return invalid("depends_on", "a change waits for at most %d others", maxDependencies)
	}
	on = slices.Compact(slices.Sorted(slices.Values(on)))
	var rows []store.Change
	if err := db.Where("repository_id = ? AND number IN ?", c.RepositoryID, on).Find(&rows).Error; err != nil {
		return err
	}
	if err := db.Where("change_id = ?", c.ID).Delete(&store.ChangeDependency{}).Error; err != nil {
		return err
	}
	for _, n := range on {
		i := slices.IndexFunc(rows, func(r store.Change) bool { return r.Number == n })
		switch {
		case n == c.Number:
			return invalid("depends_on", "change %d cannot wait for itself", n)
		case i < 0:
			return invalid("depends_on", "there is no change %d", n)
		}
		waits, err := waitsFor(db, rows[i].ID, c.ID)
		if err != nil {
			return err
		}
		if waits {
			return invalid("depends_on", "change %d waits for change %d already, so that neither could ever land", n, c.Number)
		}
		if err := db.Create(&store.ChangeDependency{ChangeID: c.ID, OnID: rows[i].ID}).Error; err != nil {
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

// dependencies gives the gate the changes that a change waits for.
func dependencies(db *gorm.DB, c store.Change) ([]gate.Dependency, error) {
	var out []gate.Dependency
	err := db.Raw("SELECT c.number, c.title, c.state, c.target FROM change_dependencies d JOIN changes c ON c.id = d.on_id WHERE d.change_id = ? ORDER BY c.number", c.ID).Scan(&out).Error
	return out, err
}

// BringUp brings a change's source branch up to its target: by a rebase, or by a merge of the target. It is a push of the
// actor's, judged as one. Landing does not need it: the queue rehearses every change on the newest target.
func (s *Service) BringUp(ctx context.Context, a Actor, name string, number int, by git.Strategy) (wire.Change, error) {
	db := s.store.Read(ctx)
	repo, c, err := s.changeRow(db, a, name, number, gate.Writer)
	if err != nil {
		return wire.Change{}, err
	}
	if err := s.mayEdit(db, a, repo, c, "bringing up"); err != nil {
		return wire.Change{}, err
	}
	if c.State != "draft" && c.State != "open" {
		return wire.Change{}, problem(Conflict, "change %d is %s; only an open change is brought up", number, c.State)
	}
	head, tip, err := s.ends(ctx, repo, NewChange{Source: c.Source, Target: c.Target})
	if err != nil {
		return wire.Change{}, err
	}
	if up, err := s.bare(repo).IsAncestor(ctx, tip, head); err != nil || up {
		if err == nil {
			err = problem(Conflict, "%s has everything of %s already", c.Source, c.Target)
		}
		return wire.Change{}, err
	}
	me := git.Signature{Name: a.account.Name, Email: a.account.Email, When: s.now()}
	revision, err := revisionRow(db, c)
	if err != nil {
		return wire.Change{}, err
	}
	plan := git.Plan{Base: tip, Head: head, Strategy: git.Rebase, Author: me, Committer: me}
	if revision.Bases == 1 && revision.Head == head { // else Git's own merge says what it brings
		plan.Shown = revision.Base
	}
	if by == git.Merge {
		force, err := s.rulesOf(db, repo)
		if err != nil {
			return wire.Change{}, err
		}
		if with := force.now().For(c.Target).With; slices.Equal(with, []rules.Strategy{rules.Rebase}) {
			return wire.Change{}, problem(Conflict, "%s keeps a straight line: changes land on it by rebase alone, which has no use for a merge. Bring %s up by rebase", c.Target, c.Source)
		}
		plan = git.Plan{Base: head, Head: tip, Strategy: git.Merge, Author: me, Committer: me, Message: fmt.Sprintf("Merge %s into %s\n", c.Target, c.Source)}
	}
	built, err := s.bare(repo).Build(ctx, plan)
	var conflict *git.ConflictError
	var nothing git.NothingError
	var different *git.DifferentError
	switch {
	case errors.As(err, &conflict):
		return wire.Change{}, problem(Conflict, "%s and %s do not go together in %s: bring it up in a clone and settle the conflict there (git fetch origin && git rebase origin/%s)", c.Source, c.Target, strings.Join(conflict.Files, ", "), c.Target)
	case errors.As(err, &nothing):
		return wire.Change{}, problem(Conflict, "%s has everything that %s brings already: close the change", c.Target, c.Source)
	case errors.As(err, &different):
		return wire.Change{}, problem(Conflict, "%v: bring it up in a clone, where you see what is kept (git fetch origin && git rebase origin/%s), or by a merge (--by merge)", err, c.Target)
	case err != nil:
		return wire.Change{}, err
	}
	if err := s.pushFor(ctx, a, repo, git.Update{Ref: "refs/heads/" + c.Source, Old: head, New: built.Commit}, nil); err != nil {
		return wire.Change{}, err
	}
	return s.Change(ctx, a, name, number)
}

// pushFor moves a branch to a commit that the service built for the actor, as a push of theirs: judged by the same rules,
// on record in the same way, together with the remarks whose suggestions it takes in. The repository's lock must not be held.
func (s *Service) pushFor(ctx context.Context, a Actor, repo *store.Repository, u git.Update, takes []int64) error {
	p := push{s: s, a: a, repo: repo, bare: s.bare(repo), takes: takes}
	in, err := p.bare.Local(ctx, u)
	if err != nil {
		return err
	}
	results, lines := p.decide(ctx, in)
	if why := results[0].Refused; why != "" {
		return problem(Conflict, "%s was not moved: %s. %s", strings.TrimPrefix(u.Ref, "refs/heads/"), why, strings.Join(lines, " "))
	}
	return nil
}

// rewritten tells who rewrites a branch whose commits are gone from it by that; nothing when it was all their own.
func (s *Service) rewritten(ctx context.Context, repo *store.Repository, i *store.Intent) ([]string, error) {
	if i.Old == "" || i.New == "" {
		return nil, nil
	}
	bare := s.bare(repo)
	forward, err := bare.IsAncestor(ctx, i.Old, i.New)
	if err != nil || forward {
		return nil, err
	}
	ids, err := bare.Between(ctx, i.Old, []string{i.New})
	if err != nil {
		return nil, err
	}
	owners, err := ownersOfCommits(s.store.Read(ctx), repo.ID, ids)
	if err != nil {
		return nil, err
	}
	owners = slices.DeleteFunc(slices.Compact(slices.Sorted(slices.Values(owners))), func(login string) bool { return login == i.Actor })
	if len(owners) == 0 {
		return nil, nil
	}
	branch := strings.TrimPrefix(i.Ref, "refs/heads/")
	return []string{
		fmt.Sprintf("You rewrote %s, which %s had pushed to as well: it stood at %.10s. Tell them; in their clones they go on with:", branch, strings.Join(owners, " and "), i.Old),
		fmt.Sprintf("  git fetch origin && git switch %s && git reset --keep origin/%s", branch, branch),
		"If that was not meant, put it back:",
		fmt.Sprintf("  git push --force-with-lease origin %s:refs/heads/%s", i.Old, branch),
	}, nil
}
