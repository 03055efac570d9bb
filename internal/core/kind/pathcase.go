package kind

import (
	"fmt"

	"tavrin/internal/core/grammar"
	"tavrin/internal/core/require"
)

var _ = register(require.Kind{
	Name: "case", Group: require.OfContent, Order: 1,
	Keys: []grammar.Key{wordKey("case", "exact", "no path that comes would lie in an area but for upper and lower "+
		"case: on many file systems it is the same file, and nobody owns it")},
	Judged: "every path that comes, against the areas", Gone: "no areas: met",
	New: func() require.Ask {
		const text = "no path differs from an area's by upper and lower case alone"
		return pathCase{bare{"exact", text, text}}
	},
})

// pathCase asks that no path differs from an area's by upper and lower case alone.
type pathCase struct{ bare }

func (pathCase) Judge(c *require.Case, q require.Sourced) {
	r := q.Outcome("case")
	var wrong []string
	for _, path := range c.Comes(c.LandsBy) {
		if area, nearly := c.Nearly(path); nearly {
			wrong = append(wrong, fmt.Sprintf("%s (area %s)", path, area))
		}
	}
	if len(wrong) > 0 {
		r.Lacks = require.Count(len(wrong), "path") + " like an area's but for upper and lower case"
		c.MendedBy(&r, require.DoPush)
		r.Next = fmt.Sprintf("%s: written as the area writes it, or moved elsewhere", require.Few(wrong, "and"))
	}
	c.Say(r, q)
}
