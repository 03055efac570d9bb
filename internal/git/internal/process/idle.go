package process

import (
	"context"
	"io"
	"sync"
	"time"
)

// idleFor is how long something rests before it is ended.
const idleFor = time.Minute

// idle is what serves one use after another, while nobody uses it: so many at most, and none for long.
type idle struct {
	mu     sync.Mutex
	rests  []*resting // the one that has rested longest first
	closed bool
	notes  map[string]any // by place
}

type resting struct {
	key   string
	thing io.Closer
	timer *time.Timer
}

// Rest keeps something for the next who asks under the same key, and ends it when nobody has for a while. Where more
// rests than may, what has rested longest is ended.
func (p *Program) Rest(key string, thing io.Closer) {
	r := &resting{key: key, thing: thing}
	i := &p.idle
	i.mu.Lock()
	ends := []*resting{r}
	if most := int(p.bounds().GitIdle); !i.closed && most > 0 {
		r.timer = time.AfterFunc(idleFor, func() {
			if i.take(func(other *resting) bool { return other == r }) != nil {
				thing.Close()
			}
		})
		i.rests = append(i.rests, r)
		over := max(0, len(i.rests)-most)
		ends, i.rests = i.rests[:over:over], i.rests[over:]
	}
	i.mu.Unlock()
	for _, r := range ends {
		r.end()
	}
}

// Rested returns what rests under a key, for one use; nil: nothing does.
func (p *Program) Rested(key string) io.Closer {
	r := p.idle.take(func(r *resting) bool { return r.key == key })
	if r == nil {
		return nil
	}
	r.timer.Stop()
	return r.thing
}

// take removes the first that is meant, the one that has rested least.
func (i *idle) take(meant func(*resting) bool) *resting {
	i.mu.Lock()
	defer i.mu.Unlock()
	for at := len(i.rests) - 1; at >= 0; at-- {
		if r := i.rests[at]; meant(r) {
			i.rests = append(i.rests[:at:at], i.rests[at+1:]...)
			return r
		}
	}
	return nil
}

// Close ends everything that rests, and from now on whatever comes to rest.
func (p *Program) Close() {
	i := &p.idle
	i.mu.Lock()
	rests := i.rests
	i.rests, i.closed = nil, true
	i.mu.Unlock()
	for _, r := range rests {
		r.end()
	}
}

func (r *resting) end() {
	if r.timer != nil {
		r.timer.Stop()
	}
	r.thing.Close()
}

// Rest keeps something for the next who asks in this place; see Program.Rest.
func (at Place) Rest(key string, thing io.Closer) { at.program.Rest(at.Dir+"\x00"+key, thing) }

// Rested returns what rests in this place; see Program.Rested.
func (at Place) Rested(key string) io.Closer { return at.program.Rested(at.Dir + "\x00" + key) }

// Keep starts a helper that outlives whoever started it. Each use of it is to be made Within a context that ends.
func (at Place) Keep(args ...string) (*Helper, error) {
	return at.help(context.WithValue(context.Background(), turnKey{}, true), 0, args...)
}

// Within has the helper ended when the context ends before done is called.
func (h *Helper) Within(ctx context.Context) (done func() bool) {
	return context.AfterFunc(ctx, h.cancel)
}

// mostNotes is of how many places something is noted.
const mostNotes = 500

// Note keeps something about the place, which the next Noted returns. It is a hint: it may be lost.
func (at Place) Note(what any) {
	i := &at.program.idle
	i.mu.Lock()
	defer i.mu.Unlock()
	if len(i.notes) >= mostNotes || i.notes == nil {
		i.notes = map[string]any{}
	}
	i.notes[at.Dir] = what
}

// Noted returns what was noted about the place; nil: nothing.
func (at Place) Noted() any {
	i := &at.program.idle
	i.mu.Lock()
	defer i.mu.Unlock()
	return i.notes[at.Dir]
}
