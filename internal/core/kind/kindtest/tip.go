package kindtest

import (
	"tavrin/internal/core/change"
	"tavrin/internal/core/require"
)

var _ = register(Sample{
	Kind: "tip", Text: "tip: green",
	Breaks: func(f *change.Facts) { f.RedTip = []change.Check{{Name: "lint", State: change.Failed}} },
	Judged: []Judged{
		{"tip: green", nil, require.Met, ""},
		{"tip: green", func(c *require.Case) { c.RedTip = []change.Check{{Name: "lint", State: change.Failed}} }, require.Pending, "have lint run once more"},
	},
})
