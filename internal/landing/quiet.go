package landing

import (
	"sync"

	"gorm.io/gorm"

	"tavrin/internal/core/queue"
	"tavrin/internal/records"
)

// quiet knows of repositories in whose queues there was nothing to do, and nothing comes by itself: until something is written
// about them, a round would find the same. Its zero value is ready.
type quiet struct {
	mu sync.Mutex
	of map[int64]uint64 // the edition that was looked at
}

// until notes that under an edition of a repository there is nothing to do.
func (q *quiet) until(repo int64, edition uint64) {
	q.mu.Lock()
	defer q.mu.Unlock()
	if q.of == nil {
		q.of = map[int64]uint64{}
	}
	q.of[repo] = edition
}

// still says whether nothing was written about a repository since there was nothing to do.
func (q *quiet) still(db *gorm.DB, repo int64) bool {
	edition, certain := records.EditionOf(db, repo)
	q.mu.Lock()
	defer q.mu.Unlock()
	was, known := q.of[repo]
	return certain && known && was == edition
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
