package kind

import (
	"cmp"
	"fmt"
	"slices"

	"tavrin/internal/core/change"
	"tavrin/internal/core/grammar"
	"tavrin/internal/core/people"
	"tavrin/internal/core/require"
)

var _ = register(require.Kind{
	Name: "history", Group: require.OfContent, Order: 3, OnPush: true, NotBy: []change.Strategy{change.Rebase, change.Squash, change.Fold},
	Keys:   []grammar.Key{wordKey("history", "linear", "no merge commit comes to the branch, by landing or by push")},
	Judged: "whether the strategy makes a merge commit; of a push, the commits that it brings", Gone: "-",
	New: func() require.Ask {
		return history{bare{"linear", "no merge commit comes to the branch", "no merge commit comes to it"}}
	},
})

// history asks that no merge commit comes to the branch.
type history struct{ bare }

func (history) Judge(c *require.Case, q require.Sourced) {
	r := q.Outcome("history")
	comes := c.LandsBy == change.FastForward && slices.ContainsFunc(c.Commits, func(k change.Commit) bool { return k.Parents > 1 })
	if !c.LandsBy.Linear() || comes {
		linear := others(c, func(s change.Strategy) bool { return s.Linear() && (s != change.FastForward || !comes) })
		r.State, r.Who = require.Missing, c.Authors
		r.Lacks = fmt.Sprintf("%s would make a merge commit", cmp.Or(string(c.LandsBy), "the strategy"))
		if comes {
			r.Lacks = "a merge commit would come with it"
		}
		if len(linear) == 0 {
			r.Next = "only strategies that make a merge commit are allowed: a maintainer has to change the rules"
			c.AskMaintainers(&r)
		} else {
			r.Next = "land by " + require.List(linear, "or")
			action := require.DoJoin
			if c.Asker != "" {
				action = require.DoRejoin
			}
			r.AnybodyDo(action, require.Arguments{Change: c.Number, Strategies: linear})
		}
	}
	c.Say(r, q)
}

func (history) OnPush(commits []change.Commit, _ people.Everyone) (short, sentence string) {
	for _, c := range commits {
		if c.Parents > 1 {
			short, sentence = "no merge commits", fmt.Sprintf("%.10s is a merge commit, and the history stays "+
				"linear: rebase, then push.", c.ID)
		}
	}
	return short, sentence
}

func (history) Lint(l require.Lint, q *require.Requirement) {
	if allowed := l.Allowed(); len(allowed) > 0 && !slices.ContainsFunc(allowed, change.Strategy.Linear) {
		l.Blocked(q.Line, "allow rebase or squash", "%s: history is to stay linear, and every strategy that is "+
			"allowed makes a merge commit", l.What())
	}
}

func (history) LintOn(b require.BranchLint, q require.Sourced) {
	switch on := b.Settings(); {
	case len(on.Allowed) > 0 && !slices.ContainsFunc(on.Allowed, change.Strategy.Linear):
		b.Blocked(q.From, "allow rebase or squash", "%s: history is to stay linear, and only strategies that make a "+
			"merge commit are left", b.Branch())
	case on.LandsBy != "" && !on.LandsBy.Linear():
		b.Fragile(q.From, "another default strategy", "%s: they land by %s where nobody says another, and history is "+
			"to stay linear", b.Branch(), on.LandsBy)
	}
}
