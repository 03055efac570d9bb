package queue

import (
	"fmt"
	"hash/crc32"
	"math/rand/v2"
	"os"
	"reflect"
	"runtime"
	"slices"
	"strconv"
	"sync"
	"sync/atomic"
	"testing"
	"time"
)

// A checker tells a queue events, one after the other, and says what does not hold. What it checks against, it knows from the
// events and actions alone: what each commit is made of, what was found of it, what has landed. So any part of a list of events
// can be checked, and a failure made short.
type checker struct {
	state   State
	holds   map[string][]int64 // what a commit is made of, in order; what came from outside has negative numbers
	areas   map[int64]Touched
	ended   map[int64]EntryState
	landed  map[int64]bool
	tested  map[string][]int64 // what was tested, by what it is made of, and the entries of its path: until one of them is another
	reds    map[int64]int      // how often a rehearsal was red, by its number
	running int
	by      map[int64]string  // what a rehearsal was made of
	why     map[string]string // it ended
	outer   int64
}

func newChecker() *checker {
	return &checker{holds: map[string][]int64{}, areas: map[int64]Touched{}, ended: map[int64]EntryState{}, landed: map[int64]bool{}, tested: map[string][]int64{}, reds: map[int64]int{}, by: map[int64]string{}, why: map[string]string{}}
}

// tell tells an event; the answer is what is wrong, or nothing.
func (c *checker) tell(e Event) (wrong string) {
	before := c.state
	if x, moved := e.(TargetMoved); moved && x.Tip != before.Tip {
		c.outer--
		c.holds[x.Tip] = append(slices.Clone(c.holds[before.Tip]), c.outer)
		c.areas[c.outer] = Touched{Everywhere: true}
	}
	if x, is := e.(Built); is {
		if r := before.Rehearsal(x.Rehearsal); r != nil && len(r.Commits) == 0 && len(x.Commits) == len(r.Path) {
			on := c.holds[r.Base]
			for i, commit := range x.Commits {
				on = append(slices.Clone(on), r.Path[i])
				c.holds[commit] = on
			}
		}
	}
	switch x := e.(type) {
	case Judged:
		c.judged(before, x)
		if r := before.Rehearsal(x.Rehearsal); r != nil && x.Verdict.Stale != "" {
			c.another(r.Path...) // a message, so that it is built and tested again
		}
	case Seen:
		c.another(x.Entry)
	case Configured:
		clear(c.tested)
	}
	applied := Apply(before, e)
	for _, x := range applied.Entries {
		c.areas[x.ID] = x.Gate.Touches
	}
	var actions []Action
	c.state, actions = Plan(applied)
	if at, _ := Tell(before, e); !reflect.DeepEqual(at, c.state) {
		return "in one it is another state than in two"
	}
	at, did, choices := TellAloud(before, e)
	if !reflect.DeepEqual(at, c.state) || !slices.Equal(did, actions) {
		return "told aloud, something else is decided"
	}
	for _, choice := range choices {
		if r := at.Rehearsal(choice.Rehearsal); choice.Rehearsal != 0 && (r == nil || len(choice.Thought) == 0 || choice.Busy >= choice.Slots) {
			return fmt.Sprintf("it is said to have weighed %+v", choice)
		}
	}
	for _, r := range slices.Concat(applied.Rehearsals, c.state.Rehearsals) {
		if made := c.by[r.ID]; made != "" && r.Ended != "" {
			c.why[made] = fmt.Sprintf(" (it ended: %s, by %T)", r.Ended, e)
		}
	}
	if wrong := c.shape(); wrong != "" {
		return wrong
	}
	if x, is := e.(Done); is {
		for _, id := range x.Entries {
			if before.Entry(id) != nil {
				c.landed[id] = true
			}
		}
	}
	for _, a := range actions {
		if wrong := c.action(applied, a); wrong != "" {
			return fmt.Sprintf("%s: %s", wrong, says([]Action{a}))
		}
	}
	for _, x := range c.state.Entries {
		if had, ended := c.ended[x.ID]; ended {
			return fmt.Sprintf("entry %d was %s and is %s", x.ID, had, x.State)
		}
	}
	for _, x := range c.state.Entries {
		if x.State.Ended() {
			c.ended[x.ID] = x.State
		}
	}
	if _, more := Plan(c.state); slices.ContainsFunc(more, func(a Action) bool { return a.Do == Eject || a.Do == LineUp || a.Do == SendBack }) {
		return "planned again, it does " + says(more)
	}
	return c.idle()
}

