package kind

import (
	"fmt"

	"tavrin/internal/core/change"
	"tavrin/internal/core/grammar"
	"tavrin/internal/core/people"
	"tavrin/internal/core/require"
)

var _ = register(require.Kind{
	Name: "signed", Group: require.OfContent, Order: 5, OnPush: true,
	Keys: []grammar.Key{wordKey("signed", "every commit", "every commit of the change carries a signature by a "+
		"registered key of somebody; holds for pushes too")},
	Judged: "the change's own commits, also where the strategy writes new ones; of a push, the commits that it brings",
	Gone:   "a key that is taken back, or whose owner has no access: not signed",
	New: func() require.Ask {
		return signed{bare{"every commit", "every commit is signed", "every commit is signed by a registered key"}}
	},
})

// signed asks that every commit carries a signature that counts.
type signed struct{ bare }

func (signed) Judge(c *require.Case, q require.Sourced) {
	r := q.Outcome("signed")
	r.Need = len(c.Commits)
	wrong := unsigned(c.Commits, c.People)
	if r.Have = len(c.Commits) - len(wrong); len(wrong) > 0 {
		r.State, r.Who = require.Missing, c.Authors
		r.Next = require.Few(wrong, "and") + ": sign the commits again with a registered key and push"
	}
	c.Say(r, q)
}

func (signed) OnPush(commits []change.Commit, known map[string]people.Person) (short, sentence string) {
	wrong := unsigned(commits, known)
	if len(wrong) == 0 {
		return "", ""
	}
	return "a commit is not signed", require.Few(wrong, "and") + "."
}

// unsigned lists the commits without a signature that counts, each with why.
func unsigned(commits []change.Commit, known map[string]people.Person) []string {
	var wrong []string
	for _, c := range commits {
		why := "is " + c.Signature.State.Words()
		switch _, has := known[c.Signature.By]; {
		case c.Signature.State == change.BadlyMade:
			why = c.Signature.State.Words()
		case c.Signature.State != change.Good:
		case !has:
			why = "is signed by " + c.Signature.By + ", who has no access any more"
		default:
			continue
		}
		wrong = append(wrong, fmt.Sprintf("%.10s %s", c.ID, why))
	}
	return wrong
}
