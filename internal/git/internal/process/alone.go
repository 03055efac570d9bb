package process

import (
	"context"
	"errors"
	"sync"
)

// What removes objects from a repository must not run beside what relies on objects that no ref reaches: a push or a rehearsal
// whose new commits stand on them, before a ref holds these. Such work says that it uses the place. Whoever wants it alone
// gets it only while nobody uses it, and has to give way: their context ends as soon as somebody wants to use it.

// ErrUsed says that a place was not, or not any more, anybody's alone.
var ErrUsed = errors.New("the repository is in use")

// sharing is who uses places, and who has them alone.
type sharing struct {
	mu sync.Mutex
	of map[string]*shared // by folder
}

type shared struct {
	users int
	alone context.CancelCauseFunc // nil: nobody has it alone
	left  chan struct{}           // closed when it is nobody's alone any more
}

// Use says that the place is used until done is called. It waits for whoever has it alone to give way, which is soon.
func (at Place) Use() (done func()) {
	s := &at.program.sharing
	s.mu.Lock()
	defer s.mu.Unlock()
	for {
		x := s.at(at.Dir)
		if x.alone == nil {
			x.users++
			return sync.OnceFunc(func() {
				s.mu.Lock()
				defer s.mu.Unlock()
				if x.users--; x.users == 0 {
					delete(s.of, at.Dir)
				}
			})
		}
		x.alone(ErrUsed)
		left := x.left
		s.mu.Unlock()
		<-left
		s.mu.Lock()
	}
}

func (s *sharing) at(dir string) *shared {
	if s.of == nil {
		s.of = map[string]*shared{}
	}
	if s.of[dir] == nil {
		s.of[dir] = &shared{}
	}
	return s.of[dir]
}

// Alone does something while nobody uses the place. It returns ErrUsed where somebody does, or wanted to meanwhile.
func (at Place) Alone(ctx context.Context, f func(context.Context) error) error {
	s := &at.program.sharing
	s.mu.Lock()
	x := s.at(at.Dir)
	if x.users > 0 || x.alone != nil {
		s.mu.Unlock()
		return ErrUsed
	}
	ctx, cancel := context.WithCancelCause(ctx)
	left := make(chan struct{})
	x.alone, x.left = cancel, left
	s.mu.Unlock()
	defer func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		delete(s.of, at.Dir)
		cancel(nil)
		close(left)
	}()
	err := f(ctx)
	if context.Cause(ctx) == ErrUsed {
		return ErrUsed
	}
	return err
}
