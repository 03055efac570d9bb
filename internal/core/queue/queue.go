// Package queue plans what happens next in the line of changes for one target branch.
//
// Plan looks at the line as it is and returns the steps to take now; the service takes them and asks again. There
// is no state between calls: killed at any instant, the next call starts from the records. This planner rehearses
// one change at a time, the first of those that are ready, on the target's tip.
//
// The package is pure. It promises: an entry is built only when its gate is ready; it lands only when its gate is
// clear for a rehearsal built on the present tip; one entry's failure changes nothing for the others but their place.
package queue

import (
	"cmp"
	"slices"
)

// State is where an entry is on its way.
type State string

// The states of an entry.
const (
	Waiting    State = "waiting"  // for its gate
	LinedUp    State = "lined-up" // ready, not at the head yet
	Rehearsing State = "rehearsing"
	Landing    State = "landing"
	Landed     State = "landed"
	Ejected    State = "ejected"
	Withdrawn  State = "withdrawn"
)

// Ended says whether the entry has left the queue for good.
func (s State) Ended() bool { return s == Landed || s == Ejected || s == Withdrawn }

// Rehearsal is what the plan needs to know of an entry's rehearsal.
type Rehearsal struct {
	Base     string // the tip it was built on
	Revision int    // the revision it was built from
	// Stale says that something fixed at building no longer holds: the message, the strategy, a named approval.
	Stale string
	Red   string // why it cannot pass any more; empty while it may
	Clear bool   // the gate is clear for its commit
}

// Entry is one place in the line.
type Entry struct {
	ID       int64
	Place    int64 // the order in which entries became ready, or joined
	State    State
	Revision int // the change's newest
	Ready    bool
	// First says that it goes before all others: it rests on an override, which is for the target's present tip.
	First bool
	// Resting says that the service had trouble of its own with it and tries again later: it keeps its place, and others go
	// on meanwhile.
	Resting bool
	// Gone says why the change cannot land at all any more, such as that it was closed; empty: it can.
	Gone      string
	Rehearsal *Rehearsal
}

// Line is the queue of one target branch.
type Line struct {
	Tip     string // the target's tip
	Entries []Entry
}

// Action is what to do with an entry.
type Action string

// The actions.
const (
	LineUp   Action = "line up"
	SendBack Action = "send back to waiting"
	Build    Action = "build a rehearsal"
	Discard  Action = "discard the rehearsal"
	Land     Action = "land"
	Eject    Action = "eject"
)

// Step is one action and why it is taken.
type Step struct {
	Entry  int64
	Action Action
	Why    string
}

// Plan returns the steps to take now, in order. Steps for different entries are independent, but at most one
// entry is built or landed at a time.
func Plan(l Line) []Step {
	entries := slices.Clone(l.Entries)
	slices.SortFunc(entries, func(a, b Entry) int {
		return cmp.Or(firstOrder(a, b), cmp.Compare(a.Place, b.Place), cmp.Compare(a.ID, b.ID))
	})
	var steps []Step
	busy, urgent := false, false
	var line []Entry
	for _, e := range entries {
		urgent = urgent || e.First && e.Ready && e.Gone == "" && !e.State.Ended()
		switch {
		case e.State.Ended():
		case e.Gone != "":
			steps = append(steps, Step{e.ID, Eject, e.Gone})
		case e.State == Landing:
			busy = true // an intent is on record; the landing itself decides
		case e.State == Waiting:
			if e.Ready {
				steps = append(steps, Step{e.ID, LineUp, "its gate is ready"})
				line = append(line, e)
			}
		case e.State == Rehearsing && urgent && !e.First:
			steps = append(steps, Step{e.ID, Discard, "another goes first, by an override"})
			line = append(line, e)
		case e.State == Rehearsing:
			step, keeps := rehearsing(l, e)
			if step.Action != "" {
				steps = append(steps, step)
			}
			if keeps {
				busy = true
			} else if step.Action == Discard {
				line = append([]Entry{e}, line...)
			}
		case !e.Ready:
			steps = append(steps, Step{e.ID, SendBack, "its gate is no longer ready"})
		default:
			line = append(line, e)
		}
	}
	line = slices.DeleteFunc(line, func(e Entry) bool { return e.Resting })
	if !busy && len(line) > 0 {
		steps = append(steps, Step{line[0].ID, Build, "it is first in line"})
	}
	return steps
}

// firstOrder puts entries that go before all others first.
func firstOrder(a, b Entry) int {
	switch {
	case a.First == b.First:
		return 0
	case a.First:
		return -1
	}
	return 1
}

// rehearsing decides about an entry that is being rehearsed, and says whether it keeps the line busy.
func rehearsing(l Line, e Entry) (Step, bool) {
	r := e.Rehearsal
	switch {
	case r == nil:
		return Step{e.ID, Discard, "its rehearsal was not finished"}, false
	case !e.Ready:
		return Step{e.ID, SendBack, "its gate is no longer ready"}, false
	case r.Revision != e.Revision:
		return Step{e.ID, Discard, "a new revision was pushed"}, false
	case r.Stale != "":
		return Step{e.ID, Discard, r.Stale}, false
	case r.Red != "":
		return Step{e.ID, Eject, r.Red}, false
	case r.Base != l.Tip:
		return Step{e.ID, Discard, "the target moved on"}, false
	case r.Clear:
		return Step{e.ID, Land, "its gate is clear"}, true
	}
	return Step{}, true
}
