// Package kindtest is what tests know of each kind of requirement, in a file of its own: a change that breaks it, how it
// judges, and what the keys that stand beside it make different. It is for tests alone. Whoever adds a kind adds one file
// here, and the tests of kinds, of pushes and of the reference's tables take it in.
package kindtest

import (
	"strings"
	"time"

	"tavrin/internal/core/change"
	"tavrin/internal/core/people"
	"tavrin/internal/core/require"
)

// Sample is one kind.
type Sample struct {
	Kind string
	// Text is how one is written that Breaks breaks, of a change that is well by itself.
	Text   string
	Breaks func(f *change.Facts)
	Judged []Judged
	// Differ has, for each key that stands beside the kind, requirements that differ in it alone.
	Differ map[string][]string
	// Gone has, for each key that names somebody or something, a requirement that names what is gone, and one that does what
	// it then does.
	Gone map[string][2]string
}

// Judged is a requirement, what a change is like, and what the gate says of it.
type Judged struct {
	Text  string
	Alter func(c *require.Case) // nil: the change is as Opened has it
	State require.State
	Next  string // a part of it
}

// Samples has one for each kind, by its name.
var Samples = map[string]Sample{}

func register(s Sample) bool {
	Samples[s.Kind] = s
	return true
}

// Approved adds an approval.
func Approved(by string, revision int) func(*require.Case) {
	return func(c *require.Case) {
		c.Reviews = append(c.Reviews, change.Review{By: by, Verdict: change.Approve, Revision: revision})
	}
}

// Town is who there is.
var Town = people.Known(map[string]people.Person{
	"tamsin": {Login: "tamsin", Role: people.Writer}, "odo": {Login: "odo", Role: people.Writer, Teams: []string{"hydraulics"}},
	"ines": {Login: "ines", Role: people.Maintainer}, "barn": {Login: "barn", Role: people.Writer, Robot: true},
})

// Noon is when changes are judged.
var Noon = time.Date(2026, 3, 3, 12, 0, 0, 0, time.UTC)

// Opened is a case of an ordinary change.
func Opened() *require.Case {
	define := func(name string) require.Check { return require.Check{Name: name, Timeout: require.DefaultAnswer} }
	return &require.Case{
		Facts: change.Facts{Repository: "growers/irrigation", Number: 7, State: "open", Title: "valves: open slowly", Target: "main",
			Source: "topic", Revision: 2, Authors: []string{"tamsin"}, People: Town, Paths: []string{"valves/a.c"}, Files: 1,
			Commits: []change.Commit{{ID: strings.Repeat("a", 40), Message: "valves: open slowly", Parents: 1}}},
		Settings: require.Settings{ApprovalsStay: require.StayIfUnchanged, ObjectionsStay: require.StayAlways,
			Allowed: change.Strategies, LandsBy: change.Rebase, Final: func() string { return "valves: open slowly" }},
		Define: define, Nearly: func(string) (string, bool) { return "", false },
	}
}
