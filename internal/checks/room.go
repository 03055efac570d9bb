// Package checks keeps the verdicts about commits: asked for, leased to runners, reported by robots.
//
// It promises that a check counts only from who may report it, for the attempt that it was asked for (P7), and that one
// which nobody answers is asked for once more and then ends. Which checks a change needs is the gate's; what passes is
// judged elsewhere.
package checks

import (
	"tavrin/internal/bounds"
	"tavrin/internal/facts"
	"tavrin/internal/hosted"
	"tavrin/internal/records"
	"tavrin/internal/rulebook"
)

// Checks are the checks of a service. Its methods may be called concurrently.
type Checks struct {
	records  *records.Records
	disk     *hosted.Disk
	rulebook *rulebook.Rulebook
	facts    *facts.Gatherer
	bounds   *bounds.Bounds
	dir      string // the service's folder, which no runner may read
}

// New returns the checks of a service whose folder is dir.
func New(r *records.Records, disk *hosted.Disk, book *rulebook.Rulebook, f *facts.Gatherer, b *bounds.Bounds, dir string) *Checks {
	s := &Checks{r, disk, book, f, b, dir}
	r.OnRecord(s.moved)
	return s
}
