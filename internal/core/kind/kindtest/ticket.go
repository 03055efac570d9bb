package kindtest

import (
	"tavrin/internal/core/change"
	"tavrin/internal/core/require"
)

var _ = register(Sample{
	Kind: "ticket", Text: "ticket: 'FEN-[0-9]+'",
	Breaks: func(f *change.Facts) {},
	Judged: []Judged{
		{"ticket: FEN-[0-9]+", func(c *require.Case) { c.Source = "FEN-4" }, require.Met, ""},
		{"ticket: FEN-[0-9]+\nin: title", func(c *require.Case) { c.Source = "FEN-4" }, require.Missing, "name the ticket in the title"},
	},
	Differ: map[string][]string{
		"in":   {"ticket: 'FEN-1', in: title", "ticket: 'FEN-1', in: commits"},
		"link": {"ticket: 'FEN-1', link: 'https://a.example/{ticket}'", "ticket: 'FEN-1', link: 'https://b.example/{ticket}'"},
	},
})
