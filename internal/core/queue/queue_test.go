package queue

import (
	"fmt"
	"math/rand/v2"
	"reflect"
	"strings"
	"testing"
	"time"
)

var noon = At{time.Date(2026, 11, 2, 12, 0, 0, 0, time.UTC)}

// later is noon and some seconds.
func later(seconds int) At { return At{noon.At.Add(time.Duration(seconds) * time.Second)} }

// told applies events to a state, with a plan after each, as whoever keeps the records does.
func told(s State, events ...Event) (State, []Action) {
	var all []Action
	for _, e := range events {
		var actions []Action
		s, actions = Plan(Apply(s, e))
		all = append(all, actions...)
	}
	return s, all
}

// says writes actions briefly: what, of which entry, why.
func says(actions []Action) string {
	var parts []string
	for _, a := range actions {
		parts = append(parts, fmt.Sprintf("%s %d: %s", a.Do, a.Entry, a.Why))
	}
	return strings.Join(parts, "; ")
}

// Each row tells a queue, in which 1 is being rehearsed and 2 is next in line, of some events.
func TestPlan(t *testing.T) {
	ready := Gate{Revision: 1, Ready: true}
	cases := []struct {
		name   string
		events []Event
		want   string
		states string // of the entries, afterwards
	}{
		{"one at a time", []Event{Tick{noon}}, "", "rehearsing queued"},
		{"what joins waits for its gate", []Event{Joined{noon, 3, 30}}, "", "rehearsing queued waiting"},
		{"what is ready lines up", []Event{Joined{noon, 3, 30}, Seen{noon, 3, ready}}, "line up 3: its gate is ready", "rehearsing queued queued"},
		{"clear lands", []Event{Judged{noon, 1, Verdict{Clear: true}}}, "land 1: its gate is clear", "rehearsing queued"},
		{"clear is said until it is done", []Event{Judged{noon, 1, Verdict{Clear: true}}, Tick{noon}}, "land 1: its gate is clear; land 1: its gate is clear", "rehearsing queued"},
		{"not clear any more does not land", []Event{Judged{noon, 1, Verdict{Clear: true}}, Judged{noon, 1, Verdict{}}}, "land 1: its gate is clear", "rehearsing queued"},
		{"a landing under way keeps the line", []Event{Judged{noon, 1, Verdict{Clear: true}}, LandingBegun{noon, 1}, Tick{noon}}, "land 1: its gate is clear", "landing queued"},
		{"landed: the next is built on the new tip", []Event{LandingBegun{noon, 1}, Done{noon, 1, "t1"}}, "build a rehearsal 2: it is first in line", "landed queued"},
		{"a landing taken back is tried again", []Event{LandingBegun{noon, 1}, LandingDropped{noon, 1, "the target moved on", ""}}, "build a rehearsal 1: it is first in line", "queued queued"},
		{"a branch that could not be moved rests", []Event{LandingBegun{noon, 1}, LandingDropped{noon, 1, "again", "no room"}}, "build a rehearsal 2: it is first in line", "queued queued"},
		{"a landing that is lost", []Event{LandingBegun{noon, 1}, LandingLost{noon, 1, "somebody moved it"}}, "build a rehearsal 2: it is first in line", "ejected queued"},
		{"red is ejected and the next is built", []Event{Judged{noon, 1, Verdict{Red: "unit failed"}}}, "eject 1: unit failed; build a rehearsal 2: it is first in line", "ejected queued"},
		{"the target moved", []Event{TargetMoved{noon, "t1"}}, "discard the rehearsal 1: the target moved on; build a rehearsal 1: it is first in line", "queued queued"},
		{"the target is gone", []Event{TargetMoved{noon, ""}}, "discard the rehearsal 1: the target moved on", "queued queued"},
		{"a new revision", []Event{Seen{noon, 1, Gate{Revision: 2, Ready: true}}}, "discard the rehearsal 1: a new revision was pushed; build a rehearsal 1: it is first in line", "queued queued"},
		{"a named approval is gone", []Event{Judged{noon, 1, Verdict{Stale: "odo's approval", Clear: true}}}, "discard the rehearsal 1: odo's approval; build a rehearsal 1: it is first in line", "queued queued"},
		{"no longer ready while rehearsed", []Event{Seen{noon, 1, Gate{Revision: 1}}}, "send back to waiting 1: its gate is no longer ready; build a rehearsal 2: it is first in line", "waiting queued"},
		{"no longer ready in line", []Event{Seen{noon, 2, Gate{Revision: 1}}}, "send back to waiting 2: its gate is no longer ready", "rehearsing waiting"},
		{"ready again comes last", []Event{Joined{noon, 3, 30}, Seen{noon, 3, ready}, Seen{noon, 2, Gate{Revision: 1}}, Seen{noon, 2, ready}, Left{noon, 1, "ines", "later"}},
			"line up 3: its gate is ready; send back to waiting 2: its gate is no longer ready; line up 2: its gate is ready; build a rehearsal 3: it is first in line", "withdrawn queued queued"},
		{"closed is ejected whatever its state", []Event{Seen{noon, 1, Gate{1, true, false, "the change was closed"}}}, "eject 1: the change was closed; build a rehearsal 2: it is first in line", "ejected queued"},
		{"withdrawn", []Event{Left{noon, 2, "ines", "ines withdrew it"}}, "", "rehearsing withdrawn"},
		{"a waiver goes first", []Event{Joined{noon, 3, 30}, Seen{noon, 3, Gate{1, true, true, ""}}},
			"line up 3: its gate is ready; discard the rehearsal 1: another goes first: by a waiver, or since it takes back a landing; build a rehearsal 3: it is first in line", "queued queued queued"},
		{"a waiver that is not ready disturbs nobody", []Event{Joined{noon, 3, 30}, Seen{noon, 3, Gate{1, false, true, ""}}}, "", "rehearsing queued waiting"},
		{"a waiver does not break into a landing", []Event{LandingBegun{noon, 1}, Joined{noon, 3, 30}, Seen{noon, 3, Gate{1, true, true, ""}}}, "line up 3: its gate is ready", "landing queued queued"},
		{"cannot be built", []Event{Done{noon, 1, "t1"}, NotBuilt{noon, 2, "they conflict"}}, "build a rehearsal 2: it is first in line", "ejected"},
		{"could not be built: it rests, and is tried again", []Event{Done{noon, 1, "t1"}, BuildFailed{noon, 2, "no room"}, Tick{noon}, Tick{later(2)}},
			"build a rehearsal 2: it is first in line; build a rehearsal 2: it is first in line", "queued"},
		{"what comes too late changes nothing", []Event{Built{noon, 1, "again"}, Built{noon, 7, "x"}, NotBuilt{noon, 7, "x"}, BuildFailed{noon, 7, "x"}, Judged{noon, 7, Verdict{Red: "x"}}, Left{noon, 9, "ines", "x"},
			Seen{noon, 9, ready}, LandingBegun{noon, 9}, LandingDropped{noon, 9, "x", ""}, LandingLost{noon, 9, "x"}}, "", "rehearsing queued"},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			s, _ := told(State{}, TargetMoved{noon, "t0"}, Joined{noon, 1, 10}, Seen{noon, 1, ready}, Built{noon, 1, "c1"}, Joined{noon, 2, 20}, Seen{noon, 2, ready})
			s, actions := told(s, c.events...)
			if got := says(actions); got != c.want {
				t.Errorf("the actions are\n%s\nwant\n%s", got, c.want)
			}
			var states []string
			for _, e := range s.Entries {
				states = append(states, string(e.State))
			}
			if got := strings.Join(states, " "); got != c.states {
				t.Errorf("the entries are %s, want %s", got, c.states)
			}
			if r := s.Rehearsal(1); r != nil && r.Commit != "c1" && c.name == "what comes too late changes nothing" {
				t.Errorf("the rehearsal is %+v", r)
			}
			again, more := Plan(s)
			if len(more) > 0 && more[0].Do != Land || !reflect.DeepEqual(again, s) {
				t.Errorf("planned again, it does %s", says(more))
			}
		})
	}
}