// another forgets what was tested of entries that are another since, or have been out of line.
func (c *checker) another(entries ...int64) {
	for made, of := range c.tested {
		if slices.ContainsFunc(of, func(id int64) bool { return slices.Contains(entries, id) }) {
			delete(c.tested, made)
		}
	}
}

func (c *checker) judged(s State, e Judged) {
	r := s.Rehearsal(e.Rehearsal)
	if r == nil || len(r.Commits) == 0 || r.Of != 0 {
		return
	}
	if e.Verdict.Red != "" && r.Verdict.Red == "" {
		c.reds[r.ID]++
	}
	if (e.Verdict.Red != "" || e.Verdict.Passed) && r.Verdict.Red == "" && !r.Verdict.Passed {
		c.tested[c.made(r)], c.by[r.ID] = r.Path, c.made(r)
	}
}

// made says what a rehearsal is made of, and of which revisions.
func (c *checker) made(r *Rehearsal) string {
	return fmt.Sprint(c.holds[r.Tested], r.Path, r.Revisions)
}

// shape checks that the state is in order.
func (c *checker) shape() string {
	s := &c.state
	running := 0
	for i := range s.Rehearsals {
		r := &s.Rehearsals[i]
		if r.Ended != "" {
			continue
		}
		if r.Running() {
			running++
		}
		if len(r.Path) == 0 || len(r.Path) != len(r.Revisions) || len(r.Commits) != 0 && len(r.Commits) != len(r.Path) {
			return fmt.Sprintf("rehearsal %+v is out of order", *r)
		}
		for k, id := range r.Path {
			if e := s.Entry(id); e == nil || e.State == Waiting || e.State != Landing && e.Gate.Revision != r.Revisions[k] {
				return fmt.Sprintf("rehearsal %+v has entry %d", *r, id)
			}
		}
	}
	if running > max(1, s.Settings.Slots, c.running) { // those that had a slot when there were more keep it
		return fmt.Sprintf("%d rehearsals run in %d slots", running, s.Settings.Slots)
	}
	c.running = running
	for i := range s.Entries {
		e := &s.Entries[i]
		if r := s.Rehearsal(e.Rehearsal); e.Rehearsal != 0 && !e.State.Ended() && (r == nil || !slices.Contains(r.Path, e.ID)) ||
			e.State == Waiting && e.Rehearsal != 0 || e.State == Rehearsing && e.Rehearsal == 0 {
			return fmt.Sprintf("entry %+v is shown with a rehearsal that is not its own", *e)
		}
	}
	return ""
}

// action checks what was decided.
func (c *checker) action(applied State, a Action) string {
	s := &c.state
	switch r := s.Rehearsal(a.Rehearsal); a.Do {
	case Build:
		if r.Base != s.Tip || s.Tip == "" {
			return "it is not built on the tip"
		}
		for _, id := range r.Path {
			if e := s.Entry(id); !e.Gate.Ready || e.Resting(s.At) {
				return fmt.Sprintf("it is built of %+v", *e)
			}
		}
		if made := fmt.Sprint(append(slices.Clone(c.holds[r.Base]), r.Path...), r.Path, r.Revisions); c.tested[made] != nil {
			return "the same was tested already: " + made + c.why[made]
		}
	case Rebuild:
		if !s.Settings.Areas {
			return "a strict queue builds anew what was tested"
		}
	case Rerun:
		if len(r.Path) != 1 || r.Reruns > max(s.Settings.Reruns, 9) {
			return "it is tested once more"
		}
	case Land:
		return c.lands(s, r)
	case Eject:
		was := applied.Rehearsal(a.Rehearsal)
		if a.Rehearsal == 0 || was == nil {
			return ""
		}
		// On nothing but what has landed, and as often as the rules say.
		for _, id := range c.holds[was.Tested] {
			if id > 0 && id != a.Entry && !c.landed[id] {
				return fmt.Sprintf("it is ejected by a rehearsal with %d, which has not landed", id)
			}
		}
		if c.reds[was.ID] <= min(s.Settings.Reruns, was.Reruns) {
			return fmt.Sprintf("it was red %d times", c.reds[was.ID])
		}
	case Discard:
		if a.Why == goesFirst || a.Why == byNobody {
			c.another(applied.Rehearsal(a.Rehearsal).Path...) // it was to be tested once more
		}
		if was := applied.Rehearsal(a.Rehearsal); a.Why == "others show what it would show" && was.Began == s.Evidence {
			return "nothing was learned since it was begun"
		}
	case LineUp, SendBack, Explain:
	}
	return ""
}

