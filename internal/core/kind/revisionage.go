package kind

import (
	"fmt"
	"time"

	"tavrin/internal/core/grammar"
	"tavrin/internal/core/require"
)

var _ = register(require.Kind{
	Name: "revision_age", Group: require.OfChange, Order: 1,
	Keys: []grammar.Key{{Path: "revision_age", Shape: grammar.Duration, High: 720,
		Means:  "the newest revision has been there for that long: from 1m to 720h, so that others can look at it",
		Absent: "-", Together: require.Conjunction, Example: "revision_age: 24h"}},
	Judged: "the time since the newest revision came, whatever it changed", Gone: "-",
	New: func() require.Ask { return &revisionAge{} },
})

// revisionAge asks that the newest revision has been there for some time.
type revisionAge struct{ least time.Duration }

func (a *revisionAge) Read(r *grammar.Reader, f grammar.Field) {
	a.least = r.Duration(f, time.Minute, 720*time.Hour, "4h or 24h")
}

func (a *revisionAge) Identity() string { return a.least.String() }

func (a *revisionAge) Title() string {
	return "the newest revision is " + grammar.Brief(a.least) + " old"
}

func (a *revisionAge) Words() string {
	return "the newest revision has been there for " + grammar.Brief(a.least)
}

func (a *revisionAge) AtLeast(other require.Ask) bool { return a.least >= other.(*revisionAge).least }

// Ages is true: it is met by the passing of time.
func (a *revisionAge) Ages() bool { return true }

func (a *revisionAge) Judge(c *require.Case, q require.Sourced) {
	r := q.Outcome("revision_age")
	if until := c.PushedAt.Add(a.least); !c.PushedAt.IsZero() && c.At.Before(until) {
		left := until.Sub(c.At).Round(time.Minute)
		if left < time.Minute {
			left = time.Minute
		}
		r.State = require.Pending
		r.Lacks = fmt.Sprintf("revision %d too new, for %s more", c.Revision, grammar.Brief(left))
		r.Next = fmt.Sprintf("it goes on by itself at %s: a new revision waits for %s", until.UTC().Format("2006-01-02 15:04 MST"),
			grammar.Brief(a.least))
	}
	c.Say(r, q)
}
