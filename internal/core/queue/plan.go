package queue

import (
	"cmp"
	"fmt"
	"slices"
)

// Do is what an action is.
type Do string

// The actions. Build, Rebuild, Rerun and Land are to be carried out; the others are done with the state itself, and are
// named so that whoever keeps the records can say why.
const (
	LineUp   Do = "line up"
	SendBack Do = "send back to waiting"
	Discard  Do = "discard the rehearsal"
	Eject    Do = "eject"
	Explain  Do = "explain"
	Build    Do = "build a rehearsal"
	Rebuild  Do = "build what was tested on the tip"
	Rerun    Do = "ask for the checks once more"
	Land     Do = "land"
)

// Action is something to do about an entry, or a rehearsal whose last entry it is, and why.
type Action struct {
	Do        Do
	Entry     int64
	Rehearsal int64
	Why       string
}

// Plan decides what happens now, and returns the state with it. Planned again, it says again what can land, and may find
// more worth rehearsing; nobody is ejected, and nobody moves.
func Plan(s State) (State, []Action) {
	p := planner{State: s}
	p.Entries = slices.Clone(s.Entries) // what ended with the event is still to be seen
	p.Rehearsals = slices.Clone(s.Rehearsals)
	p.Reds, p.Apart = slices.Clone(s.Reds), slices.Clone(s.Apart)
	p.plan()
	return p.State, p.actions
}

// Tell is Apply and Plan in one, which costs less.
func Tell(s State, e Event) (State, []Action) {
	p := planner{State: Apply(s, e)} // which is nobody else's
	p.plan()
	return p.State, p.actions
}

// TellAloud is Tell, and says what was weighed.
func TellAloud(s State, e Event) (State, []Action, []Choice) {
	p := planner{State: Apply(s, e), aloud: true}
	p.plan()
	return p.State, p.actions, p.choices
}

// Choice is how a slot was given, or left free: what was thought of the entries in line, and what the paths that were looked at
// were worth.
type Choice struct {
	Rehearsal int64   // that was begun; 0: none was worth it
	Least     float64 // what a path had to be worth
	Busy      int     // slots that were taken
	Slots     int
	Thought   []Thought
	Options   []Option // the best first
}

// Thought is how likely an entry was thought to be good, and why: how things had gone, and less if it was red with others.
type Thought struct {
	Entry int64
	Good  float64
	Why   string
}

// Option is a path that could have been rehearsed.
type Option struct {
	Path  []int64
	Worth float64 // in landings
}

// planner is one planning.
type planner struct {
	State
	actions []Action
	aloud   bool // say what is weighed
	choices []Choice
	words   []byte    // that are being put together
	line    []*Entry  // that could be rehearsed, in the order in which they are to land
	weighed *weighing // what is thought of them; see weigh
}

func (p *planner) act(do Do, entry, rehearsal int64, why string) {
	p.actions = append(p.actions, Action{do, entry, rehearsal, why})
}

// The order matters: what an entry's gate says comes before what a rehearsal says, since a rehearsal without its entries
// says nothing; verdicts come before what they let land; what lands leaves slots to what is chosen next.
func (p *planner) plan() {
	for i := range p.Entries {
		if e := &p.Entries[i]; !e.State.Ended() && e.State != Landing {
			p.readiness(e)
		}
	}
	for i := range p.Rehearsals {
		if r := &p.Rehearsals[i]; r.Ended == "" {
			p.stillOfUse(r)
		}
	}
	for i := range p.Rehearsals {
		if r := &p.Rehearsals[i]; r.Ended == "" && len(r.Commits) > 0 && r.Of == 0 {
			p.verdict(r)
		}
	}
	p.settleDoubts()
	p.lineUp()
	p.land()
	p.choose()
	p.explain()
}

// readiness moves an entry by what its gate says.
func (p *planner) readiness(e *Entry) {
	switch {
	case e.Gate.Gone != "":
		p.eject(e.ID, ByGate, e.Gate.Gone)
		p.act(Eject, e.ID, 0, e.Gate.Gone)
	case e.State == Waiting && e.Gate.Ready:
		if e.Gate.First {
			p.Front--
			e.Place = p.Front
		} else {
			p.Back++
			e.Place = p.Back
		}
		e.changed().Ready = p.At
		p.put(e, Queued, "its gate is ready")
		p.act(LineUp, e.ID, 0, e.Reason)
	case e.State != Waiting && !e.Gate.Ready:
		const why = "its gate is no longer ready"
		p.out(e, why)
		p.put(e, Waiting, why)
		p.act(SendBack, e.ID, 0, why)
	}
}

