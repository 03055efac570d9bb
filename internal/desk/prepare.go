package desk

import (
	"context"
	"errors"
	"runtime"
	"sync"

	"tavrin/internal/accounts"
	"tavrin/internal/core/people"
	"tavrin/internal/records"
)

const (
	// manyRepositories is from how many repositories on that are to be looked into several are looked into at once.
	manyRepositories = 20
	// lookers is how many do so at most: each has one of the connections that read.
	lookers = 4
)

// prepare looks into the repositories of which nothing is remembered for the actor, several at once where there are many, so that it
// is remembered when the desk is put together from one snapshot.
func (s *Desk) prepare(ctx context.Context, a accounts.Actor) error {
	missing, roles, err := s.unknown(ctx, a)
	if err != nil || len(missing) < manyRepositories {
		return err
	}
	next := make(chan *records.Repository)
	errs := make([]error, min(lookers, runtime.GOMAXPROCS(0)))
	var all sync.WaitGroup
	for i := range errs {
		all.Go(func() {
			for repo := range next {
				if errs[i] == nil {
					errs[i] = s.remember(records.Watched(ctx), a, repo, roles.In(repo).AtLeast(people.Maintainer) && !a.Account().Robot)
				}
			}
		})
	}
	for i := range missing {
		next <- &missing[i]
	}
	close(next)
	all.Wait()
	return errors.Join(errs...)
}

// unknown lists the repositories of which nothing is remembered for the actor.
func (s *Desk) unknown(ctx context.Context, a accounts.Actor) ([]records.Repository, accounts.Roles, error) {
	snap := s.records.View(ctx)
	defer snap.Close()
	repos, err := accounts.Readable(snap.DB, a)
	if err != nil || len(repos) < manyRepositories {
		return nil, accounts.Roles{}, err
	}
	roles, err := accounts.RolesOf(snap.DB, a.Account())
	var missing []records.Repository
	for i := range repos {
		if _, known, e := s.known(snap, a, &repos[i]); e != nil {
			return nil, roles, e
		} else if !known {
			missing = append(missing, repos[i])
		}
	}
	return missing, roles, err
}

// remember looks into one repository from a snapshot of its own.
func (s *Desk) remember(ctx context.Context, a accounts.Actor, repo *records.Repository, keeps bool) error {
	snap := s.records.View(ctx)
	defer snap.Close()
	_, err := s.deskIn(snap, a, repo, keeps)
	return err
}
