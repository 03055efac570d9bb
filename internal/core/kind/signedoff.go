package kind

import (
	"fmt"
	"regexp"
	"strings"

	"tavrin/internal/core/change"
	"tavrin/internal/core/grammar"
	"tavrin/internal/core/people"
	"tavrin/internal/core/require"
)

var _ = register(require.Kind{
	Name: "signed_off", Group: require.OfContent, Order: 7, OnPush: true,
	Keys: []grammar.Key{wordKey("signed_off", "every commit", "every commit but a merge commit is signed off by its author: a "+
		"trailer Signed-off-by with the author's address, as git commit --signoff writes it; holds for pushes too")},
	Judged: "the change's own commits, also where the strategy writes new ones; of a push, the commits that it brings",
	Gone:   "-",
	New: func() require.Ask {
		return signedOff{bare{"every commit", "every commit is signed off by its author", "every commit is signed off by its author"}}
	},
})

// signedOff asks that the author of each commit signed it off.
type signedOff struct{ bare }

// signOff matches the trailer, and finds the address in it.
var signOff = regexp.MustCompile(`(?mi)^Signed-off-by:[ \t]*[^<>\n]*<([^<>\s]+)>[ \t]*$`)

func (signedOff) Judge(c *require.Case, q require.Sourced) {
	r := q.Outcome("signed_off")
	wrong := notSignedOff(c.Commits)
	r.Need, r.Have = len(c.Commits), len(c.Commits)-len(wrong)
	if len(wrong) > 0 {
		r.Lacks = require.Count(len(wrong), "commit") + " without the author's sign-off"
		r.Next = require.Few(wrong, "and") + ": sign off and push"
		c.MendedBy(&r, require.DoSignOff)
	}
	c.Say(r, q)
}

func (signedOff) OnPush(commits []change.Commit, _ people.Everyone) (short, sentence string) {
	wrong := notSignedOff(commits)
	if len(wrong) == 0 {
		return "", ""
	}
	return "a commit is not signed off", require.Few(wrong, "and") + ": git commit --amend --signoff, or git rebase --signoff."
}

// notSignedOff lists the commits that their author did not sign off, each with whose sign-off is missing.
func notSignedOff(commits []change.Commit) []string {
	var wrong []string
	for _, c := range commits {
		if c.Parents > 1 {
			continue
		}
		found := false
		for _, m := range signOff.FindAllStringSubmatch(c.Message, -1) {
			found = found || strings.EqualFold(m[1], c.Email)
		}
		if !found {
			wrong = append(wrong, fmt.Sprintf("%.10s is not signed off by its author %s", c.ID, c.Email))
		}
	}
	return wrong
}
