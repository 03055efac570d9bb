// Package waivers lets named requirements be waived for one landing or one push: with a right, a reason and an end.
//
// It promises that nobody waives what they have not seen and may not, that a waiver is used once, and that somebody
// else is asked to acknowledge each that was used. What may be waived, and when a waiver no longer fits, is decided in
// core.
package waivers

import (
	"tavrin/internal/facts"
	"tavrin/internal/hosted"
	"tavrin/internal/moves"
	"tavrin/internal/records"
	"tavrin/internal/rulebook"
)

// Waivers are the waivers of a service. Its methods may be called concurrently.
type Waivers struct {
	records  *records.Records
	disk     *hosted.Disk
	moves    *moves.Moves
	rulebook *rulebook.Rulebook
	facts    *facts.Gatherer
}

// New returns the waivers of a service.
func New(r *records.Records, disk *hosted.Disk, m *moves.Moves, book *rulebook.Rulebook, f *facts.Gatherer) *Waivers {
	return &Waivers{r, disk, m, book, f}
}
