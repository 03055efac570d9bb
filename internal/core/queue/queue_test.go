package queue

import (
	"math/rand/v2"
	"reflect"
	"strings"
	"testing"
)

func TestPlan(t *testing.T) {
	good := func(change func(*Rehearsal)) *Rehearsal {
		r := &Rehearsal{Base: "tip", Revision: 1}
		if change != nil {
			change(r)
		}
		return r
	}
	rehearsing := func(r *Rehearsal) Entry {
		return Entry{ID: 1, Place: 1, State: Rehearsing, Revision: 1, Ready: true, Rehearsal: r}
	}
	next := Entry{ID: 2, Place: 2, State: LinedUp, Revision: 1, Ready: true}
	cases := []struct {
		name    string
		entries []Entry
		want    []Step
	}{
		{"nothing", nil, nil},
		{"not ready waits", []Entry{{ID: 1, State: Waiting}}, nil},
		{"ready lines up and is built", []Entry{{ID: 1, State: Waiting, Ready: true}}, []Step{{1, LineUp, "its gate is ready"}, {1, Build, "it is first in line"}}},
		{"first by place, not by id", []Entry{{ID: 1, Place: 9, State: LinedUp, Ready: true}, next}, []Step{{2, Build, "it is first in line"}}},
		{"no longer ready goes back", []Entry{{ID: 1, State: LinedUp}}, []Step{{1, SendBack, "its gate is no longer ready"}}},
		{"one at a time", []Entry{rehearsing(good(nil)), next}, nil},
		{"clear lands", []Entry{rehearsing(good(func(r *Rehearsal) { r.Clear = true })), next}, []Step{{1, Land, "its gate is clear"}}},
		{"red is ejected and the next is built", []Entry{rehearsing(good(func(r *Rehearsal) { r.Red = "unit failed" })), next}, []Step{{1, Eject, "unit failed"}, {2, Build, "it is first in line"}}},
		{"the target moved", []Entry{rehearsing(good(func(r *Rehearsal) { r.Base = "old"; r.Clear = true })), next}, []Step{{1, Discard, "the target moved on"}, {1, Build, "it is first in line"}}},
		{"a new revision", []Entry{rehearsing(good(func(r *Rehearsal) { r.Revision = 0; r.Clear = true }))}, []Step{{1, Discard, "a new revision was pushed"}, {1, Build, "it is first in line"}}},
		{"a named approval is gone", []Entry{rehearsing(good(func(r *Rehearsal) { r.Stale = "odo's approval"; r.Clear = true }))}, []Step{{1, Discard, "odo's approval"}, {1, Build, "it is first in line"}}},
		{"never finished building", []Entry{rehearsing(nil)}, []Step{{1, Discard, "its rehearsal was not finished"}, {1, Build, "it is first in line"}}},
		{"no longer ready while rehearsed", []Entry{{ID: 1, State: Rehearsing, Revision: 1, Rehearsal: good(func(r *Rehearsal) { r.Clear = true })}, next}, []Step{{1, SendBack, "its gate is no longer ready"}, {2, Build, "it is first in line"}}},
		{"closed is ejected whatever its state", []Entry{{ID: 1, State: Rehearsing, Gone: "the change was closed"}}, []Step{{1, Eject, "the change was closed"}}},
		{"a landing under way keeps the line", []Entry{{ID: 1, State: Landing}, next}, nil},
		{"an override goes first", []Entry{{ID: 1, Place: 1, State: LinedUp, Ready: true}, {ID: 2, Place: 2, State: Waiting, Ready: true, First: true}},
			[]Step{{2, LineUp, "its gate is ready"}, {2, Build, "it is first in line"}}},
		{"an override takes the place of what is rehearsed", []Entry{rehearsing(good(func(r *Rehearsal) { r.Clear = true })), {ID: 2, Place: 2, State: LinedUp, Ready: true, First: true}},
			[]Step{{1, Discard, "another goes first, by an override"}, {2, Build, "it is first in line"}}},
		{"an override that is not ready disturbs nobody", []Entry{rehearsing(good(nil)), {ID: 2, Place: 2, State: Waiting, First: true}}, nil},
		{"an override does not break into a landing", []Entry{{ID: 1, Place: 1, State: Landing}, {ID: 2, Place: 2, State: LinedUp, Ready: true, First: true}}, nil},
		{"ended entries are nothing", []Entry{{ID: 1, State: Landed}, {ID: 2, State: Ejected}, {ID: 3, State: Withdrawn}}, nil},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			if got := Plan(Line{Tip: "tip", Entries: c.entries}); !reflect.DeepEqual(got, c.want) {
				t.Errorf("got %v, want %v", got, c.want)
			}
		})
	}
}

