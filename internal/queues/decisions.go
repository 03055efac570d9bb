package queues

import (
	"cmp"
	"context"
	"strings"

	"tavrin/internal/accounts"
	"tavrin/internal/core/event"
	"tavrin/internal/core/people"
	"tavrin/internal/core/queue"
	"tavrin/internal/core/rules"
	"tavrin/internal/facts"
	"tavrin/internal/problem"
	"tavrin/internal/records"
	"tavrin/internal/typed"
	"tavrin/wire"
)

// Raise has a change go ahead of what waits in its queue: of nothing that is rehearsed already, and of no entry that was
// overtaken often enough.
func (s *Queues) Raise(ctx context.Context, a accounts.Actor, name string, number int, reason string) (wire.Entry, error) {
	reason = strings.TrimSpace(reason)
	err := typed.Line("reason", reason, 1, typed.MaxTitle)
	if err != nil {
		return wire.Entry{}, err
	}
	var entry records.Entry
	var repo *records.Repository
	err = s.records.Write(ctx, func(tx *records.Tx) error {
		var c records.Change
		if repo, c, err = facts.ChangeRow(tx.DB, a, name, number, people.Writer); err != nil {
			return err
		}
		if err := tx.Where("change_id = ? AND ended_at IS NULL", c.ID).First(&entry).Error; err != nil {
			return records.OrUnknown(err, "change %d is not in the queue", number)
		}
		g, err := s.facts.Gather(tx.DB, repo, c)
		if err != nil {
			return err
		}
		settings := g.Set.Without(g.Facts.Suspended).For(c.Target).Queue
		if !settings.MayRaise(g.Facts.People.Named(a.Login())) {
			return problem.New(problem.Forbidden, "that a change goes ahead of what waits for %s is for %s", c.Target, settings.WhoRaises())
		}
		if err := s.Tell(tx, repo, entry.Target, queue.Raised{At: now(tx), Entry: entry.ID, By: a.Login(), Why: reason}); err != nil {
			return err
		}
		return tx.Record(a.Login(), repo, event.QueueRaised{OfChange: event.OfChange{Number: number}, Target: entry.Target, Reason: reason})
	})
	if err != nil {
		return wire.Entry{}, err
	}
	return s.entry(ctx, repo, entry.ID)
}

// rehearsalsOf describes the rehearsals that a queue has under way.
func rehearsalsOf(state queue.State) []wire.QueueRehearsal {
	out := []wire.QueueRehearsal{}
	for _, r := range state.Rehearsals {
		if r.Ended != "" {
			continue
		}
		v := wire.QueueRehearsal{Number: r.ID, Path: state.Changes(r.Path), Base: r.Base, Commit: r.Tested, Since: r.Since,
			Worth: r.Score, Reruns: r.Reruns, Why: r.Behind}
		switch {
		case r.Of != 0:
			v.State = "rebuilding"
		case len(r.Commits) == 0:
			v.State = "building"
		case r.Verdict.Red != "":
			v.State, v.Why = "red", r.Verdict.Red
		case r.Verdict.Passed && r.Verdict.Clear:
			v.State, v.Why = "passed", cmp.Or(v.Why, "it waits for what is ahead")
		case r.Verdict.Passed:
			v.State, v.Why = "passed", cmp.Or(v.Why, state.Held, "it waits for what its gates ask besides checks")
		default:
			v.State = "running"
		}
		out = append(out, v)
	}
	return out
}

// SettingsOf describes the settings of a queue.
func SettingsOf(s queue.Settings) wire.QueueSettings {
	v := wire.QueueSettings{Planner: string(cmp.Or(s.Planner, queue.Adaptive)), Slots: max(s.Slots, 1), Reruns: s.Reruns, Tests: string(rules.Strict), OnPush: string(cmp.Or(s.OnPush, queue.Stays))}
	if s.Areas {
		v.Tests = string(rules.ByArea)
	}
	return v
}

func supposes(s queue.State) wire.QueueSupposes {
	guilty, flaky, words := s.Learned.Supposed()
	return wire.QueueSupposes{Guilty: guilty, Flaky: flaky, Seconds: int(s.Learned.Usual.Seconds()), Words: words}
}
