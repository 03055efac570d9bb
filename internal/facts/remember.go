package facts

import (
	"context"
	"fmt"
	"maps"
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

// A change's gate depends on people, teams, houses and rules, which belong to everything or to a repository, and on things of its
// own: the change, the branches that it comes from and goes to, and the checks on its head and on what was tested for it. Of each
// of them it is known which write transaction touched it last, and while one is being committed that touches it, that it is. A gate
// is remembered with the newest transaction that its snapshot was sure to have, and stands for as long as none of what it depends on
// was touched after that. Only a snapshot that has those too may use it: so what is remembered is what would be judged from that
// snapshot. Freezes come and go by the clock: a gate is remembered with those that are in force. What depends on the time otherwise
// is not remembered.

// editions knows which write transactions touched what gates depend on last.
type editions struct {
	mu     sync.Mutex
	all    uint64
	repo   map[int64]uint64
	things map[records.Thing]uint64
	floor  uint64 // of things that are not among those
}

func newEditions() editions {
	return editions{repo: map[int64]uint64{}, things: map[records.Thing]uint64{}}
}

// writing stands for a transaction that is being committed: no snapshot is sure to have it.
const writing = math.MaxUint64

// mostThings is how many things are told apart. Of those that were touched long ago it is only known that it was long ago.
const mostThings = 50_000

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
	for thing := range t.Things {
		e.things[thing] = seq
	}
	if len(e.things) > mostThings {
		e.forget()
	}
}

// forget goes on with the younger half of what was touched.
func (e *editions) forget() {
	seqs := slices.Sorted(maps.Values(e.things))
	e.floor = seqs[len(seqs)/2]
	maps.DeleteFunc(e.things, func(_ records.Thing, seq uint64) bool { return seq <= e.floor })
}

// of is the newest transaction that touched any of some things of a repository, or all of it, or everything.
func (e *editions) of(repo int64, things ...records.Thing) uint64 {
	e.mu.Lock()
	defer e.mu.Unlock()
	newest := max(e.all, e.repo[repo])
	for _, thing := range things {
		seq, known := e.things[thing]
		if !known {
			seq = e.floor
		}
		newest = max(newest, seq)
	}
	return newest
}

// kept is a remembered gate, with what it stands by.
type kept struct {
	Gathered
	asOf     uint64 // the newest transaction that its snapshot was sure to have
	things   []records.Thing
	standing string // the freezes in force
}

// Edition is the newest write transaction that touched any of some things of a repository, or all of it, or everything; of one that is
// being committed it is a number beyond all others.
func (s *Gatherer) Edition(repo int64, things []records.Thing) uint64 {
	return s.editions.of(repo, things...)
}

// Things are those of a gathered change that its gate depends on, the change itself first.
func (g Gathered) Things(repo int64) []records.Thing {
	out := []records.Thing{records.ChangeThing(repo, g.Change.Number), records.BranchThing(repo, g.Change.Source), records.BranchThing(repo, g.Change.Target),
		records.CommitThing(repo, g.Revision.Head)}
	if g.Rehearsal != nil && g.Rehearsal.Tested != "" {
		out = append(out, records.CommitThing(repo, g.Rehearsal.Tested))
	}
	return out
}

// weight is what a remembered gate weighs, in kilobytes or so. Its people, its rules and their sources are others' too.
func (g Gathered) weight() int {
	text := len(g.Change.Description)
	for _, c := range g.Facts.Commits {
		text += 2 * len(c.Message)
	}
	return 4 + len(g.report.Requirements)/2 + len(g.Facts.Paths)/10 + len(g.Facts.Commits)/2 + text>>10
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
	standing, err := freezes.InForce(snap.DB, repo, s.records.Now()) // which begin and end without a write
	if err != nil {
		return nil, err
	}
	return s.RememberedUnder(snap, repo, list, standing)
}

// RememberedUnder is RememberedAll for who knows the freezes that are in force already.
func (s *Gatherer) RememberedUnder(snap *records.View, repo *records.Repository, list []records.Change,
	standing freezes.Standing) ([]Gathered, error) {
	out := make([]Gathered, len(list))
	var missing []records.Change
	var at []int
	for i, c := range list {
		g, there, err := s.known(snap, repo, c.Number, standing)
		if err != nil {
			return nil, err
		}
		if out[i] = g; !there {
			missing, at = append(missing, c), append(at, i)
		}
	}
	found, err := s.judgeAnew(snap, repo, missing, standing)
	for n, g := range found {
		out[at[n]] = g
	}
	return out, err
}

