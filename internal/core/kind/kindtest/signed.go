package kindtest

import (
	"tavrin/internal/core/change"
	"tavrin/internal/core/require"
)

var _ = register(Sample{
	Kind: "signed", Text: "signed: every commit",
	Breaks: func(f *change.Facts) { f.Commits[0].Signature = change.Signature{} },
	Judged: []Judged{
		{"signed: every commit", nil, require.Missing, "is not signed"},
	},
})
