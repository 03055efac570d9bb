package forecast

import (
	"slices"
	"time"
)

// agenda is what is to happen, soonest first; of what is at the same time, what was added first.
type agenda struct {
	heap  []happening
	added int
}

// happening is a change that becomes ready, or a run of checks that ends.
type happening struct {
	at    time.Duration
	order int
	comes int // the index of a change, or what else happens
	run   int
	of    int64 // what the run is of
}

const (
	runEnds    = -1
	stopBegins = -2
	stopEnds   = -3
)

func (h happening) before(o happening) bool { return h.at < o.at || h.at == o.at && h.order < o.order }

func (a *agenda) add(h happening) {
	a.added++
	h.order = a.added
	a.heap = append(a.heap, h)
	for i := len(a.heap) - 1; i > 0; {
		up := (i - 1) / 2
		if !a.heap[i].before(a.heap[up]) {
			return
		}
		a.heap[i], a.heap[up] = a.heap[up], a.heap[i]
		i = up
	}
}

func (a *agenda) next() (happening, bool) {
	if len(a.heap) == 0 {
		return happening{}, false
	}
	first, last := a.heap[0], len(a.heap)-1
	a.heap[0] = a.heap[last]
	a.heap = a.heap[:last]
	for i := 0; ; {
		least := i
		for _, down := range []int{2*i + 1, 2*i + 2} {
			if down < last && a.heap[down].before(a.heap[least]) {
				least = down
			}
		}
		if least == i {
			return first, true
		}
		a.heap[i], a.heap[least] = a.heap[least], a.heap[i]
		i = least
	}
}

// Outcome is how a workload went.
type Outcome struct {
	// Minutes are from being ready to having landed, of each change that landed, in the order of landing.
	Minutes []float64
	Ejected int
	Wrongly int // of them, those that were innocent
	Runs    int
	// Busy is for how long checks ran, all together, and Cancelled how many runs were given up.
	Busy      time.Duration
	Cancelled int
	Steps     int // of the planner
	// Given says that it was given up, since nobody waits for it any more.
	Given bool
	// Unstable says that more were in line than there may be, so that the rest was not gone through.
	Unstable bool
	Until    time.Duration // when it was
	Left     int           // that were in line at the end
}

// Quantile is the time within which a share of the changes landed, in minutes; 0: none has landed.
func (o Outcome) Quantile(share float64) float64 {
	if len(o.Minutes) == 0 {
		return 0
	}
	sorted := slices.Clone(o.Minutes)
	slices.Sort(sorted)
	return sorted[int(share*float64(len(sorted)-1))]
}

// BusyEach are the minutes of checks for each change that landed.
func (o Outcome) BusyEach() float64 { return o.Busy.Minutes() / float64(max(1, len(o.Minutes))) }
