// Package moves has refs of hosted repositories moved, one writer per repository at a time.
//
// A protected move is made in three steps, each of which can be the last before the process is killed: an intent is put
// on record, the ref is moved by compare-and-swap, and what came of it is recorded. An intent that is open says that a
// ref was about to move and nobody wrote down what came of it; the ref says what happened. Every writer of a repository
// settles what is open before it does anything else, and so does every round of its queue.
//
// What an intent is for, and what follows from a move, is left to those above: pushes, landings, removals.
package moves

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"sync"

	"tavrin/internal/core/event"
	"tavrin/internal/git"
	"tavrin/internal/hosted"
	"tavrin/internal/problem"
	"tavrin/internal/records"
	"tavrin/internal/typed"
)

// The kinds of intents.
const (
	Push    = "push"    // somebody's push moves a ref
	Landing = "landing" // a landing moves its target
	Removal = "removal" // a landed change's source branch goes
)

// The outcomes of an intent that is settled.
const (
	Done    = "done"    // the ref moved
	Dropped = "dropped" // it did not
	Lost    = "lost"    // the ref stands where the intent cannot explain it
)

// Settler settles an open intent of its kind: made says that the ref moved as intended, tip where it stands. The
// repository's lock is held.
type Settler func(ctx context.Context, repo *records.Repository, i *records.Intent, made bool, tip string) error

// Moves is where refs move. Its methods may be called concurrently.
type Moves struct {
	records  *records.Records
	disk     *hosted.Disk
	log      *slog.Logger
	at       func(string)
	settlers map[string]Settler
	woken    chan struct{}

	mu    sync.Mutex
	locks map[int64]*sync.Mutex // one writer per repository
	noted map[int64]*noted
}

// New returns the moves of hosted repositories. at is called at each named step, nil: by nobody; tests stop the process
// there.
func New(r *records.Records, disk *hosted.Disk, log *slog.Logger, at func(step string)) *Moves {
	if at == nil {
		at = func(string) {}
	}
	return &Moves{
		records: r, disk: disk, log: log, at: at,
		settlers: map[string]Settler{}, woken: make(chan struct{}, 1), locks: map[int64]*sync.Mutex{}, noted: map[int64]*noted{},
	}
}

// Settles says who settles the intents of a kind. It is for the start.
func (m *Moves) Settles(kind string, by Settler) { m.settlers[kind] = by }

// At tells that a step is reached.
func (m *Moves) At(step string) { m.at(step) }

// Nudge has the queues looked at again, when nothing was written that would.
func (m *Moves) Nudge() {
	select {
	case m.woken <- struct{}{}:
	default:
	}
}

// Woken receives after a Nudge.
func (m *Moves) Woken() <-chan struct{} { return m.woken }

// Hold takes the lock of a repository as it is, for those who look and settle by hand.
func (m *Moves) Hold(repo int64) (release func()) {
	m.mu.Lock()
	lock := m.locks[repo]
	if lock == nil {
		lock = &sync.Mutex{}
		m.locks[repo] = lock
	}
	m.mu.Unlock()
	lock.Lock()
	return lock.Unlock
}

// Lock takes a repository's lock for a writer, with nothing left open by the one before. repo is read again under it.
func (m *Moves) Lock(ctx context.Context, repo *records.Repository) (unlock func(), err error) {
	release := m.Hold(repo.ID)
	if err := m.records.Read(ctx).First(repo, repo.ID).Error; err != nil {
		release()
		return nil, err
	}
	if err = records.Writable(repo); err != nil {
		// nothing is begun in it
	} else if err = m.SettleOpen(context.WithoutCancel(ctx), repo); err != nil {
		m.log.Error("what is open could not be settled", "repository", repo.Name, "error", err)
		err = problem.New(problem.Unavailable, "the service has trouble with %s: something was begun and could not "+
			"be finished yet. "+
			"It tries again by itself; try again in a minute", repo.Name)
	}
	if err != nil {
		release()
		return nil, err
	}
	return release, nil
}

// SettleOpen settles the open intents of a repository. Its lock is held.
func (m *Moves) SettleOpen(ctx context.Context, repo *records.Repository) error {
	var open []records.Intent
	if err := m.records.Read(ctx).Where("repository_id = ? AND outcome = ''",
		repo.ID).Order("id").Find(&open).Error; err != nil {
		return err
	}
	for i := range open {
		if err := m.settle(ctx, repo, &open[i]); err != nil {
			return fmt.Errorf("intent %d of %s: %w", open[i].ID, repo.Name, err)
		}
	}
	return nil
}

