package forecast

import (
	"slices"
	"strconv"
	"time"

	"tavrin/internal/core/queue"
)

// most is how many changes may be in line: a queue that has more does not keep up.
const most = 500

// Simulate has the planner deal with a workload.
func Simulate(w Workload, seed uint64) Outcome {
	return SimulateTold(w, seed, func(_, _ *queue.State) bool { return true })
}

// SimulateTold is Simulate, and says after each event how the queue went from one state to the next; it ends when that is answered with no.
func SimulateTold(w Workload, seed uint64, told func(before, after *queue.State) bool) Outcome {
	s := &simulation{told: told, w: w, seed: seed, all: w.changes(seed), landed: map[int]int{}, live: map[int]bool{}, runs: map[int64]*run{}}
	for i, c := range s.all {
		s.agenda.add(happening{at: c.at, comes: i})
	}
	for _, x := range w.Stops {
		s.agenda.add(happening{at: x.From, comes: stopBegins})
		s.agenda.add(happening{at: x.To, comes: stopEnds})
	}
	s.tell(queue.Configured{At: s.at(), Settings: w.Settings})
	s.tell(queue.TargetMoved{At: s.at(), Tip: "tip"})
	for {
		h, more := s.agenda.next()
		if !more {
			break
		}
		s.now = h.at
		switch h.comes {
		case stopBegins:
			s.tell(queue.Held{At: s.at(), Why: "nothing lands at this time"})
		case stopEnds:
			s.tell(queue.Held{At: s.at()})
		case runEnds:
			s.end(h)
		default:
			s.come(h.comes)
		}
		if s.out.Given {
			return s.out
		}
		if len(s.live) > most {
			s.out.Unstable, s.out.Left = true, len(s.live)
			s.out.Until = s.now
			return s.out
		}
	}
	s.out.Left = len(s.live)
	return s.out
}

// simulation is one going through.
type simulation struct {
	w      Workload
	seed   uint64
	all    []*change
	agenda agenda
	now    time.Duration
	state  queue.State
	landed map[int]int // changes, by the order in which they landed
	live   map[int]bool
	runs   map[int64]*run // by the rehearsal
	out    Outcome
	told   func(before, after *queue.State) bool
}

// run is checks that run.
type run struct {
	number int
	began  time.Duration
	red    bool
	over   bool
}

// epoch is when simulations begin.
var epoch = time.Date(2026, 1, 5, 0, 0, 0, 0, time.UTC)

func (s *simulation) at() queue.At { return queue.At{At: epoch.Add(s.now)} }

// tell tells the queue an event, and does what it wants done.
func (s *simulation) tell(e queue.Event) {
	todo := s.plan(e)
	for len(todo) > 0 {
		a := todo[0]
		todo = append(todo[1:], s.do(a)...)
	}
}

func (s *simulation) plan(e queue.Event) []queue.Action {
	var actions []queue.Action
	before := s.state
	s.state, actions = queue.Tell(before, e)
	s.out.Given = !s.told(&before, &s.state) || s.out.Given
	s.out.Steps++
	for id, r := range s.runs { // the order does not matter: each is only added up
		if s.state.Rehearsal(id) == nil {
			if !r.over {
				s.out.Cancelled++
			}
			s.stop(r)
			delete(s.runs, id)
		}
	}
	return actions
}

func (s *simulation) do(a queue.Action) []queue.Action {
	r := s.state.Rehearsal(a.Rehearsal)
	switch a.Do {
	case queue.Build, queue.Rebuild:
		if r == nil || len(r.Commits) > 0 {
			return nil
		}
		number, built := r.ID, queue.Built{At: s.at(), Rehearsal: r.ID}
		on := r.Base
		for _, id := range r.Path { // the same on the same is the same commit
			on = commit(on, id)
			built.Commits = append(built.Commits, on)
		}
		if a.Do == queue.Rebuild {
			more := s.plan(built)
			return append(more, s.plan(queue.Judged{At: s.at(), Rehearsal: number, Verdict: queue.Verdict{Passed: true, Clear: true}})...)
		}
		s.begin(r)
		return s.plan(built)
	case queue.Rerun:
		if r != nil {
			s.begin(r)
		}
	case queue.Land:
		if r != nil && s.state.Entry(r.Path[0]).State != queue.Landing {
			return s.land(*r)
		}
	case queue.Eject:
		s.eject(int(a.Entry))
	case queue.LineUp, queue.SendBack, queue.Discard, queue.Explain:
	}
	return nil
}

// commit names what is built of a change on another commit.
func commit(on string, id int64) string {
	s := source(id)
	for _, b := range []byte(on) {
		s = source(uint64(s)*31 + uint64(b))
	}
	return strconv.FormatUint(s.next(), 36)
}

// come has a change join, whose gate is ready.
func (s *simulation) come(n int) {
	c := s.all[n]
	for other := range s.live {
		if s.w.conflict(s.all, s.seed, n, other) {
			c.conflicts = append(c.conflicts, other)
			s.all[other].conflicts = append(s.all[other].conflicts, n)
		}
	}
	s.live[n] = true
	s.tell(queue.Joined{At: s.at(), Entry: int64(n), Change: n, Author: c.author, Lines: c.lines})
	s.tell(queue.Seen{At: s.at(), Entry: int64(n), Gate: queue.Gate{Revision: 1, Ready: true, Touches: c.touches}})
}

// begin has the checks of a rehearsal run: they are red if one of it is guilty, or does not go together with another of it, or with
// what has landed while it was in line.
func (s *simulation) begin(r *queue.Rehearsal) {
	s.out.Runs++
	x := &run{number: s.out.Runs, began: s.now, red: fortune(s.seed, 2, s.out.Runs) < s.w.Flaky}
	for _, id := range r.Path {
		c := s.all[id]
		x.red = x.red || c.guilty || slices.ContainsFunc(c.conflicts, func(o int) bool {
			return s.landed[o] > 0 || slices.Contains(r.Path, int64(o))
		})
	}
	s.runs[r.ID] = x
	s.agenda.add(happening{at: s.now + s.w.takes(s.seed, x.number), comes: runEnds, run: x.number, of: r.ID})
}

func (s *simulation) stop(r *run) {
	if !r.over {
		r.over = true
		s.out.Busy += s.now - r.began
	}
}

// end has a run end, if it was not given up.
func (s *simulation) end(h happening) {
	r := s.runs[h.of]
	if r == nil || r.over || r.number != h.run {
		return
	}
	s.stop(r)
	verdict := queue.Verdict{Passed: true, Clear: true}
	if r.red {
		verdict = queue.Verdict{Red: "it failed"}
	}
	s.tell(queue.Judged{At: s.at(), Rehearsal: h.of, Verdict: verdict})
}

func (s *simulation) land(r queue.Rehearsal) []queue.Action {
	more := s.plan(queue.LandingBegun{At: s.at(), Rehearsal: r.ID})
	for _, id := range r.Path {
		n := int(id)
		s.landed[n] = len(s.landed) + 1
		delete(s.live, n)
		s.out.Minutes = append(s.out.Minutes, (s.now - s.all[n].at).Minutes())
	}
	return append(more, s.plan(queue.Done{At: s.at(), Entries: r.Path, Tip: r.Commits[len(r.Commits)-1]})...)
}

func (s *simulation) eject(n int) {
	delete(s.live, n)
	s.out.Ejected++
	if c := s.all[n]; !c.guilty && !slices.ContainsFunc(c.conflicts, func(o int) bool { return s.landed[o] > 0 }) {
		s.out.Wrongly++
	}
}
