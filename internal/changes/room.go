// Package changes keeps proposals to bring one branch into another: changes, their revisions, reviews and discussions.
//
// It promises that a revision says exactly what a head brings to its target and who its authors are, that a review is
// of the revision it names, and that what was said is not lost by an edit. Whether all that is enough is the gate's.
package changes

import (
	"log/slog"

	"tavrin/internal/bounds"
	"tavrin/internal/checks"
	"tavrin/internal/conflicts"
	"tavrin/internal/facts"
	"tavrin/internal/hosted"
	"tavrin/internal/moves"
	"tavrin/internal/queues"
	"tavrin/internal/recall"
	"tavrin/internal/records"
	"tavrin/internal/rulebook"
)

// Changes are the changes of a service with their revisions and reviews. Its methods may be called concurrently.
type Changes struct {
	records   *records.Records
	disk      *hosted.Disk
	moves     *moves.Moves
	rulebook  *rulebook.Rulebook
	facts     *facts.Gatherer
	checks    *checks.Checks
	queues    *queues.Queues
	conflicts *conflicts.Conflicts
	threads   *Threads
	html      func(text string) string // as which a text of a person's is laid out
	bounds    *bounds.Bounds
	log       *slog.Logger
	tries     tries
}

// Needs is what the changes stand on.
type Needs struct {
	Records   *records.Records
	Disk      *hosted.Disk
	Moves     *moves.Moves
	Rulebook  *rulebook.Rulebook
	Facts     *facts.Gatherer
	Checks    *checks.Checks
	Queues    *queues.Queues
	Conflicts *conflicts.Conflicts
	Memory    *recall.Memory
	Bounds    *bounds.Bounds
	Log       *slog.Logger
}

// New returns the changes of a service, and the discussions about them.
func New(n Needs) (*Changes, *Threads) {
	html := laidOut(n.Memory, n.Bounds)
	t := &Threads{records: n.Records, disk: n.Disk, memory: n.Memory, html: html, bounds: n.Bounds}
	return &Changes{
		records: n.Records, disk: n.Disk, moves: n.Moves, rulebook: n.Rulebook, facts: n.Facts, checks: n.Checks, queues: n.Queues, conflicts: n.Conflicts,
		threads: t, html: html, bounds: n.Bounds, log: n.Log,
	}, t
}

// Threads are the discussions about changes, and what is drafted for them. Its methods may be called concurrently.
type Threads struct {
	records *records.Records
	disk    *hosted.Disk
	memory  *recall.Memory
	html    func(text string) string // as which a text of a person's is laid out
	bounds  *bounds.Bounds
}
