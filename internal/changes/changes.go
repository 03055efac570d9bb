package changes

import (
	"context"
	"errors"

	"tavrin/internal/accounts"
	"tavrin/internal/conflicts"
	"tavrin/internal/core/change"
	"tavrin/internal/core/event"
	"tavrin/internal/core/gate"
	"tavrin/internal/core/people"
	"tavrin/internal/facts"
	"tavrin/internal/git"
	"tavrin/internal/problem"
	"tavrin/internal/records"
	"tavrin/internal/typed"
	"tavrin/internal/waivers"
	"tavrin/wire"
)

// maxHidden is how many of the paths are named that a change's difference does not show.
const maxHidden = 100

// OpenChange proposes to bring a source branch into a target branch.
func (s *Changes) OpenChange(ctx context.Context, a accounts.Actor, name string, n wire.NewChange) (wire.Change, error) {
	return s.open(ctx, a, name, n, 0, "")
}

// OpenUndo proposes a commit that was prepared to take back what a change landed: as long as the change brings that and nothing
// else, rules know of it (undoes: a landing).
func (s *Changes) OpenUndo(ctx context.Context, a accounts.Actor, name string, n wire.NewChange, undoes int, prepared string) (wire.Change, error) {
	return s.open(ctx, a, name, n, undoes, prepared)
}

func (s *Changes) open(ctx context.Context, a accounts.Actor, name string, n wire.NewChange, undoes int, prepared string) (wire.Change, error) {
	repo, err := accounts.Reach(s.records.Read(ctx), a, name, people.Writer)
	if err != nil {
		return wire.Change{}, err
	}
	number, err := s.openIn(ctx, a, repo, n, undoes, prepared)
	if err != nil {
		return wire.Change{}, err
	}
	if err := s.conflicts.TryNow(ctx, records.ChangeKey{Repo: repo.ID, Number: number}); err != nil {
		s.log.Warn("it could not be looked whether a change conflicts", "repository", repo.Name, "change", number, "error", err)
	}
	return s.Change(ctx, a, name, number)
}

// openIn opens a change, under the repository's lock, and returns its number.
func (s *Changes) openIn(ctx context.Context, a accounts.Actor, repo *records.Repository, n wire.NewChange, undoes int, prepared string) (int, error) {
	if n.Target == "" {
		n.Target = repo.DefaultBranch
	}
	description, err := s.FirstDescription(s.records.Read(ctx), repo, n)
	if err := errors.Join(err, typed.Line("title", n.Title, 1, typed.MaxTitle),
		typed.Prose("description", description, typed.MaxProse)); err != nil {
		return 0, problem.First(err)
	}
	n.Title, description = typed.Mask(n.Title), typed.Mask(description)
	unlock, err := s.moves.Lock(ctx, repo)
	if err != nil {
		return 0, err
	}
	defer unlock()
	head, _, err := s.Ends(ctx, repo, n)
	if err != nil {
		return 0, err
	}
	state := "open"
	if n.Draft {
		state = "draft"
	}
	change := records.Change{RepositoryID: repo.ID, Title: n.Title, Description: description, Source: n.Source,
		Target: n.Target,
		State:  state, OpenedBy: a.Login(), CreatedAt: s.records.Now(), UpdatedAt: s.records.Now()}
	if undoes != 0 && head == prepared { // nobody has pushed to the branch meanwhile
		change.Undoes, change.UndoHead = undoes, prepared
	}
	change.Number = repo.Changes + 1 // nobody else gives one out while the repository is locked
	pending, err := s.RevisionOf(ctx, s.records.Read(ctx), repo, change, nil, head, a.Login())
	if err != nil {
		return 0, err
	}
	if pending.Row.Files == 0 {
		return 0, problem.Wrong("source", "%s brings nothing that %s does not have", n.Source, n.Target)
	}
	if err := s.Keep(ctx, repo, pending); err != nil {
		return 0, err
	}
	err = s.records.Write(ctx, func(tx *records.Tx) error {
		return s.recordOpened(tx, repo, &change, pending,
			n.DependsOn)
	})
	if err != nil {
		return 0, err
	}
	return change.Number, nil
}

// recordOpened gives a new change its number and records it with its first revision.
func (s *Changes) recordOpened(tx *records.Tx, repo *records.Repository, change *records.Change, first PendingRevision,
	dependsOn []int) error {
	if err := noTwin(tx.DB, *change); err != nil {
		return err
	}
	if err := tx.Model(repo).Update("changes", change.Number).Error; err != nil {
		return err
	}
	if err := tx.Create(change).Error; err != nil {
		return err
	}
	if err := setDependencies(tx.DB, *change, dependsOn); err != nil {
		return err
	}
	err := tx.Record(change.OpenedBy, repo, event.ChangeOpened{OfChange: event.OfChange{Number: change.Number},
		Title: change.Title, Source: change.Source, Target: change.Target, State: change.State})
	if err != nil {
		return err
	}
	first.Change = *change
	return s.SaveRevision(tx, repo, first)
}

