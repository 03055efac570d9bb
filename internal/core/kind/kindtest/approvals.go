package kindtest

import (
	"time"

	"tavrin/internal/core/change"
	"tavrin/internal/core/require"
)

var _ = register(Sample{
	Kind: "approvals", Text: "approvals: 1",
	Breaks: func(f *change.Facts) {},
	Judged: []Judged{
		{"approvals: 1", nil, require.Missing, "ines or odo could give it"},
		{"approvals: 1", Approved("odo", 2), require.Met, ""},
		{"approvals: 1", Approved("tamsin", 2), require.Missing, "an author of the change"},
		{"approvals: 1\nown: counts", Approved("tamsin", 2), require.Met, ""},
		{"approvals: 1", Approved("odo", 1), require.Missing, "the difference has changed since"},
		{"approvals: 1\nfrom: team:hydraulics", Approved("ines", 2), require.Missing, "odo could give it"},
		{"approvals: 1\nmax_age: 24h", func(c *require.Case) {
			Approved("odo", 2)(c)
			c.At, c.Reviews[0].At = Noon, Noon.Add(-25*time.Hour)
		}, require.Missing, "odo approved 25h ago, and an approval counts for 24h"},
		{"approvals: 1\nmax_age: 24h", func(c *require.Case) {
			Approved("odo", 2)(c)
			c.At, c.Reviews[0].At = Noon, Noon.Add(-24*time.Hour)
		}, require.Met, ""},
	},
	Differ: map[string][]string{
		"from":     {"approvals: 1, from: team:accounts", "approvals: 1, from: person:odo"},
		"not_from": {"approvals: 3, not_from: last_pusher", "approvals: 3, not_from: author"},
		"own":      {"approvals: 4, own: counts", "approvals: 4, own: does_not_count"},
		"on":       {"approvals: 3, on: newest_revision", "approvals: 3"},
	},
	Gone: map[string][2]string{
		"from": {"approvals: 1, from: team:gone", "approvals: 20"},
	},
})
