package freezes

import (
	"cmp"
	"context"
	"strings"
	"time"

	"gorm.io/gorm"

	"tavrin/internal/accounts"
	"tavrin/internal/core/event"
	"tavrin/internal/core/glob"
	"tavrin/internal/core/people"
	"tavrin/internal/git"
	"tavrin/internal/problem"
	"tavrin/internal/records"
	"tavrin/internal/typed"
	"tavrin/wire"
)

const (
	maxBranches = 50
	maxFreezes  = 100 // of a repository or a house
)

// place is whose freezes are meant: a repository's, or a house's.
type place struct {
	repo *records.Repository
	h    records.House
}

// placeOf finds a place for an actor who may keep its freezes, or, where they are only to be seen, may see it.
func placeOf(db *gorm.DB, a accounts.Actor, of string, keep bool) (place, error) {
	p := place{}
	var err error
	if !a.Known() && !strings.Contains(of, "/") {
		return p, problem.New(problem.SignInNeeded, "sign in to see freezes")
	}
	if of == "" {
		return p, problem.Wrong("of", "say whose freezes are meant: HOUSE/NAME or HOUSE")
	}
	if strings.Contains(of, "/") {
		need := people.Reader
		if keep {
			need = people.Maintainer
		}
		p.repo, err = accounts.Reach(db, a, of, need)
		return p, err
	}
	if p.h, err = accounts.HouseByName(db, a, of); err != nil {
		return p, err
	}
	if keep {
		return p, accounts.MustMaintainHouse(db, a, p.h, "keeping its freezes")
	}
	role, err := accounts.HouseRole(db, a.Account(), p.h.ID)
	switch {
	case err != nil:
	case a.Scope() != accounts.ScopeAll && a.Scope() != accounts.ScopeRead, role == "" && !a.Account().Admin:
		err = problem.New(problem.Forbidden, "the freezes of a whole house are for those with a role in it; those of HOUSE/NAME for its readers")
	}
	return p, err
}

func (p place) freeze(n wire.NewFreeze, a accounts.Actor, now time.Time) records.Freeze {
	f := records.Freeze{Name: n.Name, Reason: n.Reason, Branches: n.Branches, Zone: "UTC", MadeBy: a.Login(), CreatedAt: now, Through: now}
	if p.repo != nil {
		f.RepositoryID = &p.repo.ID
	} else {
		f.HouseID = &p.h.ID
	}
	return f
}

func valid(n *wire.NewFreeze, defaultBranch string) error {
	if err := typed.Line("reason", n.Reason, 1, typed.MaxTitle); err != nil {
		return err
	}
	if len(n.Branches) == 0 {
		if defaultBranch == "" {
			return problem.Wrong("branches", "a freeze of a house names its branches, such as main or release/**")
		}
		n.Branches = []string{defaultBranch}
	}
	if len(n.Branches) > maxBranches {
		return problem.Wrong("branches", "a freeze names at most %d branches", maxBranches)
	}
	if _, err := glob.CompileList(n.Branches); err != nil {
		return problem.Wrong("branches", "%v", err)
	}
	return nil
}

