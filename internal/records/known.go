package records

import (
	"context"
	"errors"
	"slices"
	"strings"
	"sync"

	"gorm.io/gorm"
)

// Who there is, what they may do, which rules hold and when nothing lands is asked by everything and altered by little. What is worked out from that
// alone is kept until something is written to their tables, or a write says nothing of itself, which touches everything. Of each repository it is known which write concerned it last, for those who keep what they worked out from it themselves.

// About is what something is worked out from.
type About int

// What something may be worked out from.
const (
	Access  About = iota // accounts, teams and roles
	Rules                // versions of rules documents, and suspensions
	Freezes              // freezes and their times
	SignIns              // tokens and sessions, but for when they were last used
	abouts
)

// knowledge is what is known since the writes that touched it last.
type knowledge struct {
	mu       sync.Mutex
	editions [abouts]uint64 // numbers of those writes; committing: it is under way
	values   [abouts]map[any]any
	all      uint64 // the last that touched everything
	repos    map[int64]uint64
}

// committing stands for a write that is being committed: nobody knows yet on which side of it a snapshot is.
const committing = ^uint64(0)

// touched forgets what a write touched.
func (k *knowledge) touched(t Touched, edition uint64) {
	k.mu.Lock()
	defer k.mu.Unlock()
	for about, is := range t.About {
		if is || !t.Said {
			k.editions[about], k.values[about] = edition, nil
		}
	}
	if t.All || !t.Said {
		k.all = edition
	}
	if k.repos == nil {
		k.repos = map[int64]uint64{}
	}
	for repo := range t.Concerns {
		k.repos[repo] = edition
	}
}

// seen is what a handle on the records is known to see.
type seen struct {
	records *Records
	view    *View // nil: the newest
	tx      *Tx   // nil: none
}

type seenKey struct{}

func (s seen) in(ctx context.Context) context.Context { return context.WithValue(ctx, seenKey{}, s) }

// certain says whether a handle surely sees what a write has left, and nothing newer of the kind.
func (s seen) certain(edition uint64) bool {
	return edition != committing && (s.view == nil || edition <= s.view.since)
}

// own says whether a handle is that of a write which has touched something itself.
func (s seen) own(about About) bool { return s.tx != nil && s.tx.commit.Touched.About[about] }

// aboutOf is what tables are about.
var aboutOf = map[string]About{"accounts": Access, "teams": Access, "team_members": Access, "grants": Access, "rules_versions": Rules, "suspensions": Rules, "freezes": Freezes, "freeze_times": Freezes,
	"tokens": SignIns, "sessions": SignIns}

// watchTables has writes note which of those tables they write to.
func watchTables(db *gorm.DB) error {
	note := func(tx *gorm.DB) {
		s, is := tx.Statement.Context.Value(seenKey{}).(seen)
		if !is || s.tx == nil {
			return
		}
		if about, counts := aboutOf[tx.Statement.Table]; counts {
			s.tx.commit.Touched.About[about] = true
			return
		}
		for table, about := range aboutOf { // a statement that was written out
			if tx.Statement.Table == "" && strings.Contains(tx.Statement.SQL.String(), table) {
				s.tx.commit.Touched.About[about] = true
			}
		}
	}
	c := db.Callback()
	return errors.Join(c.Create().After("gorm:create").Register("known", note), c.Update().After("gorm:update").Register("known", note),
		c.Delete().After("gorm:delete").Register("known", note), c.Raw().After("gorm:raw").Register("known", note))
}

// Known returns what work makes of one of these, and of nothing else, as a handle sees them. It is worked
// out once for as long as they stay as they are, and is shared: nobody may alter it. key names it.
func Known[T any](db *gorm.DB, about About, key any, work func() (T, error)) (T, error) {
	s, is := db.Statement.Context.Value(seenKey{}).(seen)
	if !is || s.own(about) {
		return work()
	}
	k := &s.records.knowledge
	k.mu.Lock()
	edition := k.editions[about]
	had, there := k.values[about][key]
	k.mu.Unlock()
	if !s.certain(edition) {
		return work()
	}
	if there {
		return had.(T), nil
	}
	v, err := work()
	if err != nil || s.tx != nil { // what a write sees may be its own, and may never come to be
		return v, err
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.editions[about] == edition {
		if k.values[about] == nil {
			k.values[about] = map[any]any{}
		}
		k.values[about][key] = v
	}
	return v, nil
}

// Edition is the number of the last write that touched what something may be worked out from; false: a handle may see it or not.
func Edition(db *gorm.DB, about About) (uint64, bool) {
	return asSeen(db, func(k *knowledge) uint64 { return k.editions[about] })
}

// asSeen finds an edition among what is known, and whether a handle surely sees what is of it; a write sees its own besides.
func asSeen(db *gorm.DB, of func(*knowledge) uint64) (uint64, bool) {
	s, is := db.Statement.Context.Value(seenKey{}).(seen)
	if !is || s.tx != nil {
		return 0, false
	}
	k := &s.records.knowledge
	k.mu.Lock()
	defer k.mu.Unlock()
	edition := of(k)
	return edition, s.certain(edition)
}

// EditionOf is the number of the last write that concerned a repository in any way, or people, or everything; false: a handle may
// see it or not. What is worked out from a repository's records, and from no clock, is the same under the same edition.
func EditionOf(db *gorm.DB, repo int64) (uint64, bool) {
	return asSeen(db, func(k *knowledge) uint64 { return max(k.all, k.repos[repo], slices.Max(k.editions[:SignIns])) })
}
