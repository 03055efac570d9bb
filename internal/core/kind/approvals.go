package kind

import (
	"fmt"
	"slices"

	"tavrin/internal/core/grammar"
	"tavrin/internal/core/people"
	"tavrin/internal/core/require"
)

var _ = register(require.Kind{
	Name: "approvals", Group: require.OfReview, Order: 1, After: "after_push.approvals_stay",
	Keys: []grammar.Key{
		{Path: "approvals", Shape: grammar.Number, Low: 1, High: 20, Means: "that many approvals", Absent: "-",
			Together: require.Conjunction, Example: "approvals: 2"},
		{Path: "from", Shape: grammar.Who, Means: "whose approvals count", Absent: "those of everybody who may write",
			Together: require.PartOf, Example: "from: [\"team:agronomy\", \"team:field\"]",
			Gone: "nobody left: it cannot be met, and the gate says so"},
		{Path: "not_from", Shape: grammar.Words, Allowed: grammar.Texts(require.Exclusions), Means: "whose approvals do not count: " +
			"author (opener, whoever's push contributed, registered addresses), who is meant in any case unless own says " +
			"otherwise, last_pusher, commit_authors (whoever brought or wrote a commit)", Absent: "author", Together: require.PartOf,
			Example: "not_from: [author, last_pusher]"},
		{Path: "own", Shape: grammar.Word, Allowed: []string{"does_not_count", "counts"}, Means: "whether an author's own " +
			"approval counts: for a team of one", Absent: "does_not_count", Together: require.PartOf, Example: "own: counts"},
		{Path: "on", Shape: grammar.Word, Allowed: []string{"newest_revision"}, Means: "only approvals given on the newest " +
			"revision count", Absent: "as after_push.approvals_stay says", Together: require.PartOf, Example: "on: newest_revision"},
	},
	Judged: "the approvals that stand, for the newest revision or, as after_push says, an earlier one",
	Gone:   "a team, person or role that is gone: nobody's approval counts, and the gate says that nobody could give one",
	New:    func() require.Ask { return &approvals{not: []require.Exclusion{require.NotAuthor}} },
})

// approvals asks for a number of approvals.
type approvals struct {
	count  int
	from   []people.Principal // empty: everybody who may write
	not    []require.Exclusion
	newest bool // only those given on the newest revision count
}

func (a *approvals) Read(r *grammar.Reader, f grammar.Field) {
	switch f.Name {
	case "approvals":
		a.count = r.Number(f, 1, 20)
	case "from":
		if a.from = r.Principals(f, false); len(a.from) == 0 {
			r.Bad(f.Value, "\"from\" names nobody, so nobody's approval could count",
				"team:NAME, person:LOGIN or role:ROLE; leave it out for everybody who may write")
		}
	case "not_from":
		for _, x := range grammar.SomeOf(r, f, require.Exclusions...) {
			if x != require.NotAuthor { // who is meant anyway, but for own: counts
				a.not = append(a.not, x)
			}
		}
	case "own":
		if grammar.OneOf(r, f, "does_not_count", "counts") == "counts" {
			a.not = slices.DeleteFunc(a.not, func(x require.Exclusion) bool { return x == require.NotAuthor })
		}
	case "on":
		grammar.OneOf(r, f, "newest_revision")
		a.newest = true
	}
}

func (a *approvals) Identity() string {
	return fmt.Sprintf("%03d|%s|%s|%v", a.count, grammar.Set(a.from), grammar.Set(a.not), a.newest)
}

func (a *approvals) Title() string {
	text := require.Count(a.count, "approval")
	if len(a.from) > 0 {
		text += " from " + grammar.Either(grammar.Texts(a.from))
	}
	if a.newest {
		text += " on the newest revision"
	}
	if slices.Contains(a.not, require.NotLastPusher) {
		text += ", not the last pusher's"
	}
	switch {
	case slices.Contains(a.not, require.NotAuthor):
	case slices.Contains(a.not, require.NotCommitAuthor):
		text += ", not that of who brought or wrote a commit"
	default:
		text += ", an author's own counting"
	}
	return text
}

