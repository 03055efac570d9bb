package queue

import "math/bits"

// What the planner weighs, it weighs in imagined outcomes: in each, every entry is good or guilty, as often as it is thought
// likely. They are counted as bits, so that "all of these are good" is an and. Their number is fixed, so that what is thought
// likely of one outcome can only be taken from another.
const (
	worldWords = 4
	worldCount = worldWords * 64
)

// worlds is a set of imagined outcomes.
type worlds [worldWords]uint64

var allWorlds = worlds{^uint64(0), ^uint64(0), ^uint64(0), ^uint64(0)}

func (w worlds) count() (n int) {
	for _, x := range w {
		n += bits.OnesCount64(x)
	}
	return n
}

// share is how likely the set is.
func (w worlds) share() float64 { return float64(w.count()) / worldCount }

func (w worlds) and(v worlds) worlds {
	for i := range w {
		w[i] &= v[i]
	}
	return w
}

func (w worlds) or(v worlds) worlds {
	for i := range w {
		w[i] |= v[i]
	}
	return w
}

func (w worlds) without(v worlds) worlds {
	for i := range w {
		w[i] &^= v[i]
	}
	return w
}

func (w worlds) has(n int) bool { return w[n/64]>>(n%64)&1 == 1 }

func (w *worlds) drop(n int) { w[n/64] &^= 1 << (n % 64) }

// mix scatters a number: the finalizer of SplitMix64 (Steele, Lea and Flood, 2014). It stands for chance: the same numbers
// always fall the same way, so that a plan can be replayed, and a choice does not waver from one plan to the next.
func mix(x uint64) uint64 {
	x += 0x9e3779b97f4a7c15
	x = (x ^ x>>30) * 0xbf58476d1ce4e5b9
	x = (x ^ x>>27) * 0x94d049bb133111eb
	return x ^ x>>31
}

// scattered is a set of a given share of the worlds, chosen by a number alone.
func scattered(number uint64, share float64) (w worlds) {
	n := int(share*worldCount + 0.5)
	h := mix(number)
	a, b, c := uint8(h)|1, uint8(h>>8)|1, uint8(h>>16)
	for s := range worldCount {
		// Odd factors and shifts permute the bytes: exactly n of them fall under n.
		x := (uint8(s) + c) * a
		x ^= x >> 4
		x *= b
		x ^= x >> 3
		if int(x) < n {
			w[s/64] |= 1 << (s % 64)
		}
	}
	return w
}

// set is a set of entries of a weighing, by their index.
type set uint64

func one(i int) set             { return 1 << i }
func (s set) has(i int) bool    { return s>>i&1 == 1 }
func (s set) size() int         { return bits.OnesCount64(uint64(s)) }
func (s set) first() int        { return bits.TrailingZeros64(uint64(s)) }
func (s set) last() int         { return 63 - bits.LeadingZeros64(uint64(s)) }
func (s set) rest() set         { return s & (s - 1) } // without the first
func (s set) within(t set) bool { return s&^t == 0 }
