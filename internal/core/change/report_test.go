package change

import (
	"math/rand/v2"
	"testing"
)

func TestRollUp(t *testing.T) {
	for _, c := range []struct {
		parts []CheckState
		of    int
		want  CheckState
		words string
	}{
		{nil, 2, Running, "0 of 2 parts have ended: "},
		{[]CheckState{Failed}, 2, Running, "1 of 2 parts have ended: 1 failed"},
		{[]CheckState{Passed, Running, Waiting}, 3, Running, "1 of 3 parts have ended: 1 passed, 1 running, 1 waiting"},
		{[]CheckState{Passed, Passed}, 2, Passed, "2 parts: 2 passed"},
		{[]CheckState{Passed, Skipped}, 2, Skipped, "2 parts: 1 skipped, 1 passed"},
		{[]CheckState{Passed, Failed, Errored}, 3, Errored, "3 parts: 1 errored, 1 failed, 1 passed"},
		{[]CheckState{Cancelled, Skipped}, 2, Cancelled, "2 parts: 1 cancelled, 1 skipped"},
	} {
		if got, words := RollUp(c.parts, c.of); got != c.want || words != c.words {
			t.Errorf("%v of %d are %s, %q; want %s, %q", c.parts, c.of, got, words, c.want, c.words)
		}
	}
}

// Whatever the order, the whole has passed exactly when every part has (P8).
func TestP8PartsPassTogether(t *testing.T) {
	for range 2000 {
		parts := make([]CheckState, 1+rand.IntN(5))
		all := true
		for i := range parts {
			parts[i] = CheckStates[rand.IntN(len(CheckStates))]
			all = all && parts[i] == Passed
		}
		first, words := RollUp(parts, len(parts))
		rand.Shuffle(len(parts), func(i, j int) { parts[i], parts[j] = parts[j], parts[i] })
		second, again := RollUp(parts, len(parts))
		if (first == Passed) != all || first != second || words != again {
			t.Fatalf("%v are %s (%s) and %s (%s)", parts, first, words, second, again)
		}
	}
}

// A change takes back what it was prepared to as long as it brings that and nothing on the way.
func TestPrepared(t *testing.T) {
	p := Prepared{Undoes: 4, Commit: "a"}
	for _, c := range []struct {
		of     Prepared
		head   string
		same   []int
		hidden []string
		want   int
	}{
		{p, "a", nil, nil, 4}, {p, "b", []int{1}, nil, 4}, {p, "b", []int{1, 2}, nil, 4}, {p, "b", nil, nil, 0}, {p, "b", []int{2}, nil, 0},
		{p, "b", []int{1}, []string{"secret"}, 0}, {p, "a", nil, []string{"secret"}, 0}, {Prepared{}, "a", []int{1}, nil, 0}, {Prepared{}, "", nil, nil, 0},
	} {
		if got := c.of.Still(c.head, c.same, c.hidden); got != c.want {
			t.Errorf("%+v: %d", c, got)
		}
	}
}
