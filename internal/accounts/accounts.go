// Package accounts says who somebody is and what they may do: people, robots, teams and their roles; tokens, sessions
// and keys by which they show who they are.
//
// Every call of a room above comes with an Actor that was made here, and asks here whether it may (Reach,
// MustMaintainHouse). It promises that a repository which somebody may not read is to them as one that is not there (P11), and that whatever
// was begun with a token ends with it. What a role is worth in a gate is decided in core.
package accounts

import (
	"log/slog"

	"tavrin/internal/records"
)

// Access is how people and programs get in: tokens, sessions, and what was refused. Its methods may be called
// concurrently.
type Access struct {
	records  *records.Records
	log      *slog.Logger
	refusals refusals
	ended    Ended
}

// Ended is told in the transaction in which tokens end, and says how many leases ended with them.
type Ended func(tx *records.Tx, tokens []int64) (leases int, err error)

// NewAccess returns the access to a service.
func NewAccess(r *records.Records, log *slog.Logger) *Access {
	return &Access{records: r, log: log, ended: func(*records.Tx, []int64) (int, error) { return 0, nil }}
}

// OnEnd says who is told that tokens end. It is for the start.
func (s *Access) OnEnd(f Ended) { s.ended = f }

// People are the accounts, teams, roles and keys. Its methods may be called concurrently.
type People struct {
	records *records.Records
	access  *Access
}

// NewPeople returns the people of a service.
func NewPeople(r *records.Records, access *Access) *People { return &People{r, access} }
