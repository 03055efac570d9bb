package forecast

import (
	"fmt"
	"math"
	"os"
	"strconv"
	"testing"
	"time"

	"tavrin/internal/core/queue"
)

// told is how promises came out, by when they were made.
type told struct{ half, most, all float64 }

func (x *told) add(landed, halfAt, mostAt time.Time) {
	x.all++
	if !landed.After(halfAt) {
		x.half++
	}
	if !landed.After(mostAt) {
		x.most++
	}
}

func (x told) within(points float64) bool {
	return math.Abs(100*x.half/x.all-50) <= points && math.Abs(100*x.most/x.all-90) <= points
}

func (x told) String() string {
	return fmt.Sprintf("%.0f %% landed within the half, %.0f %% within the most, of %.0f", 100*x.half/x.all, 100*x.most/x.all, x.all)
}

// Half of the changes land within what is said to be the half, nine of ten within the most, within five points: as it is said when they
// line up, and as it is said whenever somebody looks; in queues of every kind. DAYS says how many to go through of all of them; else it is
// two of three kinds.
func TestLikelyTimesComeTrue(t *testing.T) {
	days, _ := strconv.Atoi(os.Getenv("DAYS"))
	for _, w := range Study(time.Duration(max(days, 2)) * 24 * time.Hour) {
		few := w.Name == "W2" || w.Name == "W2, areas" || w.Name == "W5"
		if days == 0 && !few || w.Name == "W6, strict" || w.Name == "W5, strict" {
			continue
		}
		t.Run(w.Name, func(t *testing.T) {
			t.Parallel()
			const off = 5
			var atFirst, later told
			seeds := uint64(2)
			if days == 0 && w.Name == "W5" {
				seeds = 1
			}
			var spread, count float64
			for seed := uint64(1); seed <= seeds; seed++ {
				type promise struct{ half, most time.Time }
				var watch Watch
				first, looks := map[int64]promise{}, map[int64][]promise{}
				next := epoch
				SimulateTold(w, seed, func(before, after *queue.State) bool {
					for ; next.Before(after.At); next = next.Add(7 * time.Minute) {
						if next.Before(before.At) {
							continue
						}
						for id, l := range watch.Likely(before, next) {
							if !l.Half.IsZero() {
								looks[id] = append(looks[id], promise{l.Half, l.Most})
							}
						}
					}
					watch = watch.Told(after)
					for _, e := range after.Entries {
						if e.State != queue.Landed {
							continue
						}
						if p, made := first[e.ID]; made {
							atFirst.add(after.At, p.half, p.most)
							spread += p.most.Sub(e.Ready).Minutes() / max(1, p.half.Sub(e.Ready).Minutes())
							count++
						}
						for _, p := range looks[e.ID] {
							later.add(after.At, p.half, p.most)
						}
					}
					for _, e := range after.Entries {
						if _, promised := first[e.ID]; promised || !e.Ready.Equal(after.At) || e.State.Ended() {
							continue
						}
						if l := watch.Likely(after, after.At)[e.ID]; !l.Half.IsZero() {
							first[e.ID] = promise{l.Half, l.Most}
						}
					}
					return true
				})
			}
			t.Logf("at first: %s; looked at later: %s; most is %.1f times half", atFirst, later, spread/count)
			if !atFirst.within(off) {
				t.Errorf("at first: %s", atFirst)
			}
			if !later.within(off) {
				t.Errorf("later: %s", later)
			}
		})
	}
}

