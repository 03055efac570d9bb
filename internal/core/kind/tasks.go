package kind

import (
	"fmt"

	"tavrin/internal/core/grammar"
	"tavrin/internal/core/require"
)

var _ = register(require.Kind{
	Name: "tasks", Group: require.OfDiscussion, Order: 2, ByDescription: true,
	Keys:   []grammar.Key{wordKey("tasks", "done", "every box of the description's checklist (- [ ] …) is ticked")},
	Judged: "the boxes of the description as it is now", Gone: "no checklist: not asked",
	New: func() require.Ask {
		const text = "every task of the description is done"
		return tasks{bare{"done", text, text}}
	},
})

// tasks asks that every box of the description is ticked.
type tasks struct{ bare }

func (tasks) Judge(c *require.Case, q require.Sourced) {
	all, open := c.Tasks()
	r := q.Outcome("tasks")
	r.Have, r.Need = all-len(open), all
	switch {
	case all == 0:
		r.State, r.Next = require.NotAsked, "the description has no checklist"
	case len(open) > 0:
		r.State, r.Who = require.Missing, c.Authors
		r.Lacks = require.Count(len(open), "task") + " of the description not done"
		r.Next = fmt.Sprintf("still to do: %s; tick what is done in the description", require.Few(quoted(open), "and"))
		r.Do(require.DoEditDescription, c.ThisChange())
	}
	c.Say(r, q)
}

func quoted(texts []string) []string {
	out := make([]string, len(texts))
	for i, t := range texts {
		if runes := []rune(t); len(runes) > 60 {
			t = string(runes[:60]) + "…"
		}
		out[i] = fmt.Sprintf("%q", t)
	}
	return out
}
