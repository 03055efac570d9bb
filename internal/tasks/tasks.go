// Package tasks is work that takes longer than a call may: it is begun, looked at as far as it is, and given up.
//
// A task runs in the background, belongs to whoever began it, and is kept in memory until nobody has asked for it for a while: what it
// changes, if anything, is on record by itself. It promises that nobody else sees it, that the right to begin it is asked again whenever its result
// is read, and that it ends with the service. What it does is a matter of the rooms.
package tasks

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"runtime/debug"
	"sync"
	"time"

	"tavrin/internal/accounts"
	"tavrin/internal/problem"
	"tavrin/internal/records"
	"tavrin/wire"
)

const (
	// kept is how long a task can be read after it was last asked for, mostKept how many of one person.
	kept     = 15 * time.Minute
	mostKept = 4
	// mostRunning is how many run at once in the whole service; others wait for their turn.
	mostRunning = 2
	mostWaiting = 20
)

// Tasks are those of a service. Its methods may be called concurrently.
type Tasks struct {
	records *records.Records
	turns   chan struct{}
	running sync.WaitGroup

	mu    sync.Mutex
	of    map[string]*task
	ended bool
}

// New returns the tasks of a service.
func New(r *records.Records) *Tasks {
	return &Tasks{records: r, turns: make(chan struct{}, mostRunning), of: map[string]*task{}}
}

// Work is what a task does: it tells how far it is, as a share and in words, and puts what came of it where the task is shown.
type Work struct {
	// What it is, such as "verify the journal".
	What string
	// May says whether an actor may still read what comes of it.
	May func(ctx context.Context, a accounts.Actor) error
	// Do does it. Where it changes what is shown, it fills in the field of the task that its result has.
	Do func(ctx context.Context, tell func(done float64, words string), result *wire.Task) error
}

type task struct {
	login string
	may   func(ctx context.Context, a accounts.Actor) error
	stop  context.CancelFunc
	asked time.Time // the lock of Tasks is held

	mu   sync.Mutex
	view wire.Task
}

// Begin begins a task for somebody.
func (s *Tasks) Begin(ctx context.Context, a accounts.Actor, w Work) (wire.Task, error) {
	if !a.Known() {
		return wire.Task{}, problem.New(problem.SignInNeeded, "sign in to have something done")
	}
	if err := w.May(ctx, a); err != nil {
		return wire.Task{}, err
	}
	running, stop := context.WithCancel(records.Watched(context.WithoutCancel(ctx))) // it goes on when the call has been answered
	t := &task{login: a.Login(), may: w.May, stop: stop, asked: s.records.Now(), view: wire.Task{ID: rand.Text(), What: w.What, State: "running"}}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.forget(t.login, t.asked)
	waiting := 0
	for _, other := range s.of {
		if other.shown().State == "running" {
			waiting++
		}
	}
	if s.ended || waiting >= mostWaiting {
		stop()
		return wire.Task{}, problem.New(problem.Unavailable, "too much is being worked on; ask again in a minute")
	}
	s.of[t.view.ID] = t
	s.running.Go(func() {
		defer stop()
		s.run(running, t, w)
	})
	return t.shown(), nil
}

// run does a task when it is its turn.
func (s *Tasks) run(ctx context.Context, t *task, w Work) {
	var result wire.Task
	err := func() (err error) {
		select {
		case s.turns <- struct{}{}:
			defer func() { <-s.turns }()
		case <-ctx.Done():
			return ctx.Err()
		}
		defer func() {
			if fault := recover(); fault != nil { // a fault of a task's is no end of the service
				err = fmt.Errorf("a fault in the program: %v\n%s", fault, debug.Stack())
			}
		}()
		return w.Do(ctx, t.tell, &result)
	}()
	t.mu.Lock()
	defer t.mu.Unlock()
	result.ID, result.What, result.Words = t.view.ID, t.view.What, t.view.Words
	result.State, result.Done = "ready", 1
	if err != nil {
		result.State, result.Done = "failed", t.view.Done
		if result.Problem = "the service has trouble with it: its log says which"; ctx.Err() != nil {
			result.State, result.Problem = "stopped", "it was given up"
		} else if p, is := errors.AsType[*problem.Problem](err); is {
			result.Problem = p.Text
		}
	}
	t.view = result
}

func (t *task) tell(done float64, words string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.view.Done, t.view.Words = min(max(0, done), 1), words
}

func (t *task) shown() wire.Task {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.view
}

// Get returns a task of an actor's, as far as it is, while they may read what comes of it.
func (s *Tasks) Get(ctx context.Context, a accounts.Actor, id string) (wire.Task, error) {
	t, err := s.find(a, id)
	if err != nil {
		return wire.Task{}, err
	}
	if err := t.may(ctx, a); err != nil {
		return wire.Task{}, err
	}
	return t.shown(), nil
}

// Stop gives a task up.
func (s *Tasks) Stop(_ context.Context, a accounts.Actor, id string) error {
	t, err := s.find(a, id)
	if err != nil {
		return err
	}
	t.stop()
	return nil
}

func (s *Tasks) find(a accounts.Actor, id string) (*task, error) {
	if !a.Known() {
		return nil, problem.New(problem.SignInNeeded, "sign in to see your tasks")
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	now := s.records.Now()
	s.forget("", now)
	t := s.of[id]
	if t == nil || t.login != a.Login() {
		return nil, problem.New(problem.Unknown, "there is no task %q of yours: they are kept for %d minutes, and not when the service starts anew", id, int(kept.Minutes()))
	}
	t.asked = now
	return t, nil
}

// forget drops what nobody has asked for lately, and the oldest of somebody who has too many. The lock is held.
func (s *Tasks) forget(login string, now time.Time) {
	var own []string
	for id, t := range s.of {
		switch {
		case now.Sub(t.asked) > kept:
			t.stop()
			delete(s.of, id)
		case t.login == login:
			own = append(own, id)
		}
	}
	for ; len(own) >= mostKept; own = own[:len(own)-1] {
		oldest := 0
		for i, id := range own {
			if s.of[id].asked.Before(s.of[own[oldest]].asked) {
				oldest = i
			}
		}
		s.of[own[oldest]].stop()
		delete(s.of, own[oldest])
		own[oldest] = own[len(own)-1]
	}
}

// Close gives up all that is under way, and waits for that.
func (s *Tasks) Close() {
	s.mu.Lock()
	s.ended = true
	for _, t := range s.of {
		t.stop()
	}
	s.mu.Unlock()
	s.running.Wait()
}