// stillOfUse ends a rehearsal that cannot tell anything any more.
func (p *planner) stillOfUse(r *Rehearsal) {
	r.Behind = ""
	for i, id := range r.Path {
		switch e := p.Entry(id); {
		case e == nil || e.State == Waiting:
			p.discard(r, "an entry that it was rehearsed with is not in line any more")
			return
		case e.State == Landing:
		case e.Gate.Revision != r.Revisions[i]:
			p.discard(r, fmt.Sprintf("a new revision of change %d was pushed", e.Change))
			return
		case e.Gate.Touches.Overlaps(r.Past):
			r.Behind = fmt.Sprintf("what has landed meanwhile touches the same as change %d", e.Change)
		}
	}
	switch {
	case r.Verdict.Stale != "" && !p.landing(r):
		p.discard(r, r.Verdict.Stale)
	case r.Past.Everywhere:
		r.Behind = "the target moved on otherwise than it was rehearsed"
	}
	if r.Ended == "" && r.Behind != "" && p.Settings.Planner == OneByOne && r.Of == 0 && r.Verdict.Red == "" {
		p.discard(r, r.Behind)
	}
}

func (p *planner) discard(r *Rehearsal, why string) {
	r.Ended = why
	if e := p.Entry(r.Path[0]); len(r.Path) == 1 && e != nil && e.Doubted && p.doubted(e) == nil {
		e.Doubted = false // it is rehearsed as others are
		p.Evidence++
	}
	p.act(Discard, r.Path[len(r.Path)-1], r.ID, why)
}

// verdict takes into account what a rehearsal has shown.
func (p *planner) verdict(r *Rehearsal) {
	v := r.Verdict
	if !r.Told && (v.Passed || v.Red != "") {
		r.Told = true
		p.Evidence++
		p.Learned.took(p.At.Sub(r.Since))
		if v.Passed {
			p.passed(r)
		} else {
			p.Reds = append(p.Reds, Suspects{Entries: r.Path, Rehearsal: r.ID})
		}
	}
	switch {
	case v.Red != "" && r.Alone():
		p.guilty(r)
	case v.Passed && r.Behind != "" && (r.Past.Everywhere || len(r.Path) == 1):
		p.discard(r, r.Behind) // what it was good for is told
	}
}

// passed clears the entries of a rehearsal: whatever was red of them alone was so by nobody's fault.
func (p *planner) passed(r *Rehearsal) {
	for _, id := range r.Path {
		e := p.Entry(id)
		if e.Doubted {
			p.Learned.rerun(true)
		}
		e.Cleared, e.Doubted = true, false
	}
	p.Reds = slices.DeleteFunc(p.Reds, func(x Suspects) bool { return len(remaining(x.Entries, r.Path)) == 0 })
	for i := range p.Rehearsals {
		if x := &p.Rehearsals[i]; x.Alone() && x.Verdict.Red != "" && slices.Contains(r.Path, x.Path[0]) {
			p.discard(x, byNobody)
		}
	}
}

const byNobody = "it has passed since, so that it was red by nobody's fault"

// guilty does with an entry that is red by itself, on nothing but what has landed, what has to be done: it is tested once
// more, as often as the rules say, and ejected then.
func (p *planner) guilty(r *Rehearsal) {
	e := p.Entry(r.Path[0])
	if e.State == Landing {
		return
	}
	if r.Reruns < p.Settings.Reruns {
		if !e.Doubted {
			e.Doubted = true // choose has it tested once more
			p.Evidence++
		}
		return
	}
	if r.Reruns > 0 {
		p.Learned.rerun(false)
	}
	p.Learned.ended(e, true)
	why := r.Verdict.Red
	if r.Reruns > 0 {
		why = fmt.Sprintf("red %s by itself, on %.10s: %s", again(r.Reruns+1), r.Base, why)
	}
	p.eject(e.ID, ByChecks, why)
	e.Rehearsal = r.ID // that people see what failed
	p.act(Eject, e.ID, r.ID, why)
}

func again(times int) string {
	if times == 2 {
		return "twice"
	}
	return fmt.Sprintf("%d times", times)
}

