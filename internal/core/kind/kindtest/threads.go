package kindtest

import (
	"tavrin/internal/core/change"
	"tavrin/internal/core/require"
)

var _ = register(Sample{
	Kind: "threads", Text: "threads: resolved",
	Breaks: func(f *change.Facts) { f.Threads = []change.Thread{{ID: 1, By: "odo", Where: "the change"}} },
	Judged: []Judged{
		{"threads: resolved", func(c *require.Case) { c.Threads = []change.Thread{{By: "odo", Where: "the change"}} }, require.Missing,
			"resolve odo's on the change"},
	},
	Differ: map[string][]string{
		"resolved_by": {"threads: resolved, resolved_by: team:accounts", "threads: resolved, resolved_by: person:odo"},
	},
	Gone: map[string][2]string{
		"resolved_by": {"threads: resolved, resolved_by: team:gone", "threads: resolved, resolved_by: person:gone"},
	},
})
