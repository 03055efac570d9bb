package service

import (
	"fmt"
	"sync"
	"time"
)

// movers has at most one goroutine at work on each repository. Its zero value is ready.
type movers struct {
	mu   sync.Mutex
	busy map[int64]bool // and whether there is more to do
}

// move does the work for a repository, at once or, where somebody is at it, once more when they have finished.
func (m *movers) move(repo int64, tasks *sync.WaitGroup, work func()) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.busy == nil {
		m.busy = map[int64]bool{}
	}
	if _, at := m.busy[repo]; at {
		m.busy[repo] = true
		return
	}
	m.busy[repo] = false
	tasks.Go(func() {
		for again := true; again; {
			work()
			m.mu.Lock()
			if again = m.busy[repo]; again {
				m.busy[repo] = false
			} else {
				delete(m.busy, repo)
			}
			m.mu.Unlock()
		}
	})
}

// tries counts how often something was tried in vain. Its zero value is ready.
type tries struct {
	mu sync.Mutex
	of map[int64]int
}

// again counts one more try, and returns how many there were.
func (t *tries) again(id int64) int {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.of == nil {
		t.of = map[int64]int{}
	}
	t.of[id]++
	return t.of[id]
}

const (
	// firstRest and longestRest are how long something rests after the service had trouble with it.
	firstRest   = time.Second
	longestRest = 2 * time.Minute
)

// rests remembers what the service had trouble of its own with, by the number of an entry, or of a repository with a minus:
// it is tried again, after growing pauses. It is kept in memory, since the trouble may be that nothing can be written.
type rests struct {
	mu sync.Mutex
	of map[int64]*resting
}

type resting struct {
	until time.Time
	pause time.Duration
	words string
}

// rest has something rest for a while.
func (r *rests) rest(id int64, now time.Time, what string, err error) {
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
	x.words = fmt.Sprintf("%s, which is not about the change: %s. It is tried again at %s", what, shortened(err.Error()), x.until.Format("15:04:05 MST"))
}

// resting says why something rests now; empty: it does not.
func (r *rests) resting(id int64, now time.Time) string {
	r.mu.Lock()
	defer r.mu.Unlock()
	if x := r.of[id]; x != nil && now.Before(x.until) {
		return x.words
	}
	return ""
}

// over forgets a rest.
func (r *rests) over(id int64) {
	r.mu.Lock()
	defer r.mu.Unlock()
	delete(r.of, id)
}
