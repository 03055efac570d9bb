package carry

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
)

func TestThrough(t *testing.T) {
	cases := []struct {
		name        string
		hunks       []Hunk
		first, last int
		want        string
	}{
		{"nothing changed", nil, 3, 5, "3-5"},
		{"inserted before", []Hunk{{OldStart: 0, New: 4}}, 3, 5, "7-9"},
		{"inserted right before", []Hunk{{OldStart: 2, New: 1}}, 3, 5, "4-6"},
		{"inserted right after", []Hunk{{OldStart: 5, New: 1}}, 3, 5, "3-5"},
		{"inserted within", []Hunk{{OldStart: 3, New: 1}}, 3, 5, "gone"},
		{"removed before", []Hunk{{OldStart: 1, Old: 2}}, 3, 5, "1-3"},
		{"removed after", []Hunk{{OldStart: 6, Old: 2}}, 3, 5, "3-5"},
		{"changed within", []Hunk{{OldStart: 4, Old: 1, New: 1}}, 3, 5, "gone"},
		{"changed at its edge", []Hunk{{OldStart: 5, Old: 3, New: 1}}, 3, 5, "gone"},
		{"several", []Hunk{{OldStart: 1, Old: 1, New: 3}, {OldStart: 2, New: 2}, {OldStart: 9, Old: 1}}, 3, 5, "7-9"},
		{"one line, inserted after it", []Hunk{{OldStart: 3, New: 2}}, 3, 3, "3-3"},
	}
	for _, c := range cases {
		first, last, ok := Through(c.hunks, c.first, c.last)
		got := "gone"
		if ok {
			got = fmt.Sprintf("%d-%d", first, last)
		}
		if got != c.want {
			t.Errorf("%s: %s, want %s", c.name, got, c.want)
		}
	}
}

// Carried lines hold the same text as before, and lines that were left alone are always carried.
func TestCarriedLinesAreTheSame(t *testing.T) {
	rng := rand.New(rand.NewPCG(21, 22))
	carried := 0
	for range 5000 {
		var old []string
		for i := range 1 + rng.IntN(12) {
			old = append(old, fmt.Sprint("line ", i))
		}
		var hunks []Hunk
		var now []string
		touched := make([]bool, len(old)+2) // by number; an insertion touches the gap after a line
		gap := make([]bool, len(old)+2)
		for n := 0; n <= len(old); {
			if n > 0 {
				now = append(now, old[n-1])
			}
			n++
			if rng.IntN(4) > 0 {
				continue
			}
			h := Hunk{Old: rng.IntN(min(3, len(old)-n+2)), New: rng.IntN(3)}
			if h.Old > len(old)-n+1 || h.Old+h.New == 0 {
				continue
			}
			h.OldStart = n
			if h.Old == 0 {
				h.OldStart = n - 1
				gap[n-1] = true
			}
			for i := range h.Old {
				touched[n+i] = true
			}
			for i := range h.New {
				now = append(now, fmt.Sprint("new ", rng.Int(), i))
			}
			hunks = append(hunks, h)
			n += h.Old
			if n <= len(old) { // hunks do not touch each other
				now = append(now, old[n-1])
				n++
			}
		}
		first := 1 + rng.IntN(len(old))
		last := first + rng.IntN(len(old)-first+1)
		alone := true
		for i := first; i <= last; i++ {
			alone = alone && !touched[i] && (i == last || !gap[i])
		}
		a, b, ok := Through(hunks, first, last)
		if ok != alone {
			t.Fatalf("lines %d to %d through %+v: carried %v, left alone %v", first, last, hunks, ok, alone)
		}
		if ok {
			carried++
			if b > len(now) || !slices.Equal(old[first-1:last], now[a-1:b]) {
				t.Fatalf("lines %d to %d became %d to %d through %+v:\n%q\n%q", first, last, a, b, hunks, old, now)
			}
		}
	}
	if carried < 500 {
		t.Errorf("only %d ranges were carried: the test says little", carried)
	}
}

func ExampleThrough() {
	fmt.Println(Through([]Hunk{{OldStart: 0, New: 2}}, 7, 9))
	// Output: 9 11 true
}
