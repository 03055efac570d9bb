package facts

import (
	"fmt"
	"reflect"
	"sync"
	"time"

	"gorm.io/gorm"

	"tavrin/internal/core/gate"
	"tavrin/internal/recall"
	"tavrin/internal/records"
)

// A change's gate depends on its own records, on its repository's (rules, checks, branches, other changes), and on what
// belongs to no repository (people, teams, houses). Each of the three has a count that goes up when something of it is
// written; a gate is remembered under all three. What depends on the time as well is not remembered.

// editions counts the writes that gates depend on. Its zero value is ready.
type editions struct {
	mu     sync.Mutex
	all    uint64
	repo   map[int64]uint64
	change map[records.ChangeKey]uint64
}

// written counts a write that has been committed.
func (e *editions) written(t records.Touched) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.repo == nil {
		e.repo, e.change = map[int64]uint64{}, map[records.ChangeKey]uint64{}
	}
	if t.All || !t.Said {
		e.all++
	}
	for id := range t.Repos {
		e.repo[id]++
	}
	for key := range t.Changes {
		e.change[key]++
	}
}

// of names the edition of a repository, or of one of its changes.
func (e *editions) of(repo int64, number int) string {
	e.mu.Lock()
	defer e.mu.Unlock()
	if number == 0 {
		return fmt.Sprintf("%d.%d", e.all, e.repo[repo])
	}
	return fmt.Sprintf("%d.%d.%d", e.all, e.repo[repo], e.change[records.ChangeKey{Repo: repo, Number: number}])
}

// weight is what a remembered gate weighs, in kilobytes or so.
func (g Gathered) weight() int {
	return 8 + len(g.Facts.Paths)/10 + len(g.Facts.Commits)/2 + len(g.Facts.People)/4
}

// Remembered is Gather with the report, for reading outside of a write: remembered for as long as nothing that it depends on
// was written.
func (s *Gatherer) Remembered(db *gorm.DB, repo *records.Repository, c records.Change) (Gathered, error) {
	k := recall.Key{What: "gate", Repo: repo.ID, Of: fmt.Sprintf("%d@%s", c.ID, s.editions.of(repo.ID, c.Number))} // before anything is read
	if g, ok := recall.Found[Gathered](s.memory, k); ok {
		s.doubted(db, repo, c, k, g)
		return g, nil
	}
	if err := db.First(&c, c.ID).Error; err != nil {
		return Gathered{}, err
	}
	g, err := s.Gather(db, repo, c)
	if err != nil {
		return g, err
	}
	report := g.Judge()
	g.report = &report
	if !g.dependsOnTime() {
		recall.Keep(s.memory, k, g.weight(), g)
	}
	return g, nil
}

// doubted judges a remembered gate anew where that was asked for, and tells when it has become another although nothing
// that it depends on was written.
func (s *Gatherer) doubted(db *gorm.DB, repo *records.Repository, c records.Change, k recall.Key, had Gathered) {
	if s.doubt == nil || db.First(&c, c.ID).Error != nil {
		return
	}
	now, err := s.Gather(db, repo, c)
	if err != nil || reflect.DeepEqual(now.Judge(), *had.report) {
		return
	}
	time.Sleep(100 * time.Millisecond) // a write may have been committed that is counted only now
	if k.Of == fmt.Sprintf("%d@%s", c.ID, s.editions.of(repo.ID, c.Number)) {
		s.doubt(fmt.Sprintf("change %d of %s is remembered as %+v and is %+v", c.Number, repo.Name, *had.report, now.Judge()))
	}
}

// dependsOnTime says whether the gate may become another without anything being written.
func (g Gathered) dependsOnTime() bool {
	if len(g.Facts.Overrides)+len(g.Facts.Suspended) > 0 {
		return true
	}
	for _, q := range g.Set.For(g.Change.Target).Requirements {
		if q.Fresh > 0 {
			return true
		}
	}
	for _, q := range g.report.Requirements { // a check that nobody defines or reports is waited for so long and no longer
		if q.At == "rehearsal" && q.State == gate.Pending && len(q.Checks) == 0 {
			return true
		}
	}
	for _, c := range g.Set.Checks() {
		if c.Fresh > 0 {
			return true
		}
	}
	return false
}
