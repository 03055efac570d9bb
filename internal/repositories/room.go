// Package repositories keeps houses and the repositories in them: made or imported, listed, and looked into.
//
// It promises that a repository is there whole or not at all, and that nothing is fetched from elsewhere than the
// administrator allows. Who may read one is accounts'; what happens to its branches, moves'.
package repositories

import (
	"log/slog"

	"tavrin/internal/accounts"
	"tavrin/internal/bounds"
	"tavrin/internal/facts"
	"tavrin/internal/hosted"
	"tavrin/internal/moves"
	"tavrin/internal/reading"
	"tavrin/internal/recall"
	"tavrin/internal/records"
	"tavrin/internal/rulebook"
)

// Repositories are the houses and repositories of a service. Its methods may be called concurrently.
type Repositories struct {
	records  *records.Records
	disk     *hosted.Disk
	moves    *moves.Moves
	access   *accounts.Access
	rulebook *rulebook.Rulebook
	facts    *facts.Gatherer
	reading  *reading.Reader
	bounds   *bounds.Bounds
	memory   *recall.Memory
	log      *slog.Logger
	imports  []string // URL prefixes from which repositories may be imported
	tidied   visits
	packed   visits
}

// Needs is what the repositories stand on.
type Needs struct {
	Records  *records.Records
	Disk     *hosted.Disk
	Moves    *moves.Moves
	Access   *accounts.Access
	Rulebook *rulebook.Rulebook
	Facts    *facts.Gatherer
	Reading  *reading.Reader
	Bounds   *bounds.Bounds
	Memory   *recall.Memory
	Log      *slog.Logger
	Imports  []string
}

// New returns the repositories of a service.
func New(n Needs) *Repositories {
	return &Repositories{records: n.Records, disk: n.Disk, moves: n.Moves, access: n.Access, rulebook: n.Rulebook, facts: n.Facts,
		reading: n.Reading, bounds: n.Bounds, memory: n.Memory, log: n.Log, imports: n.Imports}
}
