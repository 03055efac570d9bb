package kindtest

import (
	"tavrin/internal/core/change"
	"tavrin/internal/core/require"
)

var _ = register(Sample{
	Kind: "queued_by", Text: "queued_by: not an author",
	Breaks: func(f *change.Facts) { f.Asker = "tamsin" },
	Judged: []Judged{
		{"queued_by: not an author", nil, require.NotAsked, "no author may"},
		{"queued_by: not an author", func(c *require.Case) { c.Asker = "tamsin" }, require.Missing, "has to join"},
		{"queued_by: not an author", func(c *require.Case) { c.Asker = "odo" }, require.Met, ""},
	},
})
