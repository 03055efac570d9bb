package kind

import (
	"slices"
	"time"

	"tavrin/internal/core/grammar"
	"tavrin/internal/core/require"
)

var _ = register(require.Kind{
	Name: "owners", Group: require.OfReview, Order: 2, After: "after_push.approvals_stay",
	Keys: []grammar.Key{wordKey("owners", everyArea, "one owner's approval of each touched area"),
		require.NotFromKey, require.OwnKey, require.MaxAgeKey},
	Judged: "every area that a path which comes lies in",
	Gone:   "no area touched: not asked; an area without anybody left: it cannot be met, and the gate says so",
	New:    func() require.Ask { return &owners{Except: require.NoAuthors()} },
})

const everyArea = "every touched area"

// owners asks for an owner's approval of every touched area.
type owners struct {
	require.Except
	maxAge time.Duration // how long one counts; 0: for ever
}

func (o *owners) Read(r *grammar.Reader, f grammar.Field) {
	switch f.Name {
	case "owners":
		grammar.OneOf(r, f, everyArea)
	case "max_age":
		o.maxAge = require.MaxAge(r, f)
	default:
		o.Except.Read(r, f)
	}
}

func (o *owners) Ages() bool { return o.maxAge > 0 }

func (o *owners) pool() require.Pool { return require.Pool{Not: o.Not, MaxAge: o.maxAge} }

func (o *owners) Identity() string { return grammar.Set(o.Not) + "|" + o.maxAge.String() }

func (o *owners) Title() string { return "an owner of every touched area" + o.pool().Narrowed() }

func (o *owners) Words() string {
	text := "an owner of every touched area approves"
	if len(o.Not) != 1 || o.Not[0] != require.NotAuthor { // who never counts where nothing is said
		text += o.Except.Words()
	}
	return text + require.MaxAgeWords(o.maxAge)
}

func (o *owners) AtLeast(other require.Ask) bool {
	b := other.(*owners)
	return grammar.Within(b.Not, o.Not) && require.Younger(o.maxAge, b.maxAge)
}

func (o *owners) Judge(c *require.Case, q require.Sourced) {
	if len(c.Touched) == 0 {
		r := q.Outcome("owners")
		r.State, r.Next = require.NotAsked, "the change touches no area"
		c.Say(r, q)
		return
	}
	for _, t := range c.Touched {
		p := o.pool()
		p.Stay = c.ApprovalsStay
		c.OwnersOf(t, 1, p, q)
	}
}

func (o *owners) Lint(l require.Lint, q *require.Requirement) {
	if !l.HasAreas() {
		l.Note(q.Line, "define areas, or leave it out", "%s: owners are asked for, and there are no areas", l.What())
	}
	if !slices.Contains(o.Not, require.NotAuthor) {
		l.Note(q.Line, "", "%s: an author who owns an area approves it by themselves", l.What())
	}
}