// Plan plans freezes: one at a time that is given, or those of a calendar. It returns them with their first times.
func (s *Freezes) Plan(ctx context.Context, a accounts.Actor, n wire.NewFreeze) ([]wire.Freeze, error) {
	now := s.records.Now()
	zone, err := zoneOf(cmp.Or(n.Zone, "UTC"))
	if err != nil {
		return nil, problem.Wrong("zone", "%v", err)
	}
	var events []planned
	switch {
	case n.Calendar != "" && (n.Begins != nil || n.Ends != nil):
		return nil, problem.Wrong("calendar", "a calendar says itself when: leave out begins and ends")
	case n.Calendar != "":
		if events, err = read(n.Calendar, zone, now); err != nil {
			return nil, problem.Wrong("calendar", "%v", err)
		}
	case n.Begins == nil || n.Ends == nil:
		return nil, problem.Wrong("begins", "a freeze begins and ends, or comes from a calendar")
	case !n.Begins.Before(*n.Ends) || n.Ends.Sub(*n.Begins) > longest:
		return nil, problem.Wrong("ends", "a freeze ends after it has begun, and within 366 days")
	case !n.Ends.After(now):
		return nil, problem.Wrong("ends", "%s is over", n.Ends.UTC().Format("2006-01-02 15:04 UTC"))
	case n.Begins.After(now.Add(10 * longest)):
		return nil, problem.Wrong("begins", "a freeze is planned at most ten years ahead")
	}
	var made []int64
	err = s.records.Write(ctx, func(tx *records.Tx) error {
		made = nil
		p, err := placeOf(tx.DB, a, n.Of, true)
		if err != nil {
			return err
		}
		branch := ""
		if p.repo != nil {
			branch = p.repo.DefaultBranch
		}
		if err := valid(&n, branch); err != nil {
			return err
		}
		var there int64
		if err := tx.Model(&records.Freeze{}).Where("deleted_at IS NULL AND NOT hold AND repository_id IS ? AND house_id IS ?", p.freeze(n, a, now).RepositoryID,
			p.freeze(n, a, now).HouseID).Count(&there).Error; err != nil {
			return err
		}
		if there+int64(max(1, len(events))) > maxFreezes {
			return problem.New(problem.Conflict, "there are %d freezes already, and %d are the most: delete those that are over (tavrin freeze list --all)", there, maxFreezes)
		}
		if len(events) == 0 {
			if err := typed.Line("name", n.Name, 1, 60); err != nil {
				return err
			}
			f := p.freeze(n, a, now)
			if err := tx.Create(&f).Error; err != nil {
				return err
			}
			begins, ends := n.Begins.UTC(), n.Ends.UTC()
			if err := tx.Create(&records.FreezeTime{FreezeID: f.ID, Begins: begins, Ends: &ends, State: "planned"}).Error; err != nil {
				return err
			}
			made = append(made, f.ID)
			return tx.Record(a.Login(), p.repo, event.FreezePlanned{OfFreeze: event.OfFreeze{Freeze: f.ID, Name: f.Name, Of: n.Of, Branches: f.Branches}, Begins: begins, Ends: ends,
				Reason: f.Reason})
		}
		for _, e := range events {
			id, err := s.planEvent(tx, a, p, n, e, zone)
			if err != nil {
				return err
			}
			if id != 0 {
				made = append(made, id)
			}
		}
		if len(made) == 0 {
			return problem.Wrong("calendar", "every event of it is over")
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	all, err := s.List(ctx, a, n.Of, false)
	out := []wire.Freeze{}
	for _, f := range all {
		for _, id := range made {
			if f.ID == id {
				out = append(out, f)
			}
		}
	}
	return out, err
}

// planEvent plans one event of a calendar; 0: it comes no more.
func (s *Freezes) planEvent(tx *records.Tx, a accounts.Actor, p place, n wire.NewFreeze, e planned, zone *time.Location) (int64, error) {
	f := p.freeze(n, a, tx.Now())
	f.Zone, f.Calendar = zone.String(), written(e.event)
	f.Name = cmp.Or(n.Name, e.name)
	if err := typed.Line("name", f.Name, 1, 60); err != nil {
		return 0, err
	}
	spans, err := times(f, tx.Now(), tx.Now().Add(ahead))
	if err != nil || len(spans) == 0 {
		return 0, err
	}
	if err := tx.Create(&f).Error; err != nil {
		return 0, err
	}
	if err := plan(tx, &f, f.Through, tx.Now().Add(ahead)); err != nil {
		return 0, err
	}
	return f.ID, tx.Record(a.Login(), p.repo, event.FreezePlanned{OfFreeze: event.OfFreeze{Freeze: f.ID, Name: f.Name, Of: n.Of, Branches: f.Branches},
		Begins: spans[0].begins, Ends: spans[0].ends, Recurs: len(spans) > 1, Reason: f.Reason, FromICS: true})
}

// nextTimes is how many times of a freeze are shown.
const nextTimes = 5

// List lists the freezes of a repository, those of its house too, or of a house: those that are in force or come yet; all,
// those that are over as well.
func (s *Freezes) List(ctx context.Context, a accounts.Actor, of string, all bool) ([]wire.Freeze, error) {
	v := s.records.View(ctx)
	defer v.Close()
	p, err := placeOf(v.DB, a, of, false)
	if err != nil {
		return nil, err
	}
	rows, err := s.listed(v.DB, p, all)
	out := []wire.Freeze{}
	now := s.records.Now()
	for _, r := range rows {
		n := len(out) - 1
		if n < 0 || out[n].ID != r.FreezeID {
			out = append(out, wire.Freeze{ID: r.FreezeID, Of: r.Of, Name: r.Name, Reason: r.Reason, Branches: r.Branches, MadeBy: r.MadeBy, CreatedAt: r.CreatedAt,
				FromCalendar: r.Calendar != "", Times: []wire.FreezeTime{}})
			n++
		}
		t := wire.FreezeTime{Begins: r.Begins.UTC(), Ends: r.Ends.UTC(), Now: r.State != "over" && !r.Begins.After(now) && r.Ends.After(now)}
		out[n].Now = out[n].Now || t.Now
		if len(out[n].Times) < nextTimes {
			out[n].Times = append(out[n].Times, t)
		}
		out[n].Further++
	}
	for i := range out {
		out[i].Further -= len(out[i].Times)
	}
	return out, err
}

// listed finds the times of freezes, holds left out, by freeze, in order.
func (s *Freezes) listed(db *gorm.DB, p place, all bool) ([]listed, error) {
	var rows []listed
	where := "WHERE NOT f.hold AND "
	args := []any{}
	if p.repo != nil {
		where += ofBoth
		args = append(args, p.repo.ID, p.repo.HouseID)
	} else {
		where += "f.deleted_at IS NULL AND f.house_id = ?"
		args = append(args, p.h.ID)
	}
	if !all {
		where += " AND t.state <> 'over' AND t.ends > ?"
		args = append(args, s.records.Now())
	}
	return rows, db.Raw(columns+where+" ORDER BY f.id, t.begins, t.id", args...).Scan(&rows).Error
}

// Feed is the calendar of the freezes of a repository or a house: of the last 30 days, and as far ahead as they are known.
func (s *Freezes) Feed(ctx context.Context, a accounts.Actor, of string) (string, error) {
	v := s.records.View(ctx)
	defer v.Close()
	p, err := placeOf(v.DB, a, of, false)
	if err != nil {
		return "", err
	}
	rows, err := s.listed(v.DB, p, true)
	now := s.records.Now()
	var shown []listed
	for _, r := range rows {
		if r.Ends.After(now.Add(-30 * 24 * time.Hour)) {
			shown = append(shown, r)
		}
	}
	host := strings.TrimPrefix(strings.TrimPrefix(s.address, "https://"), "http://")
	return feed(cmp.Or(host, "tavrin.invalid"), shown, now), err
}

// find finds a freeze for an actor who may keep it. One that they may not is as good as none (P11).
func (s *Freezes) find(tx *records.Tx, a accounts.Actor, id int64) (listed, place, error) {
	var r listed
	missing := problem.New(problem.Unknown, "there is no freeze %d, or it is not yours to keep", id)
	if !a.Known() {
		return r, place{}, problem.New(problem.SignInNeeded, "sign in to keep freezes")
	}
	if err := tx.Raw(columns+"WHERE f.id = ? AND f.deleted_at IS NULL AND NOT f.hold LIMIT 1", id).Scan(&r).Error; err != nil {
		return r, place{}, err
	}
	if r.FreezeID == 0 {
		return r, place{}, missing
	}
	if _, err := placeOf(tx.DB, a, r.Of, false); err != nil {
		return r, place{}, missing
	}
	p, err := placeOf(tx.DB, a, r.Of, true)
	return r, p, err
}

// End ends a freeze that is in force, this time.
func (s *Freezes) End(ctx context.Context, a accounts.Actor, id int64, reason string) error {
	if err := typed.Line("reason", reason, 1, typed.MaxTitle); err != nil {
		return err
	}
	return s.records.Write(ctx, func(tx *records.Tx) error {
		r, p, err := s.find(tx, a, id)
		if err != nil {
			return err
		}
		now := tx.Now()
		done := tx.Exec("UPDATE freeze_times SET ends = ?, state = 'over' WHERE freeze_id = ? AND state <> 'over' AND begins <= ? AND ends > ?", now, id, now, now)
		switch {
		case done.Error != nil:
			return done.Error
		case done.RowsAffected == 0:
			return problem.New(problem.Conflict, "freeze %d is not in force: tavrin freeze delete %d has it come no more", id, id)
		}
		return tx.Record(a.Login(), p.repo, event.FreezeEnded{OfFreeze: of(r), Early: true, Reason: reason})
	})
}

// Delete has a freeze come no more; one that is in force is over with that.
func (s *Freezes) Delete(ctx context.Context, a accounts.Actor, id int64, reason string) error {
	if err := typed.Line("reason", reason, 1, typed.MaxTitle); err != nil {
		return err
	}
	return s.records.Write(ctx, func(tx *records.Tx) error {
		r, p, err := s.find(tx, a, id)
		if err != nil {
			return err
		}
		if err := tx.Model(&records.Freeze{ID: id}).Update("deleted_at", tx.Now()).Error; err != nil {
			return err
		}
		return tx.Record(a.Login(), p.repo, event.FreezeDeleted{OfFreeze: of(r), Reason: reason})
	})
}

// held finds the hold of a queue.
func held(tx *records.Tx, repo *records.Repository, branch string) (listed, error) {
	var all []listed
	err := tx.Raw(columns+"WHERE f.deleted_at IS NULL AND f.hold AND f.repository_id = ? AND t.state = 'on'", repo.ID).Scan(&all).Error
	for _, r := range all {
		if len(r.Branches) == 1 && r.Branches[0] == branch {
			return r, err
		}
	}
	return listed{}, err
}

// onQueue finds a queue that an actor may hold and free: its repository, the name of its branch, and its hold, if it has one.
func onQueue(tx *records.Tx, a accounts.Actor, name, branch, reason string) (*records.Repository, string, listed, error) {
	repo, err := accounts.Reach(tx.DB, a, name, people.Maintainer)
	if err != nil {
		return nil, "", listed{}, err
	}
	if branch == "" {
		branch = repo.DefaultBranch
	}
	if err := git.CheckBranch(branch); err != nil {
		return nil, "", listed{}, problem.Wrong("branch", "%v", err)
	}
	if err := typed.Line("reason", reason, 1, typed.MaxTitle); err != nil {
		return nil, "", listed{}, err
	}
	there, err := held(tx, repo, branch)
	return repo, branch, there, err
}

// Hold has nothing land on a branch until somebody frees its queue.
func (s *Freezes) Hold(ctx context.Context, a accounts.Actor, name, branch, reason string) error {
	return s.records.Write(ctx, func(tx *records.Tx) error {
		repo, branch, there, err := onQueue(tx, a, name, branch, reason)
		if err != nil {
			return err
		}
		if there.FreezeID != 0 {
			return problem.New(problem.Conflict, "the queue of %s is held already, by %s: %s", branch, there.MadeBy, there.Reason)
		}
		now := tx.Now()
		f := records.Freeze{RepositoryID: &repo.ID, Hold: true, Name: "hold", Reason: reason, Branches: []string{branch}, Zone: "UTC", Through: now, MadeBy: a.Login(), CreatedAt: now}
		if err := tx.Create(&f).Error; err != nil {
			return err
		}
		if err := tx.Create(&records.FreezeTime{FreezeID: f.ID, Begins: now, State: "on"}).Error; err != nil {
			return err
		}
		return tx.Record(a.Login(), repo, event.QueueHeld{Branch: branch, Reason: reason})
	})
}

// Free has a held queue go on.
func (s *Freezes) Free(ctx context.Context, a accounts.Actor, name, branch, reason string) error {
	return s.records.Write(ctx, func(tx *records.Tx) error {
		repo, branch, there, err := onQueue(tx, a, name, branch, reason)
		if err != nil {
			return err
		}
		if there.FreezeID == 0 {
			return problem.New(problem.Conflict, "nobody holds the queue of %s", branch)
		}
		now := tx.Now()
		if err := tx.Exec("UPDATE freeze_times SET ends = ?, state = 'over' WHERE id = ?", now, there.TimeID).Error; err != nil {
			return err
		}
		if err := tx.Model(&records.Freeze{ID: there.FreezeID}).Update("deleted_at", now).Error; err != nil { // it is not looked at any more
			return err
		}
		return tx.Record(a.Login(), repo, event.QueueFreed{Branch: branch, Reason: reason})
	})
}
