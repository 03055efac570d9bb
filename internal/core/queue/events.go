package queue

import (
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"time"
)

// Event is something that a queue has to know. What is about an entry or a rehearsal that the queue does not know any
// more came too late, and changes nothing but the time.
type Event interface {
	when() time.Time
	apply(s *State)
}

// At is when an event happened; part of each.
type At struct {
	At time.Time `json:"at"`
}

func (a At) when() time.Time { return a.At }

// Apply returns the state after an event. The one given stays as it is.
func Apply(s State, e Event) State {
	s = s.clone()
	if e.when().After(s.At) {
		s.At = e.when().Round(0) // without its monotonic part, which is not on record; a clock that goes back does not turn the queue's
	}
	e.apply(&s)
	return s
}

// Configured says what the rules say of the queue now.
type Configured struct {
	At
	Settings Settings `json:"settings"`
}

func (e Configured) apply(s *State) {
	had := s.Settings
	s.Settings = e.Settings
	s.Evidence++
	if !had.Areas || had.Areas == e.Settings.Areas && had.Drawn == e.Settings.Drawn {
		return
	}
	for i := range s.Rehearsals {
		// What relied on areas as they were does so no more: only what stands on the tip, commit by commit, may land.
		if r := &s.Rehearsals[i]; r.Base != s.Tip {
			r.Past = Touched{Everywhere: true}
		}
	}
}

// Held says that nothing lands for a time, and why; with no reason, that it may again.
type Held struct {
	At
	Why string `json:"why"`
}

func (e Held) apply(s *State) { s.Held = e.Why }

// Joined says that a change joined.
type Joined struct {
	At
	Entry  int64  `json:"entry"`
	Change int    `json:"change"`
	Author string `json:"author,omitempty"`
	Lines  int    `json:"lines,omitempty"`
}

func (e Joined) apply(s *State) {
	s.Back++
	entry := Entry{ID: e.Entry, Change: e.Change, Place: s.Back, Details: &Details{Author: e.Author, Lines: e.Lines}}
	s.put(&entry, Waiting, "its gate is about to be judged")
	i, _ := s.at(e.Entry)
	s.Entries = slices.Insert(s.Entries, i, entry)
}

// Left says that a person took an entry out.
type Left struct {
	At
	Entry int64  `json:"entry"`
	By    string `json:"by"`
	Why   string `json:"why"`
}

func (e Left) apply(s *State) {
	if entry := s.Entry(e.Entry); entry != nil {
		s.out(entry, e.Why)
		entry.changed().By = e.By
		s.put(entry, Withdrawn, e.Why)
	}
}

// Raised says that a person had an entry go ahead of what waits, and why.
type Raised struct {
	At
	Entry int64  `json:"entry"`
	By    string `json:"by"`
	Why   string `json:"why"`
}

func (e Raised) apply(s *State) {
	if entry := s.Entry(e.Entry); entry != nil {
		entry.changed().Urgent = e.Why
		s.Evidence++
	}
}

// Seen says that an entry's gate is another than the queue knew, or its change has another revision.
type Seen struct {
	At
	Entry int64 `json:"entry"`
	Gate  Gate  `json:"gate"`
}

func (e Seen) apply(s *State) {
	entry := s.Entry(e.Entry)
	if entry == nil {
		return
	}
	had := entry.Gate
	if !e.Gate.Touches.any() {
		e.Gate.Touches.Everywhere = true // it is not known
	}
	entry.changed().Gate = e.Gate
	switch {
	case had.Revision != 0 && had.Revision != e.Gate.Revision:
		s.forget(entry)
		s.pushed(entry)
	case !had.Equal(e.Gate):
		s.Evidence++
	}
	if !slices.Equal(had.Touches.Areas, e.Gate.Touches.Areas) || had.Touches.Everywhere != e.Gate.Touches.Everywhere {
		// Of what landed without it nobody knows any more whether it touches the same.
		for i := range s.Rehearsals {
			if r := &s.Rehearsals[i]; r.Past.any() && slices.Contains(r.Path, e.Entry) {
				r.Past = Touched{Everywhere: true}
			}
		}
	}
}