// Rests grow, end with a success, and hold nobody up; what is usual follows what was measured.
func TestRestsAndEstimates(t *testing.T) {
	ready := Gate{Revision: 1, Ready: true}
	s, _ := told(State{}, TargetMoved{noon, "t0"}, Joined{noon, 1, 10}, Seen{noon, 1, ready}, BuildFailed{noon, 1, "no room"})
	if e := s.Entry(1); e.Rest.Pause != firstRest || !e.Resting(noon.At) || e.Resting(later(1).At) || !strings.Contains(e.Rest.Words, "no room. It is tried again at 12:00:01 UTC") {
		t.Errorf("it rests as %+v", e.Rest)
	}
	for i := range int64(20) {
		s, _ = told(s, Tick{later(int(i+1) * 1000)}, BuildFailed{later(int(i+1) * 1000), i + 2, "no room"})
	}
	if e := s.Entry(1); e.Rest.Pause != longestRest || e.Tries != 21 {
		t.Errorf("after many tries it rests as %+v, %d tries", e.Rest, e.Tries)
	}
	s, _ = told(s, Tick{later(100_000)}, Built{later(100_000), 22, "c"}, Judged{later(100_060), 22, Verdict{Clear: true}})
	if s.Entry(1).Rest != (Rest{}) || s.Usual != time.Minute {
		t.Errorf("built, it rests as %+v, and a rehearsal takes %s", s.Entry(1).Rest, s.Usual)
	}
	s, _ = told(s, Judged{later(100_061), 22, Verdict{Clear: true}}, TargetMoved{later(100_100), "t1"}, Built{later(100_100), 23, "d"}, Judged{later(100_110), 23, Verdict{Clear: true}})
	if s.Usual != 50*time.Second {
		t.Errorf("a rehearsal takes %s", s.Usual)
	}
	if s, _ = told(s, Tick{noon}); !s.At.Equal(later(100_110).At) {
		t.Errorf("the clock went back to %s", s.At)
	}
}

