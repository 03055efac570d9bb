package kindtest

import (
	"tavrin/internal/core/change"
	"tavrin/internal/core/require"
)

var _ = register(Sample{
	Kind: "checks", Text: "checks: unit",
	Breaks: func(f *change.Facts) { f.Rehearsal.Checks[0].State = change.Failed },
	Judged: []Judged{
		{"checks: unit", nil, require.Pending, "when the queue rehearses the change"},
		{"checks: unit\nat: head", func(c *require.Case) { c.HeadChecks = []change.Check{{Name: "unit", State: change.Failed}} },
			require.Missing, "unit failed"},
	},
	Differ: map[string][]string{
		"at":          {"checks: unit, at: head", "checks: unit, at: rehearsal"},
		"max_age":     {"checks: unit, max_age: 1h", "checks: unit, max_age: 12h"},
		"at_least":    {"checks: [unit, lint], at_least: 1", "checks: [unit, lint], at_least: 2"},
		"skipped":     {"checks: unit, skipped: counts", "checks: unit, skipped: does_not_count"},
		"reported_by": {"checks: unit, reported_by: robot:barn", "checks: unit, reported_by: robot:other"},
	},
	Gone: map[string][2]string{
		"reported_by": {"checks: unit, reported_by: robot:gone", "approvals: 20"},
	},
})
