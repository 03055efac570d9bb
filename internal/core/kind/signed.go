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
	Keys: []grammar.Key{{Path: "signed", Shape: grammar.Word, Allowed: []string{everyCommit, everyTag},
		Means: "every commit of the change carries a signature by a registered key of somebody, which holds for pushes too; or, in " +
			"a protection of tags, every tag does", Absent: "-", Together: require.Conjunction, Example: "signed: " + everyCommit}},
	Judged: "the change's own commits, also where the strategy writes new ones; of a push, the commits that it brings",
	Gone:   "a key that is taken back, or whose owner has no access: not signed",
	New:    func() require.Ask { return &signed{} },
})

const (
	everyCommit = "every commit"
	everyTag    = "every tag"
)

// signed asks that every commit, or every tag, carries a signature that counts.
type signed struct{ what string }

func (s *signed) Read(r *grammar.Reader, f grammar.Field) {
	s.what = grammar.OneOf(r, f, everyCommit, everyTag)
}

func (s *signed) Identity() string { return s.what }

func (s *signed) Title() string { return s.what + " is signed" }

func (s *signed) Words() string { return s.what + " is signed by a registered key" }

func (s *signed) AtLeast(other require.Ask) bool { return s.what == other.(*signed).what }

func (s *signed) OfTags() bool { return s.what == everyTag }

func (s *signed) OnTag(t change.Tag, known people.Everyone) (short, sentence string) {
	if t.ID == "" {
		return "it is not signed", "it is a name for a commit and no more, which cannot be signed: make it with git tag --sign"
	}
	if why := unsound(t.Signature, known); why != "" {
		return "it is not signed", "it " + why + ": make it with git tag --sign, by a registered key"
	}
	return "", ""
}

func (*signed) Judge(c *require.Case, q require.Sourced) {
	r := q.Outcome("signed")
	r.Need = len(c.Commits)
	wrong := unsigned(c.Commits, c.People)
	if r.Have = len(c.Commits) - len(wrong); len(wrong) > 0 {
		r.Lacks = require.Count(len(wrong), "commit") + " without a signature that counts"
		r.Next = require.Few(wrong, "and") + ": sign again with a registered key and push"
		c.MendedBy(&r, require.DoSign)
	}
	c.Say(r, q)
}

func (*signed) OnPush(commits []change.Commit, known people.Everyone) (short, sentence string) {
	wrong := unsigned(commits, known)
	if len(wrong) == 0 {
		return "", ""
	}
	return "a commit is not signed", require.Few(wrong, "and") + "."
}

// unsigned lists the commits without a signature that counts, each with why.
func unsigned(commits []change.Commit, known people.Everyone) []string {
	var wrong []string
	for _, c := range commits {
		if why := unsound(c.Signature, known); why != "" {
			wrong = append(wrong, fmt.Sprintf("%.10s %s", c.ID, why))
		}
	}
	return wrong
}

// unsound says why a signature does not count; nothing where it does.
func unsound(s change.Signature, known people.Everyone) string {
	switch _, has := known.Of(s.By); {
	case s.State == change.BadlyMade:
		return s.State.Words()
	case s.State != change.Good:
		return "is " + s.State.Words()
	case !has:
		return "is signed by " + s.By + ", who has no access any more"
	}
	return ""
}
