package facts

import (
	"cmp"
	"slices"
	"time"

	"gorm.io/gorm"

	"tavrin/internal/accounts"
	"tavrin/internal/core/change"
	"tavrin/internal/core/queue"
	"tavrin/internal/freezes"
	"tavrin/internal/records"
)

// batch is what the records hold about some changes, by change where nothing else is said: each table is asked once.
type batch struct {
	signers    signers
	teams      map[string][]string // by login
	labels     map[int64][]string
	reviews    map[int64][]records.Review
	disabled   map[string]bool                // logins of reviewers
	then       map[numbered]*records.Revision // earlier ones that standing reviews are of
	threads    map[int64][]change.Thread
	waits      map[int64][]change.Dependency
	waivers    map[int64][]records.Waiver
	entries    map[int64]*records.Entry
	rehearsals map[int64]*records.Rehearsal // by entry
	checks     map[string][]change.Check    // by commit
	tracker    string                       // host of the house's; empty: it has none
	tickets    map[int64][]change.Ticket
	standing   freezes.Standing
}

// numbered names a revision.
type numbered struct {
	change int64
	number int
}

// newestRevisions returns the newest revision of each change.
func newestRevisions(db *gorm.DB, all []Gathered) (map[int64]records.Revision, error) {
	at, ids := map[numbered]bool{}, make([]int64, len(all))
	for i, g := range all {
		ids[i] = g.Change.ID
		at[numbered{g.Change.ID, g.Change.Revision}] = true
	}
	var rows []records.Revision
	err := db.Where("change_id IN ? AND number = (SELECT revision FROM changes c WHERE c.id = revisions.change_id)",
		ids).Find(&rows).Error
	out := map[int64]records.Revision{}
	for _, r := range rows {
		if at[numbered{r.ChangeID, r.Number}] {
			out[r.ChangeID] = r
		}
	}
	return out, err
}

// batchOf asks the records about changes.
func batchOf(db *gorm.DB, repo *records.Repository, all []Gathered, now time.Time) (*batch, error) {
	e := &batch{}
	var ids []int64
	var logins, commits []string
	var brought []records.BroughtCommit
	for _, g := range all {
		ids = append(ids, g.Change.ID)
		logins = append(logins, g.Revision.Authors...)
		commits = append(commits, g.Revision.Head)
		brought = append(brought, g.Revision.Commits...)
	}
	slices.Sort(logins)
	for _, ask := range []func() error{
		func() (err error) { e.signers, err = signersOf(db, repo.ID, brought); return err },
		func() (err error) { e.teams, err = accounts.TeamsOf(db, slices.Compact(logins)); return err },
		func() error { return e.askLabels(db, ids) },
		func() error { return e.askReviews(db, all) },
		func() error { return e.askThreads(db, ids) },
		func() error { return e.askDependencies(db, ids) },
		func() error { return e.askWaivers(db, ids) },
		func() error { return e.askEntries(db, ids) },
		func() error { return e.askTickets(db, repo, ids) },
		func() (err error) { e.standing, err = freezes.InForce(db, repo, now); return err },
		func() (err error) {
			for _, r := range e.rehearsals {
				if r.Tested != "" {
					commits = append(commits, r.Tested)
				}
			}
			e.checks, err = gateChecks(db, repo.ID, commits)
			return err
		},
	} {
		if err := ask(); err != nil {
			return nil, err
		}
	}
	return e, nil
}

func (e *batch) askLabels(db *gorm.DB, ids []int64) error {
	var rows []records.ChangeLabel
	err := db.Where("change_id IN ?", ids).Order("label").Find(&rows).Error
	e.labels = map[int64][]string{}
	for _, r := range rows {
		e.labels[r.ChangeID] = append(e.labels[r.ChangeID], r.Label)
	}
	return err
}

