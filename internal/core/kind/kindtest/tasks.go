package kindtest

import (
	"tavrin/internal/core/change"
	"tavrin/internal/core/require"
)

var _ = register(Sample{
	Kind: "tasks", Text: "tasks: done",
	Breaks: func(f *change.Facts) { f.Description = "- [ ] tried" },
	Judged: []Judged{
		{"tasks: done", func(c *require.Case) { c.Description = "- [x] a\n- [ ] b" }, require.Missing, `still to do: "b"`},
	},
})
