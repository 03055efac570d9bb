package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"tavrin/internal/core/gate"
	"tavrin/internal/core/guard"
	"tavrin/internal/core/rules"
	"tavrin/internal/git"
	"tavrin/internal/store"
	"tavrin/wire"
)

// Preview says what a change would meet that is not opened yet: its gate, the areas it would touch and whose approval
// would be enough, who would be asked, and whether it merges. Nothing is recorded.
func (s *Service) Preview(ctx context.Context, a Actor, name string, n NewChange) (wire.Preview, error) {
	db := s.store.Read(ctx)
	repo, err := s.reach(db, a, name, gate.Reader)
	if err != nil {
		return wire.Preview{}, err
	}
	if n.Target == "" {
		n.Target = repo.DefaultBranch
	}
	head, tip, err := s.previewEnds(ctx, repo, n)
	if err != nil {
		return wire.Preview{}, err
	}
	description, err := s.firstDescription(db, repo, n)
	if err != nil {
		return wire.Preview{}, err
	}
	c := store.Change{RepositoryID: repo.ID, Title: n.Title, Description: description, Source: n.Source, Target: n.Target, State: "open", OpenedBy: a.Login()}
	p, err := s.revisionOf(ctx, repo, c, nil, head, a.Login())
	if err != nil {
		return wire.Preview{}, err
	}
	authors, err := contributors(db, repo, p)
	if err != nil {
		return wire.Preview{}, err
	}
	wrote, err := commitAuthors(db, repo, p.brought)
	if err != nil {
		return wire.Preview{}, err
	}
	p.row.Authors = slices.Compact(slices.Sorted(slices.Values(append(p.row.Authors, authors...))))
	p.row.CommitAuthors = slices.Compact(slices.Sorted(slices.Values(wrote)))
	c.Revision = p.row.Number
	g, err := s.gatherRevision(db, repo, c, p.row)
	if err != nil {
		return wire.Preview{}, err
	}
	v := wire.Preview{Source: n.Source, Description: description, Target: n.Target, Head: head, Base: p.row.Base, Commits: len(p.brought), Files: p.row.Files, Added: p.row.Added, Removed: p.row.Removed,
		Report: g.judge(), Areas: changeAreas(g), Reviewers: []wire.Reviewer{}}
	for _, r := range wantedReviewers(g.set, c, gate.Comes(g.set, g.facts)) {
		v.Reviewers = append(v.Reviewers, wire.Reviewer{Who: r.Who, Optional: r.Optional, Because: r.Because})
	}
	v.Conflict, err = s.wouldNotLand(ctx, repo, g, tip)
	return v, err
}

// previewEnds is ends for a source that may be in somebody's scratch space too.
func (s *Service) previewEnds(ctx context.Context, repo *store.Repository, n NewChange) (head, tip string, err error) {
	if !strings.HasPrefix(n.Source, guard.Scratch) {
		return s.ends(ctx, repo, n)
	}
	bare := s.bare(repo)
	if head, err = bare.Tip(ctx, n.Source); err != nil {
		return "", "", invalid("source", "%s has nothing at %s: push it there first", repo.Name, n.Source)
	}
	if err := git.CheckBranch(n.Target); err != nil {
		return "", "", invalid("target", "%v", err)
	}
	if tip, err = bare.Tip(ctx, "refs/heads/"+n.Target); err != nil {
		return "", "", invalid("target", "%s has no branch %s", repo.Name, n.Target)
	}
	return head, tip, nil
}

// scratchStays is how long something stays in a scratch space after it was last pushed.
const scratchStays = 7 * 24 * time.Hour

// clearScratch removes from scratch spaces what was pushed there long ago.
func (s *Service) clearScratch(ctx context.Context, repo *store.Repository) error {
	refs, err := s.bare(repo).Refs(ctx, guard.Scratch)
	if err != nil {
		return err
	}
	var errs []error
	for _, r := range refs {
		var last store.Intent
		if err := s.store.Read(ctx).Where("repository_id = ? AND ref = ?", repo.ID, r.Name).Order("id DESC").Limit(1).Find(&last).Error; err != nil {
			return err
		}
		if s.now().Sub(last.CreatedAt) < scratchStays {
			continue
		}
		errs = append(errs, s.removeScratch(ctx, repo, r))
	}
	return errors.Join(errs...)
}

// removeScratch removes one scratch space, as a writer of the repository; not when it was pushed to meanwhile.
func (s *Service) removeScratch(ctx context.Context, repo *store.Repository, r git.Ref) error {
	unlock, err := s.writing(ctx, repo)
	if err != nil {
		return err
	}
	defer unlock()
	if err := s.bare(repo).MoveRefs(ctx, git.Move{Ref: r.Name, Old: r.ID}); err != nil {
		if errors.Is(err, git.ErrMoved) {
			return nil
		}
		return err
	}
	return s.write(ctx, func(tx *tx) error {
		return tx.record(event{actor: itself, kind: "scratch.deleted", repo: repo, subject: r.Name, text: fmt.Sprintf("%s was removed: nobody had pushed to it for a week", r.Name), data: map[string]any{"old": r.ID}})
	})
}

// ends finds the tips of a change's branches, and says what is wrong with either.
func (s *Service) ends(ctx context.Context, repo *store.Repository, n NewChange) (head, tip string, err error) {
	for _, end := range []struct{ field, branch string }{{"source", n.Source}, {"target", n.Target}} {
		if err := git.CheckBranch(end.branch); err != nil {
			return "", "", invalid(end.field, "%v", err)
		}
	}
	if n.Source == n.Target {
		return "", "", invalid("source", "source and target are both %s; a change goes from one branch to another", n.Source)
	}
	bare := s.bare(repo)
	if head, err = bare.Tip(ctx, "refs/heads/"+n.Source); err != nil {
		return "", "", invalid("source", "%s has no branch %s: push it first", repo.Name, n.Source)
	}
	if tip, err = bare.Tip(ctx, "refs/heads/"+n.Target); err != nil {
		return "", "", invalid("target", "%s has no branch %s", repo.Name, n.Target)
	}
	return head, tip, nil
}

// wouldNotLand says in words why what was worked out of a change would not land on the target as it is now; nothing when it
// would.
func (s *Service) wouldNotLand(ctx context.Context, repo *store.Repository, g gathered, tip string) (string, error) {
	strategy, _, err := g.set.Without(g.facts.Suspended).For(g.change.Target).Choose("")
	if err != nil {
		strategy = rules.Squash // any will do to see whether it goes together with the target
	}
	plan, err := s.planOf(ctx, repo, &g, store.Rehearsal{Base: tip, Head: g.revision.Head, Strategy: string(strategy)})
	if err != nil {
		return "", err
	}
	err = s.bare(repo).Try(ctx, plan)
	switch {
	case errors.As(err, new(*git.ConflictError)):
		return fmt.Sprintf("%v: bring it up to the target and settle the conflict there", err), nil
	case errors.As(err, new(*git.DifferentError)):
		return fmt.Sprintf("%v: another strategy may land it, or bring it up to the target", err), nil
	case errors.As(err, new(git.NothingError)):
		return err.Error(), nil
	}
	return "", err
}