// pushed does with an entry in line what the rules say of a push.
func (s *State) pushed(e *Entry) {
	switch {
	case e.State != Queued && e.State != Rehearsing:
	case s.Settings.OnPush == Leave:
		s.eject(e.ID, ByPush, fmt.Sprintf("revision %d was pushed, and the rules take a change out of the queue then. Join again",
			e.Gate.Revision))
	case s.Settings.OnPush == Back:
		s.Back++
		e.Place = s.Back
	}
}

// Judged says that what is known of a rehearsal is something else.
type Judged struct {
	At
	Rehearsal int64   `json:"rehearsal"`
	Verdict   Verdict `json:"verdict"`
}

func (e Judged) apply(s *State) {
	if r := s.Rehearsal(e.Rehearsal); r != nil && len(r.Commits) > 0 {
		r.Told = r.Told && (r.Verdict.Red != "") == (e.Verdict.Red != "") && r.Verdict.Passed == e.Verdict.Passed
		r.Verdict = e.Verdict
	}
}

// TargetMoved says that the target's tip is another, by something else than a landing of the queue's.
type TargetMoved struct {
	At
	Tip string `json:"tip"`
}

func (e TargetMoved) apply(s *State) {
	if s.Tip == e.Tip {
		return
	}
	s.Tip = e.Tip
	s.Evidence++
	s.Apart = nil
	for i := range s.Rehearsals {
		r := &s.Rehearsals[i]
		if r.Ended == "" && !s.landing(r) {
			r.Ended = "the target moved on"
		}
	}
}

// landing says whether an intent to land a rehearsal is on record.
func (s *State) landing(r *Rehearsal) bool {
	return slices.ContainsFunc(r.Path, func(id int64) bool {
		e := s.Entry(id)
		return e != nil && e.State == Landing && e.Rehearsal == r.ID
	})
}

// Built says that a rehearsal is built: the commit of each entry of its path.
type Built struct {
	At
	Rehearsal int64    `json:"rehearsal"`
	Commits   []string `json:"commits"`
}

func (e Built) apply(s *State) {
	r := s.Rehearsal(e.Rehearsal)
	if r == nil || len(r.Commits) > 0 || len(e.Commits) != len(r.Path) {
		return
	}
	r.Commits, r.Tested, r.Since = e.Commits, e.Commits[len(e.Commits)-1], s.At
	for _, id := range r.Path {
		if entry := s.Entry(id); entry != nil {
			if entry.Rest != (Rest{}) {
				entry.changed().Rest = Rest{}
			}
		}
	}
}

// NotBuilt says that a rehearsal cannot be built, for a reason of an entry's of its path: it does not go onto what is
// before it.
type NotBuilt struct {
	At
	Rehearsal int64  `json:"rehearsal"`
	Entry     int64  `json:"entry"`
	Cause     Cause  `json:"cause"`
	Why       string `json:"why"`
}

func (e NotBuilt) apply(s *State) {
	r := s.Rehearsal(e.Rehearsal)
	if r == nil || len(r.Commits) > 0 {
		return
	}
	i := slices.Index(r.Path, e.Entry)
	switch {
	case i < 0:
	case i == 0 && r.Base == s.Tip:
		s.eject(e.Entry, e.Cause, e.Why) // by itself, on what has landed
	case i == 0:
		r.Ended = "the target moved on"
	default:
		r.Ended = e.Why
		s.Apart = append(s.Apart, Suspects{Entries: r.Path[:i+1], Rehearsal: r.ID, Why: e.Why})
		s.Evidence++
	}
}

// BuildFailed says that a rehearsal could not be built, for a reason of the service's own.
type BuildFailed struct {
	At
	Rehearsal int64  `json:"rehearsal"`
	Trouble   string `json:"trouble"`
}

