package facts

import (
	"context"

	"gorm.io/gorm"

	"tavrin/internal/accounts"
	"tavrin/internal/core/areas"
	"tavrin/internal/core/gate"
	"tavrin/internal/core/queue"
	"tavrin/internal/core/rules"
	"tavrin/internal/records"
	"tavrin/wire"
)

// ChangeAreas says which areas a change touches and whose approval would be enough.
func (s *Gatherer) ChangeAreas(ctx context.Context, a accounts.Actor, name string, number int) (wire.ChangeAreas, error) {
	snap := s.records.View(ctx)
	defer snap.Close()
	db := snap.DB
	repo, c, err := ChangeRow(db, a, name, number, gate.Reader)
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
	out := wire.ChangeAreas{Number: g.Change.Number, Areas: []wire.TouchedArea{}, Unowned: []string{}, Enough: []string{}, Hopeless: []string{}}
	for _, t := range g.Set.Touched(gate.Comes(g.Set, g.Facts)) {
		var why string
		for _, o := range areas.Of(g.Set, t.Paths[0]) {
			if o.Area.From == t.From {
				why = o.Pattern
			}
		}
		out.Areas = append(out.Areas, wire.TouchedArea{Paths: t.Paths, OwnerArea: wire.OwnerArea{Area: t.Name, Pattern: why, Owners: accounts.PrincipalTexts(t.Owners),
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
	Rehearsal *records.Rehearsal // the one of use, built or not
	Set       *rules.Set         // nothing suspended: the facts say what is
	Facts     gate.Facts
	report    *gate.Report // once it was judged for reading; see Remembered
}

// Gather reads all facts about a change from the records.
func (s *Gatherer) Gather(db *gorm.DB, repo *records.Repository, c records.Change) (Gathered, error) {
	revision, err := RevisionRow(db, c)
	if err != nil {
		return Gathered{Change: c}, err
	}
	return s.GatherRevision(db, repo, c, revision)
}

// GatherRevision is gather for a revision at hand, which need not be on record.
func (s *Gatherer) GatherRevision(db *gorm.DB, repo *records.Repository, c records.Change, r records.Revision) (Gathered, error) {
	g := Gathered{Change: c, Revision: r}
	force, err := s.rulebook.RulesOf(db, repo)
	if err != nil {
		return g, err
	}
	g.Set = force.Set
	g.Facts = gate.Facts{Repository: repo.Name, Number: c.Number, State: c.State, Title: c.Title, Description: c.Description, Source: c.Source, Target: c.Target,
		Revision: c.Revision, Head: r.Head, Opener: c.OpenedBy, Authors: r.Authors, LastPusher: r.LastPusher, Paths: r.Paths, Files: r.Files, Added: r.Added, Removed: r.Removed,
		CommitAuthors: r.CommitAuthors, RulesVersion: force.Own.Version, HouseVersion: force.House.Version, Suspended: force.Suspended, At: s.records.Now()}
	g.Facts.Bases, g.Facts.History = r.Bases, gate.History(r.History)
	if g.Facts.Commits, err = GateCommits(db, repo.ID, r.Commits); err != nil {
		return g, err
	}
	g.Facts.TargetGone = !s.disk.Bare(repo).HasBranch(c.Target)
	g.Facts.SourceGone = (c.State == "open" || c.State == "draft") && !s.disk.Bare(repo).HasBranch(c.Source)
	if g.Facts.People, err = accounts.PeopleOf(db, repo); err != nil {
		return g, err
	}
	if g.Facts.AuthorTeams, err = accounts.TeamsOf(db, r.Authors); err != nil {
		return g, err
	}
	if err := db.Model(&records.ChangeLabel{}).Where("change_id = ?", c.ID).Order("label").Pluck("label", &g.Facts.Labels).Error; err != nil {
		return g, err
	}
	if g.Facts.Reviews, err = gateReviews(db, c, r, nil); err != nil {
		return g, err
	}
	if g.Facts.Threads, err = gateThreads(db, c); err != nil {
		return g, err
	}
	if g.Facts.HeadChecks, err = gateChecks(db, repo.ID, g.Revision.Head); err != nil {
		return g, err
	}
	if g.Facts.Dependencies, err = dependencies(db, c); err != nil {
		return g, err
	}
	if g.Facts.Overrides, err = liveOverrides(db, c); err != nil {
		return g, err
	}
	if len(g.Facts.Overrides) > 0 && !g.Facts.TargetGone {
		if g.Facts.Tip, err = s.disk.Bare(repo).At("refs/heads/" + c.Target); err != nil {
			return g, err
		}
	}
	var entry records.Entry
	if err := db.Where("change_id = ?", c.ID).Order("id DESC").Limit(1).Find(&entry).Error; err != nil {
		return g, err
	}
	if entry.ID == 0 {
		return g, nil
	}
	g.Entry = &entry
	if queue.EntryState(entry.State).Ended() {
		return g, nil
	}
	g.Facts.Asker, g.Facts.Strategy, g.Facts.Message = entry.JoinedBy, rules.Strategy(entry.Strategy), entry.Message
	var rehearsal records.Rehearsal
	if err := db.Where("entry_id = ? AND ended = ''", entry.ID).Order("id DESC").Limit(1).Find(&rehearsal).Error; err != nil {
		return g, err
	}
	if rehearsal.ID != 0 {
		g.Rehearsal = &rehearsal
	}
	if g.Rehearsal != nil {
		if g.Facts.Reviews, err = gateReviews(db, c, r, g.Rehearsal); err != nil {
			return g, err
		}
	}
	if g.Rehearsal != nil && rehearsal.CommitID != "" {
		g.Facts.Rehearsal = &gate.Rehearsal{Commit: rehearsal.CommitID, Base: rehearsal.Base, BuiltAt: rehearsal.CreatedAt.UTC()}
		g.Facts.Rehearsal.Checks, err = gateChecks(db, repo.ID, rehearsal.CommitID)
	}
	return g, err
}

func (g Gathered) Judge() gate.Report {
	if g.report != nil {
		return *g.report
	}
	return gate.Judge(g.Set, g.Facts)
}

// Gate gives the gate report of a change. A change that has landed shows the gate it landed through.
func (s *Gatherer) Gate(ctx context.Context, a accounts.Actor, name string, number int) (wire.Report, error) {
	snap := s.records.View(ctx)
	defer snap.Close()
	db := snap.DB
	repo, c, err := ChangeRow(db, a, name, number, gate.Reader)
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
	return gate.JudgeInFull(g.Set, g.Facts), nil
}