// RememberedOf is RememberedAll for changes by their numbers: those that are remembered are not even read.
func (s *Gatherer) RememberedOf(snap *records.View, repo *records.Repository, numbers []int) (map[int]Gathered, error) {
	standing, err := freezes.InForce(snap.DB, repo, s.records.Now())
	if err != nil {
		return nil, err
	}
	out := make(map[int]Gathered, len(numbers))
	var missing []int
	for _, number := range numbers {
		g, there, err := s.known(snap, repo, number, standing)
		if err != nil {
			return nil, err
		}
		if out[number] = g; !there {
			missing = append(missing, number)
		}
	}
	if len(missing) == 0 {
		return out, nil
	}
	var rows []records.Change
	if err := snap.Where("repository_id = ? AND number IN ?", repo.ID, missing).Find(&rows).Error; err != nil {
		return nil, err
	}
	found, err := s.judgeAnew(snap, repo, rows, standing)
	for _, g := range found {
		out[g.Change.Number] = g
	}
	return out, err
}

// known is the gate that is remembered of a change, if it is what would be judged from a snapshot.
func (s *Gatherer) known(snap *records.View, repo *records.Repository, number int, standing freezes.Standing) (Gathered, bool, error) {
	had, there := recall.Found[kept](s.memory, gateKey(records.ChangeThing(repo.ID, number)))
	if !there || had.standing != standing.IDs {
		return Gathered{}, false, nil
	}
	if newest := s.editions.of(repo.ID, had.things...); newest > had.asOf || newest > snap.Since() {
		return Gathered{}, false, nil
	}
	s.remembered.Add(1)
	return had.Gathered, true, s.doubted(snap.DB, repo, had)
}

// judgeAnew gathers and judges changes together, and remembers what may be.
func (s *Gatherer) judgeAnew(snap *records.View, repo *records.Repository, list []records.Change, standing freezes.Standing) ([]Gathered, error) {
	if len(list) == 0 {
		return nil, nil
	}
	found, err := s.GatherAll(snap.DB, repo, list)
	if err != nil {
		return nil, err
	}
	for n, g := range found {
		report := g.Judge()
		report.Requirements = slices.Clip(report.Requirements)
		s.judged.Add(1)
		g.report = &report
		found[n] = g
		things := g.Things(repo.ID)
		// A snapshot may have later transactions than those it is sure to have: where one of them touched any of this, it is not known
		// on which side of it the snapshot is.
		if s.editions.of(repo.ID, things...) <= snap.Since() && !g.DependsOnTime() {
			recall.Put(s.memory, gateKey(things[0]), g.weight(), kept{g, snap.Since(), things, standing.IDs})
		}
	}
	return found, nil
}

// gateKey is under what the gate of a change is remembered.
func gateKey(change records.Thing) recall.Key {
	return recall.Key{What: "gate", Repo: change.Repo, Of: change.Of}
}

// touched notes a transaction by what it has touched. The gates of the changes among that are of no more use, and mostly not
// asked for again once the change has landed.
func (s *Gatherer) touched(t records.Touched, seq uint64) {
	s.editions.touch(t, seq)
	for thing := range t.Things {
		s.memory.Forget(gateKey(thing))
	}
}

// doubted judges a remembered gate anew where that was asked for, and tells when it has become another although nothing
// that it depends on was written.
func (s *Gatherer) doubted(db *gorm.DB, repo *records.Repository, had kept) error {
	if s.doubt == nil {
		return nil
	}
	var c records.Change
	if err := db.First(&c, had.Change.ID).Error; err != nil {
		return err
	}
	now, err := s.Gather(db, repo, c)
	if err != nil || reflect.DeepEqual(now.Judge(), *had.report) {
		return err
	}
	// Where branches stand is read from disk. A move that is under way is written down when it is made.
	var moving int64
	err = s.records.Read(context.Background()).Model(&records.Intent{}).Where("repository_id = ? AND outcome = ''", repo.ID).Count(&moving).Error
	if moving == 0 && s.editions.of(repo.ID, had.things...) <= had.asOf {
		s.doubt(fmt.Sprintf("change %d of %s is remembered as %+v and is %+v", c.Number, repo.Name, *had.report,
			now.Judge()))
	}
	return err
}

// DependsOnTime says whether the gate may become another without anything being written.
func (g Gathered) DependsOnTime() bool {
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