// What cannot be said is not said, and why; what is said says what it rests on.
func TestLikelyTimesAreNotInvented(t *testing.T) {
	w := Study(24 * time.Hour)[1]
	said := map[string]bool{}
	var watch Watch
	landed := 0
	SimulateTold(w, 5, func(_, after *queue.State) bool {
		watch = watch.Told(after)
		for _, e := range after.Entries {
			if e.State == queue.Landed {
				landed++
			}
		}
		for _, l := range watch.Likely(after, after.At) {
			if l.Half.IsZero() != l.Most.IsZero() || l.Words == "" || l.Half.After(l.Most) || !l.Half.IsZero() && l.Half.Before(after.At) {
				t.Fatalf("%+v at %s", l, after.At)
			}
			if landed < leastPast && !l.Half.IsZero() && l.Words != "it is landing" {
				t.Fatalf("after %d landings: %+v", landed, l)
			}
			said[l.Words] = true
		}
		held := *after
		held.Held = "the ditch floods"
		for _, l := range watch.Likely(&held, after.At) {
			if !l.Half.IsZero() && l.Words != "it is landing" {
				t.Fatalf("while it is held: %+v", l)
			}
		}
		return true
	})
	for _, words := range []string{"too few have landed to say when: 3, and from 10 on it can be said", "nothing is ahead of it; its checks run for 0 s and take 10 min"} {
		if !said[words] {
			t.Errorf("nobody said %q", words)
		}
	}
	if h, m, of := watch.Score(); of < landed/2 || of > scoreKept || h > m || m > of {
		t.Errorf("%d and %d of %d came true, and %d have landed", h, m, of, landed)
	}
}

// A hold, a push and an end without a landing leave no promise behind that could come out wrong.
func TestWhatIsNotCounted(t *testing.T) {
	at := func(min int) time.Time { return epoch.Add(time.Duration(min) * time.Minute) }
	state := func(min int, e ...queue.Entry) *queue.State {
		s := &queue.State{At: at(min), Tip: "tip", Entries: e, Settings: queue.Settings{Slots: 2}}
		s.Learned.Usual = 10 * time.Minute
		return s
	}
	in := func(revision int, is queue.EntryState) queue.Entry {
		return queue.Entry{ID: 1, Change: 1, State: is, Details: &queue.Details{Gate: queue.Gate{Revision: revision, Ready: true}}}
	}
	held := state(1, in(1, queue.Queued))
	held.Held = "it rains"
	for name, states := range map[string][]*queue.State{
		"held in between": {state(0, in(1, queue.Queued)), held, state(2, in(1, queue.Landed))},
		"pushed to":       {state(0, in(1, queue.Queued)), state(2, in(2, queue.Landed))},
		"ejected":         {state(0, in(1, queue.Queued)), state(2, in(1, queue.Ejected))},
		"withdrawn":       {state(0, in(1, queue.Queued)), state(2)},
		"not ready again": {state(0, in(1, queue.Queued)), state(1, in(1, queue.Waiting)), state(2, in(1, queue.Landed))},
	} {
		var w Watch
		for i, s := range states[1:] {
			if i == 0 {
				w = w.Told(states[0])
				if len(w.Entries) != 1 || len(w.Entries[0].Marks) != 1 {
					t.Fatalf("%s: at first %+v", name, w)
				}
			}
			w = w.Told(s)
		}
		if w.Landed != 0 || len(w.Entries) != 0 {
			t.Errorf("%s: %+v", name, w)
		}
	}
	back := Watch{}.Told(state(30, in(1, queue.Queued))) // and the clock is set back meanwhile
	if back = back.Told(state(20, in(1, queue.Landed))); back.Landed != 1 || back.Past[0][0] != 0 {
		t.Errorf("before it lined up it is %+v", back)
	}
	w := Watch{}.Told(state(0, in(1, queue.Queued)))
	if w = w.Told(state(20, in(1, queue.Landed))); w.Landed != 1 || len(w.Past[0]) != 1 || w.Past[0][0] != 2000 {
		t.Errorf("after twice the usual time it is %+v", w)
	}
}

// Areas as bits say of two parts of the tree what the queue says of them.
func TestAreaBits(t *testing.T) {
	chance := source(7)
	for range 5000 {
		areas, parts := areaBits{}, [2]queue.Touched{}
		for i := range parts {
			parts[i].Everywhere = chance.fraction() < .1
			for range int(chance.fraction() * 4) {
				parts[i].Areas = append(parts[i].Areas, fmt.Sprint(int(chance.fraction()*12)))
			}
			if len(parts[i].Areas) == 0 {
				parts[i].Everywhere = true // of an entry, what nobody knows is everything
			}
		}
		if a, b := areas.of(parts[0]), areas.of(parts[1]); (a&b != 0) != parts[0].Overlaps(parts[1]) {
			t.Fatalf("%+v and %+v are %b and %b", parts[0], parts[1], a, b)
		}
	}
}
