package forecast

import (
	"fmt"
	"math"
	"slices"
	"time"

	"tavrin/internal/core/queue"
)

// History is what a queue had to deal with for a time.
type History struct {
	Length   time.Duration
	Came     []Arrival // in order
	Took     []time.Duration
	Landed   []float64 // minutes from being ready to having landed, as it was
	Runs     int       // rehearsals whose checks ran
	Flaked   int       // of them, those that were red by nobody's fault
	Clashed  int       // changes that were ejected since they did not go together with another
	Minutes  float64   // of checks
	Settings queue.Settings
}

// What a history has to hold for a forecast to rest on it, and how much is gone through at most.
const (
	LeastLanded = 10
	MostArrival = 60_000
)

// Lacks says why nothing can be foreseen from a history; empty: something can.
func (h History) Lacks() string {
	switch {
	case len(h.Landed) < LeastLanded:
		return fmt.Sprintf("%d changes have landed in that time, and it takes %d to foresee anything from them", len(h.Landed), LeastLanded)
	case len(h.Took) == 0:
		return "no check has run for a rehearsal in that time, so that nobody knows how long it would take"
	}
	return ""
}

// Workload is what a queue would have to deal with were it as it was, some times as much of it.
func (h History) Workload(times float64) Workload {
	w := Workload{Name: "history", Length: h.Length, Came: h.Came, Times: times, Took: h.Took, Settings: h.Settings}
	if h.Runs > 0 {
		w.Flaky = min(float64(h.Flaked)/float64(h.Runs), .5)
	}
	if pairs := h.met(); pairs > 0 {
		w.Conflicting = min(float64(h.Clashed)/float64(pairs), .5)
	}
	return w
}

// met counts the pairs of changes that touch the same and came within the usual time to land of one another.
func (h History) met() (pairs int) {
	near := time.Duration(Quantile(slices.Clone(h.Landed), .5) * float64(time.Minute))
	for i, a := range h.Came {
		for _, b := range h.Came[i+1:] {
			if b.At-a.At > near {
				break
			}
			if a.Touches.Overlaps(b.Touches) {
				pairs++
			}
		}
	}
	return pairs
}

// Figures are how a queue did, or would do, in the mean of several goes.
type Figures struct {
	Landed, Ejected, Wrongly  float64
	Half, Most, Late          float64 // minutes from ready to landed: within which half, nine of ten, and nineteen of twenty landed
	CheckMinutes, MinutesEach float64
	Runs, Cancelled           float64
	// Within are the minutes within which each further twentieth landed, from none to all.
	Within [21]float64
	// Overrun says that more came than it could land, on which day.
	Overrun    bool
	OverrunDay int
}

// FiguresOf sums up how several goes went.
func FiguresOf(goes []Outcome) Figures {
	var f Figures
	var minutes []float64
	n := float64(max(1, len(goes)))
	for _, o := range goes {
		minutes = append(minutes, o.Minutes...)
		f.Landed += float64(len(o.Minutes)) / n
		f.Ejected += float64(o.Ejected) / n
		f.Wrongly += float64(o.Wrongly) / n
		f.CheckMinutes += o.Busy.Minutes() / n
		f.Runs += float64(o.Runs) / n
		f.Cancelled += float64(o.Cancelled) / n
		if o.Unstable && (!f.Overrun || int(o.Until.Hours()/24)+1 < f.OverrunDay) {
			f.Overrun, f.OverrunDay = true, int(o.Until.Hours()/24)+1
		}
	}
	f.of(minutes)
	return f
}

// AsItWas are the figures of a history.
func (h History) AsItWas() Figures {
	f := Figures{Landed: float64(len(h.Landed)), CheckMinutes: h.Minutes, Runs: float64(h.Runs)}
	for _, a := range h.Came {
		if a.Guilty {
			f.Ejected++
		}
	}
	f.Ejected += float64(h.Clashed)
	f.of(slices.Clone(h.Landed))
	return f
}

func (f *Figures) of(minutes []float64) {
	if f.Landed > 0 {
		f.MinutesEach = f.CheckMinutes / f.Landed
	}
	slices.Sort(minutes)
	f.Half, f.Most, f.Late = Quantile(minutes, .5), Quantile(minutes, .9), Quantile(minutes, .95)
	for i := range f.Within {
		f.Within[i] = Quantile(minutes, float64(i)/float64(len(f.Within)-1))
	}
}

// Quantile is the value below which a share of all are, and sorts them; 0: there are none.
func Quantile(of []float64, share float64) float64 {
	if len(of) == 0 {
		return 0
	}
	if !slices.IsSorted(of) {
		slices.Sort(of)
	}
	return of[int(math.Round(share*float64(len(of)-1)))]
}

// Beside says in a sentence what some figures are beside those as it is.
func (f Figures) Beside(is Figures) string {
	switch {
	case f.Overrun && is.Overrun:
		return fmt.Sprintf("neither would keep up: more than %d changes would have waited on day %d, and as it is on day %d", most, f.OverrunDay, is.OverrunDay)
	case f.Overrun:
		return fmt.Sprintf("it would not keep up: more than %d changes would have waited on day %d", most, f.OverrunDay)
	case is.Overrun:
		return fmt.Sprintf("it would keep up, which it would not as it is: half would have landed within %s, nine of ten within %s", minutesOf(f.Half), minutesOf(f.Most))
	}
	return fmt.Sprintf("half would have landed within %s instead of %s, nine of ten within %s instead of %s; checks would have run for %s for each that landed instead of %s",
		minutesOf(f.Half), minutesOf(is.Half), minutesOf(f.Most), minutesOf(is.Most), minutesOf(f.MinutesEach), minutesOf(is.MinutesEach))
}

func minutesOf(n float64) string {
	switch {
	case n < 1:
		return fmt.Sprintf("%.0f s", 60*n)
	case n < 120:
		return fmt.Sprintf("%.0f min", n)
	}
	return fmt.Sprintf("%.1f h", n/60)
}
