package repositories

import (
	"context"
	"errors"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"tavrin/internal/core/event"
	"tavrin/internal/core/guard"
	"tavrin/internal/git"
	"tavrin/internal/records"
)

// Tidy packs the repositories that have grown untidy, clears their preview spaces, and removes those for good that were
// deleted long ago.
func (s *Repositories) Tidy(ctx context.Context) error {
	if err := s.purge(ctx); err != nil {
		return err
	}
	var repos []records.Repository
	if err := records.Going(s.records.Read(ctx)).Find(&repos).Error; err != nil {
		return err
	}
	var errs []error
	now := s.records.Now()
	for _, repo := range repos {
		edition, certain := records.EditionOf(s.records.Read(ctx), repo.ID)
		if was, looked := s.tidied[repo.ID]; looked && certain && was.edition == edition && now.Sub(was.at) < tidyAnyhow && !now.Before(was.at) {
			continue // nothing has come since
		}
		s.tidied[repo.ID] = tidied{edition, now}
		headErr := s.disk.Bare(&repo).PointHead(ctx, repo.DefaultBranch)
		packed, err := s.disk.Bare(&repo).Pack(ctx)
		if packed {
			s.log.Info("repository packed", "repository", repo.Name)
		}
		pruned, pruneErr := s.disk.Bare(&repo).Prune(ctx, s.records.Now(), unreachedStays, pruneEvery)
		if errors.Is(pruneErr, git.ErrUsed) {
			pruneErr = nil // another time
		}
		if pruned {
			s.log.Info("objects that nothing reaches were removed", "repository", repo.Name)
		}
		if err := errors.Join(headErr, err, pruneErr, s.clearScratch(ctx, &repo), s.tidyRefs(ctx, &repo)); err != nil {
			errs = append(errs, err)
			delete(s.tidied, repo.ID) // it is tried again
		}
	}
	return errors.Join(errs...)
}

// tidyRefs takes away the names by which rehearsals are kept that are of no more use, and packs the refs where many have a file of
// their own. What has landed is held by its branch.
func (s *Repositories) tidyRefs(ctx context.Context, repo *records.Repository) error {
	bare := s.disk.Bare(repo)
	refs, err := bare.Refs(ctx, git.ReservedRefs+"rehearsals/")
	if err != nil {
		return err
	}
	var useless []string
	for some := range slices.Chunk(refs, 1000) {
		names := map[int64]string{}
		for _, r := range some {
			name := strings.TrimPrefix(r.Name, git.ReservedRefs)
			if id, err := strconv.ParseInt(strings.TrimPrefix(name, "rehearsals/"), 10, 64); err == nil {
				names[id] = name
			}
		}
		var still []int64
		err := s.records.Read(ctx).Raw("SELECT p.id FROM rehearsals p JOIN entries e ON e.id = p.entry_id WHERE p.id IN ? AND "+
			"(p.ended = '' OR e.ended_at IS NULL OR e.state <> 'landed' AND e.ended_at > ?)", slices.Sorted(maps.Keys(names)),
			s.records.Now().AddDate(0, 0, -int(s.bounds.KeepRehearsals))).Scan(&still).Error
		if err != nil {
			return err
		}
		for _, id := range still {
			delete(names, id)
		}
		useless = slices.AppendSeq(useless, maps.Values(names))
	}
	if len(useless) == 0 {
		// it may be that nothing is to be done: the lock is not taken for that
		if many, err := bare.ManyLooseRefs(); err != nil || !many {
			return err
		}
	}
	unlock, err := s.moves.Lock(ctx, repo)
	if err != nil {
		return err
	}
	defer unlock()
	for some := range slices.Chunk(useless, 1000) {
		if err := bare.Release(ctx, some...); err != nil {
			return err
		}
	}
	_, err = bare.PackRefs(ctx)
	return err
}

// tidied is when a repository was last looked at, and under which edition.
type tidied struct {
	edition uint64
	at      time.Time
}

// tidyAnyhow is after how long a repository is looked at in which nothing has happened: what it holds grows old.
const tidyAnyhow = time.Hour

const (
	// unreachedStays is how long an object stays that no ref reaches; pruneEvery, how often such are looked for.
	unreachedStays = 14 * 24 * time.Hour
	pruneEvery     = 7 * 24 * time.Hour
)

// scratchStays is how long something stays in a preview space after it was last pushed.
const scratchStays = 7 * 24 * time.Hour

// clearScratch removes from preview spaces what was pushed there long ago.
func (s *Repositories) clearScratch(ctx context.Context, repo *records.Repository) error {
	refs, err := s.disk.Bare(repo).Refs(ctx, guard.Preview)
	if err != nil {
		return err
	}
	var errs []error
	for _, r := range refs {
		var last records.Intent
		if err := s.records.Read(ctx).Where("repository_id = ? AND ref = ?", repo.ID,
			r.Name).Order("id DESC").Limit(1).Find(&last).Error; err != nil {
			return err
		}
		if s.records.Now().Sub(last.CreatedAt) < scratchStays {
			continue
		}
		errs = append(errs, s.removeScratch(ctx, repo, r))
	}
	return errors.Join(errs...)
}

// removeScratch removes one preview space, as a writer of the repository; not when it was pushed to meanwhile.
func (s *Repositories) removeScratch(ctx context.Context, repo *records.Repository, r git.Ref) error {
	unlock, err := s.moves.Lock(ctx, repo)
	if err != nil {
		return err
	}
	defer unlock()
	if err := s.disk.Bare(repo).MoveRefs(ctx, git.Move{Ref: r.Name, Old: r.ID}); err != nil {
		if errors.Is(err, git.ErrMoved) {
			return nil
		}
		return err
	}
	return s.records.Write(ctx, func(tx *records.Tx) error {
		return tx.Record(records.Itself, repo, event.PreviewDeleted{RefMove: event.RefMove{Ref: r.Name, Old: r.ID},
			Idle: true})
	})
}
