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
		s.At = e.when() // a clock that goes back does not turn the queue's
	}
	e.apply(&s)
	return s
}

// Joined says that a change joined.
type Joined struct {
	At
	Entry  int64 `json:"entry"`
	Change int   `json:"change"`
}

func (e Joined) apply(s *State) {
	s.Back++
	entry := Entry{ID: e.Entry, Change: e.Change, Place: s.Back}
	s.put(&entry, Waiting, "its gate is about to be judged")
	s.Entries = append(s.Entries, entry)
	slices.SortFunc(s.Entries, func(a, b Entry) int { return int(a.ID - b.ID) })
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
		s.drop(entry, e.Why)
		entry.By = e.By
		s.put(entry, Withdrawn, e.Why)
	}
}

// Seen says that an entry's gate is another than the queue knew, or its change has another revision.
type Seen struct {
	At
	Entry int64 `json:"entry"`
	Gate  Gate  `json:"gate"`
}

func (e Seen) apply(s *State) {
	if entry := s.Entry(e.Entry); entry != nil {
		entry.Gate = e.Gate
	}
}

// Judged says that what is known of a rehearsal is something else.
type Judged struct {
	At
	Rehearsal int64   `json:"rehearsal"`
	Verdict   Verdict `json:"verdict"`
}

func (e Judged) apply(s *State) {
	r := s.Rehearsal(e.Rehearsal)
	if r == nil || r.Commit == "" {
		return
	}
	if e.Verdict.Clear && !r.Verdict.Clear {
		s.Usual = follow(s.Usual, s.At.Sub(r.Since))
	}
	r.Verdict = e.Verdict
}

// follow lets an estimate follow what was measured: a fifth of the way each time.
func follow(usual, measured time.Duration) time.Duration {
	if usual == 0 {
		return measured
	}
	return usual + (measured-usual)/5
}

// TargetMoved says that the target's tip is another.
type TargetMoved struct {
	At
	Tip string `json:"tip"`
}

func (e TargetMoved) apply(s *State) { s.Tip = e.Tip }

// Built says that a rehearsal is built.
type Built struct {
	At
	Rehearsal int64  `json:"rehearsal"`
	Commit    string `json:"commit"`
}

func (e Built) apply(s *State) {
	r := s.Rehearsal(e.Rehearsal)
	if r == nil || r.Commit != "" {
		return
	}
	r.Commit, r.Since = e.Commit, s.At
	if entry := s.Entry(r.Entry); entry != nil {
		entry.Rest = Rest{}
		s.put(entry, Rehearsing, "the rehearsal is built")
	}
}

// NotBuilt says that a rehearsal cannot be built, for a reason of the change's.
type NotBuilt struct {
	At
	Rehearsal int64  `json:"rehearsal"`
	Why       string `json:"why"`
}

func (e NotBuilt) apply(s *State) {
	if r := s.Rehearsal(e.Rehearsal); r != nil {
		s.eject(r.Entry, e.Why)
	}
}

func (s *State) eject(id int64, why string) {
	if entry := s.Entry(id); entry != nil {
		s.drop(entry, why)
		s.put(entry, Ejected, why)
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
	if r == nil {
		return
	}
	if entry := s.Entry(r.Entry); entry != nil {
		s.drop(entry, "it could not be built")
		s.rested(entry, "its rehearsal could not be built", e.Trouble)
	}
}

// LandingBegun says that an entry's intent is on record.
type LandingBegun struct {
	At
	Entry int64 `json:"entry"`
}

func (e LandingBegun) apply(s *State) {
	if entry := s.Entry(e.Entry); entry != nil {
		s.put(entry, Landing, "its gate is clear and the landing is under way")
	}
}

// LandingDropped says that an intent was taken back. Trouble is the service's own; empty: there was none.
type LandingDropped struct {
	At
	Entry   int64  `json:"entry"`
	Why     string `json:"why"`
	Trouble string `json:"trouble"`
}

func (e LandingDropped) apply(s *State) {
	entry := s.Entry(e.Entry)
	if entry == nil {
		return
	}
	s.drop(entry, e.Why)
	s.put(entry, Queued, e.Why)
	if e.Trouble != "" {
		s.rested(entry, "the branch could not be moved", e.Trouble)
	}
}

// LandingLost says that the target stands where an intent cannot explain it.
type LandingLost struct {
	At
	Entry int64  `json:"entry"`
	Why   string `json:"why"`
}

func (e LandingLost) apply(s *State) { s.eject(e.Entry, e.Why) }

// ByLanding is how a rehearsal ends that landed.
const ByLanding = "landed"

// Done says that an entry has landed, and where its target stands now.
type Done struct {
	At
	Entry int64  `json:"entry"`
	Tip   string `json:"tip"`
}

func (e Done) apply(s *State) {
	s.Tip = e.Tip
	if entry := s.Entry(e.Entry); entry != nil {
		if r := s.Rehearsal(entry.Rehearsal); r != nil {
			r.Ended = ByLanding // what stands on it stands on the target now
		}
		s.put(entry, Landed, fmt.Sprintf("landed as %.10s", e.Tip))
	}
}

// Tick says that time has passed, for what rests.
type Tick struct{ At }

func (Tick) apply(*State) {}

// kinds are the events by the names under which they are on record.
var kinds = map[string]Event{
	"joined": Joined{}, "left": Left{}, "seen": Seen{}, "judged": Judged{}, "target-moved": TargetMoved{}, "built": Built{}, "not-built": NotBuilt{},
	"build-failed": BuildFailed{}, "landing-begun": LandingBegun{}, "landing-dropped": LandingDropped{}, "landing-lost": LandingLost{},
	"landed": Done{}, "tick": Tick{},
}

// recorded is an event as it is on record.
type recorded struct {
	Kind string          `json:"kind"`
	Is   json.RawMessage `json:"is"`
}

// Encode writes an event for the record.
func Encode(e Event) ([]byte, error) {
	for name, of := range kinds {
		if reflect.TypeOf(of) == reflect.TypeOf(e) {
			is, err := json.Marshal(e)
			if err != nil {
				return nil, err
			}
			return json.Marshal(recorded{name, is})
		}
	}
	return nil, fmt.Errorf("queue: %T is not among the kinds of events", e)
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
