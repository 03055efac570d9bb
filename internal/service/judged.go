package service

import (
	"fmt"
	"reflect"
	"strings"
	"sync"
	"time"

	"gorm.io/gorm"

	"tavrin/internal/core/gate"
	"tavrin/internal/store"
)

// A change's gate depends on its own records, on its repository's (rules, checks, branches, other changes), and on what
// belongs to no repository (people, teams, houses). Each of the three has a count that goes up when something of it is
// written; a gate is remembered under all three. What depends on the time as well is not remembered.

// editions counts the writes that gates depend on. Its zero value is ready.
type editions struct {
	mu     sync.Mutex
	all    uint64
	repo   map[int64]uint64
	change map[string]uint64 // by repository and number
}

// touched is what a write touches: nothing named means everything.
type touched struct {
	repos   map[int64]bool
	changes map[string]bool
	all     bool
}

// by adds what an event in the journal says was touched.
func (t *touched) by(e event) {
	own := false // whether it concerns one change and nobody else: others wait for a change, or count what it is
	for _, prefix := range []string{"review.", "thread.", "queue.", "override."} {
		own = own || strings.HasPrefix(e.kind, prefix)
	}
	number, isChange := strings.CutPrefix(e.subject, "change/")
	switch {
	case e.repo == nil:
		t.all = true
	case own && isChange:
		if t.changes == nil {
			t.changes = map[string]bool{}
		}
		t.changes[fmt.Sprintf("%d/%s", e.repo.ID, number)] = true
	default:
		if t.repos == nil {
			t.repos = map[int64]bool{}
		}
		t.repos[e.repo.ID] = true
	}
}

// written counts a write that has been committed.
func (e *editions) written(t touched) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.repo == nil {
		e.repo, e.change = map[int64]uint64{}, map[string]uint64{}
	}
	if t.all || len(t.repos)+len(t.changes) == 0 {
		e.all++
	}
	for id := range t.repos {
		e.repo[id]++
	}
	for name := range t.changes {
		e.change[name]++
	}
}

// of names the edition of a repository, or of one of its changes.
func (e *editions) of(repo int64, number int) string {
	e.mu.Lock()
	defer e.mu.Unlock()
	if number == 0 {
		return fmt.Sprintf("%d.%d", e.all, e.repo[repo])
	}
	return fmt.Sprintf("%d.%d.%d", e.all, e.repo[repo], e.change[fmt.Sprintf("%d/%d", repo, number)])
}

// weight is what a remembered gate weighs, in kilobytes or so.
func (g gathered) weight() int {
	return 8 + len(g.facts.Paths)/10 + len(g.facts.Commits)/2 + len(g.facts.People)/4
}

// judgedOf is gather with the report, for reading outside of a write: remembered for as long as nothing that it depends on
// was written.
func (s *Service) judgedOf(db *gorm.DB, repo *store.Repository, c store.Change) (gathered, error) {
	k := key{"gate", repo.ID, fmt.Sprintf("%d@%s", c.ID, s.editions.of(repo.ID, c.Number))} // before anything is read
	if v, ok := s.cache.get(k); ok {
		s.doubted(db, repo, c, k, v.(gathered))
		return v.(gathered), nil
	}
	if err := db.First(&c, c.ID).Error; err != nil {
		return gathered{}, err
	}
	g, err := s.gather(db, repo, c)
	if err != nil {
		return g, err
	}
	report := g.judge()
	g.report = &report
	if !g.dependsOnTime() {
		s.cache.put(k, g, g.weight())
	}
	return g, nil
}

// doubted judges a remembered gate anew where that was asked for, and tells when it has become another although nothing
// that it depends on was written.
func (s *Service) doubted(db *gorm.DB, repo *store.Repository, c store.Change, k key, had gathered) {
	if s.doubt == nil || db.First(&c, c.ID).Error != nil {
		return
	}
	now, err := s.gather(db, repo, c)
	if err != nil || reflect.DeepEqual(now.judge(), *had.report) {
		return
	}
	time.Sleep(100 * time.Millisecond) // a write may have been committed that is counted only now
	if k.of == fmt.Sprintf("%d@%s", c.ID, s.editions.of(repo.ID, c.Number)) {
		s.doubt(fmt.Sprintf("change %d of %s is remembered as %+v and is %+v", c.Number, repo.Name, *had.report, now.judge()))
	}
}

// dependsOnTime says whether the gate may become another without anything being written.
func (g gathered) dependsOnTime() bool {
	if len(g.facts.Overrides)+len(g.facts.Suspended) > 0 {
		return true
	}
	for _, q := range g.set.For(g.change.Target).Requirements {
		if q.Fresh > 0 {
			return true
		}
	}
	for _, q := range g.report.Requirements { // a check that nobody defines or reports is waited for so long and no longer
		if q.At == "rehearsal" && q.State == gate.Pending && len(q.Checks) == 0 {
			return true
		}
	}
	for _, c := range g.set.Checks() {
		if c.Fresh > 0 {
			return true
		}
	}
	return false
}
