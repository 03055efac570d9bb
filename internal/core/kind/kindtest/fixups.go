package kindtest

import (
	"tavrin/internal/core/change"
	"tavrin/internal/core/require"
)

var _ = register(Sample{
	Kind: "fixups", Text: "fixups: none",
	Breaks: func(f *change.Facts) { f.Commits[0].Message = "fixup! docs: a" },
	Judged: []Judged{
		{"fixups: none", func(c *require.Case) { c.Commits[0].Message = "fixup! a" }, require.Missing, "fold what is left"},
		{"fixups: none", func(c *require.Case) { c.Commits[0].Message, c.LandsBy = "fixup! a", change.Squash }, require.NotAsked, "squash leaves one commit"},
	},
})
