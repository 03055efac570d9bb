package queues

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"time"

	"gorm.io/gorm"

	"tavrin/internal/accounts"
	"tavrin/internal/core/forecast"
	"tavrin/internal/core/people"
	"tavrin/internal/core/queue"
	"tavrin/internal/problem"
	"tavrin/internal/records"
	"tavrin/wire"
)

// The longest time over which numbers are counted, and up to which they are counted by the hour.
const (
	mostDays    = 366
	hourlyUntil = 2
)

// Numbers counts how a queue has done of late.
func (s *Queues) Numbers(ctx context.Context, a accounts.Actor, name string, q wire.NumbersQuery) (wire.QueueNumbers, error) {
	out := wire.QueueNumbers{Stages: []wire.StageNumbers{}, Ejections: []wire.Ejections{}, Checks: []wire.CheckNumbers{}, Times: []wire.TimeNumbers{}}
	days := cmp.Or(q.Days, 14)
	if days < 1 || days > mostDays {
		return out, problem.Wrong("days", "numbers are counted over 1 to %d days", mostDays)
	}
	snap := s.records.View(ctx)
	defer snap.Close()
	repo, err := accounts.Reach(snap.DB, a, name, people.Reader)
	if err != nil {
		return out, err
	}
	out.Branch, out.Until = cmp.Or(q.Branch, repo.DefaultBranch), s.records.Now().UTC()
	out.Since = out.Until.AddDate(0, 0, -days)
	line, err := s.load(snap.DB, repo.ID, out.Branch)
	if err != nil {
		return out, err
	}
	out.Kept.Half, out.Kept.Most, out.Kept.Of = line.Watch.Score()
	var ended []records.Entry
	if err := snap.Select("state", "cause", "waited", "queued", "rehearsed", "landed", "created_at", "ended_at").
		Where("repository_id = ? AND target = ? AND ended_at > ?", repo.ID, out.Branch, out.Since).Order("ended_at").Find(&ended).Error; err != nil {
		return out, err
	}
	countEntries(&out, ended, days <= hourlyUntil)
	return out, countChecks(snap.DB, repo, &out, days <= hourlyUntil)
}

// stages are the parts of the way from being ready to having landed, and what comes before that.
var stages = []struct {
	name, means string
	of          func(records.Entry) time.Duration
}{
	{"waiting", "for its gate: reviews, tickets, labels", func(e records.Entry) time.Duration { return ms(e.Waited) }},
	{"queued", "ready, and in no rehearsal", func(e records.Entry) time.Duration { return ms(e.Queued) }},
	{"rehearsing", "its checks ran, or it waited for those ahead of it", func(e records.Entry) time.Duration { return ms(e.Rehearsed) }},
	{"landing", "the branch was moved", func(e records.Entry) time.Duration { return ms(e.Landed) }},
	{"ready to landed", "the last three together", records.Entry.ReadyToLanded},
}

func ms(n int64) time.Duration { return time.Duration(n) * time.Millisecond }

// countEntries counts what left the queue.
func countEntries(out *wire.QueueNumbers, ended []records.Entry, hourly bool) {
	times, took := map[time.Time]*wire.TimeNumbers{}, map[time.Time][]float64{}
	causes := map[string]int{}
	var landed []records.Entry
	for _, e := range ended {
		t := timeOf(times, *e.EndedAt, hourly)
		switch e.State {
		case string(queue.Landed):
			out.Landed++
			t.Landed++
			landed = append(landed, e)
			took[t.From] = append(took[t.From], e.ReadyToLanded().Seconds())
		case string(queue.Ejected):
			out.Ejected++
			t.Ejected++
			causes[e.Cause]++
		default:
			out.Withdrawn++
		}
	}
	for _, x := range stages {
		var all []float64 // seconds
		for _, e := range landed {
			all = append(all, x.of(e).Seconds())
		}
		out.Stages = append(out.Stages, wire.StageNumbers{Stage: x.name, Means: x.means, Half: forecast.Quantile(all, .5), Most: forecast.Quantile(all, .9)})
	}
	for _, cause := range slices.Sorted(maps.Keys(causes)) {
		out.Ejections = append(out.Ejections, wire.Ejections{Cause: cause, Count: causes[cause]})
	}
	slices.SortStableFunc(out.Ejections, func(a, b wire.Ejections) int { return b.Count - a.Count })
	for _, t := range times {
		t.Half, t.Most = forecast.Quantile(took[t.From], .5), forecast.Quantile(took[t.From], .9)
		out.Times = append(out.Times, *t)
	}
	slices.SortFunc(out.Times, func(a, b wire.TimeNumbers) int { return a.From.Compare(b.From) })
}

// timeOf is the day, or the hour, that a time falls into (UTC).
func timeOf(times map[time.Time]*wire.TimeNumbers, at time.Time, hourly bool) *wire.TimeNumbers {
	step := 24 * time.Hour
	if hourly {
		step = time.Hour
	}
	from := at.UTC().Truncate(step)
	if times[from] == nil {
		times[from] = &wire.TimeNumbers{From: from}
	}
	return times[from]
}

// countChecks counts the runs of checks on rehearsals. A flake is a check that failed on a commit, and passed there when it was asked
// for once more.
func countChecks(db *gorm.DB, repo *records.Repository, out *wire.QueueNumbers, hourly bool) error {
	type run struct {
		Name, CommitID, State, RanOn     string
		Attempt                          int
		Milliseconds                     int64
		StartedAt, FinishedAt, CreatedAt *time.Time
	}
	var runs []run
	if err := db.Raw("SELECT name, commit_id, state, ran_on, attempt, milliseconds, started_at, finished_at, created_at FROM check_runs "+
		"WHERE repository_id = ? AND target = ? AND created_at > ? AND asked_for LIKE 'rehearsal/%' ORDER BY commit_id, name, attempt",
		repo.ID, out.Branch, out.Since).Scan(&runs).Error; err != nil {
		return err
	}
	times := map[time.Time]*wire.TimeNumbers{}
	for i := range out.Times {
		times[out.Times[i].From] = &out.Times[i]
	}
	checks := map[string]*wire.CheckNumbers{}
	failed := false
	for i, r := range runs {
		c := checks[r.Name]
		if c == nil {
			c = &wire.CheckNumbers{Name: r.Name}
			checks[r.Name] = c
		}
		if r.RanOn != "" {
			c.Reused++
			continue
		}
		took := r.Milliseconds
		if took == 0 && r.StartedAt != nil && r.FinishedAt != nil {
			took = max(0, r.FinishedAt.Sub(*r.StartedAt).Milliseconds()) // it was called off
		}
		minutes := float64(took) / 60000
		c.Runs++
		c.Minutes += minutes
		out.CheckMinutes += minutes
		if t := times[timeOf(map[time.Time]*wire.TimeNumbers{}, *r.CreatedAt, hourly).From]; t != nil {
			t.CheckMinutes += minutes
		}
		if i == 0 || runs[i-1].CommitID != r.CommitID || runs[i-1].Name != r.Name {
			failed = false
		}
		if r.Attempt > 1 {
			c.Reruns++
		}
		switch r.State {
		case "cancelled":
			c.Cancelled++
		case "failed", "errored":
			c.Failed++
			failed = true
		case "passed":
			if failed {
				c.Flakes++
			}
			failed = false
		}
	}
	for _, name := range slices.Sorted(maps.Keys(checks)) {
		out.Checks = append(out.Checks, *checks[name])
		out.Cancelled += checks[name].Cancelled
	}
	if out.Landed > 0 {
		out.MinutesEach = out.CheckMinutes / float64(out.Landed)
	}
	return nil
}
