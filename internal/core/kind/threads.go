package kind

import (
	"fmt"
	"slices"

	"tavrin/internal/core/grammar"
	"tavrin/internal/core/people"
	"tavrin/internal/core/require"
)

var _ = register(require.Kind{
	Name: "threads", Group: require.OfDiscussion, Order: 1,
	Keys: []grammar.Key{
		wordKey("threads", "settled", "every discussion is settled"),
		{Path: "settled_by", Shape: grammar.Who, Means: "whose settling counts", Absent: "that of everybody who may write",
			Together: require.PartOf, Example: "settled_by: role:maintainer", Gone: "what they settled is open again"},
	},
	Judged: "every discussion",
	Gone:   "no discussion: not applicable; settled by somebody who may not any more: open again",
	New:    func() require.Ask { return &threads{} },
})

// threads asks that every discussion is settled.
type threads struct {
	by []people.Principal // who may settle one; empty: everybody who may write
}

func (t *threads) Read(r *grammar.Reader, f grammar.Field) {
	if f.Name == "settled_by" {
		t.by = r.Principals(f, false)
		return
	}
	grammar.OneOf(r, f, "settled")
}

func (t *threads) Identity() string { return grammar.Set(t.by) }

func (t *threads) Title() string {
	if len(t.by) > 0 {
		return "every discussion is settled by " + grammar.Either(grammar.Texts(t.by))
	}
	return "every discussion is settled"
}

func (t *threads) Words() string {
	if len(t.by) > 0 {
		return "every discussion is settled, by " + people.Names(t.by)
	}
	return "every discussion is settled"
}

func (t *threads) AtLeast(other require.Ask) bool {
	o := other.(*threads)
	return len(o.by) == 0 && len(t.by) == 0 || len(t.by) > 0 && grammar.Within(t.by, o.by)
}

func (t *threads) Judge(c *require.Case, q require.Sourced) {
	r := q.Outcome("threads")
	r.Need = len(c.Threads)
	if len(c.Threads) == 0 {
		r.State, r.Next = require.NotApplicable, "there is no discussion to settle"
		c.Say(r, q)
		return
	}
	may := func(p people.Person) bool { return p.IsAny(t.by) || len(t.by) == 0 && p.Role.AtLeast(people.Writer) }
	var open []string
	for _, thread := range c.Threads {
		switch {
		case thread.SettledBy == "":
			open = append(open, fmt.Sprintf("%s's on %s", thread.By, thread.Where))
		case !may(c.People[thread.SettledBy]):
			open = append(open, fmt.Sprintf("%s's on %s, which %s settled without the right to", thread.By, thread.Where,
				thread.SettledBy))
		default:
			r.Have++
		}
	}
	if len(open) > 0 {
		r.State = require.Unmet
		r.Next = fmt.Sprintf("settle %s: tavrin thread list %d", require.Few(open, "and"), c.Number)
		for login, p := range c.People {
			if may(p) && (len(t.by) > 0 || !p.Robot) {
				r.Who = append(r.Who, login)
			}
		}
		slices.Sort(r.Who)
	}
	c.Say(r, q)
}

func (t *threads) Remark(l require.Remarks, q *require.Requirement) {
	l.Principals(q.Line, l.What()+": threads are settled by", t.by)
}
