package kind

import (
	"fmt"

	"tavrin/internal/core/grammar"
	"tavrin/internal/core/people"
	"tavrin/internal/core/require"
)

var _ = register(require.Kind{
	Name: "threads", Group: require.OfDiscussion, Order: 1,
	Keys: []grammar.Key{
		wordKey("threads", "resolved", "every discussion is resolved"),
		{Path: "resolved_by", Shape: grammar.Who, Means: "whose resolving counts", Absent: "that of everybody who may write",
			Together: require.PartOf, Example: "resolved_by: role:maintainer", Gone: "what they resolved is open again"},
	},
	Judged: "every discussion",
	Gone:   "no discussion: not asked; resolved by somebody who may not any more: open again",
	New:    func() require.Ask { return &threads{} },
})

// threads asks that every discussion is resolved.
type threads struct {
	by []people.Principal // who may resolve one; empty: everybody who may write
}

func (t *threads) Read(r *grammar.Reader, f grammar.Field) {
	if f.Name == "resolved_by" {
		t.by = r.Principals(f, false)
		return
	}
	grammar.OneOf(r, f, "resolved")
}

func (t *threads) Identity() string { return grammar.Set(t.by) }

func (t *threads) Title() string {
	if len(t.by) > 0 {
		return "every discussion is resolved by " + grammar.Either(grammar.Texts(t.by))
	}
	return "every discussion is resolved"
}

func (t *threads) Words() string {
	if len(t.by) > 0 {
		return "every discussion is resolved, by " + people.Names(t.by)
	}
	return "every discussion is resolved"
}

func (t *threads) AtLeast(other require.Ask) bool {
	o := other.(*threads)
	return len(o.by) == 0 && len(t.by) == 0 || len(t.by) > 0 && grammar.Within(t.by, o.by)
}

func (t *threads) Judge(c *require.Case, q require.Sourced) {
	r := q.Outcome("threads")
	r.Need = len(c.Threads)
	if len(c.Threads) == 0 {
		r.State, r.Next = require.NotAsked, "there is no discussion to resolve"
		c.Say(r, q)
		return
	}
	may := func(p people.Person) bool { return p.IsAny(t.by) || len(t.by) == 0 && p.Role.AtLeast(people.Writer) }
	var open []string
	for _, thread := range c.Threads {
		switch {
		case thread.ResolvedBy == "":
			open = append(open, fmt.Sprintf("%s's on %s", thread.By, thread.Where))
		case !may(c.People.Named(thread.ResolvedBy)):
			open = append(open, fmt.Sprintf("%s's on %s, which %s resolved without the right to", thread.By, thread.Where,
				thread.ResolvedBy))
		default:
			r.Have++
		}
	}
	if len(open) > 0 {
		r.State = require.Missing
		r.Lacks = require.Count(len(open), "thread") + " open"
		r.Next = "resolve " + require.Few(open, "and")
		from := t.by
		if len(from) == 0 {
			from = require.Writers
		}
		for _, p := range c.People.Among(from) {
			if may(p) && (len(t.by) > 0 || !p.Robot) {
				r.Who = append(r.Who, p.Login)
			}
		}
		r.Do(require.DoResolve, c.ThisChange())
	}
	c.Say(r, q)
}

func (t *threads) Lint(l require.Lint, q *require.Requirement) {
	l.Principals(q.Line, l.What()+": threads are resolved by", t.by)
}
