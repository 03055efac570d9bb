// Package reading shows what changes and commits bring: differences, files, revisions, and what somebody has read of
// them.
//
// It promises that what is shown is what is judged: the same difference, with what it hides named. It changes nothing
// but what a reader has ticked.
package reading

import (
	"tavrin/internal/facts"
	"tavrin/internal/hosted"
	"tavrin/internal/recall"
	"tavrin/internal/records"
)

// Reader shows changes. Its methods may be called concurrently.
type Reader struct {
	records *records.Records
	disk    *hosted.Disk
	facts   *facts.Gatherer
	memory  *recall.Memory
}

// New returns what shows the changes of a service.
func New(r *records.Records, disk *hosted.Disk, f *facts.Gatherer, memory *recall.Memory) *Reader {
	return &Reader{r, disk, f, memory}
}
