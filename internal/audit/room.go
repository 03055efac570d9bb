// Package audit reads the journal, signs and sends out its head, and verifies it against the records and the
// repositories.
//
// What it can not find is written in docs/security.md.
package audit

import (
	"log/slog"

	"tavrin/internal/hosted"
	"tavrin/internal/moves"
	"tavrin/internal/records"
	"tavrin/internal/signing"
)

// Auditor reads and verifies the journal of a service. Its methods may be called concurrently.
type Auditor struct {
	records *records.Records
	disk    *hosted.Disk
	moves   *moves.Moves
	key     *signing.Key
	dir     string // of the service
	log     *slog.Logger
}

// New returns the auditor of a service.
func New(r *records.Records, disk *hosted.Disk, m *moves.Moves, key *signing.Key, dir string, log *slog.Logger) *Auditor {
	return &Auditor{r, disk, m, key, dir, log}
}