// lands checks that what lands is what was tested (P1, P2, P3).
func (c *checker) lands(s *State, r *Rehearsal) string {
	tested := r
	if r.Of != 0 {
		tested = s.Rehearsal(r.Of)
	}
	switch {
	case s.Held != "":
		return "the queue is held"
	case tested == nil || !tested.Verdict.Passed || !tested.Verdict.Clear || !r.Verdict.Clear || r.Verdict.Stale != "":
		return "it is not clear"
	}
	landed := c.holds[s.Tip]
	if got, want := c.holds[r.Commits[len(r.Commits)-1]], append(slices.Clone(landed), r.Path...); !slices.Equal(got, want) {
		return fmt.Sprintf("it holds %v and not %v", got, want)
	}
	in := c.holds[tested.Tested]
	if !s.Settings.Areas && (r.Of != 0 || !slices.Equal(in, append(slices.Clone(landed), r.Path...))) {
		return fmt.Sprintf("what was tested holds %v, and the target %v", in, landed)
	}
	for _, id := range landed {
		if slices.Contains(in, id) {
			continue
		}
		for _, mine := range r.Path {
			if c.areas[id].Overlaps(c.areas[mine]) {
				return fmt.Sprintf("%d has landed, touches the same as %d and was not tested with it", id, mine)
			}
		}
	}
	for _, id := range in {
		if !slices.Contains(landed, id) && !slices.Contains(r.Path, id) {
			return fmt.Sprintf("it was tested with %d, which does not land", id)
		}
	}
	return ""
}

// idle checks that no slot is idle while an entry is in no rehearsal that could take it.
func (c *checker) idle() string {
	s := &c.state
	running := 0
	with := map[int64]bool{}
	for i := range s.Rehearsals {
		r := &s.Rehearsals[i]
		if r.Ended != "" || r.Of != 0 {
			continue
		}
		if r.Running() {
			running++
		}
		for _, id := range r.Path {
			with[id] = true // red ones too: it is tested apart, or waits for what it was red with
		}
	}
	if s.Tip == "" || running >= max(1, s.Settings.Slots) {
		return ""
	}
	if s.Settings.Planner == OneByOne && len(with) > 0 {
		return ""
	}
	n := 0
	for _, e := range s.Entries {
		if (e.State == Queued || e.State == Rehearsing) && !e.Resting(s.At) {
			if n++; n > window/2 {
				return ""
			}
			if !with[e.ID] && !slices.ContainsFunc(s.Apart, func(x Suspects) bool { return slices.Contains(x.Entries, e.ID) }) {
				return fmt.Sprintf("%d of %d slots are free, and entry %d is not rehearsed", s.Settings.Slots-running, s.Settings.Slots, e.ID)
			}
		}
	}
	return ""
}

// world is what goes on around a queue, made up.
type world struct {
	*checker
	rng    *rand.Rand
	events []Event
	now    At
	tips   int
	joined int64
	good   map[int64]bool
	wrong  string
}