func (e *batch) askReviews(db *gorm.DB, all []Gathered) error {
	var err error
	e.disabled, e.then = map[string]bool{}, map[numbered]*records.Revision{}
	ids, newest := make([]int64, len(all)), map[int64]int{}
	for i, g := range all {
		ids[i], newest[g.Change.ID] = g.Change.ID, g.Revision.Number
	}
	if e.reviews, err = standingReviews(db, ids); err != nil || len(e.reviews) == 0 {
		return err
	}
	var logins []string
	var changes []int64
	var numbers []int
	for id, of := range e.reviews {
		for _, r := range of {
			logins = append(logins, r.Login)
			if r.Revision != newest[id] {
				changes, numbers = append(changes, id), append(numbers, r.Revision)
			}
		}
	}
	var disabled []string
	if err := db.Model(&records.Account{}).Where("disabled AND login IN ?", logins).Pluck("login",
		&disabled).Error; err != nil {
		return err
	}
	for _, login := range disabled {
		e.disabled[login] = true
	}
	if len(changes) == 0 {
		return nil
	}
	slices.Sort(changes)
	slices.Sort(numbers)
	var rows []records.Revision
	err = db.Where("change_id IN ? AND number IN ?", slices.Compact(changes), slices.Compact(numbers)).Find(&rows).Error
	for i, r := range rows {
		e.then[numbered{r.ChangeID, r.Number}] = &rows[i]
	}
	return err
}

func (e *batch) askThreads(db *gorm.DB, ids []int64) error {
	var rows []records.Thread
	err := db.Where("change_id IN ? AND needs_answer", ids).Order("id").Find(&rows).Error
	e.threads = map[int64][]change.Thread{}
	for _, t := range rows {
		e.threads[t.ChangeID] = append(e.threads[t.ChangeID],
			change.Thread{ID: t.ID, By: t.BegunBy, Where: Where(t), ResolvedBy: t.ResolvedBy})
	}
	return err
}

func (e *batch) askDependencies(db *gorm.DB, ids []int64) error {
	var rows []struct {
		change.Dependency
		ChangeID int64
	}
	err := db.Raw("SELECT d.change_id, c.number, c.title, c.state, c.target FROM change_dependencies d JOIN changes "+
		"c ON c.id = d.on_id "+
		"WHERE d.change_id IN ? ORDER BY c.number", ids).Scan(&rows).Error
	e.waits = map[int64][]change.Dependency{}
	for _, r := range rows {
		e.waits[r.ChangeID] = append(e.waits[r.ChangeID], r.Dependency)
	}
	return err
}

func (e *batch) askWaivers(db *gorm.DB, ids []int64) error {
	var rows []records.Waiver
	err := db.Where("change_id IN ? AND used_at IS NULL AND ended_at IS NULL", ids).Order("id").Find(&rows).Error
	e.waivers = map[int64][]records.Waiver{}
	for _, r := range rows {
		e.waivers[*r.ChangeID] = append(e.waivers[*r.ChangeID], r)
	}
	return err
}

func (e *batch) askEntries(db *gorm.DB, ids []int64) error {
	var rows []records.Entry
	err := db.Where("id IN (SELECT max(id) FROM entries WHERE change_id IN ? GROUP BY change_id)",
		ids).Find(&rows).Error
	if err != nil {
		return err
	}
	e.entries, e.rehearsals = map[int64]*records.Entry{}, map[int64]*records.Rehearsal{}
	var alive []int64
	for i, r := range rows {
		e.entries[r.ChangeID] = &rows[i]
		if !queue.EntryState(r.State).Ended() {
			alive = append(alive, r.ID)
		}
	}
	if len(alive) == 0 {
		return nil
	}
	var rehearsals []records.Rehearsal // that they are shown with
	err = db.Joins("JOIN entries e ON e.id = rehearsals.entry_id AND e.rehearsal = rehearsals.number").
		Where("entry_id IN ? AND ended = ''", alive).Find(&rehearsals).Error
	for i, r := range rehearsals {
		e.rehearsals[r.EntryID] = &rehearsals[i]
	}
	return err
}

func (e *batch) askTickets(db *gorm.DB, repo *records.Repository, ids []int64) error {
	var t records.Tracker
	if err := db.Where("house_id = ?", repo.HouseID).Limit(1).Find(&t).Error; err != nil || t.HouseID == 0 {
		return err
	}
	e.tracker, e.tickets = t.Host(), map[int64][]change.Ticket{}
	var rows []struct {
		records.TicketAnswer
		ChangeID int64
	}
	err := db.Raw("SELECT a.*, w.change_id FROM ticket_wants w JOIN ticket_answers a ON a.house_id = w.house_id AND a.ticket = w.ticket "+
		"WHERE w.change_id IN ? ORDER BY w.rowid", ids).Scan(&rows).Error
	for _, r := range rows {
		said := change.Ticket{Name: r.Ticket, State: change.TicketState(r.State), Title: r.Title, Trouble: cmp.Or(r.Trouble, t.Trouble)}
		if r.AnsweredAt != nil {
			said.At = r.AnsweredAt.UTC()
		}
		e.tickets[r.ChangeID] = append(e.tickets[r.ChangeID], said)
	}
	return err
}

