package kind

import (
	"fmt"
	"slices"
	"strings"

	"tavrin/internal/core/change"
	"tavrin/internal/core/fold"
	"tavrin/internal/core/grammar"
	"tavrin/internal/core/require"
	"tavrin/internal/core/trailer"
)

var _ = register(require.Kind{
	Name: "fixups", Group: require.OfContent, Order: 2, NotBy: []change.Strategy{change.Squash, change.SquashThenMerge},
	Keys: []grammar.Key{wordKey("fixups", "none",
		"no commit for folding (fixup!, squash!, amend!) is left, unless the strategy folds it")},
	Judged: "the commits' first lines", Gone: "-",
	New: func() require.Ask {
		return fixups{bare{"none", "no fixup commit is left", "no fixup commit is left unfolded"}}
	},
})

// fixups asks that no commit is left that is meant to be folded into another.
type fixups struct{ bare }

func (fixups) Judge(c *require.Case, q require.Sourced) {
	r := q.Outcome("fixups")
	if c.LandsBy.One() {
		r.State = require.NotAsked
		r.Next = fmt.Sprintf("%s leaves one commit, so that nothing is left to fold", c.LandsBy)
		c.Say(r, q)
		return
	}
	var left []string
	for _, commit := range coming(c) {
		if fold.Marked(commit.Message) {
			left = append(left, fmt.Sprintf("%.10s %q", commit.ID, commit.Subject()))
		}
	}
	if r.Have = len(left); r.Have > 0 {
		r.Lacks = require.Count(r.Have, "fixup commit") + " left"
		r.Next = fmt.Sprintf("%s: fold what is left and push", require.Few(left, "and"))
		if c.LandsBy == change.Fold {
			r.Next = fmt.Sprintf("%s: nothing before it is what it is to be folded into: reword and push", require.Few(left, "and"))
		}
		c.MendedBy(&r, require.DoFold)
		if by := others(c, func(s change.Strategy) bool { return s.One() || s == change.Fold && c.LandsBy != s }); len(by) > 0 {
			r.Next += ", or land by " + require.List(by, "or")
		}
	}
	c.Say(r, q)
}

// others lists strategies that are allowed and of some sort.
func others(c *require.Case, of func(change.Strategy) bool) []string {
	var out []string
	for _, s := range c.Allowed {
		if of(s) {
			out = append(out, string(s))
		}
	}
	return out
}

// coming lists the commits of the change with the messages with which they come by the strategy, the newest first; all of
// them, by one that makes one of them.
func coming(c *require.Case) []change.Commit {
	if !c.LandsBy.Replays() {
		return c.Commits
	}
	var plain []change.Commit // merge commits are left out, and what only the service says
	for _, commit := range c.Commits {
		if commit.Parents < 2 {
			commit.Message = strings.TrimSpace(trailer.Drop(commit.Message))
			plain = append(plain, commit)
		}
	}
	if c.LandsBy != change.Fold {
		return plain
	}
	list := make([]fold.Commit, len(plain))
	for i, commit := range plain {
		list[len(plain)-1-i] = fold.Commit{ID: commit.ID, Message: commit.Message}
	}
	var out []change.Commit
	for _, f := range fold.Plan(list) {
		commit := plain[len(plain)-1-f.Into]
		commit.Message = strings.TrimSpace(f.Message)
		out = append(out, commit)
	}
	slices.Reverse(out)
	return out
}
