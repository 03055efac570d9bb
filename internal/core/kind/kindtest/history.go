package kindtest

import (
	"tavrin/internal/core/change"
	"tavrin/internal/core/require"
)

var _ = register(Sample{
	Kind: "history", Text: "history: linear",
	Breaks: func(f *change.Facts) { f.Commits[0].Parents = 2 },
	Judged: []Judged{
		{"history: linear", func(c *require.Case) { c.LandsBy = change.Merge }, require.Missing, "land by rebase, squash, fold or fast-forward"},
	},
})
