package kind

import (
	"fmt"

	"tavrin/internal/core/change"
	"tavrin/internal/core/grammar"
	"tavrin/internal/core/require"
)

var _ = register(require.Kind{
	Name: "objections", Group: require.OfReview, Order: 3, After: "after_push.objections_stay",
	Keys:   []grammar.Key{wordKey("objections", "none", "nobody's objection stands")},
	Judged: "the objections that stand",
	Gone:   "an objection of somebody without access still stands: it is waived, or they are given access again",
	New:    func() require.Ask { return objections{bare{"none", "no open objection", "nobody objects"}} },
})

// objections asks that nobody's objection stands.
type objections struct{ bare }

func (objections) Judge(c *require.Case, q require.Sourced) {
	r := q.Outcome("objections")
	for _, review := range c.Reviews {
		if review.Verdict == change.Object && c.Stands(review) {
			r.Who = append(r.Who, review.By)
		}
	}
	if r.Have = len(r.Who); r.Have > 0 {
		r.State = require.Missing
		r.Next = fmt.Sprintf("%s objects: resolve it with them; they withdraw it with tavrin review withdraw %d, or "+
			"approve", require.FewOr(r.Who), c.Number)
	}
	c.Say(r, q)
}