// A rehearsal that stands on another ends with it, and not when that one lands.
func TestWhatStandsOnAnother(t *testing.T) {
	base := State{At: noon.At, Tip: "t0", Slots: 2,
		Entries:    []Entry{{ID: 1, State: Rehearsing, Rehearsal: 1}, {ID: 2, State: Rehearsing, Rehearsal: 2}, {ID: 3, State: Queued, Rehearsal: 3}},
		Rehearsals: []Rehearsal{{ID: 1, Entry: 1, Base: "t0", Commit: "c1"}, {ID: 2, Entry: 2, Parent: 1, Base: "c1", Commit: "c2"}, {ID: 3, Entry: 3, Parent: 2, Base: "c2"}},
	}
	s := Apply(base, Left{noon, 1, "ines", "later"})
	for _, r := range s.Rehearsals {
		if r.Ended == "" {
			t.Errorf("%+v is still of use", r)
		}
	}
	if s.Entry(2).State != Queued || s.Entry(2).Rehearsal != 0 || s.Entry(3).Rehearsal != 0 {
		t.Errorf("the entries are %+v", s.Entries)
	}
	if s = Apply(base, Done{noon, 1, "c1"}); s.Rehearsal(2) == nil || s.Rehearsal(3) == nil || s.Rehearsal(1) != nil {
		t.Errorf("after the first has landed the rehearsals are %+v", s.Rehearsals)
	}
	if base.Entries[0].State != Rehearsing || base.Rehearsals[0].Ended != "" {
		t.Error("the state that an event was applied to became another")
	}
}

// world is what goes on around a queue, made up: gates open and close, revisions come, rehearsals are built or not, land or
// not, the service is killed.
type world struct {
	t      *testing.T
	rng    *rand.Rand
	seed   uint64
	state  State
	events []Event
	now    At
	tips   int
	joined int64
	ended  map[int64]EntryState
}

