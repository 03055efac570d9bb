package forecast

import (
	"math"
	"strings"
	"testing"
	"time"

	"tavrin/internal/core/queue"
)

// history is one of a queue to which a change came every half hour, of which each tenth was red.
func history(changes int) History {
	h := History{Length: time.Duration(changes) * 30 * time.Minute, Took: []time.Duration{5 * time.Minute}, Runs: changes, Settings: queue.Settings{Slots: 2, Reruns: 1}}
	for i := range changes {
		a := Arrival{At: time.Duration(i) * 30 * time.Minute, Guilty: i%10 == 9, Touches: queue.Touched{Areas: []string{"valves"}}}
		if h.Came = append(h.Came, a); !a.Guilty {
			h.Landed = append(h.Landed, 5)
		}
	}
	return h
}

// What came comes again, as often as is asked for, and takes as long as it took; what stands in the way of landing is waited for.
func TestAHistoryIsGoneThroughAgain(t *testing.T) {
	h := history(200)
	as := Simulate(h.Workload(1), 1)
	if len(as.Minutes) != 180 || as.Ejected != 20 || as.Wrongly != 0 || as.Quantile(.5) != 5 || as.Left != 0 {
		t.Errorf("as it was: %d landed, %d ejected, half within %.1f", len(as.Minutes), as.Ejected, as.Quantile(.5))
	}
	for _, times := range []float64{.5, 2, 3.25} {
		o := Simulate(h.Workload(times), 1)
		if n := float64(len(o.Minutes) + o.Ejected); math.Abs(n/200-times) > .12 {
			t.Errorf("%g times as many are %.0f", times, n)
		}
	}
	w := h.Workload(1)
	w.Stops = []Span{{10 * time.Hour, 20 * time.Hour}, {30 * time.Hour, 31 * time.Hour}}
	stopped := Simulate(w, 1)
	if len(stopped.Minutes) != 180 || stopped.Quantile(1) < 590 || stopped.Quantile(1) > 610 {
		t.Errorf("with a freeze of ten hours, the last lands within %.0f minutes", stopped.Quantile(1))
	}
	if best := Oracle(w, 1); best.Quantile(1) < 590 {
		t.Errorf("an oracle lands through a freeze: %.0f", best.Quantile(1))
	}
	given := SimulateTold(h.Workload(1), 1, func(_, after *queue.State) bool { return after.At.Before(epoch.Add(time.Hour)) })
	if !given.Given || len(given.Minutes) > 3 {
		t.Errorf("given up, it went on: %+v", given)
	}
}

// Flakes and changes that do not go together come as often as they did.
func TestWhatWentWrongGoesWrongAgain(t *testing.T) {
	h := history(400)
	h.Flaked, h.Landed[0] = 40, 90
	for i := range h.Landed {
		h.Landed[i] = 70 // two or three are in line at once
	}
	h.Clashed = 12
	w := h.Workload(1)
	if w.Flaky != .1 || w.Conflicting <= 0 || w.Conflicting > .1 {
		t.Errorf("it has %.3f and %.3f", w.Flaky, w.Conflicting)
	}
	if calm := history(50).Workload(1); calm.Flaky != 0 || calm.Conflicting != 0 {
		t.Errorf("nothing went wrong, and then %+v", calm)
	}
}

func TestLacks(t *testing.T) {
	none := history(100)
	none.Took = nil
	for words, h := range map[string]History{"3 changes have landed": history(3), "0 changes": {}, "no check has run": none, "": history(30)} {
		if got := h.Lacks(); !strings.Contains(got, words) || words == "" && got != "" {
			t.Errorf("%q is lacking, not %q", got, words)
		}
	}
}

func TestFigures(t *testing.T) {
	f := FiguresOf([]Outcome{{Minutes: []float64{1, 2, 3}, Busy: 12 * time.Minute, Runs: 4}, {Minutes: []float64{4, 5, 6, 7}, Busy: 9 * time.Minute, Runs: 2, Ejected: 1}})
	if f.Landed != 3.5 || f.Half != 4 || f.Within[0] != 1 || f.Within[20] != 7 || f.CheckMinutes != 10.5 || f.MinutesEach != 3 || f.Runs != 3 || f.Ejected != .5 || f.Overrun {
		t.Errorf("%+v", f)
	}
	if none := FiguresOf(nil); none.Half != 0 || math.IsNaN(none.MinutesEach) {
		t.Errorf("of nothing: %+v", none)
	}
	over := FiguresOf([]Outcome{{Unstable: true, Until: 50 * time.Hour}})
	for words, says := range map[string]string{
		"instead of 4 min":       f.Beside(f),
		"would not keep up: mor": over.Beside(f),
		"which it would not as":  f.Beside(over),
		"neither would keep up":  over.Beside(over),
		"on day 3":               over.Beside(f),
	} {
		if !strings.Contains(says, words) {
			t.Errorf("%q does not say %q", says, words)
		}
	}
	was := history(20).AsItWas()
	if was.Landed != 18 || was.Ejected != 2 || was.Half != 5 {
		t.Errorf("as it was: %+v", was)
	}
}

// A queue to which more comes than it can land is given up, and says when.
func TestAnOverrunQueueIsGivenUp(t *testing.T) {
	w := Workload{PerHour: func(time.Duration) float64 { return 60 }, Most: 60, Length: 20 * 24 * time.Hour, Areas: 1, Median: 20 * time.Minute, Times: 1, Settings: queue.Settings{Planner: queue.OneByOne}}
	o := Simulate(w, 1)
	if !o.Unstable || o.Until < 7*time.Hour || o.Until > 12*time.Hour || o.Left != most+1 {
		t.Errorf("it is %v after %s with %d in line", o.Unstable, o.Until, o.Left)
	}
}
