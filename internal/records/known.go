package records

import (
	"context"
	"sync"

	"gorm.io/gorm"
)

// Who there is and what they may do is asked by everything and altered by little: accounts, teams, roles, deletions of them. What
// is worked out from that alone is kept until a write touches it (event.Kind.Access).

// access is what was worked out since the last write that touched who may do what.
type access struct {
	mu      sync.Mutex
	edition uint64 // the number of that write; committing: it is under way
	values  map[any]any
}

// committing stands for a write that is being committed: nobody knows yet on which side of it a snapshot is.
const committing = ^uint64(0)

// touched forgets everything.
func (a *access) touched(edition uint64) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.edition, a.values = edition, nil
}

// seen is what a handle on the records is known to see.
type seen struct {
	records *Records
	view    *View // nil: the newest
	tx      *Tx   // nil: none
}

type seenKey struct{}

func (s seen) in(ctx context.Context) context.Context { return context.WithValue(ctx, seenKey{}, s) }

// edition is the write by whose access a handle sees the records; false: it cannot be told, or the write is its own.
func (s seen) edition() (uint64, bool) {
	e := s.records.access.edition
	switch {
	case e == committing:
		return e, false
	case s.tx != nil:
		return e, !s.tx.commit.Touched.Access
	case s.view != nil:
		return e, e <= s.view.since
	}
	return e, true
}

// Known returns what work makes of accounts, teams and roles, and of nothing else, as a handle sees them. It is worked out
// once for as long as they stay as they are, and is shared: nobody may alter it. key names it.
func Known[T any](db *gorm.DB, key any, work func() (T, error)) (T, error) {
	s, is := db.Statement.Context.Value(seenKey{}).(seen)
	if !is {
		return work()
	}
	a := &s.records.access
	a.mu.Lock()
	edition, certain := s.edition()
	had, there := a.values[key]
	a.mu.Unlock()
	if certain && there {
		return had.(T), nil
	}
	v, err := work()
	if err != nil || !certain {
		return v, err
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.edition == edition {
		if a.values == nil {
			a.values = map[any]any{}
		}
		a.values[key] = v
	}
	return v, nil
}
