package facts

import (
	"context"
	"fmt"
	"reflect"
	"slices"

	"gorm.io/gorm"

	"tavrin/internal/accounts"
	"tavrin/internal/core/areas"
	"tavrin/internal/core/change"
	"tavrin/internal/core/gate"
	"tavrin/internal/core/people"
	"tavrin/internal/core/queue"
	"tavrin/internal/core/rules"
	"tavrin/internal/git"
	"tavrin/internal/records"
	"tavrin/wire"
)

// ChangeAreas says which areas a change touches and whose approval would be enough.
func (s *Gatherer) ChangeAreas(ctx context.Context, a accounts.Actor, name string,
	number int) (wire.ChangeAreas, error) {
	snap := s.records.View(ctx)
	defer snap.Close()
	db := snap.DB
	repo, c, err := ChangeRow(db, a, name, number, people.Reader)
	if err != nil {
		return wire.ChangeAreas{}, err
	}
	g, err := s.Remembered(snap, repo, c)
	if err != nil {
		return wire.ChangeAreas{}, err
	}
	return AreasOf(g), nil
}

// AreasOf says it of what was gathered.
func AreasOf(g Gathered) wire.ChangeAreas {
	out := wire.ChangeAreas{Number: g.Change.Number, Areas: []wire.TouchedArea{}, Unowned: []string{},
		Enough: []string{}, Hopeless: []string{}}
	for _, t := range g.Set.Touched(gate.Comes(g.Set, g.Facts)) {
		var why string
		for _, o := range areas.Of(g.Set, t.Paths[0]) {
			if o.Area.From == t.From {
				why = o.Pattern
			}
		}
		out.Areas = append(out.Areas, wire.TouchedArea{Paths: t.Paths,
			OwnerArea: wire.OwnerArea{Area: t.Name, Pattern: why, Owners: accounts.PrincipalTexts(t.Owners),
				People: accounts.MembersOf(g.Facts.People, t.Owners), Source: t.From, FixedBy: t.From.Document}})
	}
	for _, p := range gate.Comes(g.Set, g.Facts) {
		if len(g.Set.AreasOf(p)) == 0 {
			out.Unowned = append(out.Unowned, p)
		}
	}
	enough, hopeless, exact := gate.Fewest(g.Set, g.Facts)
	out.Enough, out.Hopeless, out.Exact = append(out.Enough, enough...), append(out.Hopeless, hopeless...), exact
	return out
}

// Gathered is what judging a change needs and yields.
type Gathered struct {
	Change    records.Change
	Revision  records.Revision
	Entry     *records.Entry     // the newest, alive or ended
	Rehearsal *records.Rehearsal // the entry's part of the one that it is shown with
	Set       *rules.Set         // nothing suspended: the facts say what is
	Facts     change.Facts
	reviewed  []change.Review // the reviews as they stand while there is no rehearsal
	report    *gate.Report    // once it was judged for reading; see Remembered
}

// Gather reads all facts about a change from the records.
func (s *Gatherer) Gather(db *gorm.DB, repo *records.Repository, c records.Change) (Gathered, error) {
	all, err := s.GatherAll(db, repo, []records.Change{c})
	if err != nil {
		return Gathered{Change: c}, err
	}
	return all[0], nil
}

// GatherRevision is Gather for a revision at hand, which need not be on record.
func (s *Gatherer) GatherRevision(db *gorm.DB, repo *records.Repository, c records.Change,
	r records.Revision) (Gathered, error) {
	g := []Gathered{{Change: c, Revision: r}}
	err := s.fill(db, repo, g)
	return g[0], err
}

// atOnce is how many changes are gathered together.
const atOnce = 200

