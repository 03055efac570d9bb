package queues

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"fmt"
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

// A queue is told again what it was told, stretch by stretch between what is on record of it, and what it makes of that has to be what is
// on record at the end of each: so what is said of a decision is what was decided.

// mostStretches is how many stretches are gone through for the newest decisions where no time is given.
const mostStretches = 20

// Decisions says what the planner of a queue decided, and why, oldest first.
func (s *Queues) Decisions(ctx context.Context, a accounts.Actor, name string, q wire.DecisionQuery) ([]wire.QueueDecision, error) {
	if !q.Since.IsZero() && !q.Until.IsZero() && q.Until.Before(q.Since) {
		return nil, problem.Wrong("until", "it is before since")
	}
	snap := s.records.View(ctx)
	defer snap.Close()
	repo, err := accounts.Reach(snap.DB, a, name, people.Reader)
	if err != nil {
		return nil, err
	}
	line, err := s.load(snap.DB, repo.ID, cmp.Or(q.Branch, repo.DefaultBranch))
	if err != nil || line.ID == 0 {
		return []wire.QueueDecision{}, err
	}
	if q.Number != 0 && q.Since.IsZero() {
		if q.Since, err = firstJoined(snap.DB, repo, line.Target, q.Number); err != nil {
			return nil, err
		}
	}
	all, err := stretchesOf(snap.DB, line)
	if err != nil {
		return nil, err
	}
	limit, out := cmp.Or(q.Limit, 100), []wire.QueueDecision{}
	for i := len(all) - 1; i >= 0 && len(out) < limit; i-- {
		if !q.Until.IsZero() && all[i].from.At.After(q.Until) {
			continue
		}
		if len(all)-i > mostStretches && q.Since.IsZero() || all[i].ends.Before(q.Since) {
			break
		}
		t := telling{query: q}
		if err := t.again(snap.DB, line, all[i]); err != nil {
			return nil, err
		}
		out = append(t.out, out...)
	}
	return out[max(0, len(out)-limit):], nil
}

// firstJoined is when a change first joined the queue of a branch; the zero time: it never did.
func firstJoined(db *gorm.DB, repo *records.Repository, target string, number int) (time.Time, error) {
	var first records.Entry
	err := db.Joins("JOIN changes c ON c.id = entries.change_id").Where("c.repository_id = ? AND c.number = ? AND entries.target = ?", repo.ID, number, target).
		Order("entries.id").Limit(1).Find(&first).Error
	return first.CreatedAt, err
}

// stretch is a part of what a queue was told: from what it knew at one time to what it knew at another.
type stretch struct {
	from records.QueueState // the zero value is the beginning
	to   int64              // the version at its end
	ends time.Time
}

// stretchesOf lists the stretches of a queue, the states left out.
func stretchesOf(db *gorm.DB, line records.Queue) ([]stretch, error) {
	var kept []records.QueueState
	if err := db.Select("queue_id", "version", "at").Where("queue_id = ?", line.ID).Order("version").Find(&kept).Error; err != nil {
		return nil, err
	}
	all := []stretch{{}}
	for _, k := range kept {
		all[len(all)-1].to, all[len(all)-1].ends = k.Version, k.At
		all = append(all, stretch{from: k})
	}
	all[len(all)-1].to, all[len(all)-1].ends = line.Version, line.State.At
	return all, nil
}

// known is what a queue knows, and what is known of it.
type known struct {
	State queue.State
	Watch forecast.Watch
}

func (k known) same(o known) (bool, error) {
	a, err := json.Marshal(k)
	if err != nil {
		return false, err
	}
	b, err := json.Marshal(o)
	return bytes.Equal(a, b), err
}

// telling is the telling again of a stretch.
type telling struct {
	query wire.DecisionQuery
	out   []wire.QueueDecision
}

