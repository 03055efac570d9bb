package queues

import (
	"sync"
	"time"

	"tavrin/internal/core/queue"
	"tavrin/internal/typed"
)

const (
	// firstRest and longestRest are how long a repository's queues rest after the service had trouble with them.
	firstRest   = time.Second
	longestRest = 2 * time.Minute
)

// Rests remembers the repositories whose queues the service had trouble of its own with: they are looked at again after
// growing pauses. It is kept in memory, since the trouble may be that nothing can be written. Its zero value is ready.
type Rests struct {
	mu sync.Mutex
	of map[int64]*resting
}

type resting struct {
	until time.Time
	pause time.Duration
	words string
}

// Rest has a repository's queues rest for a while.
func (r *Rests) Rest(repo int64, now time.Time, err error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.of == nil {
		r.of = map[int64]*resting{}
	}
	x := r.of[repo]
	if x == nil {
		x = &resting{}
		r.of[repo] = x
	}
	x.pause = min(max(2*x.pause, firstRest), longestRest)
	x.until = now.Add(x.pause)
	x.words = queue.Troubled("the service has trouble", typed.Shortened(err.Error()), x.until)
}

// Resting says why a repository's queues rest now; empty: they do not.
func (r *Rests) Resting(repo int64, now time.Time) string {
	r.mu.Lock()
	defer r.mu.Unlock()
	if x := r.of[repo]; x != nil && now.Before(x.until) {
		return x.words
	}
	return ""
}

// Over forgets a rest.
func (r *Rests) Over(repo int64) {
	r.mu.Lock()
	defer r.mu.Unlock()
	delete(r.of, repo)
}