func (w *world) tell(e Event) {
	w.t.Helper()
	before := w.state
	data, err := Encode(e)
	if err != nil {
		w.t.Fatal(err)
	}
	w.events = append(w.events, e)
	if back, err := Decode(data); err != nil || !reflect.DeepEqual(back, e) {
		w.t.Fatalf("%#v is read back as %#v, %v", e, back, err)
	}
	var actions []Action
	w.state, actions = Plan(Apply(before, e))
	w.holds(actions)
	for _, x := range w.state.Entries {
		if had, ended := w.ended[x.ID]; ended {
			w.t.Fatalf("seed %d: entry %d was %s and is %s", w.seed, x.ID, had, x.State)
		}
		if x.State.Ended() {
			defer func() { w.ended[x.ID] = x.State }()
		}
	}
}

// holds checks what has to hold whatever happens.
func (w *world) holds(actions []Action) {
	w.t.Helper()
	s := &w.state
	busy := 0
	for _, e := range s.Entries {
		if e.Rehearsal != 0 && (s.Rehearsal(e.Rehearsal) == nil || s.Rehearsal(e.Rehearsal).Entry != e.ID) && !e.State.Ended() {
			w.t.Fatalf("seed %d: entry %+v has a rehearsal that is not its own", w.seed, e)
		}
		if e.State == Landing || e.Rehearsal != 0 && !e.State.Ended() {
			busy++
		}
		if e.State == Waiting && e.Rehearsal != 0 || e.State == Rehearsing && (e.Rehearsal == 0 || s.Rehearsal(e.Rehearsal).Commit == "") {
			w.t.Fatalf("seed %d: entry %+v is %s", w.seed, e, e.State)
		}
	}
	if busy > max(1, s.Slots) {
		w.t.Fatalf("seed %d: %d are rehearsed at once", w.seed, busy)
	}
	for _, r := range s.Rehearsals {
		if e := s.Entry(r.Entry); r.Ended == "" && (e == nil || e.Rehearsal != r.ID) {
			w.t.Fatalf("seed %d: rehearsal %+v is nobody's", w.seed, r)
		}
	}
	for _, a := range actions {
		e := s.Entry(a.Entry)
		switch a.Do {
		case Build:
			if !e.Gate.Ready || e.Resting(s.At) || s.Rehearsal(a.Rehearsal).Base != s.Tip {
				w.t.Fatalf("seed %d: %+v is built of %+v", w.seed, a, e)
			}
		case Land:
			if r := s.Rehearsal(a.Rehearsal); !e.Gate.Ready || !r.Verdict.Clear || r.Base != s.Tip || r.Revision != e.Gate.Revision || r.Verdict.Stale != "" || r.Verdict.Red != "" {
				w.t.Fatalf("seed %d: %+v lands of %+v, %+v", w.seed, a, e, r)
			}
		case LineUp, SendBack, Discard, Eject:
		}
	}
}

// step has something happen.
func (w *world) step(calm bool) {
	s := w.state
	w.now = At{w.now.At.Add(time.Duration(w.rng.IntN(3000)) * time.Millisecond)}
	for _, r := range s.Rehearsals { // builders
		if r.Ended != "" || r.Commit != "" || w.rng.IntN(3) == 0 {
			continue
		}
		switch n := w.rng.IntN(10); {
		case calm || n < 7:
			w.tell(Built{w.now, r.ID, fmt.Sprintf("c%d", r.ID)})
		case n < 8:
			w.tell(NotBuilt{w.now, r.ID, "conflict"})
		default:
			w.tell(BuildFailed{w.now, r.ID, "trouble"})
		}
	}
	for _, e := range s.Entries {
		r := w.state.Rehearsal(e.Rehearsal)
		switch n := w.rng.IntN(12); {
		case e.State.Ended():
		case calm:
			w.tell(Seen{w.now, e.ID, Gate{Revision: e.Gate.Revision, Ready: true}})
			if r != nil && r.Commit != "" {
				w.tell(Judged{w.now, r.ID, Verdict{Clear: true}})
			}
		case n == 0:
			w.tell(Seen{w.now, e.ID, Gate{e.Gate.Revision, !e.Gate.Ready, e.Gate.First, ""}})
		case n == 1:
			w.tell(Seen{w.now, e.ID, Gate{e.Gate.Revision + 1, e.Gate.Ready, w.rng.IntN(5) == 0, ""}})
		case n == 2 && w.rng.IntN(20) == 0:
			w.tell(Seen{w.now, e.ID, Gate{Gone: "closed"}})
		case n == 3 && w.rng.IntN(20) == 0:
			w.tell(Left{w.now, e.ID, "ines", "later"})
		case n < 8 && r != nil:
			w.tell(Judged{w.now, r.ID, Verdict{Clear: w.rng.IntN(3) > 0}})
		case n == 8 && r != nil:
			w.tell(Judged{w.now, r.ID, Verdict{Red: "red"}})
		}
	}
	_, actions := Plan(w.state)
	for _, a := range actions {
		if a.Do != Land {
			continue
		}
		w.tell(LandingBegun{w.now, a.Entry})
		switch n := w.rng.IntN(10); {
		case calm || n < 7:
			w.tips++
			w.tell(Done{w.now, a.Entry, fmt.Sprintf("t%d", w.tips)})
		case n < 9:
			w.tell(LandingDropped{w.now, a.Entry, "again", []string{"", "no room"}[n-7]})
		default:
			w.tell(LandingLost{w.now, a.Entry, "moved"})
		}
	}
	if !calm && w.rng.IntN(6) == 0 {
		w.tips++
		w.tell(TargetMoved{w.now, fmt.Sprintf("t%d", w.tips)})
	}
	w.tell(Tick{w.now})
}

