// Package desk says what waits for somebody, and what others did to what they follow or have a part in.
//
// Nothing of it is kept: it is read from the gates and from the journal, so that none is lost or doubled, and nobody
// hears of what they may not read. It only remembers what somebody has seen, follows and wants to be silent about.
package desk

import (
	"tavrin/internal/checks"
	"tavrin/internal/facts"
	"tavrin/internal/hosted"
	"tavrin/internal/recall"
	"tavrin/internal/records"
	"tavrin/internal/rulebook"
)

// Desk is what waits for people. Its methods may be called concurrently.
type Desk struct {
	records  *records.Records
	facts    *facts.Gatherer
	checks   *checks.Checks
	rulebook *rulebook.Rulebook
	disk     *hosted.Disk
	memory   *recall.Memory
}

// Notifications are what people hear of. Its methods may be called concurrently.
type Notifications struct {
	records *records.Records
	desk    *Desk
}

// New returns the desk of a service.
func New(r *records.Records, f *facts.Gatherer, c *checks.Checks, book *rulebook.Rulebook, disk *hosted.Disk, memory *recall.Memory) *Desk {
	return &Desk{r, f, c, book, disk, memory}
}

// NewNotifications returns the notifications of a service.
func NewNotifications(r *records.Records, d *Desk) *Notifications { return &Notifications{r, d} }