// settleDoubts ends doubts whose rehearsal ended with an event: the entry is rehearsed as others are.
func (p *planner) settleDoubts() {
	for i := range p.Entries {
		if e := &p.Entries[i]; e.Doubted && p.doubted(e) == nil {
			e.Doubted = false
			p.Evidence++
		}
	}
}

// doubted is the rehearsal in which an entry was red by itself.
func (p *planner) doubted(e *Entry) *Rehearsal {
	for i := range p.Rehearsals {
		r := &p.Rehearsals[i]
		if r.Alone() && r.Path[0] == e.ID && (r.Reruns > 0 || r.Verdict.Red != "") {
			return r
		}
	}
	return nil
}

// mostOvertaken bounds how often others may be let go ahead of an entry.
const mostOvertaken = 10

// lineUp lists the entries that can be rehearsed, in the order in which they are to land: what is landing; what goes
// first; the others by their places; and last what may not land now, and what is doubted, which others do not wait for.
func (p *planner) lineUp() {
	p.raise()
	p.line = p.Line()
}

// Line lists the entries that can be rehearsed or are landing, in the order in which they are to land.
func (s *State) Line() []*Entry {
	var ranked [ranks][]*Entry
	for i := range s.Entries {
		e := &s.Entries[i]
		if e.State == Landing || !e.State.Ended() && e.State != Waiting && !e.Resting(s.At) {
			r := rank(e)
			if ranked[r] == nil {
				ranked[r] = make([]*Entry, 0, len(s.Entries)-i)
			}
			ranked[r] = append(ranked[r], e)
		}
	}
	line := ranked[usualRank]
	for r, some := range ranked {
		if !slices.IsSortedFunc(some, byPlace) { // as a rule they are, since who comes later has a later place
			slices.SortFunc(some, byPlace)
		}
		if r != usualRank && len(some) > 0 {
			line = nil // there are others
		}
	}
	if line == nil {
		line = slices.Concat(ranked[:]...)
	}
	return line
}

// order is that in which entries are to land.
func order(a, b *Entry) int {
	if a, b := rank(a), rank(b); a != b {
		return cmp.Compare(a, b)
	}
	return byPlace(a, b)
}

func byPlace(a, b *Entry) int {
	if a.Place != b.Place {
		return cmp.Compare(a.Place, b.Place)
	}
	return cmp.Compare(a.ID, b.ID)
}

// The ranks of entries in line, and the one that most have.
const (
	ranks     = 5
	usualRank = 2
)

func rank(e *Entry) int {
	switch {
	case e.State == Landing:
		return 0
	case e.Gate.First:
		return 1
	case e.Doubted:
		return 4
	case e.Gate.Stopped:
		return 3
	}
	return usualRank
}

// raise puts an urgent entry ahead of what waits, but of nothing that is rehearsed, or was overtaken often enough.
func (p *planner) raise() {
	for i := range p.Entries {
		u := &p.Entries[i]
		if u.Urgent == "" || u.Raised || u.State != Queued && u.State != Rehearsing {
			continue
		}
		place := u.Place
		var passed []*Entry
		for k := range p.Entries {
			e := &p.Entries[k]
			if e.State == Queued && e.Rehearsal == 0 && e.Urgent == "" && e.Overtaken < mostOvertaken && e.Place < u.Place {
				passed = append(passed, e)
				place = min(place, e.Place)
			}
		}
		for _, e := range passed {
			e.Overtaken++
		}
		// Those that keep their places may stand between: all behind the new place move on by one.
		if place != u.Place {
			for k := range p.Entries {
				if e := &p.Entries[k]; e.Place >= place {
					e.Place++
				}
			}
			p.Back++
			u.Place = place
			p.Evidence++
		}
		u.Raised = true
	}
}

