package queue

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"
)

// busy is a queue with so many entries in line and slots, to which things happen.
type busy struct {
	rng    *rand.Rand
	state  State
	at     At
	joined int64
	steps  []time.Duration
}

func (b *busy) tell(e Event) []Action {
	began := time.Now()
	s, actions := Tell(b.state, e)
	b.steps = append(b.steps, time.Since(began))
	b.state = s
	return actions
}

// do tells an event and has done what the queue wants.
func (b *busy) do(e Event) {
	for todo := b.tell(e); len(todo) > 0; todo = todo[1:] {
		r := b.state.Rehearsal(todo[0].Rehearsal)
		switch {
		case r == nil:
		case (todo[0].Do == Build || todo[0].Do == Rebuild) && len(r.Commits) == 0:
			commits := make([]string, len(r.Path))
			for i := range commits {
				commits[i] = fmt.Sprintf("%d.%d", r.ID, i)
			}
			id, of := r.ID, r.Of
			todo = append(todo, b.tell(Built{b.at, id, commits})...)
			if of != 0 {
				todo = append(todo, b.tell(Judged{b.at, id, Verdict{Passed: true, Clear: true}})...)
			}
		case todo[0].Do == Land && b.state.Entry(r.Path[0]).State != Landing:
			done := Done{b.at, r.Path, r.Commits[len(r.Commits)-1]}
			todo = append(todo, b.tell(LandingBegun{b.at, r.ID})...)
			todo = append(todo, b.tell(done)...)
		}
	}
}

func (b *busy) join() {
	b.joined++
	t := Touched{Areas: []string{fmt.Sprint(b.rng.IntN(30))}}
	if more := fmt.Sprint(b.rng.IntN(30)); more != t.Areas[0] {
		t.Areas = append(t.Areas, more)
	}
	b.do(Joined{At: b.at, Entry: b.joined, Change: int(b.joined), Author: fmt.Sprint(b.joined % 40), Lines: b.rng.IntN(500)})
	b.do(Seen{b.at, b.joined, Gate{Revision: 1, Ready: true, Touches: t}})
}

// BenchmarkStep measures one event told and planned for, in the mean and in the hundredth that takes longest, with queues of 200 and
// 2,000 entries and 16 slots.
func BenchmarkStep(b *testing.B) {
	for _, entries := range []int{200, 2000} {
		for _, areas := range []bool{false, true} {
			b.Run(fmt.Sprintf("%d/areas=%v", entries, areas), func(b *testing.B) {
				q := &busy{rng: rand.New(rand.NewPCG(1, 1)), at: noon}
				q.do(Configured{q.at, Settings{Slots: 16, Reruns: 1, Areas: areas}})
				q.do(TargetMoved{q.at, "t0"})
				for range entries {
					q.join()
				}
				q.steps = nil
				for b.Loop() {
					q.at.At = q.at.At.Add(20 * time.Second)
					var runs []int64
					for i := range q.state.Rehearsals {
						if q.state.Rehearsals[i].Running() {
							runs = append(runs, q.state.Rehearsals[i].ID)
						}
					}
					v := Verdict{Passed: true, Clear: true}
					if q.rng.IntN(8) == 0 {
						v = Verdict{Red: "unit failed"}
					}
					q.do(Judged{q.at, runs[q.rng.IntN(len(runs))], v})
					for len(q.state.Entries) < entries {
						q.join()
					}
				}
				slices.Sort(q.steps)
				sum := time.Duration(0)
				for _, d := range q.steps {
					sum += d
				}
				b.ReportMetric(float64(sum.Microseconds())/float64(len(q.steps)), "µs/step")
				b.ReportMetric(float64(q.steps[len(q.steps)*99/100].Microseconds()), "µs/step-p99")
			})
		}
	}
}
