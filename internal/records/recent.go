package records

import (
	"sync"

	"tavrin/internal/core/journal"
)

// Told is a line of the journal as it was added, for those who follow it.
type Told struct {
	journal.Line
	Repository *Repository // as it was then; nil: it is about none

	once sync.Once
	text []byte
}

// Text is the line as those who follow it want it, worked out once for all of them.
func (t *Told) Text(work func(journal.Line) []byte) []byte {
	t.once.Do(func() { t.text = work(t.Line) })
	return t.text
}

// mostRecent is how many of the newest lines are at hand for those who follow the journal. Who is further behind reads them.
const mostRecent = 1000

// recent holds the newest lines.
type recent struct {
	mu    sync.RWMutex
	base  int64 // the line before the first of them
	lines []*Told
}

// begin says where the journal ends.
func (r *recent) begin(end int64) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.base, r.lines = end, nil
}

// add adds lines that were committed.
func (r *recent) add(told []*Told) {
	if len(told) == 0 {
		return
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.base+int64(len(r.lines))+1 != told[0].Seq {
		r.base, r.lines = told[0].Seq-1, nil
	}
	r.lines = append(r.lines, told...)
	if more := len(r.lines) - mostRecent; more > mostRecent { // now and then, so that it is not copied for every line
		r.base += int64(more)
		r.lines = append([]*Told{}, r.lines[more:]...)
	}
}

// Recent returns the lines after one, of those at hand; false: it is too long ago.
func (r *Records) Recent(after int64) ([]*Told, bool) {
	n := &r.recent
	n.mu.RLock()
	defer n.mu.RUnlock()
	if after < n.base {
		return nil, false
	}
	return n.lines[min(after-n.base, int64(len(n.lines))):], true
}
