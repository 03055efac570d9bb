// Package facts gathers what the gate has to know of a change, and remembers gates that were judged.
//
// It reads the records and where branches stand, decides nothing (core/gate does) and writes nothing. It promises that
// a remembered gate is the one that would be judged now: it is found under counts that go up with every write which
// concerns it, and one that may become another without a write is not remembered.
package facts

import (
	"sync/atomic"
	"tavrin/internal/hosted"
	"tavrin/internal/recall"
	"tavrin/internal/records"
	"tavrin/internal/rulebook"
)

// Gatherer gathers facts. Its methods may be called concurrently.
type Gatherer struct {
	records  *records.Records
	disk     *hosted.Disk
	rulebook *rulebook.Rulebook
	memory   *recall.Memory
	editions editions
	doubt    func(string)

	judged, remembered atomic.Uint64
}

// Counts says how many gates were judged to be read since the start, and how many were remembered.
func (s *Gatherer) Counts() (judged, remembered uint64) { return s.judged.Load(), s.remembered.Load() }

// Doubts says whether what is remembered is worked out anew and compared; Doubt tells of something that was remembered wrongly.
func (s *Gatherer) Doubts() bool { return s.doubt != nil }

// Doubt tells of something that was remembered wrongly, where that was asked for.
func (s *Gatherer) Doubt(what string) {
	if s.doubt != nil {
		s.doubt(what)
	}
}

// New returns what gathers facts. doubt, unless it is nil, has every remembered gate judged anew, and is told of those
// that were remembered wrongly; tests use it.
func New(r *records.Records, disk *hosted.Disk, book *rulebook.Rulebook, memory *recall.Memory,
	doubt func(what string)) *Gatherer {
	s := &Gatherer{records: r, disk: disk, rulebook: book, memory: memory, editions: newEditions(), doubt: doubt}
	r.Listen(records.Listener{
		Before: func(c records.Commit) { s.editions.touch(c.Touched, writing) },
		After:  func(c records.Commit) { s.touched(c.Touched, c.Seq) },
	})
	return s
}
