package queue

import (
	"cmp"
	"slices"
)

// Do is what an action is.
type Do string

// The actions. All but Build and Land are done with the state itself; they are named so that whoever keeps the records
// can say why.
const (
	LineUp   Do = "line up"
	SendBack Do = "send back to waiting"
	Discard  Do = "discard the rehearsal"
	Eject    Do = "eject"
	Build    Do = "build a rehearsal"
	Land     Do = "land"
)

// Action is something to do about an entry, and why.
type Action struct {
	Do        Do
	Entry     int64
	Rehearsal int64 // to build or to land
	Why       string
}

// Plan decides what happens now, and returns the state with it. Planned again, it has nothing more to do but to land
// what it said can land.
func Plan(s State) (State, []Action) {
	p := planner{State: s.clone()}
	p.State.Entries = slices.Clone(s.Entries) // what ended with the event is still to be seen
	p.State.Rehearsals = slices.Clone(s.Rehearsals)
	p.plan()
	return p.State, p.actions
}

// planner is one planning.
type planner struct {
	State
	actions []Action
}

func (p *planner) act(do Do, e *Entry, why string) {
	p.actions = append(p.actions, Action{do, e.ID, e.Rehearsal, why})
}

// plan takes the entries in their order. Those that hold a slot keep it while nothing speaks against them; then the
// first in line get the slots that are free.
func (p *planner) plan() {
	urgent := p.urgent()
	busy := 0
	var line []*Entry
	for _, e := range p.inOrder() {
		switch {
		case e.Gate.Gone != "" && e.State != Landing:
			p.eject(e.ID, e.Gate.Gone)
			p.act(Eject, e, e.Gate.Gone)
		case e.State == Landing:
			busy++ // an intent is on record; the landing itself decides
		case e.State == Waiting && !e.Gate.Ready:
		case e.State == Waiting:
			p.lineUp(e)
			line = append(line, e)
		case e.Rehearsal == 0 && !e.Gate.Ready:
			p.sendBack(e)
		case e.Rehearsal == 0:
			line = append(line, e)
		case p.keeps(e, urgent):
			busy++
		case e.State == Queued:
			line = append(line, e)
		}
	}
	// What goes first goes before what lost its place at the head with its rehearsal, which goes before the rest.
	slices.SortStableFunc(line, order)
	for _, e := range line {
		if busy >= max(1, p.Slots) {
			return
		}
		if !e.Resting(p.At) && p.Tip != "" {
			p.build(e)
			busy++
		}
	}
}

// inOrder lists the entries that have not ended in the order in which they are to land.
func (p *planner) inOrder() []*Entry {
	var all []*Entry
	for i := range p.Entries {
		if !p.Entries[i].State.Ended() {
			all = append(all, &p.Entries[i])
		}
	}
	slices.SortFunc(all, order)
	return all
}

func order(a, b *Entry) int {
	switch {
	case a.Gate.First == b.Gate.First:
		return cmp.Or(cmp.Compare(a.Place, b.Place), cmp.Compare(a.ID, b.ID))
	case a.Gate.First:
		return -1
	}
	return 1
}

// urgent says whether there is an entry that goes before all others and could go now.
func (p *planner) urgent() bool {
	return slices.ContainsFunc(p.Entries, func(e Entry) bool {
		return e.Gate.First && e.Gate.Ready && e.Gate.Gone == "" && !e.State.Ended() && e.State != Landing &&
			!e.Resting(p.At)
	})
}

// keeps decides about an entry that is being rehearsed, and says whether it keeps its slot.
func (p *planner) keeps(e *Entry, urgent bool) bool {
	r := p.Rehearsal(e.Rehearsal)
	switch {
	case r == nil:
		p.discard(e, "its rehearsal was not finished")
	case !e.Gate.Ready:
		p.sendBack(e)
	case urgent && !e.Gate.First:
		p.discard(e, "another goes first: by a waiver, or since it takes back a landing")
	case r.Revision != e.Gate.Revision:
		p.discard(e, "a new revision was pushed")
	case r.Verdict.Stale != "":
		p.discard(e, r.Verdict.Stale)
	case r.Verdict.Red != "":
		p.eject(e.ID, r.Verdict.Red)
		p.act(Eject, e, r.Verdict.Red)
	case r.Parent == 0 && r.Base != p.Tip:
		p.discard(e, "the target moved on")
	case r.Commit != "" && r.Verdict.Clear && r.Base == p.Tip:
		p.act(Land, e, "its gate is clear")
		return true
	default:
		return true
	}
	return false
}

func (p *planner) lineUp(e *Entry) {
	if e.Gate.First {
		p.Front--
		e.Place = p.Front
	} else {
		p.Back++
		e.Place = p.Back
	}
	p.put(e, Queued, "its gate is ready")
	p.act(LineUp, e, e.Reason)
}

func (p *planner) sendBack(e *Entry) {
	const why = "its gate is no longer ready"
	p.drop(e, why)
	p.put(e, Waiting, why)
	p.act(SendBack, e, why)
}

func (p *planner) discard(e *Entry, why string) {
	p.drop(e, why)
	p.put(e, Queued, why)
	p.act(Discard, e, why)
}

// build begins a rehearsal on the target's tip.
func (p *planner) build(e *Entry) {
	p.Next++
	e.Rehearsal = p.Next
	e.Tries++
	p.Rehearsals = append(p.Rehearsals, Rehearsal{
		// it is needed, whatever comes
		ID: p.Next, Entry: e.ID, Base: p.Tip, Revision: e.Gate.Revision, Score: 1, Since: p.At,
	})
	p.act(Build, e, "it is first in line")
}
