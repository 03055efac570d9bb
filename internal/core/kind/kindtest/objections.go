package kindtest

import (
	"tavrin/internal/core/change"
	"tavrin/internal/core/require"
)

var _ = register(Sample{
	Kind: "objections", Text: "objections: none",
	Breaks: func(f *change.Facts) { f.Reviews = []change.Review{{By: "odo", Verdict: change.Object, Revision: 1}} },
	Judged: []Judged{
		{"objections: none", func(c *require.Case) {
			c.Reviews = []change.Review{{By: "odo", Verdict: change.Object, Revision: 1}}
		}, require.Missing, "odo objects"},
	},
})
