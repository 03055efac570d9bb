package forecasts

import (
	"cmp"
	"slices"
	"time"

	"gorm.io/gorm"

	"tavrin/internal/core/forecast"
	"tavrin/internal/core/queue"
	"tavrin/internal/records"
)

// clash is the cause of an ejection for not going together with what has landed.
const clash = queue.Cause(queue.Conflicts)

// past is what the queue of a branch had to deal with between two times.
func past(db *gorm.DB, repo *records.Repository, branch string, since, until time.Time) (forecast.History, error) {
	h := forecast.History{Length: until.Sub(since)}
	type came struct {
		records.Entry `gorm:"embedded"`
		OpenedBy      string
	}
	var all []came
	err := db.Table("entries e").Select("e.state", "e.cause", "e.touches", "e.waited", "e.queued", "e.rehearsed", "e.landed", "e.lines", "e.created_at", "c.opened_by").
		Joins("JOIN changes c ON c.id = e.change_id").
		Where("e.repository_id = ? AND e.target = ? AND e.ended_at > ? AND e.ended_at <= ? AND (e.state = ? OR e.cause IN ?)",
			repo.ID, branch, since, until, queue.Landed, []queue.Cause{queue.ByChecks, clash}).Order("e.ended_at").Limit(forecast.MostArrival).Scan(&all).Error
	if err != nil {
		return h, err
	}
	for _, e := range all {
		a := forecast.Arrival{At: max(0, e.CreatedAt.Add(time.Duration(e.Waited)*time.Millisecond).Sub(since)), Touches: e.Touches, Author: e.OpenedBy, Lines: e.Lines}
		switch queue.Cause(e.Cause) {
		case clash:
			h.Clashed++
		case queue.ByChecks:
			a.Guilty = true
		default:
			h.Landed = append(h.Landed, e.ReadyToLanded().Minutes())
		}
		h.Came = append(h.Came, a)
	}
	slices.SortStableFunc(h.Came, func(a, b forecast.Arrival) int { return cmp.Compare(a.At, b.At) })
	var runs []struct {
		Seconds, Minutes float64
		Flaked           bool
	}
	// A rehearsal's checks take as long as the longest of them, from when they were asked for.
	err = db.Raw("SELECT (max(julianday(r.finished_at)) - min(julianday(r.created_at))) * 86400 AS seconds, sum(r.milliseconds) / 60000.0 AS minutes, "+
		"max(r.state IN ('failed', 'errored') AND EXISTS (SELECT 1 FROM check_runs again WHERE again.repository_id = r.repository_id AND "+
		"again.commit_id = r.commit_id AND again.name = r.name AND again.attempt > r.attempt AND again.state = 'passed')) AS flaked "+
		"FROM check_runs r WHERE r.repository_id = ? AND r.target = ? AND r.created_at > ? AND r.created_at <= ? AND r.asked_for LIKE 'rehearsal/%' AND "+
		"r.attempt = 1 AND r.ran_on = '' GROUP BY r.commit_id HAVING sum(r.state NOT IN ('passed', 'failed', 'errored', 'skipped')) = 0 LIMIT ?",
		repo.ID, branch, since, until, forecast.MostArrival).Scan(&runs).Error
	for _, r := range runs {
		h.Runs++
		h.Minutes += r.Minutes
		if r.Flaked {
			h.Flaked++
		}
		h.Took = append(h.Took, max(time.Second, time.Duration(r.Seconds*float64(time.Second))))
	}
	return h, err
}
