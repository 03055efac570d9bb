package kind

import (
	"fmt"
	"slices"

	"tavrin/internal/core/glob"
	"tavrin/internal/core/grammar"
	"tavrin/internal/core/require"
)

var _ = register(require.Kind{
	Name: "already_on", Group: require.OfContent, Order: 8, Elsewhere: true,
	Keys: []grammar.Key{{Path: "already_on", Shape: grammar.Globs, Means: "every commit but a merge commit is on a branch of that kind or glob " +
		"already, or names one there that it was picked from, as git cherry-pick -x writes it: for backports",
		Absent: "-", Together: require.Conjunction, Example: "already_on: trunk"}},
	Judged: "the branches that hold the commits now; that a picked commit is the " +
		"same as the one it names is for reviewers to see",
	Gone: "no such branch: not met",
	New:  func() require.Ask { return &alreadyOn{} },
})

// alreadyOn asks that the commits are on another branch already.
type alreadyOn struct {
	text  []string // as written
	globs []string // what it stands for
	on    glob.List
}

func (a *alreadyOn) Read(r *grammar.Reader, f grammar.Field) {
	if a.text = r.Texts(f); len(a.text) == 0 {
		r.Bad(f.Value, "\"already_on\" names no branch", "branch kinds or globs")
	}
	a.on, a.globs = r.Scope.Branches(f, a.text)
}

func (a *alreadyOn) Identity() string { return grammar.GlobSet(a.globs) }

func (a *alreadyOn) Title() string {
	return "every commit is on " + grammar.GlobWords(a.text) + " already, or picked from there"
}

func (a *alreadyOn) Words() string { return a.Title() }

func (a *alreadyOn) AtLeast(other require.Ask) bool { return a.Identity() == other.Identity() }

func (a *alreadyOn) Judge(c *require.Case, q require.Sourced) {
	r := q.Outcome("already_on")
	var wrong []string
	for _, commit := range c.Commits {
		switch {
		case commit.Parents > 1 || slices.ContainsFunc(commit.On, a.on.Match):
			r.Have++
		case commit.PickedFrom != "":
			wrong = append(wrong, fmt.Sprintf("%.10s, picked from %.10s", commit.ID, commit.PickedFrom))
		default:
			wrong = append(wrong, fmt.Sprintf("%.10s %q", commit.ID, commit.Subject()))
		}
	}
	if r.Need = len(c.Commits); len(wrong) > 0 {
		r.Lacks = fmt.Sprintf("%s not on %s yet", require.Count(len(wrong), "commit"), grammar.GlobWords(a.text))
		r.Next = fmt.Sprintf("%s: land it on %s first, then pick it from there (git cherry-pick -x) and push",
			require.Few(wrong, "and"), grammar.GlobWords(a.text))
		c.MendedBy(&r, require.DoPush)
	}
	c.Say(r, q)
}

func (a *alreadyOn) Lint(l require.Lint, q *require.Requirement) {
	l.Branches(q.Line, l.What()+": commits are to be on", a.on)
}
