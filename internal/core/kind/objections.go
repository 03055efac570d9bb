package kind

import (
	"slices"

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
	c.OfObjections()
	for _, review := range c.Reviews {
		if review.Verdict == change.Object && c.Stands(review) {
			r.Who = append(r.Who, review.By)
		}
	}
	if r.Have = len(r.Who); r.Have > 0 {
		r.State = require.Missing
		slices.Sort(r.Who)
		r.Lacks = require.Few(r.Who, "and") + " objects"
		if r.Have > 1 {
			r.Lacks = require.Few(r.Who, "and") + " object"
		}
		r.Next = "talk it over with them; it ends when they withdraw it or approve"
		r.Do(require.DoWithdraw, c.ThisChange())
	}
	c.Say(r, q)
}
