package kindtest

import (
	"tavrin/internal/core/change"
	"tavrin/internal/core/require"
)

var _ = register(Sample{
	Kind: "size", Text: "size: at most 10 lines",
	Breaks: func(f *change.Facts) { f.Added = 11 },
	Judged: []Judged{
		{"size: at most 40 lines and 3 files\nhint: split it", func(c *require.Case) { c.Added, c.Removed = 30, 11 }, require.Missing,
			"too large: 41 lines, at most 40 asked: split it"},
		{"size: at most 41 lines and 3 files", func(c *require.Case) { c.Added, c.Removed = 30, 11 }, require.Met, ""},
		{"size: at most 1 line and 1 file", func(c *require.Case) { c.Added, c.Files = 1, 1 }, require.Met, ""},
		{"size: at most 40 lines", func(c *require.Case) { c.History.Added = 41 }, require.Missing, "41 lines"},
		{"size: at most 40 lines", func(c *require.Case) { c.History.Added, c.LandsBy = 41, change.Squash }, require.Met, ""},
	},
	Differ: map[string][]string{
		"hint": {"size: at most 10 lines, hint: a", "size: at most 10 lines, hint: b"},
	},
})