// again tells a queue again what it was told in a stretch.
func (t *telling) again(db *gorm.DB, line records.Queue, s stretch) error {
	now := known{}
	if s.from.Version > 0 {
		if err := db.Where("queue_id = ? AND version = ?", line.ID, s.from.Version).First(&s.from).Error; err != nil {
			return err
		}
		now = known{s.from.State, s.from.Watch}
	}
	var rows []records.QueueEvent
	if err := db.Where("queue_id = ? AND version > ? AND version <= ?", line.ID, s.from.Version, s.to).Order("version").Find(&rows).Error; err != nil {
		return err
	}
	for _, row := range rows {
		e, err := queue.Decode([]byte(row.Event))
		if err != nil {
			return err
		}
		before := now.State
		var actions []queue.Action
		var choices []queue.Choice
		if t.query.Weighed {
			now.State, actions, choices = queue.TellAloud(before, e)
		} else {
			now.State, actions = queue.Tell(before, e)
		}
		now.Watch = now.Watch.Told(&now.State)
		t.hear(&now.State, queue.KindOf(e), actions, choices)
	}
	is := known{line.State, line.Watch}
	if s.to != line.Version {
		var kept records.QueueState
		if err := db.Where("queue_id = ? AND version = ?", line.ID, s.to).First(&kept).Error; err != nil {
			return err
		}
		is = known{kept.State, kept.Watch}
	}
	if same, err := now.same(is); err != nil || !same {
		return cmp.Or(err, fmt.Errorf("the queue of %s is on record otherwise, at version %d, than what it was told makes it", line.Target, s.to))
	}
	return nil
}

// hear takes down what was decided, if it is what was asked for.
func (t *telling) hear(at *queue.State, told string, actions []queue.Action, choices []queue.Choice) {
	for _, action := range actions {
		d := wire.QueueDecision{At: at.At, Told: told, Do: string(action.Do), Rehearsal: action.Rehearsal, Path: []int{}, Why: action.Why}
		if of := at.Changes([]int64{action.Entry}); len(of) > 0 {
			d.Number = of[0]
		}
		for _, r := range at.Rehearsals {
			if r.ID == action.Rehearsal {
				d.Path = at.Changes(r.Path)
			}
		}
		for _, c := range choices {
			if c.Rehearsal != 0 && c.Rehearsal == action.Rehearsal && action.Do == queue.Build {
				d.Weighed = weighedOf(at, c)
			}
		}
		t.add(d)
	}
	for _, c := range choices {
		if c.Rehearsal == 0 && len(c.Options) > 0 {
			t.add(wire.QueueDecision{At: at.At, Told: told, Do: leftFree, Path: []int{}, Weighed: weighedOf(at, c),
				Why: fmt.Sprintf("nothing was worth a slot: %.2f landings at most, and it takes %.2f", c.Options[0].Worth, c.Least)})
		}
	}
}

// leftFree is said of a slot for which there was nothing that was worth it.
const leftFree = "leave a slot free"

func (t *telling) add(d wire.QueueDecision) {
	q := t.query
	if d.At.Before(q.Since) || !q.Until.IsZero() && d.At.After(q.Until) || q.Number != 0 && d.Number != q.Number && !slices.Contains(d.Path, q.Number) ||
		q.Rehearsal != 0 && d.Rehearsal != q.Rehearsal {
		return
	}
	if n := len(t.out); n > 0 {
		last := t.out[n-1]
		if d.Do == last.Do && (d.Do == string(queue.Land) && last.Rehearsal == d.Rehearsal || d.Do == leftFree && last.Why == d.Why) {
			return // it is said until something else is done
		}
	}
	t.out = append(t.out, d)
}

// weighedOf is what was thought and weighed when a slot was given.
func weighedOf(at *queue.State, c queue.Choice) *wire.Weighing {
	v := &wire.Weighing{Busy: c.Busy, Slots: c.Slots, Least: c.Least, Thought: []wire.Thought{}, Options: []wire.Option{}}
	for _, x := range c.Thought {
		if of := at.Changes([]int64{x.Entry}); len(of) > 0 {
			v.Thought = append(v.Thought, wire.Thought{Number: of[0], Good: x.Good, Why: x.Why})
		}
	}
	for _, x := range c.Options {
		v.Options = append(v.Options, wire.Option{Path: at.Changes(x.Path), Worth: x.Worth})
	}
	return v
}