func (w *world) tell(e Event) {
	if w.wrong != "" {
		return
	}
	w.events = append(w.events, e)
	w.wrong = w.checker.tell(e)
	if w.wrong == "" && len(w.events)%16 == 0 {
		data, err := Encode(e)
		if back, decoded := Decode(data); err != nil || decoded != nil || !reflect.DeepEqual(back, e) {
			w.wrong = fmt.Sprintf("%#v is read back as %#v", e, back)
		}
	}
}

func (w *world) touched() Touched {
	if w.rng.IntN(12) == 0 {
		return Touched{Everywhere: true}
	}
	names := []string{"docs", "field-app", "forecast", "ledger", "valves"}
	var t Touched
	for _, i := range w.rng.Perm(len(names))[:1+w.rng.IntN(2)] {
		t.Areas = append(t.Areas, names[i])
	}
	slices.Sort(t.Areas)
	return t
}

// green says how a rehearsal's checks end: red if one of it is guilty, or two do not go together; at times by mistake.
func (w *world) green(r *Rehearsal, flaky bool) bool {
	if flaky && w.rng.IntN(20) == 0 {
		return false
	}
	in := w.holds[r.Tested]
	for _, id := range in {
		if id > 0 && !w.good[id] && w.ended[id] != Landed {
			return false
		}
		for _, other := range r.Path {
			if id > 0 && id < other && mix(uint64(id)<<32|uint64(other))%40 == 0 {
				return false
			}
		}
	}
	return true
}

// step has something happen.
func (w *world) step(calm bool) {
	jump := time.Duration(w.rng.IntN(90)) * time.Second
	if !calm && w.rng.IntN(200) == 0 {
		jump = time.Duration(w.rng.IntN(200)-100) * time.Hour
	}
	w.now = At{w.now.At.Add(jump)}
	for _, r := range w.state.Rehearsals {
		switch now := w.state.Rehearsal(r.ID); {
		case now == nil:
		case len(now.Commits) == 0:
			w.build(now, calm)
		case now.Of != 0:
			w.tell(Judged{w.now, r.ID, Verdict{Passed: true, Clear: calm || w.rng.IntN(20) > 0}})
		case now.Verdict.Passed && !now.Verdict.Clear && calm:
			w.tell(Judged{w.now, r.ID, Verdict{Passed: true, Clear: true}})
		case now.Running() && (calm || w.rng.IntN(4) == 0):
			v := Verdict{Red: "unit failed"}
			if w.green(now, !calm) {
				v = Verdict{Passed: true, Clear: calm || w.rng.IntN(8) > 0}
			}
			w.tell(Judged{w.now, r.ID, v})
		case !calm && w.rng.IntN(60) == 0:
			w.tell(Judged{w.now, r.ID, Verdict{Stale: "an approval is gone"}})
		}
	}
	if !calm {
		w.people()
	}
	w.landings(calm)
	w.tell(Tick{w.now})
}

func (w *world) build(r *Rehearsal, calm bool) {
	switch n := w.rng.IntN(20); {
	case calm || n < 15:
		// The same on the same is the same commit, as it is when it is built (see package landing).
		commits, on := make([]string, len(r.Path)), r.Base
		for i, id := range r.Path {
			on = fmt.Sprintf("%x", mix(uint64(id)<<40|uint64(r.Revisions[i])<<32|uint64(crc32.ChecksumIEEE([]byte(on)))))
			commits[i] = on
		}
		w.tell(Built{w.now, r.ID, commits})
	case n == 15:
		w.tell(NotBuilt{w.now, r.ID, r.Path[w.rng.IntN(len(r.Path))], Cause(Conflicts), "they conflict"})
	case n == 16:
		w.tell(BuildFailed{w.now, r.ID, "no room"})
	}
}

