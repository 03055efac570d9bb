package landing

import (
	"sync"

	"tavrin/internal/core/queue"
	"tavrin/internal/facts"
	"tavrin/internal/records"
)

// quiet knows of repositories in whose queues there was nothing to do, and nothing comes by itself: until something is written on which
// that depends, a round would find the same. Its zero value is ready.
type quiet struct {
	mu sync.Mutex
	of map[int64]still
}

// still is what stands until a thing is touched.
type still struct {
	asOf   uint64 // the newest write that was surely looked at
	things []records.Thing
}

// until notes that there is nothing to do in a repository, as it is after a write.
func (q *quiet) until(repo int64, asOf uint64, things []records.Thing) {
	q.mu.Lock()
	defer q.mu.Unlock()
	if q.of == nil {
		q.of = map[int64]still{}
	}
	q.of[repo] = still{asOf, things}
}

// still says whether nothing was written since there was nothing to do in a repository on which that depends.
func (q *quiet) still(f *facts.Gatherer, repo int64) bool {
	q.mu.Lock()
	was, known := q.of[repo]
	q.mu.Unlock()
	return known && f.Edition(repo, was.things) <= was.asOf
}

// waits says whether a queue waits for what others write: nobody in it rests until a time, nothing is being built, and the plan wants
// nothing.
func waits(state *queue.State) bool {
	for i := range state.Entries {
		if e := &state.Entries[i]; !e.State.Ended() && e.Resting(state.At) {
			return false
		}
	}
	for i := range state.Rehearsals {
		if r := &state.Rehearsals[i]; r.Ended == "" && len(r.Commits) == 0 {
			return false
		}
	}
	_, wanted := queue.Plan(*state)
	return len(wanted) == 0
}