// GatherAll is Gather for many changes of a repository, in their order: what is asked of the records is asked once for
// all.
func (s *Gatherer) GatherAll(db *gorm.DB, repo *records.Repository, list []records.Change) ([]Gathered, error) {
	out := make([]Gathered, len(list))
	for i, c := range list {
		out[i].Change = c
	}
	for some := range slices.Chunk(out, atOnce) {
		revisions, err := newestRevisions(db, some)
		if err != nil {
			return nil, err
		}
		for i := range some {
			r, there := revisions[some[i].Change.ID]
			if !there { // the change that was given is not the newest
				if r, err = RevisionRow(db, some[i].Change); err != nil {
					return nil, fmt.Errorf("revision %d of change %d: %w", some[i].Change.Revision,
						some[i].Change.Number, err)
				}
			}
			some[i].Revision = r
		}
		if err := s.fill(db, repo, some); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// fill gathers the facts about changes and revisions at hand.
func (s *Gatherer) fill(db *gorm.DB, repo *records.Repository, all []Gathered) error {
	force, err := s.rulebook.RulesOf(db, repo)
	if err != nil {
		return err
	}
	people, err := accounts.PeopleOf(db, repo)
	if err != nil {
		return err
	}
	if s.doubt != nil {
		now, err := accounts.PeopleAnew(db, repo)
		if err != nil {
			return err
		}
		if !reflect.DeepEqual(now.Map(), people.Map()) {
			s.doubt(fmt.Sprintf("the people of %s are remembered as %v and are %v", repo.Name, people.Map(), now.Map()))
		}
	}
	now := s.records.Now()
	e, err := batchOf(db, repo, all, now)
	if err != nil {
		return err
	}
	refs := s.disk.Bare(repo).RefFiles()
	for i := range all {
		g := &all[i]
		c, r := g.Change, g.Revision
		g.Set = force.Set
		g.Facts = change.Facts{
			Repository: repo.Name, Number: c.Number, State: c.State, Title: c.Title, Description: c.Description, Source: c.Source, Target: c.Target,
			Revision: c.Revision, Head: r.Head, Opener: c.OpenedBy, Authors: r.Authors, LastPusher: r.LastPusher, Paths: r.Paths, Ways: r.Ways, PushedAt: r.CreatedAt.UTC(),
			Files: r.Files, Added: r.Added, Removed: r.Removed, Bases: r.Bases, History: change.History(r.History), CommitAuthors: r.CommitAuthors,
			RulesVersion: force.Own.Version, HouseVersion: force.House.Version, Suspended: force.Suspended, People: people, At: now,
		}
		g.Facts.Undoes = change.Prepared{Undoes: c.Undoes, Commit: c.UndoHead}.Still(r.Head, r.SameAs, r.History.Hidden)
		e.about(g)
		if err := standing(refs, g); err != nil {
			return err
		}
	}
	return redTips(db, refs, repo, all)
}

// standing adds where the branches of a change stand.
func standing(refs *git.RefFiles, g *Gathered) error {
	tip, err := refs.At("refs/heads/" + g.Change.Target)
	if err != nil {
		return err
	}
	g.Facts.TargetGone = tip == ""
	if len(g.Facts.Waivers) > 0 {
		g.Facts.Tip = tip
	}
	if g.Change.State != "open" && g.Change.State != "draft" {
		return nil
	}
	source, err := refs.At("refs/heads/" + g.Change.Source)
	g.Facts.SourceGone = source == ""
	return err
}

// Judge judges the gate by what was gathered. What is not asked is left out: a report to be shown says that too
// (gate.JudgeInFull).
func (g Gathered) Judge() gate.Report {
	if g.report != nil {
		return *g.report
	}
	return g.told(gate.JudgeAsked(g.Set, g.Facts))
}

// Ejected returns the entry by which the queue sent an open change back, if nobody has asked for it to land again.
func (g Gathered) Ejected() *records.Entry {
	if x := g.Entry; x != nil && x.State == string(queue.Ejected) && x.EndedAt != nil && g.Change.State == "open" {
		return x
	}
	return nil
}

// told has the report of a change that the queue sent back say so.
func (g Gathered) told(r gate.Report) gate.Report {
	if x := g.Ejected(); x != nil {
		return r.SentBack(x.Reason, g.Facts.PushedAt.After(*x.EndedAt))
	}
	return r
}

// Gate gives the gate report of a change. A change that has landed shows the gate it landed through.
func (s *Gatherer) Gate(ctx context.Context, a accounts.Actor, name string, number int) (wire.Report, error) {
	snap := s.records.View(ctx)
	defer snap.Close()
	db := snap.DB
	repo, c, err := ChangeRow(db, a, name, number, people.Reader)
	if err != nil {
		return wire.Report{}, err
	}
	if c.State == "landed" {
		landing, err := s.landingView(db, repo, c)
		return landing.Report, err
	}
	g, err := s.Remembered(snap, repo, c)
	if err != nil {
		return wire.Report{}, err
	}
	return g.told(gate.JudgeInFull(g.Set, g.Facts)), nil
}
