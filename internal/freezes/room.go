// Package freezes keeps the times at which nothing lands: planned ones, and queues that somebody holds.
//
// What is frozen when is worked out when a freeze is planned and kept, so that whether a branch is frozen now is one look
// at the records, by the clock alone: nothing has to run in time for it to hold. That one has begun or is over is told
// afterwards. What a freeze means for a change or a push is decided in core.
package freezes

import (
	"context"
	"errors"
	"fmt"
	"time"

	"gorm.io/gorm"

	"tavrin/internal/core/change"
	"tavrin/internal/core/event"
	"tavrin/internal/core/glob"
	"tavrin/internal/records"
)

// Freezes is the room. Its methods may be called concurrently.
type Freezes struct {
	records *records.Records
	address string // of the service
}

// New makes the room.
func New(r *records.Records, address string) *Freezes { return &Freezes{r, address} }

// Standing are the freezes and holds of a repository at one time.
type Standing struct {
	IDs   string // equal for equal ones
	stops []stop
}

type stop struct {
	change.Stop
	on func(branch string) bool
}

// Of lists those of one branch.
func (s Standing) Of(branch string) []change.Stop {
	var out []change.Stop
	for _, x := range s.stops {
		if x.on(branch) {
			out = append(out, x.Stop)
		}
	}
	return out
}

// listed is one time of a freeze.
type listed struct {
	records.Freeze
	TimeID   int64
	FreezeID int64
	Begins   time.Time
	Ends     *time.Time
	State    string
	Of       string // HOUSE/NAME or HOUSE
}

// columns begins a query for the times of some freezes; soonest, one for some times. Of which it is looked at first, of
// freezes, which are few, or of times, which become many, SQLite is told: CROSS JOIN keeps the order.
const (
	what    = "SELECT f.*, t.id AS time_id, t.freeze_id, t.begins, t.ends, t.state, ifnull(r.name, h.name) AS of FROM "
	whose   = " LEFT JOIN repositories r ON r.id = f.repository_id LEFT JOIN houses h ON h.id = f.house_id "
	columns = what + "freezes f CROSS JOIN freeze_times t ON t.freeze_id = f.id" + whose
	soonest = what + "freeze_times t CROSS JOIN freezes f ON f.id = t.freeze_id" + whose
	// those of a repository and of its house, each by its index
	ofBoth = "f.id IN (SELECT id FROM freezes WHERE deleted_at IS NULL AND repository_id = ? UNION ALL SELECT id FROM freezes WHERE deleted_at IS NULL AND house_id = ?)"
)

// InForce finds what stops landings in a repository now. All times that are not over are read once for all repositories, and anew
// when something of them has become another.
func InForce(db *gorm.DB, repo *records.Repository, now time.Time) (Standing, error) {
	all, err := records.Known(db, records.Freezes, "times", func() ([]coming, error) { return comingTimes(db) })
	var s Standing
	for _, c := range all {
		ours := c.RepositoryID != nil && *c.RepositoryID == repo.ID || c.HouseID != nil && *c.HouseID == repo.HouseID
		if ours && !c.Begins.After(now) && (c.Ends == nil || c.Ends.After(now)) {
			s.stops = append(s.stops, c.stop)
			s.IDs += fmt.Sprintf("+%d", c.TimeID)
		}
	}
	return s, err
}

// coming is a time of a freeze that is not over.
type coming struct {
	listed
	stop stop
}

// comingTimes reads the times that are not over, by when they begin.
func comingTimes(db *gorm.DB) ([]coming, error) {
	var rows []listed
	err := db.Raw(soonest + "WHERE t.id IN (SELECT id FROM freeze_times WHERE state = 'planned' UNION ALL SELECT id FROM freeze_times WHERE state = 'on') " +
		"AND f.deleted_at IS NULL ORDER BY t.begins, t.id").Scan(&rows).Error
	out := make([]coming, 0, len(rows))
	for _, r := range rows {
		x := stop{Stop: change.Stop{ID: r.FreezeID, Hold: r.Hold, Name: r.Name, Reason: r.Reason, By: r.MadeBy, Since: r.Begins.UTC()}}
		if r.Hold {
			x.on = func(branch string) bool { return branch == r.Branches[0] }
		} else {
			list, e := glob.CompileList(r.Branches)
			if e != nil {
				return nil, fmt.Errorf("freeze %d: %w", r.FreezeID, e)
			}
			x.on = list.Match
		}
		if r.HouseID != nil {
			x.House = r.Of
		}
		if r.Ends != nil {
			x.Until = r.Ends.UTC()
		}
		out = append(out, coming{r, x})
	}
	return out, err
}

