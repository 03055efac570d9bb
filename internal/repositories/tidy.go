package repositories

import (
	"context"
	"errors"
	"maps"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"tavrin/internal/core/event"
	"tavrin/internal/core/guard"
	"tavrin/internal/git"
	"tavrin/internal/records"
)

// Tidy clears the preview spaces of the repositories, takes away what is of no more use in them, and removes those for good
// that were deleted long ago. What has grown many is packed by Pack.
func (s *Repositories) Tidy(ctx context.Context) error {
	if err := s.purge(ctx); err != nil {
		return err
	}
	return s.tidied.visit(ctx, s, func(repo *records.Repository) error {
		headErr := s.disk.Bare(repo).PointHead(ctx, repo.DefaultBranch)
		pruned, err := s.disk.Bare(repo).Prune(ctx, s.records.Now(), unreachedStays, pruneEvery)
		if errors.Is(err, git.ErrUsed) {
			err = nil // another time
		}
		if pruned {
			s.log.Info("objects that nothing reaches were removed", "repository", repo.Name)
		}
		return errors.Join(headErr, err, s.clearScratch(ctx, repo), s.tidyRefs(ctx, repo))
	})
}

// Pack packs the objects and the refs of the repositories in which many lie by themselves. Every run of Git looks into each
// pack, and a landing makes several.
func (s *Repositories) Pack(ctx context.Context) error {
	return s.packed.visit(ctx, s, func(repo *records.Repository) error {
		bare := s.disk.Bare(repo)
		packed, err := bare.Pack(ctx)
		if packed {
			s.log.Info("repository packed", "repository", repo.Name)
		}
		if many, refsErr := bare.ManyLooseRefs(); refsErr != nil || !many { // the lock is not taken for nothing
			return errors.Join(err, refsErr)
		}
		unlock, lockErr := s.moves.Lock(ctx, repo)
		if lockErr != nil {
			return errors.Join(err, lockErr)
		}
		defer unlock()
		_, refsErr := bare.PackRefs(ctx)
		return errors.Join(err, refsErr)
	})
}

// visits are when repositories were last looked at, each under which edition. They are for one who goes round.
type visits struct {
	round sync.Mutex
	last  map[int64]visited
}

type visited struct {
	edition uint64
	at      time.Time
}

// visitAnyhow is after how long a repository is looked at in which nothing has happened: what it holds grows old.
const visitAnyhow = time.Hour

// visit looks at the repositories in which something has happened since it looked last.
func (v *visits) visit(ctx context.Context, s *Repositories, look func(*records.Repository) error) error {
	v.round.Lock()
	defer v.round.Unlock()
	if v.last == nil {
		v.last = map[int64]visited{}
	}
	var repos []records.Repository
	if err := records.Going(s.records.Read(ctx)).Find(&repos).Error; err != nil {
		return err
	}
	var errs []error
	now := s.records.Now()
	for _, repo := range repos {
		edition, certain := records.EditionOf(s.records.Read(ctx), repo.ID)
		if was, looked := v.last[repo.ID]; looked && certain && was.edition == edition && now.Sub(was.at) < visitAnyhow && !now.Before(was.at) {
			continue // nothing has come since
		}
		v.last[repo.ID] = visited{edition, now}
		if err := look(&repo); err != nil {
			errs = append(errs, err)
			delete(v.last, repo.ID) // it is tried again
		}
	}
	return errors.Join(errs...)
}

// tidyRefs takes away the names by which rehearsals are kept that are of no more use. What has landed is held by its branch.
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
		return nil // the lock is not taken for that
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
	return nil
}

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