func (e BuildFailed) apply(s *State) {
	r := s.Rehearsal(e.Rehearsal)
	if r == nil || len(r.Commits) > 0 {
		return
	}
	r.Ended = "it could not be built"
	s.Evidence++
	for _, id := range r.Path {
		if entry := s.Entry(id); entry != nil {
			s.rested(entry, "its rehearsal could not be built", e.Trouble)
		}
	}
}

// LandingBegun says that the intent to land a rehearsal is on record.
type LandingBegun struct {
	At
	Rehearsal int64 `json:"rehearsal"`
}

func (e LandingBegun) apply(s *State) {
	r := s.Rehearsal(e.Rehearsal)
	if r == nil {
		return
	}
	s.overtake(r)
	for _, id := range r.Path {
		if entry := s.Entry(id); entry != nil {
			entry.Rehearsal = r.ID
			s.put(entry, Landing, "its gate is clear and the landing is under way")
		}
	}
}

// overtake counts for entries ahead of a rehearsal that touch the same that it is let go before them.
func (s *State) overtake(r *Rehearsal) {
	for i := range s.Entries {
		x := &s.Entries[i]
		if x.State != Queued && x.State != Rehearsing || slices.Contains(r.Path, x.ID) {
			continue
		}
		if slices.ContainsFunc(r.Path, func(id int64) bool {
			y := s.Entry(id)
			return y != nil && order(x, y) < 0 && s.overlap(x, y)
		}) {
			x.Overtaken++
		}
	}
}

// LandingDropped says that an intent was taken back. Trouble is the service's own; empty: there was none.
type LandingDropped struct {
	At
	Rehearsal int64  `json:"rehearsal"`
	Why       string `json:"why"`
	Trouble   string `json:"trouble"`
}

func (e LandingDropped) apply(s *State) {
	r := s.Rehearsal(e.Rehearsal)
	if r == nil {
		return
	}
	for _, id := range r.Path {
		entry := s.Entry(id)
		if entry == nil || entry.State != Landing {
			continue
		}
		s.put(entry, Queued, e.Why)
		if e.Trouble != "" {
			s.rested(entry, "the branch could not be moved", e.Trouble)
		}
	}
	s.Evidence++
	if r.Base != s.Tip { // told while it landed
		r.Ended = "the target moved on"
	}
}

// LandingLost says that the target stands where an intent cannot explain it.
type LandingLost struct {
	At
	Rehearsal int64  `json:"rehearsal"`
	Why       string `json:"why"`
}

func (e LandingLost) apply(s *State) {
	if r := s.Rehearsal(e.Rehearsal); r != nil {
		for _, id := range r.Path {
			s.eject(id, ByOthers, e.Why)
		}
	}
}

// ByLanding is how a rehearsal ends that landed.
const ByLanding = "landed"

// Done says that entries have landed together, and where their target stands now.
type Done struct {
	At
	Entries []int64 `json:"entries"`
	Tip     string  `json:"tip"`
}

func (e Done) apply(s *State) {
	var landed []*Entry
	for _, id := range e.Entries {
		if entry := s.Entry(id); entry != nil {
			landed = append(landed, entry)
			s.Learned.ended(entry, false)
		}
	}
	if len(landed) == 0 {
		TargetMoved{e.At, e.Tip}.apply(s)
		return
	}
	s.Tip = e.Tip
	s.Evidence++
	for i := range s.Rehearsals {
		if r := &s.Rehearsals[i]; r.Ended == "" {
			s.onward(r, e, landed)
		}
	}
	s.Reds, s.Apart = without(s.Reds, e.Entries, 1), without(s.Apart, e.Entries, 2) // by itself, an entry can be built on the tip or not
	for _, entry := range landed {
		s.put(entry, Landed, fmt.Sprintf("landed as %.10s", e.Tip))
	}
}

