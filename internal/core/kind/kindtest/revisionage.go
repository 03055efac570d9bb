package kindtest

import (
	"time"

	"tavrin/internal/core/change"
	"tavrin/internal/core/require"
)

var _ = register(Sample{
	Kind: "revision_age", Text: "revision_age: 4h",
	Breaks: func(f *change.Facts) { f.PushedAt = f.At.Add(-time.Hour) },
	Judged: []Judged{
		{"revision_age: 4h", func(c *require.Case) { c.At, c.PushedAt = Noon, Noon.Add(-time.Hour) }, require.Pending,
			"goes on by itself at 2026-03-03 15:00 UTC"},
		{"revision_age: 4h", func(c *require.Case) { c.At, c.PushedAt = Noon, Noon.Add(-4*time.Hour) }, require.Met, ""},
	},
})