// about adds to the facts about one change what the records hold.
func (e *batch) about(g *Gathered) {
	c, r, f := g.Change, g.Revision, &g.Facts
	f.Commits = e.signers.commits(r.Commits)
	f.AuthorTeams = map[string][]string{}
	for _, login := range r.Authors {
		if teams, any := e.teams[login]; any {
			f.AuthorTeams[login] = teams
		}
	}
	f.Labels, f.Threads, f.Dependencies = e.labels[c.ID], e.threads[c.ID], e.waits[c.ID]
	f.Stops = e.standing.Of(c.Target)
	f.Tracker, f.Tickets = e.tracker, e.tickets[c.ID]
	f.HeadChecks = append([]change.Check{}, e.checks[r.Head]...)
	for _, o := range e.waivers[c.ID] {
		if o.Ref == "refs/heads/"+c.Target {
			f.Waivers = append(f.Waivers, gateWaiver(o))
		}
	}
	if g.Entry = e.entries[c.ID]; g.Entry != nil && !queue.EntryState(g.Entry.State).Ended() {
		f.Asker, f.Strategy, f.Message = g.Entry.JoinedBy, change.Strategy(g.Entry.Strategy), g.Entry.Message
		g.Rehearsal = e.rehearsals[g.Entry.ID]
	}
	g.reviewed = []change.Review{}
	for _, review := range e.reviews[c.ID] {
		g.reviewed = append(g.reviewed, e.review(review, r))
	}
	f.Reviews = g.reviewed
	if x := g.Rehearsal; x != nil {
		*g = g.On(*x, e.checks[x.Tested])
	}
}

// On is what was gathered as it is to be judged for a rehearsal of the entry, with the checks on what was tested for it.
func (g Gathered) On(r records.Rehearsal, checks []change.Check) Gathered {
	g = g.Unrehearsed()
	g.Rehearsal = &r
	if r.Tested != "" {
		g.Facts.Rehearsal = &change.Rehearsal{Commit: r.CommitID, Base: r.Base, BuiltAt: r.CreatedAt.UTC(), Checks: append([]change.Check{}, checks...)}
		if r.Tested != r.CommitID {
			g.Facts.Rehearsal.Tested = r.Tested
		}
	}
	for i, v := range g.Facts.Reviews { // an objection is not lost by this
		if v.Verdict == change.Approve && v.Revision != g.Revision.Number && !slices.Contains(r.SameAs, v.Revision) {
			g.Facts.Reviews[i].SameDifference, g.Facts.Reviews[i].Hidden = false, nil
		}
	}
	return g
}

// Unrehearsed is what was gathered as it is to be judged while there is no rehearsal.
func (g Gathered) Unrehearsed() Gathered {
	g.report, g.Rehearsal, g.Facts.Rehearsal = nil, nil, nil
	g.Facts.Reviews = append([]change.Review{}, g.reviewed...)
	return g
}

func gateWaiver(r records.Waiver) change.Waiver {
	o := change.Waiver{ID: r.ID, By: r.MadeBy, Reason: r.Reason, Revision: r.Revision, Tip: r.Tip, Until: r.Until}
	for _, x := range r.Waives {
		o.Requirements = append(o.Requirements, change.Named(x))
	}
	return o
}

// review gives the gate a standing review, with whether the difference is still the one reviewed: as the newest
// revision was compared with the reviewed one; On compares them as they were brought to a rehearsal's base.
func (e *batch) review(r records.Review, newest records.Revision) change.Review {
	review := change.Review{
		By: r.Login, Verdict: change.Verdict(r.Verdict), Revision: r.Revision, Title: r.Title, Description: r.Description, At: r.CreatedAt.UTC(), Teams: r.Teams,
		Disabled: e.disabled[r.Login], SameDifference: r.Revision == newest.Number ||
			slices.Contains(newest.SameAs, r.Revision),
	}
	if r.Revision == newest.Number {
		return review
	}
	then := e.then[numbered{r.ChangeID, r.Revision}]
	if !review.SameDifference || then == nil {
		return review
	}
	for _, path := range newest.History.Hidden {
		if !slices.Contains(then.History.Hidden, path) && !slices.Contains(then.Paths, path) {
			review.Hidden = append(review.Hidden, path)
		}
	}
	return review
}
