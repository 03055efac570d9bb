// Package queues keeps the queues as they are on record: who joined, where each entry is and why, what it waits for.
//
// People join and leave here, and see their place. It promises that an entry ends once, with a reason (P9). What a
// queue does next is decided in core/queue and carried out by package landing.
package queues

import (
	"sync"

	"tavrin/internal/checks"
	"tavrin/internal/facts"
	"tavrin/internal/hosted"
	"tavrin/internal/moves"
	"tavrin/internal/records"
)

// Queues are the queues of a service. Its methods may be called concurrently.
type Queues struct {
	records *records.Records
	disk    *hosted.Disk
	moves   *moves.Moves
	facts   *facts.Gatherer
	checks  *checks.Checks
	newest  sync.Map // records.Queue by its id: what queues know, as it was read last
	Rests   Rests    // what the service had trouble of its own with
}

// New returns the queues of a service.
func New(r *records.Records, disk *hosted.Disk, m *moves.Moves, f *facts.Gatherer, c *checks.Checks) *Queues {
	return &Queues{records: r, disk: disk, moves: m, facts: f, checks: c}
}