// Change describes one change.
func (s *Changes) Change(ctx context.Context, a accounts.Actor, name string, number int) (wire.Change, error) {
	snap := s.records.View(ctx)
	defer snap.Close()
	db := snap.DB
	repo, c, err := facts.ChangeRow(db, a, name, number, people.Reader)
	if err != nil {
		return wire.Change{}, err
	}
	all, err := s.facts.RememberedAll(snap, repo, []records.Change{c})
	if err != nil {
		return wire.Change{}, err
	}
	views, err := s.viewsOf(snap, repo, all)
	if err != nil {
		return wire.Change{}, err
	}
	v := views[0]
	v.DescriptionHTML = s.html(v.Description)
	e := all[0].Set.Without(all[0].Facts.Suspended).For(c.Target)
	v.Strategy, v.Message = e.Default, gate.FinalText(e, all[0].Facts)
	for _, by := range e.With {
		v.Strategies = append(v.Strategies, wire.LandingStrategy{Strategy: by, Final: by.Final()})
	}
	if (c.State != "open" && c.State != "draft") || !s.disk.Bare(repo).HasBranch(c.Target) {
		return v, err
	}
	v.Ahead, v.Behind, err = s.disk.Bare(repo).AheadBehind(ctx, v.Head, "refs/heads/"+c.Target)
	return v, err
}

// changeViews describes changes, in their order: each table is asked once for all of them.
func (s *Changes) changeViews(snap *records.View, repo *records.Repository,
	list []records.Change) ([]wire.Change, error) {
	all, err := s.facts.RememberedAll(snap, repo, list)
	if err != nil {
		return nil, err
	}
	return s.viewsOf(snap, repo, all)
}

// viewsOf is changeViews for changes whose facts are gathered.
func (s *Changes) viewsOf(snap *records.View, repo *records.Repository, all []facts.Gathered) ([]wire.Change, error) {
	ids := make([]int64, len(all))
	var entries []records.Entry
	for i, g := range all {
		ids[i] = g.Change.ID
		if g.Entry != nil {
			entries = append(entries, *g.Entry)
		}
	}
	var asked []records.ChangeReviewer
	if err := snap.Where("change_id IN ?", ids).Order("optional, who").Find(&asked).Error; err != nil {
		return nil, err
	}
	reviewers := map[int64][]wire.Reviewer{}
	for _, r := range asked {
		reviewers[r.ChangeID] = append(reviewers[r.ChangeID],
			wire.Reviewer{Who: r.Who, Optional: r.Optional, Reason: r.Reason})
	}
	waivers, err := waivers.WaiverViews(snap.Where("change_id IN ?", ids))
	if err != nil {
		return nil, err
	}
	places, err := s.queues.EntryViews(snap, repo, entries, all)
	if err != nil {
		return nil, err
	}
	found, err := conflicts.Found(snap.DB, ids)
	if err != nil {
		return nil, err
	}
	refs := s.disk.Bare(repo).RefFiles()
	out := []wire.Change{}
	for _, g := range all {
		v, err := changeView(repo, g, refs)
		if err != nil {
			return nil, err
		}
		v.Reviewers = append(v.Reviewers, reviewers[g.Change.ID]...)
		if x := found[g.Change.ID]; g.Change.State == "open" || g.Change.State == "draft" {
			v.Conflicts = append(v.Conflicts, x.Files...)
		}
		v.Waivers = []wire.Waiver{}
		for _, o := range waivers {
			if o.Number == v.Number {
				v.Waivers = append(v.Waivers, o)
			}
		}
		if g.Entry != nil {
			place := places[g.Entry.ID]
			v.Entry = &place
		}
		out = append(out, v)
	}
	return out, nil
}

// changeView describes a change as far as its facts do.
func changeView(repo *records.Repository, g facts.Gathered, refs *git.RefFiles) (wire.Change, error) {
	c, r, report := g.Change, g.Revision, g.Judge()
	v := wire.Change{
		Repository: repo.Name, Number: c.Number, Title: c.Title, Description: c.Description, Source: c.Source, Target: c.Target, State: c.State,
		Revision: c.Revision, Head: r.Head, Base: r.Base, Ready: report.Ready, Summary: report.Summary, OpenedBy: c.OpenedBy, Authors: r.Authors,
		Files: r.Files, Added: r.Added, Removed: r.Removed, Hidden: r.History.Hidden[:min(len(r.History.Hidden),
			maxHidden)],
		LandedCommit: c.LandedCommit, CreatedAt: c.CreatedAt, UpdatedAt: c.UpdatedAt,
		Labels: append([]string{}, g.Facts.Labels...), Reviewers: []wire.Reviewer{}, DependsOn: []int{}, Tickets: gate.Tickets(g.Set, g.Facts),
		TicketLinks: gate.TicketLinks(g.Set, g.Facts), TicketAnswers: []wire.TicketAnswer{}, Conflicts: []string{},
	}
	for _, t := range g.Facts.Tickets {
		said := wire.TicketAnswer{Ticket: t.Name, State: string(t.State), Title: t.Title, Trouble: t.Trouble}
		if t.State != change.TicketNotAsked {
			said.AnsweredAt = &t.At
		}
		v.TicketAnswers = append(v.TicketAnswers, said)
	}
	for _, d := range g.Facts.Dependencies {
		v.DependsOn = append(v.DependsOn, d.Number)
	}
	if c.State == "open" || c.State == "draft" {
		at, err := refs.At("refs/heads/" + c.Source)
		if v.SourceGone = at == ""; err != nil {
			return v, err
		}
	}
	return v, nil
}

