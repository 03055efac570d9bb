package queue

import (
	"fmt"
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
		{"what joins waits for its gate", []Event{Joined{At: noon, Entry: 3, Change: 30}}, "", "rehearsing queued waiting"},
		{"what is ready lines up", []Event{Joined{At: noon, Entry: 3, Change: 30}, Seen{noon, 3, ready}}, "line up 3: its gate is ready", "rehearsing queued queued"},
		{"clear lands", []Event{Judged{noon, 1, Verdict{Passed: true, Clear: true}}}, "land 1: it passed, and its gate is clear", "rehearsing queued"},
		{"clear is said until it is done", []Event{Judged{noon, 1, Verdict{Passed: true, Clear: true}}, Tick{noon}}, "land 1: it passed, and its gate is clear; land 1: it passed, and its gate is clear", "rehearsing queued"},
		{"not clear any more does not land", []Event{Judged{noon, 1, Verdict{Passed: true, Clear: true}}, Judged{noon, 1, Verdict{}}}, "land 1: it passed, and its gate is clear", "rehearsing queued"},
		{"a landing under way keeps the line", []Event{Judged{noon, 1, Verdict{Passed: true, Clear: true}}, LandingBegun{noon, 1}, Tick{noon}}, "land 1: it passed, and its gate is clear", "landing queued"},
		{"landed: the next is built on the new tip", []Event{LandingBegun{noon, 1}, Done{noon, []int64{1}, "t1"}}, "build a rehearsal 2: it is first in line", "landed queued"},
		{"a landing taken back is tried again", []Event{Judged{noon, 1, Verdict{Passed: true, Clear: true}}, LandingBegun{noon, 1}, LandingDropped{noon, 1, "it was not finished", ""}},
			"land 1: it passed, and its gate is clear; land 1: it passed, and its gate is clear", "rehearsing queued"},
		{"a branch that could not be moved rests", []Event{Judged{noon, 1, Verdict{Passed: true, Clear: true}}, LandingBegun{noon, 1}, LandingDropped{noon, 1, "again", "no room"}},
			"land 1: it passed, and its gate is clear; build a rehearsal 2: it is first in line", "rehearsing queued"},
		{"a landing that is lost", []Event{LandingBegun{noon, 1}, LandingLost{noon, 1, "somebody moved it"}}, "build a rehearsal 2: it is first in line", "ejected queued"},
		{"red is ejected and the next is built", []Event{Judged{noon, 1, Verdict{Red: "unit failed"}}}, "eject 1: unit failed; build a rehearsal 2: it is first in line", "ejected queued"},
		{"the target moved", []Event{TargetMoved{noon, "t1"}}, "build a rehearsal 1: it is first in line", "queued queued"},
		{"the target is gone", []Event{TargetMoved{noon, ""}}, "explain 1: the target is gone; explain 2: the target is gone", "queued queued"},
		{"a new revision", []Event{Seen{noon, 1, Gate{Revision: 2, Ready: true}}}, "discard the rehearsal 1: a new revision of change 10 was pushed; build a rehearsal 1: it is first in line", "queued queued"},
		{"a named approval is gone", []Event{Judged{noon, 1, Verdict{Stale: "odo's approval", Clear: true}}}, "discard the rehearsal 1: odo's approval; build a rehearsal 1: it is first in line", "queued queued"},
		{"no longer ready while rehearsed", []Event{Seen{noon, 1, Gate{Revision: 1}}}, "send back to waiting 1: its gate is no longer ready; build a rehearsal 2: it is first in line", "waiting queued"},
		{"no longer ready in line", []Event{Seen{noon, 2, Gate{Revision: 1}}}, "send back to waiting 2: its gate is no longer ready", "rehearsing waiting"},
		{"ready again comes last", []Event{Joined{At: noon, Entry: 3, Change: 30}, Seen{noon, 3, ready}, Seen{noon, 2, Gate{Revision: 1}}, Seen{noon, 2, ready}, Left{noon, 1, "ines", "later"}},
			"line up 3: its gate is ready; send back to waiting 2: its gate is no longer ready; line up 2: its gate is ready; build a rehearsal 3: it is first in line", "withdrawn queued queued"},
		{"closed is ejected whatever its state", []Event{Seen{noon, 1, Gate{Revision: 1, Ready: true, Gone: "the change was closed"}}}, "eject 1: the change was closed; build a rehearsal 2: it is first in line", "ejected queued"},
		{"withdrawn", []Event{Left{noon, 2, "ines", "ines withdrew it"}}, "", "rehearsing withdrawn"},
		{"a waiver goes first", []Event{Joined{At: noon, Entry: 3, Change: 30}, Seen{noon, 3, Gate{Revision: 1, Ready: true, First: true}}},
			"line up 3: its gate is ready; discard the rehearsal 1: another goes first: by a waiver, or since it takes back a landing; build a rehearsal 3: it is first in line", "queued queued queued"},
		{"a waiver that is not ready disturbs nobody", []Event{Joined{At: noon, Entry: 3, Change: 30}, Seen{noon, 3, Gate{Revision: 1, First: true}}}, "", "rehearsing queued waiting"},
		{"a waiver does not break into a landing", []Event{LandingBegun{noon, 1}, Joined{At: noon, Entry: 3, Change: 30}, Seen{noon, 3, Gate{Revision: 1, Ready: true, First: true}}}, "line up 3: its gate is ready", "landing queued queued"},
		{"cannot be built", []Event{Done{noon, []int64{1}, "t1"}, NotBuilt{noon, 2, 2, Cause(Conflicts), "they conflict"}}, "build a rehearsal 2: it is first in line", "ejected"},
		{"could not be built: it rests, and is tried again", []Event{Done{noon, []int64{1}, "t1"}, BuildFailed{noon, 2, "no room"}, Tick{noon}, Tick{later(2)}},
			"build a rehearsal 2: it is first in line; explain 2: its rehearsal could not be built, which is not about the change: no room. It is tried again at 12:00:01 UTC; build a rehearsal 2: it is first in line", "queued"},
		{"what comes too late changes nothing", []Event{Built{noon, 1, []string{"again"}}, Built{noon, 7, []string{"x"}}, NotBuilt{noon, 7, 7, Cause(Conflicts), "x"}, BuildFailed{noon, 7, "x"}, Judged{noon, 7, Verdict{Red: "x"}}, Left{noon, 9, "ines", "x"},
			Seen{noon, 9, ready}, LandingBegun{noon, 9}, LandingDropped{noon, 9, "x", ""}, LandingLost{noon, 9, "x"}}, "", "rehearsing queued"},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			s, _ := told(State{Settings: Settings{Planner: OneByOne}}, TargetMoved{noon, "t0"}, Joined{At: noon, Entry: 1, Change: 10}, Seen{noon, 1, ready}, Built{noon, 1, []string{"c1"}}, Joined{At: noon, Entry: 2, Change: 20}, Seen{noon, 2, ready})
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
			if r := s.Rehearsal(1); r != nil && r.Commits[0] != "c1" && c.name == "what comes too late changes nothing" {
				t.Errorf("the rehearsal is %+v", r)
			}
			again, more := Plan(s)
			if len(more) > 0 && more[0].Do != Land || !reflect.DeepEqual(again, s) {
				t.Errorf("planned again, it does %s", says(more))
			}
		})
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
