package kindtest

import (
	"tavrin/internal/core/change"
	"tavrin/internal/core/people"
	"tavrin/internal/core/require"
)

var _ = register(Sample{
	Kind: "owners", Text: "owners: every touched area",
	Breaks: func(f *change.Facts) {},
	Judged: []Judged{
		{"owners: every touched area", nil, require.NotAsked, "touches no area"},
		{"owners: every touched area", func(c *require.Case) {
			c.Touched = []require.Area{{Name: "valves", Owners: []people.Principal{{Kind: people.ByTeam, Name: "hydraulics"}}}}
		}, require.Missing, "odo could give it"},
		{"owners: every touched area\nnot_from: last_pusher", func(c *require.Case) {
			Approved("odo", 2)(c)
			c.Touched = []require.Area{{Name: "valves", Owners: []people.Principal{{Kind: people.ByTeam, Name: "hydraulics"}}}}
			c.LastPusher = "odo"
		}, require.Missing, "odo's approval does not count: the last to push"},
	},
})
