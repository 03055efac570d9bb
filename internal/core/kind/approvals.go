package kind

import (
	"fmt"
	"slices"
	"time"

	"tavrin/internal/core/grammar"
	"tavrin/internal/core/people"
	"tavrin/internal/core/require"
)

var _ = register(require.Kind{
	Name: "approvals", Group: require.OfReview, Order: 1, After: "after_push.approvals_stay",
	Keys: []grammar.Key{
		{Path: "approvals", Shape: grammar.Number, Low: 1, High: 20, Means: "that many approvals", Absent: "-",
			Together: require.Conjunction, Example: "approvals: 2"},
		{Path: "from", Shape: grammar.Who, Means: "whose approvals count", Absent: "those of everybody who may write; in an area, its owners'",
			Together: require.PartOf, Example: "from: [\"team:agronomy\", \"team:field\"]",
			Gone: "nobody left: it cannot be met, and the gate says so"},
		require.NotFromKey, require.OwnKey,
		{Path: "on", Shape: grammar.Word, Allowed: []string{"newest_revision"}, Means: "only approvals given on the newest " +
			"revision count", Absent: "as after_push.approvals_stay says", Together: require.PartOf, Example: "on: newest_revision"},
		require.MaxAgeKey,
	},
	Judged:    "the approvals that stand, for the newest revision or, as after_push says, an earlier one",
	Gone:      "a team, person or role that is gone: nobody's approval counts, and the gate says that nobody could give one",
	New:       func() require.Ask { return &approvals{Except: require.NoAuthors()} },
	NewOfArea: func() require.Ask { return &approvals{Except: require.NoAuthors(), ofOwners: true} },
})

// approvals asks for a number of approvals.
type approvals struct {
	require.Except
	count    int
	from     []people.Principal // empty: everybody who may write, or the owners
	ofOwners bool               // of the area that asks
	newest   bool               // only those given on the newest revision count
	maxAge   time.Duration      // how long one counts; 0: for ever
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
	case "max_age":
		a.maxAge = require.MaxAge(r, f)
	case "on":
		grammar.OneOf(r, f, "newest_revision")
		a.newest = true
	default:
		a.Except.Read(r, f)
	}
}

// Approvers implements require.Approving.
func (a *approvals) Approvers() []people.Principal { return a.from }

func (a *approvals) Ages() bool { return a.maxAge > 0 }

// owners says whether the approvals asked for are those of the area's owners.
func (a *approvals) owners() bool { return a.ofOwners && len(a.from) == 0 }

// pool is whose approvals count, as far as the requirement itself says.
func (a *approvals) pool() require.Pool {
	return require.Pool{Not: a.Not, Newest: a.newest, MaxAge: a.maxAge}
}

func (a *approvals) Identity() string {
	return fmt.Sprintf("%03d|%s|%v|%s|%v|%d", a.count, grammar.Set(a.from), a.owners(), grammar.Set(a.Not), a.newest, a.maxAge)
}

func (a *approvals) Title() string {
	text := require.Count(a.count, "approval")
	switch {
	case len(a.from) > 0:
		text += " from " + grammar.Either(grammar.Texts(a.from))
	case a.ofOwners:
		text += " by an owner"
	}
	return text + a.pool().Narrowed()
}

func (a *approvals) Words() string {
	text := require.Count(a.count, "approval")
	switch {
	case len(a.from) > 0:
		text += " from " + people.Names(a.from)
	case a.ofOwners:
		text += " by its owners"
	}
	if a.newest {
		text += " on the newest revision"
	}
	return text + a.Except.Words() + require.MaxAgeWords(a.maxAge)
}

func (a *approvals) AtLeast(other require.Ask) bool {
	o := other.(*approvals)
	among := len(o.from) == 0 && len(a.from) == 0 ||
		len(o.from) > 0 && len(a.from) > 0 && grammar.Within(a.from, o.from)
	return a.count >= o.count && a.ofOwners == o.ofOwners && among && grammar.Within(o.Not, a.Not) &&
		(a.newest || !o.newest) && require.Younger(a.maxAge, o.maxAge)
}

// Rank puts fewer approvals first, and those of everybody.
func (a *approvals) Rank() [2]int { return [2]int{a.count, len(a.from)} }

func (a *approvals) Judge(c *require.Case, q require.Sourced) {
	p := a.pool()
	p.Stay = c.StayOf(q)
	if a.owners() {
		c.OwnersOf(*q.Area, a.count, p, q)
		return
	}
	p.From = require.Writers
	if len(a.from) > 0 {
		p.Words = require.List(people.Texts(a.from), "or")
		p.From = a.from
	}
	c.Approved(q.Outcome("approvals"), a.count, p, q)
}

func (a *approvals) Lint(l require.Lint, q *require.Requirement) {
	if len(a.from) > 0 {
		l.Principals(q.Line, l.What()+": approvals are asked from", a.from)
	}
	from := a.from
	if a.owners() {
		from = l.Owners()
	}
	l.Approvers(q.Line, l.What()+": the requirement of approvals", a.count, from, slices.Contains(a.Not, require.NotAuthor),
		q.Level == require.Required)
	if len(a.Not) == 0 {
		l.Note(q.Line, "", "%s: an author's own approval counts", l.What())
	}
}

// LintBeside warns of thresholds that are out of order, and on a smaller count beside a larger one.
func (a *approvals) LintBeside(l require.Lint, q, other *require.Requirement) bool {
	b := other.Asks.(*approvals)
	switch {
	case grammar.Set(a.from) != grammar.Set(b.from), q.Unless != nil, other.Unless != nil:
		return false
	case q.When != nil && other.When != nil:
		said := threshold(l, q, other, "lines", q.When.Lines.Over, other.When.Lines.Over)
		return threshold(l, q, other, "files", q.When.Files.Over, other.When.Files.Over) || said
	case q.When == nil && other.When != nil && q.Level == require.Required && a.count >= b.count &&
		slices.Equal(a.Not, b.Not) && a.newest == b.newest && require.Younger(a.maxAge, b.maxAge):
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
