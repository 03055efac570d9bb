package change

import (
	"slices"
	"strings"
	"testing"
)

func TestEveryCheckStateIsFinalOrNot(t *testing.T) {
	final := map[CheckState]bool{Passed: true, Failed: true, Errored: true, Skipped: true, Cancelled: true}
	for _, s := range CheckStates {
		if s.Final() != final[s] {
			t.Errorf("%s: final is %v", s, s.Final())
		}
	}
}

func TestWorstStateOfChecks(t *testing.T) {
	for _, c := range [][3]CheckState{{"", "passed", "passed"}, {"passed", "failed", "failed"}, {"failed", "running", "failed"}, {"waiting", "passed", "waiting"}, {"skipped", "passed", "passed"}, {"running", "errored", "errored"}} {
		if got := Worse(c[0], c[1]); got != c[2] || Worse(c[1], c[0]) != got {
			t.Errorf("%s and %s give %s, not %s", c[0], c[1], got, c[2])
		}
	}
	for _, s := range CheckStates {
		if !slices.Contains(badness, s) {
			t.Errorf("%s has no place in the order", s)
		}
	}
}

func TestPickedFrom(t *testing.T) {
	id, other := strings.Repeat("a", 40), strings.Repeat("b", 40)
	for message, want := range map[string]string{
		"pumps: a\n\n(cherry picked from commit " + id + ")":                                              id,
		"pumps: a\n\n(cherry picked from commit " + id + ")\n(cherry picked from commit " + other + ")\n": other,
		"pumps: a\n\nsee (cherry picked from commit " + id + ")":                                          "",
		"(cherry picked from commit " + id[:12] + ")":                                                     "",
		"pumps": "",
	} {
		if got := PickedFrom(message); got != want {
			t.Errorf("%q: %q", message, got)
		}
	}
}
