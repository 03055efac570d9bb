package kind

import (
	"tavrin/internal/core/grammar"
	"tavrin/internal/core/require"
)

var _ = register(require.Kind{
	Name: "owners", Group: require.OfReview, Order: 2, After: "after_push.approvals_stay",
	Keys:   []grammar.Key{wordKey("owners", "every touched area", "one owner's approval of each touched area")},
	Judged: "every area that a path which comes lies in",
	Gone:   "no area touched: not asked; an area without anybody left: it cannot be met, and the gate says so",
	New: func() require.Ask {
		return owners{bare{"every touched area", "an owner of every touched area", "an owner of every touched area approves"}}
	},
})

// owners asks for an owner's approval of every touched area.
type owners struct{ bare }

func (owners) Judge(c *require.Case, q require.Sourced) {
	if len(c.Touched) == 0 {
		r := q.Outcome("owners")
		r.State, r.Next = require.NotAsked, "the change touches no area"
		c.Say(r, q)
		return
	}
	for _, t := range c.Touched {
		c.OwnersOf(t, 1, c.ApprovalsStay, q.Level, q.From)
	}
}

func (owners) Lint(l require.Lint, q *require.Requirement) {
	if !l.HasAreas() {
		l.Note(q.Line, "define areas, or leave it out", "%s: owners are asked for, and there are no areas", l.What())
	}
}
