package repositories

import (
	"context"

	"tavrin/internal/accounts"
	"tavrin/internal/core/people"
	"tavrin/internal/problem"
	"tavrin/wire"
)

// ResumeRepository tries once more to resume a repository that was stopped.
func (s *Repositories) ResumeRepository(ctx context.Context, a accounts.Actor, name string) (wire.Repository, error) {
	if err := a.MustAdminister("resolving a repository"); err != nil {
		return wire.Repository{}, err
	}
	repo, err := accounts.Reach(s.records.Read(ctx), a, name, people.Reader)
	if err != nil {
		return wire.Repository{}, err
	}
	defer s.moves.Hold(repo.ID)()
	if err := s.records.Read(ctx).First(repo, repo.ID).Error; err != nil {
		return wire.Repository{}, err
	}
	if repo.Trouble == "" {
		return wire.Repository{}, problem.New(problem.Conflict, "%s is not stopped: there is nothing to resume", name)
	}
	if err := s.moves.SettleOne(context.WithoutCancel(ctx), repo); err != nil {
		return wire.Repository{}, err
	}
	if repo.Trouble != "" {
		return wire.Repository{}, problem.New(problem.Conflict, "%s cannot go on yet: %s. The service's log "+
			"says more; see docs/guide/09-keep-the-service.md", name, repo.Trouble)
	}
	s.moves.Nudge()
	return s.Repository(ctx, a, name)
}
