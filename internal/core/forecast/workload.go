// Package forecast says how a queue would do: it runs the very planner of core/queue on made-up work, and holds it against an
// oracle that knows beforehand which changes are good.
//
// A workload says how changes come, how often they are guilty, conflict or are unlucky, and how long checks take. From a seed it
// makes the same changes each time, and the same fortune for each rehearsal. Building and landing take no time here; what a queue
// is made to wait for are its checks.
//
// The package is pure: time is a number, and chance comes of the seed.
package forecast

import (
	"cmp"
	"math"
	"slices"
	"strconv"
	"time"

	"tavrin/internal/core/queue"
)

// Workload is what a queue has to deal with.
type Workload struct {
	Name string
	// PerHour is how many changes come in an hour at some time from the beginning; Most is its highest value.
	PerHour func(at time.Duration) float64
	Most    float64
	Length  time.Duration // for how long changes come
	// Guilty is the share of changes that are red by themselves, Conflicting that of the pairs of changes that touch the same, and
	// are in line at the same time, of which the later one is red on the other. Flaky is the share of runs that are red by nobody's
	// fault.
	Guilty, Conflicting, Flaky float64
	// Areas is how many areas there are; each change touches one to three of them, the first the most often (by Zipf's law).
	Areas int
	// Median and Spread are of how long the checks of a rehearsal take: their logarithm is normal, Spread its standard deviation.
	Median time.Duration
	Spread float64

	// Came is what came, where that is known; Times as often as that. PerHour, Guilty and Areas are of no account then. Took is how long
	// checks took: each time one of these.
	Came  []Arrival
	Times float64
	Took  []time.Duration
	// Stops are times at which nothing lands, in order.
	Stops []Span

	Settings queue.Settings
}

// Arrival is a change that came.
type Arrival struct {
	At      time.Duration // it was ready, from the beginning
	Guilty  bool
	Touches queue.Touched
	Author  string
	Lines   int
}

// Span is a part of the time that is gone through.
type Span struct{ From, To time.Duration }

// change is one change of a workload.
type change struct {
	at        time.Duration // it is ready
	guilty    bool
	touches   queue.Touched
	areas     uint64
	conflicts []int // changes that it does not go together with
	over      bool  // it has landed, or was ejected
	author    string
	lines     int
}

// changes makes the changes of a workload, in the order in which they come.
func (w Workload) changes(seed uint64) []*change {
	chance := source(seed*0x9e3779b1 + 1)
	if len(w.Came) > 0 {
		return w.again(&chance)
	}
	weights, sum := make([]float64, w.Areas), 0.0
	for i := range weights {
		sum += 1 / float64(i+1)
		weights[i] = sum
	}
	var out []*change
	for at := time.Duration(0); ; {
		at += time.Duration(-math.Log(1-chance.fraction()) * float64(time.Hour) / w.Most)
		if at > w.Length {
			return out
		}
		comes := chance.fraction() < w.PerHour(at)/w.Most
		c := &change{at: at, guilty: chance.fraction() < w.Guilty}
		for range 1 + int(chance.fraction()*3) {
			k, u := 0, chance.fraction()*sum
			for weights[k] < u {
				k++
			}
			if c.areas>>k&1 == 0 {
				c.areas |= 1 << k
				c.touches.Areas = append(c.touches.Areas, strconv.Itoa(k))
			}
		}
		if comes {
			out = append(out, c)
		}
	}
}

// again makes what came again, as often as is asked for: each change once at its time, and what there is to be more of it at other times
// near by.
func (w Workload) again(chance *source) []*change {
	const near = 4 * time.Hour
	areas := areaBits{}
	var out []*change
	for _, a := range w.Came {
		c := change{at: a.At, guilty: a.Guilty, touches: a.Touches, areas: areas.of(a.Touches), author: a.Author, lines: a.Lines}
		for k := w.Times; k > 0; k-- {
			if k < 1 && chance.fraction() >= k {
				break
			}
			one := c
			if k != w.Times {
				one.at = min(max(0, one.at+time.Duration((chance.fraction()-.5)*float64(near))), w.Length)
			}
			out = append(out, &one)
		}
	}
	slices.SortStableFunc(out, func(a, b *change) int { return cmp.Compare(a.at, b.at) })
	return out
}

// areaBits gives each area a bit, so that of two changes that touch the same, some are the same. Of more than 64 areas, several share
// one.
type areaBits map[string]uint64

// of are the bits of a part of the tree; of what nobody knows, all.
func (b areaBits) of(t queue.Touched) (bits uint64) {
	for _, area := range t.Areas {
		if b[area] == 0 {
			b[area] = 1 << (len(b) % 64)
		}
		bits |= b[area]
	}
	if t.Everywhere || bits == 0 {
		return math.MaxUint64
	}
	return bits
}

// conflict says whether two changes do not go together.
func (w Workload) conflict(all []*change, seed uint64, a, b int) bool {
	return all[a].areas&all[b].areas != 0 && fortune(seed, 1, min(a, b), max(a, b)) < w.Conflicting
}

// free is the time from which things land again, or that itself.
func (w Workload) free(at time.Duration) time.Duration {
	for _, x := range w.Stops {
		if x.From <= at && at < x.To {
			return x.To
		}
	}
	return at
}

// takes is how long the checks of a run take.
func (w Workload) takes(seed uint64, run int) time.Duration {
	chance := source(seed ^ uint64(run)*0xbf58476d1ce4e5b9)
	if len(w.Took) > 0 {
		chance.next()
		return w.Took[int(chance.fraction()*float64(len(w.Took)))]
	}
	normal := math.Sqrt(-2*math.Log(1-chance.fraction())) * math.Cos(2*math.Pi*chance.fraction()) // Box and Muller, 1958
	return time.Duration(float64(w.Median) * math.Exp(w.Spread*normal))
}

// source is a source of numbers that look like chance: SplitMix64 (Steele, Lea and Flood, 2014).
type source uint64

func (s *source) next() uint64 {
	*s += 0x9e3779b97f4a7c15
	x := uint64(*s)
	x = (x ^ x>>30) * 0xbf58476d1ce4e5b9
	x = (x ^ x>>27) * 0x94d049bb133111eb
	return x ^ x>>31
}

// fraction is the next number, from 0 to below 1.
func (s *source) fraction() float64 { return float64(s.next()>>11) / (1 << 53) }

// fortune is a fraction that depends on nothing but the numbers given.
func fortune(seed uint64, of ...int) float64 {
	s := source(seed)
	for _, n := range of {
		s = source(uint64(s) ^ uint64(n+1)*0xd1342543de82ef95)
		s = source(s.next())
	}
	return s.fraction()
}