// land says what can land now: one rehearsal at a time, of those that may the one that takes most with it.
func (p *planner) land() {
	if p.Held != "" || slices.ContainsFunc(p.line, func(e *Entry) bool { return e.State == Landing }) {
		return
	}
	best := p.mayLand()
	for i := range p.Rehearsals {
		if x := &p.Rehearsals[i]; x.Ended == "" && x.Of != 0 && (best == nil || x.Of != best.ID || x.Base != p.Tip) {
			p.discard(x, "the target moved on")
		}
	}
	if best == nil {
		return
	}
	last := best.Path[len(best.Path)-1]
	const why = "it passed, and its gate is clear"
	if best.Base == p.Tip && best.Commits[len(best.Commits)-1] == best.Tested {
		p.act(Land, last, best.ID, why)
		return
	}
	for i := range p.Rehearsals {
		if x := &p.Rehearsals[i]; x.Ended == "" && x.Of == best.ID {
			if x.Verdict.Passed && x.Verdict.Clear {
				p.act(Land, last, x.ID, why)
			}
			return // or it is being built
		}
	}
	p.Next++
	p.Rehearsals = append(p.Rehearsals, Rehearsal{ID: p.Next, Path: best.Path, Revisions: best.Revisions, Base: p.Tip,
		Of: best.ID, Since: p.At, Began: p.Evidence})
	p.act(Rebuild, last, p.Next, "it passed, and what has landed since touches nothing of the same")
}

// mayLand is the rehearsal that may land now; nil: none may.
func (p *planner) mayLand() *Rehearsal {
	var best *Rehearsal
	for i := range p.Rehearsals {
		r := &p.Rehearsals[i]
		if r.Ended != "" || r.Of != 0 || r.Behind != "" || !r.Verdict.Passed || !r.Verdict.Clear || p.Tip == "" ||
			best != nil && len(best.Path) >= len(r.Path) {
			continue
		}
		if slices.ContainsFunc(r.Path, func(id int64) bool { return p.Entry(id).Resting(p.At) }) ||
			slices.ContainsFunc(p.line, func(e *Entry) bool {
				return e.Gate.First && !slices.Contains(r.Path, e.ID) && !p.Entry(r.Path[0]).Gate.First
			}) {
			continue
		}
		if p.Settings.Planner == OneByOne || !p.somebodyAhead(r) || p.mayOvertake(r) {
			best = r
		}
	}
	return best
}

// somebodyAhead says whether an entry comes before one of a rehearsal, touches the same and is not before it in the rehearsal.
func (p *planner) somebodyAhead(r *Rehearsal) bool {
	for k, id := range r.Path {
		y := p.Entry(id)
		for _, x := range p.line {
			if x.ID == id {
				break
			}
			if at := slices.Index(r.Path, x.ID); (at < 0 || at > k) && p.overlap(x, y) {
				return true
			}
		}
	}
	return false
}

// explain says of each entry in line what it is doing, and with which rehearsal it is shown: one that may land it, the
// oldest of those.
func (p *planner) explain() {
	shown := map[int64]*Rehearsal{}
	for i := range p.Rehearsals {
		r := &p.Rehearsals[i]
		if r.Ended != "" || r.Of != 0 || len(r.Commits) == 0 {
			continue
		}
		for _, id := range r.Path {
			if was := shown[id]; was == nil || use(r) > use(was) {
				shown[id] = r
			}
		}
	}
	for i := range p.Entries {
		e := &p.Entries[i]
		if e.State != Queued && e.State != Rehearsing {
			continue
		}
		if r := shown[e.ID]; r != nil && (r.Verdict.Red == "" || e.Doubted) {
			e.Rehearsal = r.ID
			why := e.Reason // most often it is what it was, and need not be made anew
			if p.words = p.together(p.words[:0], e); string(p.words) != why {
				why = string(p.words)
			}
			p.put(e, Rehearsing, why)
			continue
		}
		why := p.obstacle(e)
		if why != "" && (e.State != Queued || e.Reason != why) {
			p.act(Explain, e.ID, 0, why)
		}
		if why == "" && e.State == Rehearsing {
			why = p.endOf(e.Rehearsal)
		}
		if e.Rehearsal = 0; shown[e.ID] != nil {
			e.Rehearsal = shown[e.ID].ID // what it was red in, with others
		}
		if why != "" {
			p.put(e, Queued, why)
		}
	}
}

// endOf says why a rehearsal is of no more use.
func (p *planner) endOf(number int64) string {
	for _, r := range p.Rehearsals {
		if r.ID == number && r.Ended != "" {
			return r.Ended
		}
	}
	return redWithOthers
}

// use orders rehearsals by how much they say of their entries.
func use(r *Rehearsal) int {
	switch {
	case r.Verdict.Red != "":
		return 0
	case r.Behind != "":
		return 1
	case !r.Verdict.Passed:
		return 2
	}
	return 3
}
