package kindtest

import (
	"tavrin/internal/core/change"
	"tavrin/internal/core/require"
)

var _ = register(Sample{
	Kind: "signed_off", Text: "signed_off: every commit",
	Breaks: func(f *change.Facts) { f.Commits[0].Email = "tamsin@fennmoor.example" },
	Judged: []Judged{
		{"signed_off: every commit", func(c *require.Case) { c.Commits[0].Email = "tamsin@fennmoor.example" }, require.Missing,
			"not signed off by its author tamsin@fennmoor.example"},
		{"signed_off: every commit", func(c *require.Case) {
			c.Commits[0].Email, c.Commits[0].Message = "Tamsin@fennmoor.example", "a\n\nSigned-off-by: Odo <odo@fennmoor.example>\nSigned-off-by: Tamsin <tamsin@fennmoor.example>"
		}, require.Met, ""},
		{"signed_off: every commit", func(c *require.Case) {
			c.Commits[0].Email, c.Commits[0].Message = "tamsin@fennmoor.example", "a\n\nSigned-off-by: Odo <odo@fennmoor.example>"
		}, require.Missing, "not signed off"},
	},
})
