package kindtest

import (
	"tavrin/internal/core/change"
	"tavrin/internal/core/require"
)

var _ = register(Sample{
	Kind: "already_on", Text: "already_on: dev",
	Breaks: func(f *change.Facts) {},
	Judged: []Judged{
		{"already_on: main", nil, require.Missing, "land it on main first"},
		{"already_on: main", func(c *require.Case) { c.Commits[0].On = []string{"dev", "main"} }, require.Met, ""},
		{"already_on: release/*", func(c *require.Case) { c.Commits[0].On = []string{"main"} }, require.Missing, "on release/* first"},
	},
})
