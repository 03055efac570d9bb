package require

import (
	"slices"

	"tavrin/internal/core/grammar"
)

// Except is whose approvals do not count. Asks for approvals embed it; it reads the keys not_from and own.
type Except struct {
	Not []Exclusion
}

// NoAuthors is what is meant where a document says nothing: an author's approval does not count.
func NoAuthors() Except { return Except{[]Exclusion{NotAuthor}} }

// The keys that stand beside approvals and owners.
var (
	NotFromKey = grammar.Key{Path: "not_from", Shape: grammar.Words, Allowed: grammar.Texts(Exclusions), Means: "whose approvals do not count: " +
		"author (opener, whoever's push contributed, registered addresses), who is meant in any case unless own says " +
		"otherwise, last_pusher, commit_authors (whoever brought or wrote a commit)", Absent: "author", Together: PartOf,
		Example: "not_from: [author, last_pusher]"}
	OwnKey = grammar.Key{Path: "own", Shape: grammar.Word, Allowed: []string{"does_not_count", "counts"}, Means: "whether an author's own " +
		"approval counts: for a team of one", Absent: "does_not_count", Together: PartOf, Example: "own: counts"}
)

// Read reads not_from or own.
func (e *Except) Read(r *grammar.Reader, f grammar.Field) {
	switch f.Name {
	case "not_from":
		for _, x := range grammar.SomeOf(r, f, Exclusions...) {
			if x != NotAuthor { // who is meant anyway, but for own: counts
				e.Not = append(e.Not, x)
			}
		}
	case "own":
		if grammar.OneOf(r, f, "does_not_count", "counts") == "counts" {
			e.Not = slices.DeleteFunc(e.Not, func(x Exclusion) bool { return x == NotAuthor })
		}
	}
}

// Words say it after what is asked for: ", an author's own not counting".
func (e Except) Words() string {
	text := ""
	switch {
	case slices.Contains(e.Not, NotAuthor):
		text += ", an author's own not counting"
	case slices.Contains(e.Not, NotCommitAuthor):
		text += ", nobody's counting who brought or wrote a commit in it"
	default:
		text += ", an author's own counting"
	}
	if slices.Contains(e.Not, NotLastPusher) {
		text += ", nor that of the last to push"
	}
	return text
}
