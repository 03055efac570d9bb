package kind

import (
	"fmt"
	"regexp"
	"slices"

	"tavrin/internal/core/change"
	"tavrin/internal/core/grammar"
	"tavrin/internal/core/require"
)

var _ = register(require.Kind{
	Name: "fixups", Group: require.OfContent, Order: 2, NotBy: []change.Strategy{change.Squash},
	Keys: []grammar.Key{wordKey("fixups", "none",
		"no commit for folding (fixup!, squash!, amend!) is left, unless the strategy folds it")},
	Judged: "the commits' first lines", Gone: "-",
	New: func() require.Ask {
		return fixups{bare{"none", "no fixup commit is left", "no fixup commit is left unfolded"}}
	},
})

// fixups asks that no commit is left that is meant to be folded into another.
type fixups struct{ bare }

// forFolding matches the subject of a commit that is meant to be folded into another.
var forFolding = regexp.MustCompile(`^(fixup|squash|amend)! `)

// ForFolding says whether a commit of that message is meant to be folded into another.
func ForFolding(message string) bool { return forFolding.MatchString(message) }

func (fixups) Judge(c *require.Case, q require.Sourced) {
	r := q.Outcome("fixups")
	if c.LandsBy.Folds() {
		r.State = require.NotAsked
		r.Next = fmt.Sprintf("%s leaves one commit, so that nothing is left to fold", c.LandsBy)
		c.Say(r, q)
		return
	}
	var left []string
	for _, commit := range c.Commits {
		if ForFolding(commit.Message) {
			left = append(left, fmt.Sprintf("%.10s %q", commit.ID, commit.Subject()))
		}
	}
	if r.Have = len(left); r.Have > 0 {
		r.Lacks = require.Count(r.Have, "fixup commit") + " left"
		r.Next = fmt.Sprintf("%s: fold what is left and push", require.Few(left, "and"))
		c.MendedBy(&r, require.DoFold)
		if slices.Contains(c.Allowed, change.Squash) {
			r.Next += ", or land by squash"
		}
	}
	c.Say(r, q)
}
