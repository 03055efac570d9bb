package condition

import (
	"strings"
	"testing"
)

func TestBounds(t *testing.T) {
	for _, c := range []struct {
		b    Bound
		says string
		in   []int
		out  []int
	}{
		{Unbounded, "", []int{0, 1, 1 << 30}, nil}, {Bound{400, -1}, "over 400", []int{401}, []int{0, 400}},
		{Bound{-1, 10}, "under 10", []int{0, 9}, []int{10}}, {Bound{10, 100}, "over 10, under 100", []int{11, 99}, []int{10, 100}},
	} {
		if c.b.String() != c.says {
			t.Errorf("%v says %q", c.b, c.b)
		}
		for _, n := range c.in {
			if !c.b.Holds(n) {
				t.Errorf("%d is not %s", n, c.b)
			}
		}
		for _, n := range c.out {
			if c.b.Holds(n) {
				t.Errorf("%d is %s", n, c.b)
			}
		}
	}
}

// A condition of a house knows of the house's areas and labels alone.
func TestAHouseKnowsItsOwn(t *testing.T) {
	b := Brought{Areas: []Touched{{Name: "valves"}, {Name: "docs", OfHouse: true}}, Labels: []string{"urgent"}}
	own := &Condition{Areas: []string{"valves"}, Lines: Unbounded, Files: Unbounded}
	house := *own
	house.OfHouse = true
	if holds, _ := own.Holds(b); !holds {
		t.Error("a repository's condition does not know its area")
	}
	if holds, _ := house.Holds(b); holds {
		t.Error("a house's condition knows a repository's area")
	}
	if own.Identity() == house.Identity() {
		t.Error("they are taken for one")
	}
	if got := own.Words(); !strings.Contains(got, "valves is touched") {
		t.Error(got)
	}
}
