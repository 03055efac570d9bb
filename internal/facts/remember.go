package facts

import (
	"context"
	"fmt"
	"math"
	"reflect"
	"slices"
	"sync"

	"gorm.io/gorm"

	"tavrin/internal/core/require"
	"tavrin/internal/freezes"
	"tavrin/internal/recall"
	"tavrin/internal/records"
)

// A change's gate depends on its own records, on its repository's (rules, checks, branches, other changes), and on what
// belongs to no repository (people, teams, houses). Of each of the three it is known which write transaction touched it
// last, and while one is being committed that touches it, that it is. A gate is remembered under all three, and only a
// snapshot that has them all may use it: so what is remembered is what would be judged from that snapshot. Freezes come and
// go by the clock: a gate is remembered under those that are in force. What depends on the time otherwise is not remembered.

// editions knows which write transactions touched what gates depend on last.
type editions struct {
	mu     sync.Mutex
	all    uint64
	repo   map[int64]uint64
	change map[records.ChangeKey]uint64
}

func newEditions() editions {
	return editions{repo: map[int64]uint64{}, change: map[records.ChangeKey]uint64{}}
}

// writing stands for a transaction that is being committed: no snapshot is sure to have it.
const writing = math.MaxUint64

// touch notes a transaction by what it touches.
func (e *editions) touch(t records.Touched, seq uint64) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if t.All || !t.Said {
		e.all = seq
	}
	for id := range t.Repos {
		e.repo[id] = seq
	}
	for key := range t.Changes {
		e.change[key] = seq
	}
}

// edition is the transactions that touched what a gate depends on last: everything, its repository, its change.
type edition struct{ all, repo, change uint64 }

func (e *editions) of(repo int64, number int) edition {
	e.mu.Lock()
	defer e.mu.Unlock()
	return edition{e.all, e.repo[repo], e.change[records.ChangeKey{Repo: repo, Number: number}]}
}

// newest is the last of them.
func (e edition) newest() uint64 { return max(e.all, e.repo, e.change) }

// weight is what a remembered gate weighs, in kilobytes or so.
func (g Gathered) weight() int {
	return 8 + len(g.Facts.Paths)/10 + len(g.Facts.Commits)/2
}

// Remembered is Gather with the report, for reading outside of a write: remembered for as long as nothing that it
// depends on was written. The change is as the snapshot has it.
func (s *Gatherer) Remembered(snap *records.View, repo *records.Repository, c records.Change) (Gathered, error) {
	all, err := s.RememberedAll(snap, repo, []records.Change{c})
	if err != nil {
		return Gathered{Change: c}, err
	}
	return all[0], nil
}

// RememberedAll is Remembered for many changes of a repository, in their order. Those that are not remembered are
// gathered together.
func (s *Gatherer) RememberedAll(snap *records.View, repo *records.Repository,
	list []records.Change) ([]Gathered, error) {
	out := make([]Gathered, len(list))
	keys := make([]recall.Key, len(list)) // zero: the snapshot is of before the newest write, and has its own truth
	var missing []records.Change
	var at []int
	standing, err := freezes.InForce(snap.DB, repo, s.records.Now()) // which begin and end without a write
	if err != nil {
		return nil, err
	}
	for i, c := range list {
		of := s.editions.of(repo.ID, c.Number)
		if of.newest() <= snap.Since() {
			keys[i] = recall.Key{What: "gate", Repo: repo.ID, Of: fmt.Sprintf("%d@%v%s", c.ID, of, standing.IDs)}
			if g, ok := recall.Found[Gathered](s.memory, keys[i]); ok {
				if err := s.doubted(snap.DB, repo, c, of, g); err != nil {
					return nil, err
				}
				s.remembered.Add(1)
				out[i] = g
				continue
			}
		}
		missing, at = append(missing, c), append(at, i)
	}
	if len(missing) == 0 {
		return out, nil
	}
	found, err := s.GatherAll(snap.DB, repo, missing)
	if err != nil {
		return nil, err
	}
	for n, g := range found {
		report := g.Judge()
		s.judged.Add(1)
		g.report = &report
		if out[at[n]] = g; keys[at[n]] != (recall.Key{}) && !g.dependsOnTime() {
			recall.Keep(s.memory, keys[at[n]], g.weight(), g)
		}
	}
	return out, nil
}

// doubted judges a remembered gate anew where that was asked for, and tells when it has become another although nothing
// that it depends on was written.
func (s *Gatherer) doubted(db *gorm.DB, repo *records.Repository, c records.Change, of edition, had Gathered) error {
	if s.doubt == nil {
		return nil
	}
	now, err := s.Gather(db, repo, c)
	if err != nil || reflect.DeepEqual(now.Judge(), *had.report) {
		return err
	}
	// Where branches stand is read from disk. A move that is under way is written down when it is made.
	var moving int64
	err = s.records.Read(context.WithoutCancel(db.Statement.Context)).Model(&records.Intent{}).Where("repository_id = ? AND outcome = ''", repo.ID).Count(&moving).Error
	if moving == 0 && s.editions.of(repo.ID, c.Number) == of {
		s.doubt(fmt.Sprintf("change %d of %s is remembered as %+v and is %+v", c.Number, repo.Name, *had.report,
			now.Judge()))
	}
	return err
}

// dependsOnTime says whether the gate may become another without anything being written.
func (g Gathered) dependsOnTime() bool {
	if len(g.Facts.Waivers)+len(g.Facts.Suspended) > 0 {
		return true
	}
	ages := func(q require.Sourced) bool {
		a, may := q.Asks.(require.Aging)
		return may && a.Ages()
	}
	if slices.ContainsFunc(g.Set.For(g.Change.Target).Requirements, ages) {
		return true
	}
	for _, a := range g.Set.Areas() {
		if slices.ContainsFunc(a.Requirements, ages) {
			return true
		}
	}
	// a check that nobody defines or reports is waited for so long and no longer
	for _, q := range g.report.Requirements {
		if q.Group == require.OfChecks && q.At == "rehearsal" && q.State == require.Pending && len(q.Checks) == 0 {
			return true
		}
	}
	for _, c := range g.Set.Checks() {
		if c.MaxAge > 0 {
			return true
		}
	}
	return false
}
