package kindtest

import (
	"tavrin/internal/core/change"
	"tavrin/internal/core/require"
)

var _ = register(Sample{
	Kind: "messages", Text: "messages: '^docs: '",
	Breaks: func(f *change.Facts) { f.Commits[0].Message, f.Title = "a", "a" },
	Judged: []Judged{
		{"messages: ^docs", nil, require.Missing, "not of the form ^docs"},
	},
	Differ: map[string][]string{
		"example": {"messages: '^docs: ', example: 'docs: a'", "messages: '^docs: ', example: 'docs: b'"},
	},
})