func of(r listed) event.OfFreeze {
	return event.OfFreeze{Freeze: r.FreezeID, Name: r.Name, Of: r.Of, Branches: r.Branches}
}

// repo is the repository of a freeze; nil: it is a house's.
func repoOf(tx *records.Tx, f records.Freeze) (*records.Repository, error) {
	if f.RepositoryID == nil {
		return nil, nil
	}
	var r records.Repository
	return &r, tx.First(&r, *f.RepositoryID).Error
}

// TellDue tells of freezes that have begun or are over.
func (s *Freezes) TellDue(ctx context.Context) error {
	const due = "WHERE f.deleted_at IS NULL AND ((t.state = 'planned' AND t.begins <= ?) OR (t.state = 'on' AND t.ends <= ?)) ORDER BY t.begins, t.id LIMIT 100"
	now := s.records.Now()
	var rows []listed
	if err := s.records.Read(ctx).Raw(soonest+due, now, now).Scan(&rows).Error; err != nil || len(rows) == 0 {
		return err
	}
	return s.records.Write(ctx, func(tx *records.Tx) error {
		var rows []listed
		if err := tx.Raw(soonest+due, now, now).Scan(&rows).Error; err != nil {
			return err
		}
		tx.TouchesNothing() // but what the events say
		for _, r := range rows {
			repo, err := repoOf(tx, r.Freeze)
			if err != nil {
				return err
			}
			var e event.Event = event.FreezeBegun{OfFreeze: of(r), Ends: *r.Ends, Reason: r.Reason}
			state := "on"
			if !r.Ends.After(now) { // at once, where the service was not there meanwhile
				state, e = "over", event.FreezeEnded{OfFreeze: of(r)}
			}
			if err := tx.Model(&records.FreezeTime{ID: r.TimeID}).Update("state", state).Error; err != nil {
				return err
			}
			if err := tx.Record(records.Itself, repo, e); err != nil {
				return err
			}
		}
		return nil
	})
}

// Extend works out the times of recurring freezes for some time ahead.
func (s *Freezes) Extend(ctx context.Context) error {
	now := s.records.Now()
	to := now.Add(ahead)
	var ids []int64
	err := s.records.Read(ctx).Model(&records.Freeze{}).Where("deleted_at IS NULL AND calendar <> '' AND through < ?", to.Add(-30*24*time.Hour)).Pluck("id", &ids).Error
	if err != nil || len(ids) == 0 {
		return err
	}
	var errs []error
	for _, id := range ids {
		errs = append(errs, s.records.Write(ctx, func(tx *records.Tx) error {
			tx.TouchesNothing() // it is far ahead
			var f records.Freeze
			if err := tx.Where("deleted_at IS NULL").First(&f, id).Error; err != nil {
				return records.OrElse(err, nil)
			}
			return plan(tx, &f, f.Through, to)
		}))
	}
	return errors.Join(errs...)
}

// plan puts the times of a recurring freeze on record that begin between two times.
func plan(tx *records.Tx, f *records.Freeze, from, to time.Time) error {
	spans, err := times(*f, from, to)
	if err != nil {
		return err
	}
	for _, x := range spans {
		if x.begins.Before(from) && !f.Through.Equal(f.CreatedAt) {
			continue // it is there already
		}
		if err := tx.Create(&records.FreezeTime{FreezeID: f.ID, Begins: x.begins, Ends: &x.ends, State: "planned"}).Error; err != nil {
			return err
		}
	}
	f.Through = to
	return tx.Save(f).Error
}
