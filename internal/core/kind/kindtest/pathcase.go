package kindtest

import (
	"tavrin/internal/core/change"
	"tavrin/internal/core/require"
)

var _ = register(Sample{
	Kind: "case", Text: "case: exact",
	Breaks: func(f *change.Facts) { f.Paths = []string{"Valves/a"} },
	Judged: []Judged{
		{"case: exact", func(c *require.Case) { c.Nearly = func(string) (string, bool) { return "valves", true } }, require.Missing,
			"valves/a.c (area valves)"},
	},
})