func (a *approvals) Words() string {
	text := require.Count(a.count, "approval")
	if len(a.from) > 0 {
		text += " from " + people.Names(a.from)
	}
	if a.newest {
		text += " on the newest revision"
	}
	switch {
	case slices.Contains(a.not, require.NotAuthor):
		text += ", an author's own not counting"
	case slices.Contains(a.not, require.NotCommitAuthor):
		text += ", nobody's counting who brought or wrote a commit in it"
	default:
		text += ", an author's own counting"
	}
	if slices.Contains(a.not, require.NotLastPusher) {
		text += ", nor that of the last to push"
	}
	return text
}

func (a *approvals) AtLeast(other require.Ask) bool {
	o := other.(*approvals)
	among := len(o.from) == 0 && len(a.from) == 0 ||
		len(o.from) > 0 && len(a.from) > 0 && grammar.Within(a.from, o.from)
	return a.count >= o.count && among && grammar.Within(o.not, a.not) && (a.newest || !o.newest)
}

// Rank puts fewer approvals first, and those of everybody.
func (a *approvals) Rank() [2]int { return [2]int{a.count, len(a.from)} }

func (a *approvals) Judge(c *require.Case, q require.Sourced) {
	p := require.Pool{Words: "anyone who may write", In: func(p people.Person) bool { return p.Role.AtLeast(people.Writer) },
		Not: a.not, Newest: a.newest, Stay: c.ApprovalsStay}
	if len(a.from) > 0 {
		p.Words = require.List(people.Texts(a.from), "or")
		p.In = func(p people.Person) bool { return p.IsAny(a.from) }
	}
	c.ApprovedBy("approvals", "approvals "+q.Identity(), q.Titled, a.count, p, q.Level, q.From)
}

func (a *approvals) Lint(l require.Lint, q *require.Requirement) {
	l.Principals(q.Line, l.What()+": approvals are asked from", a.from)
	l.Approvers(q.Line, l.What()+": the requirement of approvals", a.count, a.from, slices.Contains(a.not, require.NotAuthor),
		q.Level == require.Required)
	if len(a.not) == 0 {
		l.Note(q.Line, "", "%s: an author's own approval counts", l.What())
	}
}

// LintBeside warns of thresholds that are out of order, and on a smaller count beside a larger one.
func (a *approvals) LintBeside(l require.Lint, q, other *require.Requirement) bool {
	b := other.Asks.(*approvals)
	switch {
	case grammar.Set(a.from) != grammar.Set(b.from):
		return false
	case q.When != nil && other.When != nil:
		said := threshold(l, q, other, "lines", q.When.Lines.Over, other.When.Lines.Over)
		return threshold(l, q, other, "files", q.When.Files.Over, other.When.Files.Over) || said
	case q.When == nil && other.When != nil && q.Level == require.Required && a.count >= b.count &&
		slices.Equal(a.not, b.not) && a.newest == b.newest:
		l.Note(other.Line, "leave it out, or raise its count", "%s: line %d asks for %d approvals always, so that these "+
			"%d add nothing", l.What(), q.Line, a.count, b.count)
		return true
	}
	return false
}

func threshold(l require.Lint, a, b *require.Requirement, unit string, overA, overB int) bool {
	if overA < 0 || overB < 0 || overA == overB {
		return false
	}
	if overA > overB {
		a, b, overA, overB = b, a, overB, overA
	}
	few, many := b.Asks.(*approvals).count, a.Asks.(*approvals).count
	if few >= many {
		return false
	}
	l.Fragile(b.Line, "raise the count with the size", "%s: thresholds are out of order: over %d %s asks for %d "+
		"approvals, over %d for only %d", l.What(), overA, unit, many, overB, few)
	return true
}
