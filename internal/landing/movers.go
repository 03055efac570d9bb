package landing

import (
	"sync"
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
