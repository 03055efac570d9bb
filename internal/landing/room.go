// Package landing carries out what the queues decide: builds rehearsals, lands changes, and settles what a kill left.
//
// It promises that a target moves only to a commit whose gate was clear when the intent was recorded (P1), by
// compare-and-swap from the commit that it was built on (P3), and that a landing which is killed at any step is
// finished or taken back when the service starts again (P4). What to do next is decided in core/queue; whether a gate
// is clear in core/gate; how a result is written by package git.
package landing

import (
	"context"
	"log/slog"
	"sync"

	"tavrin/internal/bounds"
	"tavrin/internal/changes"
	"tavrin/internal/checks"
	"tavrin/internal/facts"
	"tavrin/internal/hosted"
	"tavrin/internal/intake"
	"tavrin/internal/moves"
	"tavrin/internal/queues"
	"tavrin/internal/records"
	"tavrin/internal/rulebook"
	"tavrin/internal/signing"
	"tavrin/internal/waivers"
)

// Conductor carries out the queues of a service. Its methods may be called concurrently.
type Conductor struct {
	records  *records.Records
	disk     *hosted.Disk
	moves    *moves.Moves
	rulebook *rulebook.Rulebook
	facts    *facts.Gatherer
	checks   *checks.Checks
	waivers  *waivers.Waivers
	queues   *queues.Queues
	changes  *changes.Changes
	intake   *intake.Intake
	bounds   *bounds.Bounds
	key      *signing.Key
	signs    bool // the commits that landings write
	log      *slog.Logger

	full     bool           // the disk was nearly full at the last look; only Run knows
	tasks    sync.WaitGroup // what runs until the service stops
	movers   movers
	quiet    quiet
	building building
}

// Needs is what landing stands on.
type Needs struct {
	Records  *records.Records
	Disk     *hosted.Disk
	Moves    *moves.Moves
	Rulebook *rulebook.Rulebook
	Facts    *facts.Gatherer
	Checks   *checks.Checks
	Waivers  *waivers.Waivers
	Queues   *queues.Queues
	Changes  *changes.Changes
	Intake   *intake.Intake
	Bounds   *bounds.Bounds
	Key      *signing.Key
	// SignCommits has the commits that landings write signed with the key.
	SignCommits bool
	Log         *slog.Logger
}

// New returns what carries out the queues of a service.
func New(n Needs) *Conductor {
	s := &Conductor{
		records: n.Records, disk: n.Disk, moves: n.Moves, rulebook: n.Rulebook, facts: n.Facts, checks: n.Checks, waivers: n.Waivers,
		queues: n.Queues, changes: n.Changes, intake: n.Intake, bounds: n.Bounds, key: n.Key, signs: n.SignCommits, log: n.Log,
	}
	s.building.at, s.building.slots = map[job]context.CancelFunc{}, make(chan struct{}, builders)
	n.Moves.Settles(moves.Landing, s.settleLanding)
	n.Moves.Settles(moves.Removal, s.settleRemoval)
	return s
}

// ForgetRehearsals forgets rehearsals of long ago that have not landed, and are of no more use.
func (s *Conductor) ForgetRehearsals(ctx context.Context) error {
	return s.records.Forget(ctx, "rehearsals", "rehearsals", s.records.Now().AddDate(0, 0, -int(s.bounds.KeepRehearsals)), func(tx *records.Tx, ids []int64) error {
		return tx.Exec("DELETE FROM rehearsals WHERE id IN ? AND ended <> '' AND NOT EXISTS (SELECT 1 FROM intents i WHERE i.rehearsal_id = rehearsals.id) "+
			"AND EXISTS (SELECT 1 FROM entries e WHERE e.id = rehearsals.entry_id AND e.ended_at IS NOT NULL)", ids).Error
	})
}