func (w *world) people() {
	for _, e := range w.state.Entries {
		if e.State.Ended() {
			continue
		}
		g := e.Gate
		switch n := w.rng.IntN(400); {
		case n < 100 && !g.Ready:
			g.Ready, g.Revision, g.Touches = true, max(1, g.Revision), w.touched()
			w.tell(Seen{w.now, e.ID, g})
		case n < 4:
			g.Ready = false
			w.tell(Seen{w.now, e.ID, g})
		case n < 8:
			g.Revision++
			w.good[e.ID] = w.rng.IntN(8) > 0
			w.tell(Seen{w.now, e.ID, g})
		case n < 10:
			g.First = !g.First
			w.tell(Seen{w.now, e.ID, g})
		case n < 12:
			g.Touches = w.touched()
			w.tell(Seen{w.now, e.ID, g})
		case n == 16 || n == 17:
			g.Stopped = !g.Stopped
			w.tell(Seen{w.now, e.ID, g})
		case n == 12:
			g.Gone = "the change was closed"
			w.tell(Seen{w.now, e.ID, g})
		case n == 13:
			w.tell(Left{w.now, e.ID, "ines", "ines withdrew it"})
		case n < 16:
			w.tell(Raised{w.now, e.ID, "ines", "the ditch floods"})
		}
	}
	switch n := w.rng.IntN(120); {
	case n < 30:
		w.joined++
		w.good[w.joined] = w.rng.IntN(7) > 0
		w.tell(Joined{At: w.now, Entry: w.joined, Change: int(w.joined), Author: []string{"odo", "wren"}[w.rng.IntN(2)], Lines: w.rng.IntN(900)})
	case n == 30:
		w.tips++
		w.tell(TargetMoved{w.now, fmt.Sprintf("t%d", w.tips)})
	case n == 31:
		w.tell(Configured{w.now, Settings{Slots: w.rng.IntN(7), Reruns: w.rng.IntN(3), Areas: w.rng.IntN(2) == 0, OnPush: []OnPush{Stays, Back, Leave}[w.rng.IntN(3)],
			Planner: []Planner{Adaptive, Adaptive, OneByOne}[w.rng.IntN(3)]}})
	case n == 32:
		w.tell(Held{w.now, "harvest"})
	case n < 36:
		w.tell(Held{w.now, ""})
	case n == 36: // late, foreign, unknown
		id := w.rng.Int64N(w.state.Next + 3)
		w.tell(Built{w.now, id, []string{"x"}})
		w.tell(Judged{w.now, w.state.Next + 7, Verdict{Passed: true, Clear: true}})
		w.tell(NotBuilt{w.now, id, 4711, Cause(Conflicts), "x"})
		w.tell(LandingDropped{w.now, w.state.Next + 7, "x", ""})
		w.tell(Done{w.now, nil, w.state.Tip})
		w.tell(Restarted{w.now})
	}
}

func (w *world) landings(calm bool) {
	if calm && w.state.Held != "" {
		w.tell(Held{w.now, ""})
	}
	for range 3 {
		_, actions := Plan(w.state)
		i := slices.IndexFunc(actions, func(a Action) bool { return a.Do == Land })
		if i < 0 || w.wrong != "" {
			return
		}
		r := *w.state.Rehearsal(actions[i].Rehearsal)
		w.tell(LandingBegun{w.now, r.ID})
		switch n := w.rng.IntN(20); {
		case calm || n < 17:
			w.tell(Done{w.now, r.Path, r.Commits[len(r.Commits)-1]})
		case n == 17:
			w.tell(LandingDropped{w.now, r.ID, "it was not finished", ""})
		case n == 18:
			w.tell(LandingDropped{w.now, r.ID, "again", "no room"})
		default:
			w.tell(LandingLost{w.now, r.ID, "somebody moved it"})
		}
	}
}

// fails says what is wrong when some events are told from the beginning, and after how many.
func fails(events []Event) (wrong string, after int) {
	defer func() {
		if fault := recover(); fault != nil {
			wrong = fmt.Sprintf("a fault: %v", fault)
		}
	}()
	c := newChecker()
	for i, e := range events {
		after = i + 1
		if wrong := c.tell(e); wrong != "" {
			return wrong, after
		}
	}
	return "", after
}

