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
// record cannot differ.
//
// A rehearsal is a path of entries, each built on the one before, the first on the target's tip as it was. Its checks run
// on the last commit. Many run at once, as many as there are slots, and each supposes something about what is ahead:
// that these will land, and those will not.
//
//	tip ── 12 ── 14 ── 15      if 12 and 14 are good
//	 ├──── 14 ── 15            if 12 is not
//	 └──── 17                  whatever becomes of them: it touches other areas
//
// What passes lands with its whole path. What is red says only that something of the path is guilty. The set of suspects
// shrinks as others of it land; only a change that is red by itself, on nothing but what has landed, and once more when it
// is tested again, is ejected. Which paths are worth a slot is weighed in choose.go.
//
// The package is pure: time comes in with events. It promises: an entry is built only when its gate is ready; it lands
// only by a rehearsal that passed and whose gates are clear; strictly, only as the very commit that was tested, and where
// the rules have areas side by side, only if the tested tree holds everything that has landed and touches the same; one
// entry's failure changes nothing for the others but their place; an entry that ended is never heard of again.
package queue

import (
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

// Planner is how a queue chooses what it rehearses.
type Planner string

// The planners.
const (
	Adaptive Planner = "adaptive"      // what is most likely to be needed
	OneByOne Planner = "one-at-a-time" // the first in line, on the tip, and nothing else
)

// OnPush is what a push to a change in line does to its entry.
type OnPush string

// What a push does.
const (
	Stays OnPush = "stay"  // it keeps its place
	Back  OnPush = "back"  // it goes to the end of the line
	Leave OnPush = "leave" // it is taken out
)

// Settings are what the rules say of a queue. The zero value is a strict queue with one slot and no reruns.
type Settings struct {
	Planner Planner `json:"planner,omitempty"` // empty: adaptive
	Slots   int     `json:"slots"`             // rehearsals whose checks run at once; 0: one
	Reruns  int     `json:"reruns"`            // of a change that is red by itself, before it is ejected
	// Areas says that changes which touch different areas are tested and landed side by side; else what lands is the tested
	// commit, to the byte.
	Areas bool `json:"areas,omitempty"`
	// Drawn tells the areas apart from those that there were before.
	Drawn  string `json:"drawn,omitempty"`
	OnPush OnPush `json:"on_push,omitempty"` // empty: stay
}

// State is a queue at one time.
type State struct {
	At       time.Time `json:"at"`  // of the newest event
	Tip      string    `json:"tip"` // the target's tip; empty: it is gone
	Settings Settings  `json:"settings"`
	Held     string    `json:"held,omitempty"` // why nothing lands now; empty: it may
	Front    int64     `json:"front"`          // the lowest place given out
	Back     int64     `json:"back"`           // the highest
	Next     int64     `json:"next"`           // the number of the newest rehearsal
	// Evidence counts what changed what is thought of the entries: a verdict, a landing, an end, a push. Weighed is the count
	// at which rehearsals were last asked whether they are still of use.
	Evidence int64   `json:"evidence"`
	Weighed  int64   `json:"weighed"`
	Learned  Learned `json:"learned"`
	// Entries and Rehearsals are in the order of their numbers. Those that ended stay until the next event, so that who
	// keeps the records sees how they ended.
	Entries    []Entry     `json:"entries"`
	Rehearsals []Rehearsal `json:"rehearsals"`
	Reds       []Suspects  `json:"reds,omitempty"`  // that were red together
	Apart      []Suspects  `json:"apart,omitempty"` // of which the last cannot be built on the others
}

// Entry is one place in a queue.
type Entry struct {
	ID     int64      `json:"id"`
	Change int        `json:"change"` // its number
	Place  int64      `json:"place"`  // the order in which entries became ready, or joined
	State  EntryState `json:"state"`
	Reason string     `json:"reason"` // why it is in this state
	Since  time.Time  `json:"since"`  // in this state
	// Overtaken counts what was let go ahead of it; bounded, so that it waits no longer than that.
	Overtaken int  `json:"overtaken,omitempty"`
	Raised    bool `json:"raised,omitempty"` // it has gone ahead
	// Cleared says that its revision was part of a rehearsal that passed.
	Cleared bool `json:"cleared,omitempty"`
	// Doubted says that it was red by itself, and is tested once more: others go ahead of it until then.
	Doubted bool `json:"doubted,omitempty"`
	// Rehearsal is the number of the one that it is shown with; 0: none. Tries counts those that there were.
	Rehearsal int64 `json:"rehearsal"`
	Tries     int   `json:"tries"`
	*Details
}

// Details are what seldom changes of an entry. States share them: they are never written to, see changed.
type Details struct {
	Author string    `json:"author"`
	Lines  int       `json:"lines"` // that it adds and removes
	By     string    `json:"by"`    // who ended it; empty: the service
	Ready  time.Time `json:"ready"` // it lined up
	Gate   Gate      `json:"gate"`
	Urgent string    `json:"urgent,omitempty"` // why it goes ahead of what waits; empty: it does not
	Rest   Rest      `json:"rest"`
	// Spent is how long it was in each state before the present one, Cause why it was ejected.
	Spent Spent `json:"spent,omitzero"`
	Cause Cause `json:"cause,omitempty"`
}

// changed gives an entry details of its own, to be written to.
func (e *Entry) changed() *Details {
	d := *e.Details
	e.Details = &d
	return e.Details
}

// Spent is how long an entry was in each state, all together.
type Spent struct {
	Waiting    time.Duration `json:"waiting,omitempty"`
	Queued     time.Duration `json:"queued,omitempty"`
	Rehearsing time.Duration `json:"rehearsing,omitempty"`
	Landing    time.Duration `json:"landing,omitempty"`
}

func (s *Spent) add(in EntryState, d time.Duration) {
	d = max(d, 0) // the clock may have been set back
	switch in {
	case Waiting:
		s.Waiting += d
	case Queued:
		s.Queued += d
	case Rehearsing:
		s.Rehearsing += d
	case Landing:
		s.Landing += d
	case Landed, Ejected, Withdrawn:
	}
}

// Cause is why an entry was ejected.
type Cause string

// The causes. One for which a rehearsal cannot be built has the name of the obstacle's kind.
const (
	ByChecks    Cause = "checks"    // they failed
	ByPush      Cause = "push"      // the rules take a change out then
	ByGate      Cause = "closed"    // the change cannot land any more
	ByApprovals Cause = "approvals" // they were for something else than would land
	ByOthers    Cause = "moved"     // the branch was moved by somebody else while it landed
)

// Gate is what the queue knows of an entry's gate.
type Gate struct {
	Revision int  `json:"revision"` // the change's newest
	Ready    bool `json:"ready"`
	// First says that it goes before all others: it rests on a waiver, which is for the target's present tip, or it takes back a
	// landing, where the rules have that go first.
	First bool `json:"first"`
	// Gone says why the change cannot land at all any more, such as that it was closed; empty: it can.
	Gone    string  `json:"gone"`
	Touches Touched `json:"touches"`
	// Stopped says that it would not land now although it were rehearsed, and others might: its branch is red, and it does not mend it.
	Stopped bool `json:"stopped,omitempty"`
}

// Equal says whether two say the same.
func (g Gate) Equal(h Gate) bool {
	return g.Revision == h.Revision && g.Ready == h.Ready && g.First == h.First && g.Gone == h.Gone &&
		g.Stopped == h.Stopped && g.Touches.Everywhere == h.Touches.Everywhere &&
		slices.Equal(g.Touches.Areas, h.Touches.Areas)
}

// Touched is a part of the tree, by areas. The zero value is nothing; of an entry it is taken to be everything, since nobody knows.
type Touched struct {
	Areas      []string `json:"areas,omitempty"`
	Everywhere bool     `json:"everywhere,omitempty"` // a path in no area, or nobody knows
}

// Overlaps says whether two parts have something in common.
func (t Touched) Overlaps(u Touched) bool {
	if t.Everywhere || u.Everywhere {
		return t.any() && u.any()
	}
	return slices.ContainsFunc(t.Areas, func(a string) bool { return slices.Contains(u.Areas, a) })
}

func (t Touched) any() bool { return t.Everywhere || len(t.Areas) > 0 }

// With is both parts.
func (t Touched) With(u Touched) Touched {
	if t.Everywhere || u.Everywhere {
		return Touched{Everywhere: true}
	}
	out := Touched{Areas: slices.Clone(t.Areas)}
	for _, a := range u.Areas {
		if !slices.Contains(out.Areas, a) {
			out.Areas = append(out.Areas, a)
		}
	}
	return out
}

// Rest says that the service had trouble of its own with an entry and tries again later: the entry keeps its place, and
// others go on meanwhile.
type Rest struct {
	Until time.Time     `json:"until"`
	Pause time.Duration `json:"pause"` // the newest; it grows
	Words string        `json:"words"`
}

// Rehearsal is a path of entries, built or being built.
type Rehearsal struct {
	ID int64 `json:"id"` // counted in each queue
	// Path are the entries that it would land, in the order in which they stand on one another. What has landed of it since
	// is in it no more.
	Path      []int64  `json:"path"`
	Revisions []int    `json:"revisions"` // of each
	Base      string   `json:"base"`      // the commit that the first was built on
	Commits   []string `json:"commits"`   // of each; none: they are being built
	// Tested is the commit that the checks ran on: the last as it was built. What stood on one of the path may have landed since.
	Tested string `json:"tested,omitempty"`
	// Of is the number of the rehearsal that was tested, and of which this is the rebuild on the present tip; 0: this one is
	// tested itself.
	Of    int64     `json:"of,omitempty"`
	Score float64   `json:"score"` // how many landings it was thought worth when it was begun
	Since time.Time `json:"since"` // it was begun, built, or tested once more
	Began int64     `json:"began"` // the evidence when it was begun
	// Past is what has landed since it was begun and is not in it. While an entry of its path touches something of that, it
	// cannot land, and Behind says so.
	Past    Touched `json:"past"`
	Behind  string  `json:"behind,omitempty"`
	Verdict Verdict `json:"verdict"`
	Told    bool    `json:"told,omitempty"`   // the verdict has been taken into account
	Reruns  int     `json:"reruns,omitempty"` // that were asked for
	Ended   string  `json:"ended"`            // why it is of no more use; empty while it is
}

// Verdict is what is known of a rehearsal that is built.
type Verdict struct {
	// Stale says that something fixed at building no longer holds: the message, the strategy, a named approval.
	Stale  string `json:"stale"`
	Red    string `json:"red"`    // why it cannot pass any more; empty while it may
	Passed bool   `json:"passed"` // every check that it needs has
	Clear  bool   `json:"clear"`  // the gate of each of its path is clear
}

// Suspects are entries of which something is known together: that they were red, or cannot be built on one another.
type Suspects struct {
	Entries   []int64 `json:"entries"`
	Rehearsal int64   `json:"rehearsal"` // by which
	Why       string  `json:"why,omitempty"`
}

// Entry returns an entry that has not ended; nil: there is none of that number.
func (s *State) Entry(id int64) *Entry {
	i, found := s.at(id)
	if !found || s.Entries[i].State.Ended() {
		return nil
	}
	return &s.Entries[i]
}

// at is where an entry is in the list, or would be.
func (s *State) at(id int64) (int, bool) {
	low, high := 0, len(s.Entries)
	for low < high { // it is asked for so often that a function for each comparison costs
		if middle := (low + high) / 2; s.Entries[middle].ID < id {
			low = middle + 1
		} else {
			high = middle
		}
	}
	return low, low < len(s.Entries) && s.Entries[low].ID == id
}

// Rehearsal returns a rehearsal that is of use; nil: there is none of that number.
func (s *State) Rehearsal(id int64) *Rehearsal {
	i, found := slices.BinarySearchFunc(s.Rehearsals, id, func(r Rehearsal, id int64) int { return int(r.ID - id) })
	if !found || s.Rehearsals[i].Ended != "" {
		return nil
	}
	return &s.Rehearsals[i]
}

// Resting says whether an entry rests now.
func (e *Entry) Resting(at time.Time) bool { return at.Before(e.Rest.Until) }

// Running says whether a rehearsal takes a slot: it is built for its checks, or they run.
func (r *Rehearsal) Running() bool {
	return r.Ended == "" && r.Of == 0 && !r.Verdict.Passed && r.Verdict.Red == ""
}

// Alone says whether a rehearsal is of one entry only, on nothing but what has landed.
func (r *Rehearsal) Alone() bool { return r.Ended == "" && r.Of == 0 && len(r.Path) == 1 }

// overlap says whether two entries have to be tested together.
func (s *State) overlap(a, b *Entry) bool {
	return !s.Settings.Areas || a.Gate.First || b.Gate.First || a.Gate.Touches.Overlaps(b.Gate.Touches)
}

// put moves an entry into a state, or says another reason for the one that it is in.
func (s *State) put(e *Entry, to EntryState, why string) {
	if e.State != to {
		if e.State != "" {
			e.changed().Spent.add(e.State, s.At.Sub(e.Since))
		}
		e.Since = s.At
	}
	e.State, e.Reason = to, why
}

// clone returns a copy that shares nothing that changes, without what has ended. Slices within entries and rehearsals are
// never written to.
func (s State) clone() State {
	entries := make([]Entry, 0, len(s.Entries)+1)
	for i := range s.Entries {
		if !s.Entries[i].State.Ended() {
			entries = append(entries, s.Entries[i])
		}
	}
	rehearsals := make([]Rehearsal, 0, len(s.Rehearsals))
	for i := range s.Rehearsals {
		if s.Rehearsals[i].Ended == "" {
			rehearsals = append(rehearsals, s.Rehearsals[i])
		}
	}
	s.Entries, s.Rehearsals, s.Reds, s.Apart = entries, rehearsals, slices.Clone(s.Reds), slices.Clone(s.Apart)
	return s
}

// out ends whatever an entry takes part in, and what is thought of it.
func (s *State) out(e *Entry, why string) {
	for i := range s.Rehearsals {
		if r := &s.Rehearsals[i]; r.Ended == "" && slices.Contains(r.Path, e.ID) {
			r.Ended = why
		}
	}
	e.Rehearsal = 0
	s.forget(e)
}

// forget drops what is known of an entry's revision.
func (s *State) forget(e *Entry) {
	e.Cleared, e.Doubted = false, false
	has := func(x Suspects) bool { return slices.Contains(x.Entries, e.ID) }
	s.Reds, s.Apart = slices.DeleteFunc(s.Reds, has), slices.DeleteFunc(s.Apart, has)
	s.Evidence++
}

func (s *State) eject(id int64, cause Cause, why string) {
	if e := s.Entry(id); e != nil {
		s.out(e, why)
		e.changed().Cause = cause
		s.put(e, Ejected, why)
	}
}

const (
	// firstRest and longestRest are how long an entry rests after the service had trouble with it.
	firstRest   = time.Second
	longestRest = 2 * time.Minute
)

// rested has an entry rest for a while, longer each time.
func (s *State) rested(e *Entry, what, trouble string) {
	rest := &e.changed().Rest
	rest.Pause = min(max(2*rest.Pause, firstRest), longestRest)
	rest.Until = s.At.Add(rest.Pause)
	rest.Words = Troubled(what, trouble, rest.Until)
}