// without drops entries that landed from the suspects; what is left of them is of use if it is that many.
func without(all []Suspects, landed []int64, least int) []Suspects {
	out := all[:0:0]
	for _, x := range all {
		left := remaining(x.Entries, landed)
		if len(left) >= least {
			x.Entries = left
			out = append(out, x)
		}
	}
	return out
}

func remaining(ids, gone []int64) []int64 {
	return slices.DeleteFunc(slices.Clone(ids), func(id int64) bool { return slices.Contains(gone, id) })
}

// onward says what a landing means for a rehearsal.
func (s *State) onward(r *Rehearsal, e Done, landed []*Entry) {
	if len(r.Commits) == 0 {
		r.Ended = "the target moved on while it was built"
		return
	}
	n := 0 // with how many its path begins that have landed
	for n < len(r.Path) && slices.Contains(e.Entries, r.Path[n]) {
		n++
	}
	exact := n > 0 && n == len(e.Entries) && r.Commits[n-1] == e.Tip // and as it was built
	past := r.Past
	for _, x := range landed {
		if !slices.Contains(r.Path, x.ID) {
			past = past.With(x.Gate.Touches)
		}
	}
	if !s.Settings.Areas && !exact {
		past = Touched{Everywhere: true} // what lands has to be what was tested, to the byte
	}
	var path []int64
	var revisions []int
	var commits []string
	for i, id := range r.Path {
		if !slices.Contains(e.Entries, id) {
			path, revisions, commits = append(path, id), append(revisions, r.Revisions[i]), append(commits, r.Commits[i])
		}
	}
	r.Past, r.Path, r.Revisions, r.Commits = past, path, revisions, commits
	switch {
	case len(path) == 0:
		r.Ended = ByLanding // what stands on it stands on the target now
	case exact:
		r.Base = e.Tip
	case r.Of != 0:
		r.Ended = "the target moved on"
	}
}

// Restarted says that the service was started again. What was under way is begun again by whoever carries the queue out.
type Restarted struct{ At }

func (Restarted) apply(*State) {}

// Tick says that time has passed, for what rests.
type Tick struct{ At }

func (Tick) apply(*State) {}

// kinds are the events by the names under which they are on record.
var kinds = map[string]Event{
	"configured": Configured{}, "held": Held{}, "joined": Joined{}, "left": Left{}, "raised": Raised{}, "seen": Seen{}, "judged": Judged{},
	"target-moved": TargetMoved{}, "built": Built{}, "not-built": NotBuilt{}, "build-failed": BuildFailed{}, "landing-begun": LandingBegun{},
	"landing-dropped": LandingDropped{}, "landing-lost": LandingLost{}, "landed": Done{}, "restarted": Restarted{}, "tick": Tick{},
}

// KindOf is the name under which an event is on record.
func KindOf(e Event) string {
	for name, of := range kinds {
		if reflect.TypeOf(of) == reflect.TypeOf(e) {
			return name
		}
	}
	return ""
}

// recorded is an event as it is on record.
type recorded struct {
	Kind string          `json:"kind"`
	Is   json.RawMessage `json:"is"`
}

// Encode writes an event for the record.
func Encode(e Event) ([]byte, error) {
	name := KindOf(e)
	if name == "" {
		return nil, fmt.Errorf("queue: %T is not among the kinds of events", e)
	}
	is, err := json.Marshal(e)
	if err != nil {
		return nil, err
	}
	return json.Marshal(recorded{name, is})
}

// Decode reads an event from the record.
func Decode(data []byte) (Event, error) {
	var r recorded
	if err := json.Unmarshal(data, &r); err != nil {
		return nil, fmt.Errorf("event of a queue: %w", err)
	}
	of, known := kinds[r.Kind]
	if !known {
		return nil, fmt.Errorf("event of a queue: there is no kind %q", r.Kind)
	}
	e := reflect.New(reflect.TypeOf(of))
	if err := json.Unmarshal(r.Is, e.Interface()); err != nil {
		return nil, fmt.Errorf("event of a queue, %s: %w", r.Kind, err)
	}
	return e.Elem().Interface().(Event), nil
}
