package gate

import (
	"fmt"
	"slices"

	"tavrin/internal/core/change"
	"tavrin/internal/core/people"
	"tavrin/internal/core/require"
	"tavrin/internal/core/rules"
)

// MayWaive says why a person may not waive a requirement; nothing when they may. Everybody who asks for the
// requirement has to allow it: each protection and each area that it comes from.
func MayWaive(set *rules.Set, e *rules.Effective, q require.Outcome, p people.Person) string {
	switch {
	case p.Robot:
		return "robots waive nothing"
	case !p.Role.AtLeast(people.Writer):
		return fmt.Sprintf("%s may not write here", p.Login)
	case len(q.Sources) == 0:
		return fmt.Sprintf("%q is asked of every change, not by a rule", q.Title)
	}
	for _, from := range q.Sources {
		var right []people.Principal
		if i := slices.IndexFunc(e.Protections,
			func(m rules.Matching) bool {
				return m.Source.Document == from.Document &&
					m.Name == from.Protection
			}); i >= 0 {
			right = e.Protections[i].Waive
		} else if area, is := set.Area(from); is {
			right = area.Waive
		}
		if !p.IsAny(right) {
			return fmt.Sprintf("%s, which asks %q, gives the right to %s", from, q.Title, require.List(people.Texts(right), "or"))
		}
	}
	return ""
}

// Standing lists what a person may waive of what a change still lacks, and why not of the rest.
type Standing struct {
	require.Outcome
	Why string // why they may not; empty: they may
}

// Waivable goes through what is required of a change and does not hold, for one person.
func Waivable(set *rules.Set, f change.Facts, login string) []Standing {
	report, j := judged(set, f, false)
	person := f.People.Named(login)
	var out []Standing
	for _, q := range report.Requirements {
		if q.Level == require.Required && !q.Holds() {
			out = append(out, Standing{q, MayWaive(j.set, j.all, q, person)})
		}
	}
	return out
}

// waive marks what waivers waived, among what is required and does not hold.
func (j *judge) waive() {
	for _, o := range j.Waivers {
		if o.Lapsed(j.Facts) != "" {
			continue
		}
		person := j.People.Named(o.By)
		for i := range j.Outcomes {
			q := &j.Outcomes[i]
			named := slices.Contains(o.Requirements, change.Named{Key: q.Key, Title: q.Title})
			if !named || q.Holds() || q.Level != require.Required || MayWaive(j.set, j.all, *q, person) != "" {
				continue
			}
			q.State, q.Who, q.Lacks, q.Steps = require.Waived, []string{}, "", []require.Step{}
			q.Next = fmt.Sprintf("waived by %s until %s: %s; somebody else has to acknowledge it afterwards", o.By,
				o.Until.UTC().Format("15:04 MST"), o.Reason)
			if !slices.Contains(j.waivers, o.ID) {
				j.waivers = append(j.waivers, o.ID)
			}
		}
	}
}
