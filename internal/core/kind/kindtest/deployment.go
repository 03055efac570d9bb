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
	Differ: map[string][]string{
		"healthy_for": {"deployment: field, healthy_for: 1h", "deployment: field, healthy_for: 12h"},
	},
})
