// Package queue decides what happens next in the line of changes for one target branch.
//
// A queue is a value, State. What happens is told to it as events, and what to do is asked of it:
//
//	state = Apply(state, event)
//	state, actions = Plan(state)
//
// State is all that a decision rests on, and it is kept on record: killed at any instant, the plan goes on from it, and
// the same events give the same states and the same actions again. Plan puts what it decides into the state itself
// (places, rehearsals, ends); its actions say what is to be done outside, and why. So what is planned and what is on
// record cannot differ. Today's planner rehearses one change at a time on the target's tip; how many at once, and what
// stands on what, is the planner's matter alone.
//
// The package is pure: time comes in with events. It promises: an entry is built only when its gate is ready; it lands
// only when its gate is clear for a rehearsal built on the present tip; one entry's failure changes nothing for the
// others but their place; an entry that ended is never heard of again.
package queue

import (
	"fmt"
	"slices"
	"time"
)

// EntryState is where an entry is on its way.
type EntryState string

// The states of an entry.
const (
	Waiting    EntryState = "waiting" // for its gate
	Queued     EntryState = "queued"  // ready, not rehearsed yet
	Rehearsing EntryState = "rehearsing"
	Landing    EntryState = "landing"
	Landed     EntryState = "landed"
	Ejected    EntryState = "ejected"
	Withdrawn  EntryState = "withdrawn"
)

// Ended says whether the entry has left the queue for good.
func (s EntryState) Ended() bool { return s == Landed || s == Ejected || s == Withdrawn }

// State is a queue at one time.
type State struct {
	At    time.Time `json:"at"`    // of the newest event
	Tip   string    `json:"tip"`   // the target's tip
	Slots int       `json:"slots"` // rehearsals at once; 0: one
	Front int64     `json:"front"` // the lowest place given out
	Back  int64     `json:"back"`  // the highest
	Next  int64     `json:"next"`  // the number of the newest rehearsal
	// Usual is how long a rehearsal takes from being built to being clear, lately; 0: not known yet.
	Usual time.Duration `json:"usual"`
	// Entries and Rehearsals are in the order of their numbers. Those that ended stay until the next event, so that who
	// keeps the records sees how they ended.
	Entries    []Entry     `json:"entries"`
	Rehearsals []Rehearsal `json:"rehearsals"`
}

// Entry is one place in a queue.
type Entry struct {
	ID     int64      `json:"id"`
	Change int        `json:"change"` // its number
	Place  int64      `json:"place"`  // the order in which entries became ready, or joined
	State  EntryState `json:"state"`
	Reason string     `json:"reason"` // why it is in this state
	By     string     `json:"by"`     // who ended it; empty: the service
	Since  time.Time  `json:"since"`  // in this state
	Gate   Gate       `json:"gate"`
	// Rehearsal is the number of the one of use; 0: none. Tries counts those that there were.
	Rehearsal int64 `json:"rehearsal"`
	Tries     int   `json:"tries"`
	Rest      Rest  `json:"rest"`
}

// Gate is what the queue knows of an entry's gate.
type Gate struct {
	Revision int  `json:"revision"` // the change's newest
	Ready    bool `json:"ready"`
	// First says that it goes before all others: it rests on a waiver, which is for the target's present tip, or it takes back a
	// landing, where the rules have that go first.
	First bool `json:"first"`
	// Gone says why the change cannot land at all any more, such as that it was closed; empty: it can.
	Gone string `json:"gone"`
}

// Rest says that the service had trouble of its own with an entry and tries again later: the entry keeps its place, and
// others go on meanwhile.
type Rest struct {
	Until time.Time     `json:"until"`
	Pause time.Duration `json:"pause"` // the newest; it grows
	Words string        `json:"words"`
}

// Rehearsal is a commit built, or being built, for an entry.
type Rehearsal struct {
	ID       int64     `json:"id"` // counted in each queue
	Entry    int64     `json:"entry"`
	Parent   int64     `json:"parent"` // the rehearsal that it stands on; 0: the target's tip
	Base     string    `json:"base"`   // the commit that it stands on
	Revision int       `json:"revision"`
	Commit   string    `json:"commit"` // empty: it is being built
	Score    float64   `json:"score"`  // how likely it was to be needed when it was begun
	Since    time.Time `json:"since"`  // it was begun, or built
	Verdict  Verdict   `json:"verdict"`
	Ended    string    `json:"ended"` // why it is of no more use; empty while it is
}

// Verdict is what is known of a rehearsal that is built.
type Verdict struct {
	// Stale says that something fixed at building no longer holds: the message, the strategy, a named approval.
	Stale string `json:"stale"`
	Red   string `json:"red"`   // why it cannot pass any more; empty while it may
	Clear bool   `json:"clear"` // the gate is clear for its commit
}

// Entry returns an entry that has not ended; nil: there is none of that number.
func (s *State) Entry(id int64) *Entry {
	for i := range s.Entries {
		if e := &s.Entries[i]; e.ID == id && !e.State.Ended() {
			return e
		}
	}
	return nil
}

// Rehearsal returns a rehearsal that is of use; nil: there is none of that number.
func (s *State) Rehearsal(id int64) *Rehearsal {
	for i := range s.Rehearsals {
		if r := &s.Rehearsals[i]; r.ID == id && r.Ended == "" {
			return r
		}
	}
	return nil
}

// Resting says whether an entry rests now.
func (e *Entry) Resting(at time.Time) bool { return at.Before(e.Rest.Until) }

// put moves an entry into another state.
func (s *State) put(e *Entry, to EntryState, why string) {
	e.State, e.Reason, e.Since = to, why, s.At
}

// drop ends the rehearsal of an entry, and whatever stands on it.
func (s *State) drop(e *Entry, why string) {
	s.end(e.Rehearsal, why)
	e.Rehearsal = 0
}

func (s *State) end(id int64, why string) {
	r := s.Rehearsal(id)
	if r == nil {
		return
	}
	r.Ended = why
	for i := range s.Rehearsals {
		above := &s.Rehearsals[i]
		if above.Parent != id || above.Ended != "" {
			continue
		}
		if e := s.Entry(above.Entry); e != nil && e.Rehearsal == above.ID {
			e.Rehearsal = 0
			s.put(e, Queued, "what it was rehearsed on is of no more use")
		}
		s.end(above.ID, "what it stood on is of no more use")
	}
}

// clone returns a copy that shares nothing, without what has ended.
func (s State) clone() State {
	s.Entries = slices.DeleteFunc(slices.Clone(s.Entries), func(e Entry) bool { return e.State.Ended() })
	s.Rehearsals = slices.DeleteFunc(slices.Clone(s.Rehearsals), func(r Rehearsal) bool { return r.Ended != "" })
	return s
}

const (
	// firstRest and longestRest are how long an entry rests after the service had trouble with it.
	firstRest   = time.Second
	longestRest = 2 * time.Minute
)

// rested has an entry rest for a while, longer each time.
func (s *State) rested(e *Entry, what, trouble string) {
	e.Rest.Pause = min(max(2*e.Rest.Pause, firstRest), longestRest)
	e.Rest.Until = s.At.Add(e.Rest.Pause)
	e.Rest.Words = Troubled(what, trouble, e.Rest.Until)
}

// Troubled says that something was tried in vain for a reason of the service's own.
func Troubled(what, trouble string, until time.Time) string {
	return fmt.Sprintf("%s, which is not about the change: %s. It is tried again at %s", what, trouble,
		until.Format("15:04:05 MST"))
}
