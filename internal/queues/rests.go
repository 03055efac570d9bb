package queues

import (
	"fmt"
	"sync"
	"time"

	"tavrin/internal/typed"
)

const (
	// firstRest and longestRest are how long something rests after the service had trouble with it.
	firstRest   = time.Second
	longestRest = 2 * time.Minute
)

// Rests remembers what the service had trouble of its own with, by the number of an entry, or of a repository with a minus:
// it is tried again, after growing pauses. It is kept in memory, since the trouble may be that nothing can be written.
type Rests struct {
	mu sync.Mutex
	of map[int64]*resting
}

type resting struct {
	until time.Time
	pause time.Duration
	words string
}

// Rest has something rest for a while.
func (r *Rests) Rest(id int64, now time.Time, what string, err error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.of == nil {
		r.of = map[int64]*resting{}
	}
	x := r.of[id]
	if x == nil {
		x = &resting{}
		r.of[id] = x
	}
	x.pause = min(max(2*x.pause, firstRest), longestRest)
	x.until = now.Add(x.pause)
	x.words = fmt.Sprintf("%s, which is not about the change: %s. It is tried again at %s", what, typed.Shortened(err.Error()), x.until.Format("15:04:05 MST"))
}

// Resting says why something rests now; empty: it does not.
func (r *Rests) Resting(id int64, now time.Time) string {
	r.mu.Lock()
	defer r.mu.Unlock()
	if x := r.of[id]; x != nil && now.Before(x.until) {
		return x.words
	}
	return ""
}

// Over forgets a rest.
func (r *Rests) Over(id int64) {
	r.mu.Lock()
	defer r.mu.Unlock()
	delete(r.of, id)
}
