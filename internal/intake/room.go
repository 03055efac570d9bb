// Package intake takes pushes: judges each ref of one, lets in what is allowed, and records what follows from it.
//
// People push with git; the service pushes for them when it brings a branch up to date or applies suggestions, and is
// judged in the same way. It promises that a protected branch moves only as its rules allow (P1), that who is refused
// is told why and what to do, and that a push which is killed at any step is done or not done, never half. What is
// allowed is decided in core/guard; that a ref moves at most once is package moves'.
package intake

import (
	"log/slog"

	"tavrin/internal/accounts"
	"tavrin/internal/bounds"
	"tavrin/internal/changes"
	"tavrin/internal/checks"
	"tavrin/internal/conflicts"
	"tavrin/internal/git/transport"
	"tavrin/internal/hosted"
	"tavrin/internal/moves"
	"tavrin/internal/records"
	"tavrin/internal/rulebook"
	"tavrin/internal/waivers"
)

// Intake takes the pushes of a service. Its methods may be called concurrently.
type Intake struct {
	records   *records.Records
	disk      *hosted.Disk
	moves     *moves.Moves
	access    *accounts.Access
	rulebook  *rulebook.Rulebook
	waivers   *waivers.Waivers
	changes   *changes.Changes
	threads   *changes.Threads
	checks    *checks.Checks
	conflicts *conflicts.Conflicts
	receiver  transport.Receiver
	bounds    *bounds.Bounds
	log       *slog.Logger
	lines     lines
}

// Needs is what the intake stands on.
type Needs struct {
	Records   *records.Records
	Disk      *hosted.Disk
	Moves     *moves.Moves
	Access    *accounts.Access
	Rulebook  *rulebook.Rulebook
	Waivers   *waivers.Waivers
	Changes   *changes.Changes
	Threads   *changes.Threads
	Checks    *checks.Checks
	Conflicts *conflicts.Conflicts
	Bounds    *bounds.Bounds
	Log       *slog.Logger
}

// New returns the intake of a service.
func New(n Needs) *Intake {
	s := &Intake{records: n.Records, disk: n.Disk, moves: n.Moves, access: n.Access, rulebook: n.Rulebook,
		waivers: n.Waivers, changes: n.Changes, threads: n.Threads, checks: n.Checks, conflicts: n.Conflicts, bounds: n.Bounds, log: n.Log}
	n.Moves.Settles(moves.Push, s.settle)
	return s
}
