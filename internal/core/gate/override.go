package gate

import (
	"fmt"
	"slices"
	"time"

	"tavrin/internal/core/rules"
)

// Override is a decision, on record, to let one change land although named requirements do not hold. It counts for
// one revision on one tip of the target, until it expires, and for as long as whoever made it has the right to.
type Override struct {
	ID           int64     `json:"id"`
	By           string    `json:"by"`
	Because      string    `json:"because"`
	Revision     int       `json:"revision"`
	Tip          string    `json:"tip"` // of the target, when it was made
	Until        time.Time `json:"until"`
	Requirements []Named   `json:"requirements"`
}

// Named is a requirement as somebody saw it: where the rules have come to ask something else under its key, it is
// not the one that was meant.
type Named struct {
	Key   string `json:"key"`
	Title string `json:"title"`
}

// lapsed says why an override does not count for the facts; nothing when it does.
func (o Override) lapsed(f Facts) string {
	switch {
	case !f.At.Before(o.Until):
		return "it has expired"
	case o.Revision != f.Revision:
		return fmt.Sprintf("it was for revision %d, and a new one was pushed", o.Revision)
	case f.Tip != "" && o.Tip != f.Tip, f.Rehearsal != nil && o.Tip != f.Rehearsal.Base:
		return "the target has moved on since"
	}
	return ""
}

// Lapsed says why an override does not count any more; nothing when it does.
func Lapsed(o Override, f Facts) string { return o.lapsed(f) }

// MayOverride says why a person may not set a requirement aside; nothing when they may. Everybody who asks for the
// requirement has to allow it: each protection and each area that it comes from.
func MayOverride(set *rules.Set, e *rules.Effective, q Requirement, p Person) string {
	switch {
	case p.Robot:
		return "robots set nothing aside"
	case !p.Role.AtLeast(Writer):
		return fmt.Sprintf("%s may not write here", p.Login)
	case len(q.Sources) == 0:
		return fmt.Sprintf("%q is asked of every change, not by a rule", q.Title)
	}
	for _, from := range q.Sources {
		var right []rules.Principal
		if i := slices.IndexFunc(e.Protections,
			func(m rules.Matching) bool {
				return m.Source.Document == from.Document &&
					m.Name == from.Protection
			}); i >= 0 {
			right = e.Protections[i].Override
		} else if area, is := set.Area(from); is {
			right = area.Override
		}
		if !p.IsAny(right) {
			return fmt.Sprintf("%s, which asks %q, gives the right to %s", from, q.Title, list(principals(right), "or"))
		}
	}
	return ""
}

// Standing lists what a person may set aside of what a change still lacks, and why not of the rest.
type Standing struct {
	Requirement
	Why string // why they may not; empty: they may
}

// Overridable goes through what is required of a change and does not hold, for one person.
func Overridable(set *rules.Set, f Facts, login string) []Standing {
	report, j := judged(set, f)
	person := f.People[login]
	person.Login = login
	var out []Standing
	for _, q := range report.Requirements {
		if q.Level == rules.Required && !q.Holds() {
			out = append(out, Standing{q, MayOverride(j.set, j.all, q, person)})
		}
	}
	return out
}

// setAside marks what overrides set aside, among what is required and does not hold.
func (j *judge) setAside() {
	for _, o := range j.f.Overrides {
		if o.lapsed(j.f) != "" {
			continue
		}
		person := j.f.People[o.By]
		person.Login = o.By
		for i := range j.out {
			q := &j.out[i]
			named := slices.Contains(o.Requirements, Named{q.Key, q.Title})
			if !named || q.Holds() || q.Level != rules.Required || MayOverride(j.set, j.all, *q, person) != "" {
				continue
			}
			q.State, q.Who = Overridden, []string{}
			q.Next = fmt.Sprintf("set aside by %s until %s: %s; somebody else has to look at it afterwards", o.By,
				o.Until.UTC().Format("15:04 MST"), o.Because)
			if !slices.Contains(j.overrides, o.ID) {
				j.overrides = append(j.overrides, o.ID)
			}
		}
	}
}