// Carrying out the plan again and again, whatever the world does, every entry comes to an end or waits for its own
// gate, and nothing lands that is not clear on the tip (P9, P1).
func TestP9EveryEntryComesToAnEnd(t *testing.T) {
	for seed := range uint64(300) {
		rng := rand.New(rand.NewPCG(seed, 1))
		line := Line{Tip: "0"}
		tips := 0
		for i := range int64(1 + rng.IntN(6)) {
			line.Entries = append(line.Entries, Entry{ID: i, Place: i, State: Waiting, Revision: 1})
		}
		at := func(id int64) *Entry { return &line.Entries[id] }
		for range 400 {
			e := at(rng.Int64N(int64(len(line.Entries))))
			switch rng.IntN(9) { // the world
			case 8:
				e.First = !e.First
			case 0:
				e.Ready = !e.Ready
			case 1:
				e.Revision++
			case 2, 3:
				if e.Rehearsal != nil {
					e.Rehearsal.Clear = true
				}
			case 4:
				if e.Rehearsal != nil && !e.Rehearsal.Clear {
					e.Rehearsal.Red = "red"
				}
			}
			carryOut(t, &line, &tips)
		}
		for i := range line.Entries { // the world calms down: every gate is ready, every rehearsal passes
			line.Entries[i].Ready = true
		}
		for range 10 * len(line.Entries) {
			for i := range line.Entries {
				if r := line.Entries[i].Rehearsal; r != nil && r.Red == "" {
					r.Clear = true
				}
			}
			carryOut(t, &line, &tips)
		}
		for _, e := range line.Entries {
			if !e.State.Ended() {
				t.Fatalf("seed %d: entry %d is %s for ever", seed, e.ID, e.State)
			}
		}
	}
}

func carryOut(t *testing.T, line *Line, tips *int) {
	t.Helper()
	for _, s := range Plan(*line) {
		e := &line.Entries[s.Entry]
		switch s.Action {
		case LineUp:
			e.State = LinedUp
		case SendBack:
			e.State, e.Rehearsal = Waiting, nil
		case Discard:
			e.State, e.Rehearsal = LinedUp, nil
		case Build:
			if !e.Ready {
				t.Fatal("built though not ready")
			}
			e.State, e.Rehearsal = Rehearsing, &Rehearsal{Base: line.Tip, Revision: e.Revision}
		case Eject:
			e.State = Ejected
		case Land:
			if r := e.Rehearsal; r == nil || !r.Clear || r.Base != line.Tip || r.Revision != e.Revision || !e.Ready {
				t.Fatalf("landed %+v on %s", e, line.Tip)
			}
			*tips++
			e.State, line.Tip = Landed, string(rune('0'+*tips))
		}
	}
}

// What rests keeps its place and holds nobody up; what is said of an entry that cannot be rehearsed names the way on.
func TestRestingAndWords(t *testing.T) {
	steps := Plan(Line{Tip: "t", Entries: []Entry{{ID: 1, Place: 1, State: LinedUp, Ready: true, Resting: true}, {ID: 2, Place: 2, State: LinedUp, Ready: true}}})
	if len(steps) != 1 || steps[0].Entry != 2 || steps[0].Action != Build {
		t.Errorf("the steps are %+v", steps)
	}
	if steps = Plan(Line{Tip: "t", Entries: []Entry{{ID: 1, State: LinedUp, Ready: true, Resting: true}}}); len(steps) != 0 {
		t.Errorf("what rests is left alone: %+v", steps)
	}
	n := NotBuilt{Text: "by rebase something else than was shown would land in a", Number: 3, Source: "topic", Target: "main"}
	for _, c := range []struct {
		kind   Kind
		others []string
		says   []string
	}{
		{Conflicts, nil, []string{"bring topic up to main", "git rebase origin/main", "join again"}},
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