// settle settles one open intent: the ref says whether the move was made.
func (m *Moves) settle(ctx context.Context, repo *records.Repository, i *records.Intent) error {
	made, tip, err := m.HasMoved(ctx, repo, i.Ref, i.Old, i.New)
	if err != nil {
		return err
	}
	m.log.Warn("an open intent was found", "repository", repo.Name, "ref", i.Ref, "kind", i.Kind, "made", made)
	settler := m.settlers[i.Kind]
	if settler == nil {
		return fmt.Errorf("nobody settles intents of kind %q", i.Kind)
	}
	return settler(ctx, repo, i, made, tip)
}

// Try moves the ref of an intent. An error of git's does not say that it did not move: the ref does. If neither is
// known, the error is returned, and the intent stays open for the next round.
func (m *Moves) Try(ctx context.Context, repo *records.Repository,
	i *records.Intent) (made bool, tip string, err error) {
	m.Note(repo.ID, i.Ref)
	failed := m.disk.Bare(repo).MoveRefs(ctx, git.Move{Ref: i.Ref, Old: i.Old, New: i.New})
	if failed == nil {
		return true, i.New, nil
	}
	made, tip, err = m.HasMoved(ctx, repo, i.Ref, i.Old, i.New)
	if err != nil {
		return false, "", errors.Join(failed, err)
	}
	if made {
		m.log.Warn("a move was reported as failed and was made", "repository", repo.Name, "ref", i.Ref, "error", failed)
		return true, tip, nil
	}
	return false, tip, &NotMadeError{failed}
}

// NotMadeError says that a ref stands where it stood, or elsewhere, and why git did not move it.
type NotMadeError struct{ Why error }

// Error returns the reason.
func (e *NotMadeError) Error() string { return e.Why.Error() }

// Unwrap returns the reason.
func (e *NotMadeError) Unwrap() error { return e.Why }

// HasMoved says whether a ref was moved as intended: it is there, or what it points at came after that.
func (m *Moves) HasMoved(ctx context.Context, repo *records.Repository, ref, old,
	new string) (moved bool, at string, err error) {
	bare := m.disk.Bare(repo)
	if at, err = bare.At(ref); err != nil || at == new {
		return err == nil, at, err
	}
	if at == "" || new == "" || at == old || !strings.HasPrefix(ref, "refs/heads/") {
		return false, at, nil
	}
	moved, err = bare.IsAncestor(ctx, new, at)
	return moved, at, err
}

// Close settles an intent from which nothing follows.
func (m *Moves) Close(ctx context.Context, i *records.Intent, outcome string) error {
	return m.records.Write(ctx, func(tx *records.Tx) error {
		tx.TouchesNothing()
		return tx.Model(i).Update("outcome", outcome).Error
	})
}

// SettleAll brings branches and records into agreement at the start, before anything else happens. A repository in
// which that does not work is stopped, loudly; everything else goes on.
func (m *Moves) SettleAll(ctx context.Context) error {
	if err := m.disk.Sweep(); err != nil {
		return err
	}
	var repos []records.Repository
	if err := m.records.Read(ctx).Where("NOT purged").Find(&repos).Error; err != nil {
		return err
	}
	for i := range repos {
		if err := m.SettleOne(ctx, &repos[i]); err != nil {
			return err
		}
	}
	return nil
}

// SettleOne tidies one repository and settles what is open in it, or sets it apart. Nobody else writes to it: the
// service is starting, or the lock is held. The error is of the records alone.
func (m *Moves) SettleOne(ctx context.Context, repo *records.Repository) error {
	was := repo.Trouble
	repo.Trouble = ""
	trouble := m.disk.Bare(repo).Tidy()
	if trouble == nil {
		trouble = m.SettleOpen(ctx, repo)
	}
	if trouble == nil && was == "" {
		return nil
	}
	return m.records.Write(ctx, func(tx *records.Tx) error {
		if trouble == nil {
			return m.joinAgain(tx, repo)
		}
		m.log.Error("A REPOSITORY IS STOPPED: it is read-only until an administrator has looked",
			"repository", repo.Name, "error", trouble, "next", "tavrin repo resume "+repo.Name)
		now := m.records.Now()
		repo.Trouble, repo.TroubleSince = typed.Shortened(trouble.Error()), &now
		err := tx.Model(repo).Updates(map[string]any{"trouble": repo.Trouble, "trouble_since": now}).Error
		if err != nil || was == repo.Trouble {
			return err
		}
		return tx.Record(records.Itself, repo, event.RepositoryStopped{Name: repo.Name, Trouble: repo.Trouble})
	})
}

// joinAgain ends a repository's being stopped.
func (m *Moves) joinAgain(tx *records.Tx, repo *records.Repository) error {
	repo.Trouble, repo.TroubleSince = "", nil
	if err := tx.Model(repo).Updates(map[string]any{"trouble": "", "trouble_since": nil}).Error; err != nil {
		return err
	}
	return tx.Record(records.Itself, repo, event.RepositoryResumed{Name: repo.Name})
}
