package kind

import (
	"fmt"

	"tavrin/internal/core/grammar"
	"tavrin/internal/core/require"
)

var _ = register(require.Kind{
	Name: "tip", Group: require.OfChecks, Order: 9, OfTip: true,
	Keys:   []grammar.Key{wordKey("tip", "green", "no check that rules want on the branch's tip (on_tip) has failed there: while one has, the queue holds")},
	Judged: "the checks that failed on the target's tip as it is; one that has no answer yet holds up nothing",
	Gone:   "no check is wanted on the tip: it is met",
	New: func() require.Ask {
		return greenTip{bare{"green", "the branch's tip is green", "nothing lands while a check has failed on the branch's tip"}}
	},
})

// greenTip asks that no check has failed on the target's tip. It holds up the landing alone: what is ready goes on being rehearsed.
type greenTip struct{ bare }

func (greenTip) Judge(c *require.Case, q require.Sourced) {
	r := q.Outcome("tip")
	r.At = "rehearsal"
	if len(c.RedTip) > 0 {
		red := c.RedTip[0]
		r.State, r.Who = require.Pending, c.Maintainers()
		r.Lacks = fmt.Sprintf("%s is red: %s %s on its tip", c.Target, red.Name, red.State)
		r.Next = fmt.Sprintf("have %s run once more (tavrin check rerun), undo what broke it (tavrin change undo), or land what mends it by a waiver", red.Name)
	}
	c.Say(r, q)
}