// Whatever happens, every entry comes to an end or waits for its own gate, nothing is built or lands that should not, and the
// events told again give the same state (P9, P1, P8).
func TestP9EveryEntryComesToAnEnd(t *testing.T) {
	for seed := range uint64(200) {
		w := &world{t: t, rng: rand.New(rand.NewPCG(seed, 1)), seed: seed, now: noon, ended: map[int64]EntryState{}}
		w.state.Slots = int(seed % 3) // the plan is a serial one; how it is carried out does not depend on that
		w.tell(TargetMoved{w.now, "t0"})
		for range 60 {
			if w.rng.IntN(8) == 0 {
				w.joined++
				w.tell(Joined{w.now, w.joined, int(w.joined)})
			}
			w.step(false)
		}
		alive := func() (n int) {
			for _, e := range w.state.Entries {
				if !e.State.Ended() {
					n++
				}
			}
			return n
		}
		for range 400 { // the world calms down
			if w.step(true); alive() == 0 {
				break
			}
		}
		if alive() > 0 {
			t.Fatalf("seed %d: these wait for ever: %+v", seed, w.state)
		}
		again := State{Slots: w.state.Slots}
		for _, e := range w.events {
			again, _ = Plan(Apply(again, e))
		}
		if !reflect.DeepEqual(again, w.state) {
			t.Fatalf("seed %d: told again, the state is %+v, and was %+v", seed, again, w.state)
		}
	}
}

func TestDecodeRefuses(t *testing.T) {
	for _, text := range []string{"", "{}", `{"kind":"weather","is":{}}`, `{"kind":"left","is":{"entry":"x"}}`} {
		if e, err := Decode([]byte(text)); err == nil {
			t.Errorf("%q is read as %+v", text, e)
		}
	}
}

// What is said of an entry that cannot be rehearsed names the way on.
func TestWords(t *testing.T) {
	n := Obstacle{Text: "by rebase something else than was shown would land in a", Number: 3, Source: "topic", Target: "main"}
	for _, c := range []struct {
		kind   Kind
		others []string
		says   []string
	}{
		{Conflicts, nil, []string{"update topic from main", "git rebase origin/main", "join again"}},
		{Differs, []string{"squash", "merge"}, []string{"--strategy squash or merge, by which what was shown would land"}},
		{Differs, nil, []string{"no other strategy that is allowed would land what was shown"}},
		{Empty, nil, []string{"close the change"}},
		{TooMuch, nil, []string{"make it smaller"}},
	} {
		n.Kind, n.Others = c.kind, c.others
		for _, part := range append(c.says, n.Text) {
			if !strings.Contains(n.Reason(), part) {
				t.Errorf("%s: %q is not in %q", c.kind, part, n.Reason())
			}
		}
	}
}
