package changes

import (
	"context"
	"strings"

	"tavrin/internal/core/guard"
	"tavrin/internal/git"
	"tavrin/internal/problem"
	"tavrin/internal/records"
	"tavrin/wire"
)

// PreviewEnds is ends for a source that may be in somebody's preview space too.
func (s *Changes) PreviewEnds(ctx context.Context, repo *records.Repository,
	n wire.NewChange) (head, tip string, err error) {
	if !strings.HasPrefix(n.Source, guard.Preview) {
		return s.Ends(ctx, repo, n)
	}
	bare := s.disk.Bare(repo)
	if head, err = bare.Tip(ctx, n.Source); err != nil {
		return "", "", problem.Wrong("source", "%s has nothing at %s: push it there first", repo.Name, n.Source)
	}
	if err := git.CheckBranch(n.Target); err != nil {
		return "", "", problem.Wrong("target", "%v", err)
	}
	if tip, err = bare.Tip(ctx, "refs/heads/"+n.Target); err != nil {
		return "", "", s.disk.NoBranch(ctx, repo, "target", n.Target)
	}
	return head, tip, nil
}

// Ends finds the tips of a change's branches, and says what is wrong with either.
func (s *Changes) Ends(ctx context.Context, repo *records.Repository, n wire.NewChange) (head, tip string, err error) {
	for _, end := range []struct{ field, branch string }{{"source", n.Source}, {"target", n.Target}} {
		if err := git.CheckBranch(end.branch); err != nil {
			return "", "", problem.Wrong(end.field, "%v", err)
		}
	}
	if n.Source == n.Target {
		return "", "", problem.Wrong("source",
			"source and target are both %s; a change goes from one branch to another", n.Source)
	}
	bare := s.disk.Bare(repo)
	if head, err = bare.Tip(ctx, "refs/heads/"+n.Source); err != nil {
		return "", "", s.disk.NoBranch(ctx, repo, "source", n.Source)
	}
	if tip, err = bare.Tip(ctx, "refs/heads/"+n.Target); err != nil {
		return "", "", s.disk.NoBranch(ctx, repo, "target", n.Target)
	}
	return head, tip, nil
}