// shortened leaves out of events what a failure does not need: halves, quarters, and so on down to single ones.
func shortened(events []Event, wrong string) []Event {
	same := func(other string) bool {
		return other != "" && other[:min(len(other), 12)] == wrong[:min(len(wrong), 12)]
	}
	tries := 0
	for size := len(events) / 2; size > 0; size /= 2 {
		for from := 0; from < len(events) && tries < 400; tries++ {
			without := slices.Concat(events[:from], events[min(from+size, len(events)):])
			if now, after := fails(without); same(now) {
				events = without[:after]
				continue
			}
			from += size
		}
	}
	return events
}

// Whatever happens, what lands is what was tested, only the guilty are ejected, slots are neither exceeded nor idle, nothing is
// tested twice; every entry comes to an end when the world calms down, and the events told again give the same state (P1, P2, P3,
// P8, P9). EVENTS says how many to tell, SEED with which chance to begin.
func TestP9WhateverHappens(t *testing.T) {
	least, _ := strconv.Atoi(os.Getenv("EVENTS"))
	begin, _ := strconv.ParseUint(os.Getenv("SEED"), 10, 64)
	var told atomic.Int64
	var newest atomic.Uint64
	newest.Store(max(begin, 1) - 1)
	once := []uint64{4500} // what has failed once
	var wg sync.WaitGroup
	for range runtime.NumCPU() {
		wg.Go(func() {
			for told.Load() < int64(max(least, 8_000)) && !t.Failed() {
				seed := newest.Add(1)
				if n := seed - max(begin, 1); n < uint64(len(once)) {
					seed = once[n]
				}
				w := &world{checker: newChecker(), rng: rand.New(rand.NewPCG(seed, 2)), now: noon, good: map[int64]bool{}}
				run(w)
				told.Add(int64(len(w.events)))
				if w.wrong != "" {
					tellShort(t, seed, w)
				}
			}
		})
	}
	wg.Wait()
	t.Logf("%d events", told.Load())
}

// tellShort says what went wrong, and by which events, as few as there can be.
func tellShort(t *testing.T, seed uint64, w *world) {
	t.Errorf("seed %d, after %d events: %s", seed, len(w.events), w.wrong)
	short := w.events
	if now, _ := fails(short); now != "" {
		short = shortened(w.events, w.wrong)
		wrong, after := fails(short)
		t.Logf("in short, after %d: %s", after, wrong)
	}
	for _, e := range short[max(0, len(short)-400):] {
		data, _ := Encode(e)
		t.Logf("%s", data)
	}
}

func run(w *world) {
	defer func() {
		if fault := recover(); fault != nil {
			w.wrong = fmt.Sprintf("a fault: %v", fault)
		}
	}()
	w.tell(Configured{w.now, Settings{Slots: 1 + w.rng.IntN(8), Reruns: w.rng.IntN(2), Areas: w.rng.IntN(2) == 0}})
	w.tell(TargetMoved{w.now, "t0"})
	for range 300 {
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
	if w.now.At.Before(w.state.At) { // the clock is set right
		w.now = At{w.state.At}
	}
	for range 600 {
		if alive() == 0 || w.wrong != "" {
			break
		}
		for _, e := range w.state.Entries {
			if g := e.Gate; !e.State.Ended() && !g.Ready {
				g.Ready, g.Revision = true, max(1, g.Revision)
				w.tell(Seen{w.now, e.ID, g})
			}
		}
		w.step(true)
	}
	if alive() > 0 && w.wrong == "" {
		w.wrong = fmt.Sprintf("these wait for ever at %s, %+v, held: %q:", w.state.At, w.state.Settings, w.state.Held)
		for _, e := range w.state.Entries {
			w.wrong += fmt.Sprintf("\n%d: %s, %s, rests until %s; %+v", e.ID, e.State, e.Reason, e.Rest.Until, e.Gate)
		}
		for _, r := range w.state.Rehearsals {
			w.wrong += fmt.Sprintf("\n%d: %v on %s, %+v, behind %q, of %d, %d reruns", r.ID, r.Path, r.Base, r.Verdict, r.Behind, r.Of, r.Reruns)
		}
	}
	var again State
	for _, e := range w.events {
		again, _ = Plan(Apply(again, e))
	}
	if w.wrong == "" && !reflect.DeepEqual(again, w.state) {
		w.wrong = "told again, the state is another"
	}
}
