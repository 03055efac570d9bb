// Package rulebook keeps rules documents: a repository's or a house's, in versions, with what is proposed and
// suspended.
//
// It says which rules are in force, reads documents before they are applied (lint), and applies them. It promises that
// no document is in force that could not be read, that each edit is on record with its reason, and that a loosening
// waits for a second person where the document in force asks for one. What the rules mean is core's; what follows from
// new ones for what is open is told to those above (OnChange).
package rulebook

import (
	"log/slog"

	"tavrin/internal/hosted"
	"tavrin/internal/recall"
	"tavrin/internal/records"
)

// Rulebook is the rules documents of a service. Its methods may be called concurrently.
type Rulebook struct {
	records *records.Records
	disk    *hosted.Disk
	memory  *recall.Memory
	log     *slog.Logger
	changed Changed
	due     chan struct{} // holds one where open changes are to be looked at under other rules
}

// Changed is told that other rules hold for a repository, with some of its open changes, in a transaction of their own: until all have
// been, that is on record.
type Changed func(tx *records.Tx, repo *records.Repository, changes []records.Change) error

// New returns the rulebook of a service.
func New(r *records.Records, disk *hosted.Disk, memory *recall.Memory, log *slog.Logger) *Rulebook {
	return &Rulebook{records: r, disk: disk, memory: memory, log: log, due: make(chan struct{}, 1),
		changed: func(*records.Tx, *records.Repository, []records.Change) error { return nil }}
}

// OnChange says who is told that other rules hold. It is for the start.
func (s *Rulebook) OnChange(f Changed) { s.changed = f }
