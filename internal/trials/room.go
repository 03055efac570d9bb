// Package trials tries rules documents before they are applied: on the branches, the open changes and the last
// landings, and on examples that people write.
//
// It promises that a trial judges as the gate would with the document in force, and that it changes nothing.
package trials

import (
	"tavrin/internal/facts"
	"tavrin/internal/forecasts"
	"tavrin/internal/hosted"
	"tavrin/internal/records"
	"tavrin/internal/rulebook"
)

// Trials tries rules documents. Its methods may be called concurrently.
type Trials struct {
	records  *records.Records
	disk     *hosted.Disk
	rulebook *rulebook.Rulebook
	facts    *facts.Gatherer

	forecasts *forecasts.Forecasts
}

// New returns what tries the rules of a service.
func New(r *records.Records, disk *hosted.Disk, book *rulebook.Rulebook, f *facts.Gatherer, ahead *forecasts.Forecasts) *Trials {
	return &Trials{r, disk, book, f, ahead}
}