const changesPage = 50

// Changes lists a repository's changes, newest first.
func (s *Changes) Changes(ctx context.Context, a accounts.Actor, name string, q wire.ChangeFilter) ([]wire.Change, error) {
	snap := s.records.View(ctx)
	defer snap.Close()
	db := snap.DB
	repo, err := accounts.Reach(db, a, name, people.Reader)
	if err != nil {
		return nil, err
	}
	query := db.Where("repository_id = ?", repo.ID).Order("number DESC").Limit(min(max(q.Limit, 1), 200))
	if q.Limit == 0 {
		query = query.Limit(changesPage)
	}
	switch q.State {
	case "":
		query = query.Where("state IN ('draft', 'open')")
	case "draft", "open", "landed", "closed":
		query = query.Where("state = ?", q.State)
	case "all":
	default:
		return nil, problem.Wrong("state", "%q is not a state of a change: draft, open, landed, closed or all", q.State)
	}
	for column, value := range map[string]string{"target": q.Target, "opened_by": q.By} {
		if value != "" {
			query = query.Where(column+" = ?", value)
		}
	}
	if q.Label != "" {
		query = query.Where("EXISTS (SELECT 1 FROM change_labels l WHERE l.change_id = changes.id AND l.label = ?)",
			q.Label)
	}
	if q.Search != "" {
		query = query.Where("instr(lower(title), lower(?)) > 0 OR instr(lower(source), lower(?)) > 0", q.Search, q.Search)
	}
	if q.Before > 0 {
		query = query.Where("number < ?", q.Before)
	}
	var rows []records.Change
	if err := query.Find(&rows).Error; err != nil {
		return nil, err
	}
	return s.changeViews(snap, repo, rows)
}

// turning is a change's being given up or taken up again.
type turning struct {
	to    string // the state
	doing string
	done  string
	event event.Event
}

// CloseChange gives a change up.
func (s *Changes) CloseChange(ctx context.Context, a accounts.Actor, name string, number int) (wire.Change, error) {
	closed := event.ChangeClosed{OfChange: event.OfChange{Number: number}}
	return s.turn(ctx, a, name, number, turning{"closed", "closing", "closed", closed})
}

// ReopenChange takes a closed change up again, at its newest revision.
func (s *Changes) ReopenChange(ctx context.Context, a accounts.Actor, name string, number int) (wire.Change, error) {
	reopened := event.ChangeReopened{OfChange: event.OfChange{Number: number}}
	return s.turn(ctx, a, name, number, turning{"open", "reopening", "reopened", reopened})
}

func (s *Changes) turn(ctx context.Context, a accounts.Actor, name string, number int, t turning) (wire.Change, error) {
	repo, c, err := facts.ChangeRow(s.records.Read(ctx), a, name, number, people.Writer)
	if err != nil {
		return wire.Change{}, err
	}
	unlock, err := s.moves.Lock(ctx, repo) // so that it does not land while it is closed
	if err != nil {
		return wire.Change{}, err
	}
	defer unlock()
	var pending []PendingRevision
	if t.to == "open" {
		if pending, err = s.missed(ctx, repo, c, a.Login()); err != nil {
			return wire.Change{}, err
		}
	}
	if err := s.Keep(ctx, repo, pending...); err != nil {
		return wire.Change{}, err
	}
	err = s.records.Write(ctx, func(tx *records.Tx) error {
		_, c, err := facts.ChangeRow(tx.DB, a, name, number, people.Writer)
		if err == nil {
			err = facts.MayEdit(tx.DB, a, repo, c, t.doing)
		}
		if err != nil {
			return err
		}
		isOpen := c.State == "draft" || c.State == "open"
		if c.State == "landed" || isOpen == (t.to == "open") {
			return problem.New(problem.Conflict, "change %d is %s; it cannot be %s", number, c.State, t.done)
		}
		if err := tx.Model(&c).Updates(map[string]any{"state": t.to, "updated_at": s.records.Now()}).Error; err != nil {
			return err
		}
		if err := tx.Record(a.Login(), repo, t.event); err != nil {
			return err
		}
		for _, p := range pending {
			p.Change = c
			if err := s.SaveRevision(tx, repo, p); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return wire.Change{}, err
	}
	return s.Change(ctx, a, name, number)
}
