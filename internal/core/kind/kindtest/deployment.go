package kindtest

import (
	"tavrin/internal/core/change"
	"tavrin/internal/core/require"
)

var _ = register(Sample{
	Kind: "deployment", Text: "deployment: field",
	Breaks: func(f *change.Facts) {},
	Judged: []Judged{
		{"deployment: field\nat: head", nil, require.Pending, "no check deploys to field"},
	},
})
