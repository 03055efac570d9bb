package rules

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"tavrin/internal/core/change"
	"tavrin/internal/core/condition"
	"tavrin/internal/core/grammar"
	"tavrin/internal/core/people"
	"tavrin/internal/core/queue"
	"tavrin/internal/core/require"
)

// Difference is one thing in which two versions of a document differ.
type Difference struct {
	What    string `json:"what" doc:"the setting, such as protection \"trunk\": push"`
	Was     string `json:"was,omitempty" doc:"absent: it is new"`
	Now     string `json:"now,omitempty" doc:"absent: it is gone"`
	Loosens bool   `json:"loosens" doc:"it cannot be ruled out that something may pass now that could not before"`
	Why     string `json:"why,omitempty" doc:"of one that loosens although it seems not to: how it may"`
	Line    int    `json:"line" doc:"in the new document; in the old one where it is gone"`
}

// Compare lists in what a new version of a document differs from an old one, either of which may be nil for an empty
// one, and what of it loosens. It errs on the strict side: what is not seen to tighten loosens. others are the
// documents that hold together with it: the house's for a repository's, the repositories' for a house's.
func Compare(was, now *Document, others ...*Document) []Difference {
	if was == nil {
		was = &Document{}
	}
	if now == nil {
		now = &Document{}
	}
	c := comparison{was: was, now: now, others: others}
	c.document(was, now)
	return c.out
}

// Loosens says whether one of the differences loosens.
func Loosens(differences []Difference) bool {
	return slices.ContainsFunc(differences, func(d Difference) bool { return d.Loosens })
}

type comparison struct {
	was, now *Document
	others   []*Document
	out      []Difference
}

// value is what is compared, and how it is shown. Values are the same when is is; a value of which is is empty is none.
type value struct{ is, shown string }

func word(text string) value { return value{text, text} }

func list[T any](words []T) value {
	if len(words) == 0 {
		return value{}
	}
	return value{grammar.Set(words), grammar.Shown(words)}
}

func who(ps []people.Principal) value { return value{grammar.Set(ps), people.Names(ps)} }

func truth(b bool) value { return word(fmt.Sprint(b)) }

func (c *comparison) differ(line int, what string, was, now value, loosens bool) {
	if was.is != now.is {
		c.out = append(c.out, Difference{What: what, Was: was.shown, Now: now.shown, Loosens: loosens, Line: line})
	}
}

// unless is differ for a setting that does not seem to loosen, where why says how it may; empty: it does not.
func (c *comparison) unless(why string, line int, what string, was, now value, loosens bool) {
	before := len(c.out)
	c.differ(line, what, was, now, loosens || why != "")
	if len(c.out) > before && !loosens {
		c.out[before].Why = why
	}
}

// both goes through two lists of named things.
func both[T any](was, now []T, name func(*T) string, gone, added func(*T), kept func(was, now *T)) {
	for i := range was {
		j := slices.IndexFunc(now, func(n T) bool { return name(&n) == name(&was[i]) })
		if j < 0 {
			gone(&was[i])
		} else {
			kept(&was[i], &now[j])
		}
	}
	for i := range now {
		if !slices.ContainsFunc(was, func(w T) bool { return name(&w) == name(&now[i]) }) {
			added(&now[i])
		}
	}
}

func (c *comparison) document(was, now *Document) {
	c.differ(now.LineOf("loosening"), "loosening", list(was.AgreedBy), list(now.AgreedBy), len(was.AgreedBy) > 0 &&
		(len(now.AgreedBy) == 0 || !grammar.Within(now.AgreedBy, was.AgreedBy)))
	c.unless(c.described(), now.LineOf("changes"), "changes: description", word(was.Description), word(now.Description),
		false)
	// What a kind stands for is compared where it is used. That another document uses it is refused elsewhere.
	both(was.Kinds, now.Kinds, func(k *Kind) string { return k.Name },
		func(k *Kind) { c.differ(k.Line, "branch kind "+k.Name, list(k.Patterns), value{}, false) },
		func(k *Kind) { c.differ(k.Line, "branch kind "+k.Name, value{}, list(k.Patterns), false) },
		func(a, b *Kind) { c.differ(b.Line, "branch kind "+a.Name, list(a.Patterns), list(b.Patterns), false) })
	both(was.Labels, now.Labels, func(l *Label) string { return l.Name },
		func(l *Label) { c.differ(l.Line, "label "+l.Name, list(l.SetBy), value{}, true) },
		func(l *Label) {
			twice := func(d *Document) bool {
				return slices.ContainsFunc(d.Labels, func(o Label) bool { return o.Name == l.Name })
			}
			c.unless(cmp.Or(c.definedTwice("label "+l.Name, twice), c.seen("labels")), l.Line, "label "+l.Name, value{},
				list(l.SetBy), false)
		},
		func(a, b *Label) {
			// who sets it decides what is asked, either way
			c.differ(b.Line, "label "+a.Name+": set_by", list(a.SetBy), list(b.SetBy), true)
		})
	both(was.Areas, now.Areas, func(a *Area) string { return a.Name },
		func(a *Area) { c.differ(a.Line, "area "+a.Name, list(a.Text), value{}, true) },
		func(a *Area) {
			c.unless(cmp.Or(c.definedTwice("area "+a.Name, func(d *Document) bool { return hasArea(d, a.Name) }),
				c.seen("areas")), a.Line, "area "+a.Name, value{}, list(a.Text), false)
		}, c.area)
	both(was.Checks, now.Checks, func(k *Check) string { return k.Name },
		func(k *Check) { c.differ(k.Line, "check "+k.Name, word("defined"), value{}, true) },
		func(k *Check) { c.unless(c.defines(k), k.Line, "check "+k.Name, value{}, word("defined"), false) }, c.check)
	both(was.Protections, now.Protections, func(p *Protection) string { return p.Name },
		func(p *Protection) {
			c.differ(p.Line, fmt.Sprintf("protection %q", p.Name), word("in force"), value{}, true)
		},
		func(p *Protection) {
			why := ""
			switch {
			case p.Default != "" || another(change.Strategies, p.allows()):
				why = strategyWhy
			case p.Message != "":
				why = messageWhy
			}
			c.unless(why, p.Line, fmt.Sprintf("protection %q", p.Name), value{}, word("in force"), false)
		},
		c.protection)
}

// all lists the documents that hold together, before and after.
func (c *comparison) all() []*Document {
	return slices.DeleteFunc(append([]*Document{c.was, c.now}, c.others...), func(d *Document) bool { return d == nil })
}

// asked goes through every requirement that is asked before or after, by any of the documents.
func (c *comparison) asked(is func(q *require.Requirement) bool) *require.Requirement {
	for _, d := range c.all() {
		for q := range d.Requirements() {
			if is(q) {
				return q
			}
		}
	}
	return nil
}

// definedTwice says how what is new may loosen: another document gives the name a meaning of its own.
func (c *comparison) definedTwice(what string, defines func(*Document) bool) string {
	if slices.ContainsFunc(c.others, func(d *Document) bool { return d != nil && defines(d) }) {
		return fmt.Sprintf("another document that holds together with it defines %s too", what)
	}
	return ""
}

// seen says how one more area or label may loosen: an expression sees that there is one more.
func (c *comparison) seen(variable string) string {
	expression := ""
	c.asked(func(q *require.Requirement) bool {
		for _, when := range []*condition.Condition{q.When, q.Unless} {
			if when != nil && (!when.OfHouse || c.now.OfHouse) && strings.Contains(when.Expression, variable) {
				expression = when.Expression
			}
		}
		return expression != ""
	})
	if expression == "" {
		return ""
	}
	return fmt.Sprintf("the expression %s asks for %s, and may come out otherwise", expression, variable)
}

// excused says how more paths in an area may loosen: a requirement is not asked where nothing but the area is touched.
func (c *comparison) excused(area string) string {
	q := c.asked(func(q *require.Requirement) bool {
		return q.Unless != nil && slices.Contains(q.Unless.Areas, area)
	})
	if q == nil {
		return ""
	}
	return fmt.Sprintf("a requirement is not asked where nothing but %s is touched, and more is %s now", area, area)
}

// asksToo adds that another document asks for a check and leaves to this one what it is.
func (c *comparison) asksToo(k *Check) string {
	asks := func(d *Document) bool {
		if d == nil {
			return false
		}
		for q := range d.Requirements() {
			if slices.ContainsFunc(q.CheckNames(), func(n require.CheckName) bool { return n.Match(k.Name) }) {
				return true
			}
		}
		return false
	}
	switch i := slices.IndexFunc(c.others, asks); {
	case i < 0:
		return ""
	case c.others[i].OfHouse:
		return ", and the house asks for it"
	}
	return ", and a repository asks for it"
}

// described says how another beginning of descriptions may loosen: what is asked of a description may be met by it, or
// no longer be asked.
func (c *comparison) described() string {
	q := c.asked(func(q *require.Requirement) bool { return q.Kind.ByDescription })
	if q == nil {
		return ""
	}
	return fmt.Sprintf("%s is judged by descriptions, which begin with it", q.Kind.Name)
}

// defines says how a new definition of a check may loosen: what was any robot's answer, or nothing yet, is now what it
// says.
func (c *comparison) defines(k *Check) string {
	switch {
	case k.Command != "":
		return "what passes it is now a command of these rules" + c.asksToo(k)
	case k.Timeout > require.DefaultAnswer:
		return longerWhy
	case k.Environment != "":
		return "its pass is now a deployment to " + k.Environment
	case c.asked(func(q *require.Requirement) bool { // one more may then pass in the place of another
		return slices.ContainsFunc(q.CheckNames(), func(n require.CheckName) bool { return n.Several() && n.Match(k.Name) })
	}) != nil:
		return "a glob of a requirement that asks for some of several checks may mean it too"
	}
	return c.definedTwice("check "+k.Name, func(d *Document) bool {
		return slices.ContainsFunc(d.Checks, func(o Check) bool { return o.Name == k.Name })
	})
}

func (c *comparison) area(a, b *Area) {
	what := "area " + a.Name + ": "
	c.unless(cmp.Or(c.excused(a.Name), c.seen("areas")), b.LineOf("paths"), what+"paths", list(a.Text), list(b.Text), !covers(b.Text, a.Text))
	c.differ(b.LineOf("owners"), what+"owners", list(a.Owners), list(b.Owners), !grammar.Within(b.Owners, a.Owners))
	c.differ(b.LineOf("waive"), what+"waive", who(a.Waive), who(b.Waive), !grammar.Within(b.Waive, a.Waive))
	c.differ(b.LineOf("reviewers"), what+"reviewers", list(a.Reviewers), list(b.Reviewers), false)
	c.differ(b.LineOf("optional"), what+"optional", list(a.Optional), list(b.Optional), false)
	c.requirements(what, a.Require, b.Require)
	c.repositories(b.Line, what, a.Repositories.Texts(), b.Repositories.Texts())
}

func (c *comparison) repositories(line int, what string, was, now []string) {
	c.differ(line, what+"repositories", list(was), list(now), len(now) > 0 && (len(was) == 0 || !covers(now, was)))
}

func (c *comparison) check(a, b *Check) {
	what := "check " + a.Name + ": "
	c.differ(b.LineOf("command"), what+"command", word(a.Command), word(b.Command), true)
	c.differ(b.LineOf("reported_by"), what+"reported_by", word(a.ReportedBy), word(b.ReportedBy), a.ReportedBy != "" || b.ReportedBy == "")
	why := ""
	if b.Timeout > a.Timeout {
		why = longerWhy
	}
	c.unless(why, b.LineOf("timeout"), what+"timeout", word(grammar.Brief(a.Timeout)), word(grammar.Brief(b.Timeout)), false)
	c.differ(b.LineOf("max_age"), what+"max_age", word(span(a.MaxAge)), word(span(b.MaxAge)), !require.Younger(b.MaxAge, a.MaxAge))
	c.differ(b.LineOf("sees"), what+"sees", word(sight(a.SeesTree)), word(sight(b.SeesTree)), b.SeesTree)
	c.differ(b.LineOf("environment"), what+"environment", word(a.Environment), word(b.Environment), true)
	c.differ(b.LineOf("on_tip"), what+"on_tip", list(a.OnTip), list(b.OnTip), false)
}

func sight(tree bool) string {
	if tree {
		return "tree"
	}
	return "commit"
}

func span(d time.Duration) string {
	if d == 0 {
		return ""
	}
	return grammar.Brief(d)
}

func (c *comparison) protection(a, b *Protection) {
	what := fmt.Sprintf("protection %q: ", a.Name)
	why := ""
	if b.FromText == nil && !covers(a.stands, b.stands) && len(creators(b)) > 0 {
		why = fmt.Sprintf("its branches may be created from what %s hold, and those are more now", grammar.Shown(held(b)))
	}
	c.unless(why, b.LineOf("branches"), what+"branches", list(a.stands), list(b.stands), !covers(b.stands, a.stands))
	c.differ(b.LineOf("tags"), what+"tags", list(a.TagText), list(b.TagText), !covers(b.TagText, a.TagText))
	c.repositories(b.LineOf("repositories"), what, a.RepoText, b.RepoText)
	c.differ(b.LineOf("push"), what+"push", who(a.Push), who(b.Push), !grammar.Within(b.Push, a.Push))
	c.differ(b.LineOf("create"), what+"create", who(creators(a)), who(creators(b)), !grammar.Within(creators(b), creators(a)))
	if a.FromText != nil || b.FromText != nil {
		c.differ(b.LineOf("create_from"), what+"create_from", list(held(a)), list(held(b)), !covers(held(a), held(b)))
	}
	c.differ(b.LineOf("rewrite"), what+"rewrite", word(string(a.Rewrite)), word(string(b.Rewrite)),
		b.Rewrite == Allowed)
	c.differ(b.LineOf("delete"), what+"delete", word(string(a.Delete)), word(string(b.Delete)), b.Delete == Allowed)
	c.differ(b.LineOf("exempt"), what+"exempt", who(a.Exempt), who(b.Exempt), !grammar.Within(b.Exempt, a.Exempt))
	c.differ(b.LineOf("waive"), what+"waive", who(a.Waive), who(b.Waive), !grammar.Within(b.Waive, a.Waive))
	c.differ(b.LineOf("after_push.approvals_stay"), what+"approvals_stay", word(string(a.ApprovalsStay)),
		word(string(b.ApprovalsStay)), slices.Index(require.Stays, b.ApprovalsStay) > slices.Index(require.Stays, a.ApprovalsStay))
	c.differ(b.LineOf("after_push.objections_stay"), what+"objections_stay", word(string(a.ObjectionsStay)),
		word(string(b.ObjectionsStay)), slices.Index(require.Stays, b.ObjectionsStay) < slices.Index(require.Stays, a.ObjectionsStay))
	c.landing(what, a, b)
	c.queues(what, a, b)
	c.requirements(what, a.Require, b.Require)
}

// held are the globs of the branches of which one has to hold what a branch of a protection is created from.
func held(p *Protection) []string {
	if p.FromText != nil {
		return p.fromStands
	}
	return p.stands
}

// creators lists who may create a branch of a protection.
func creators(p *Protection) []people.Principal {
	if p.Create == nil {
		return p.Push
	}
	return p.Create
}

func (c *comparison) landing(what string, a, b *Protection) {
	c.differ(b.LineOf("land.who"), what+"land.who", landers(a), landers(b), a.LandBy != nil &&
		(b.LandBy == nil || !grammar.Within(b.LandBy, a.LandBy)))
	why := ""
	if another(a.allows(), b.allows()) {
		why = strategyWhy
	}
	c.unless(why, b.LineOf("land.strategies"), what+"land.strategies", list(a.allows()), list(b.allows()),
		!grammar.Within(b.allows(), a.allows()))
	c.unless(strategyWhy, b.LineOf("land.default"), what+"land.default", word(string(a.Default)),
		word(string(b.Default)), false)
	c.unless(messageWhy, b.LineOf("land.message"), what+"land.message", word(a.Message), word(b.Message), false)
	c.differ(b.LineOf("land.trailers"), what+"land.trailers", list(a.Trailers), list(b.Trailers), false)
	stated := func(p *bool) value {
		if p == nil {
			return value{}
		}
		return truth(*p)
	}
	early := func(p *Protection) bool { return p.JoinEarly == nil || *p.JoinEarly }
	c.differ(b.LineOf("land.delete_source"), what+"land.delete_source", stated(a.DeleteSource), stated(b.DeleteSource),
		false)
	c.differ(b.LineOf("land.join_early"), what+"land.join_early", truth(early(a)), truth(early(b)), early(b))
	c.differ(b.LineOf("land.undo_first"), what+"land.undo_first", stated(a.UndoFirst), stated(b.UndoFirst), false)
	drops := func(p *Protection) bool { return p.DropEmpty == nil || *p.DropEmpty }
	c.differ(b.LineOf("land.drop_empty"), what+"land.drop_empty", truth(drops(a)), truth(drops(b)), drops(b))
}

// queues compares what is said of a queue: how it is rehearsed is nobody's permission; what may pass with another try, what lands
// without having been tested as it lands, and what lands after a push without anybody's asking anew, is.
func (c *comparison) queues(what string, a, b *Protection) {
	number := func(n, none int) value {
		if n == none {
			return value{}
		}
		return word(fmt.Sprint(n))
	}
	line := func(key string) (int, string) { return b.LineOf("queue." + key), what + "queue." + key }
	p, q := &a.Queue, &b.Queue
	at, key := line("planner")
	c.differ(at, key, word(string(cmp.Or(p.Planner, queue.Adaptive))), word(string(cmp.Or(q.Planner, queue.Adaptive))), false)
	at, key = line("slots")
	c.differ(at, key, number(p.Slots, 0), number(q.Slots, 0), false)
	at, key = line("reruns")
	c.differ(at, key, number(p.Reruns, -1), number(q.Reruns, -1), q.Reruns > p.Reruns)
	at, key = line("tests")
	c.differ(at, key, word(string(p.Tests)), word(string(q.Tests)), q.Tests == ByArea)
	at, key = line("on_push")
	was, now := cmp.Or(p.OnPush, queue.Stays), cmp.Or(q.OnPush, queue.Stays)
	c.differ(at, key, word(string(was)), word(string(now)), slices.Index(onPushes, now) > slices.Index(onPushes, was))
	raisers := func(q *Queue) value {
		if q.Urgent == nil {
			return value{}
		}
		return who(q.Urgent)
	}
	at, key = line("urgent")
	c.differ(at, key, raisers(p), raisers(q), false)
}

// longerWhy says how a longer timeout may loosen.
const longerWhy = "what ran out of time may pass with more of it"

// How a default that seems to ask nothing may loosen.
const (
	strategyWhy = "what is asked of commits and messages depends on the strategy, which is this one where nobody " +
		"says another"
	messageWhy = "what is asked of messages is judged by what it makes"
)

// allows lists the strategies that a protection allows.
func (p *Protection) allows() []change.Strategy {
	if len(p.With) == 0 {
		return change.Strategies
	}
	return p.With
}

// another says whether fewer strategies may change the one that is taken where nobody says one, which is the first that
// all protections allow. change.Merge asks at least what each of the others asks, but for change.Fold, by which other messages
// come; what others allow is not known, and so each possibility is gone through.
func another(was, now []change.Strategy) bool {
	for others := range 1 << len(change.Strategies) {
		first := func(list []change.Strategy) change.Strategy {
			for i, s := range change.Strategies {
				if others&(1<<i) != 0 && slices.Contains(list, s) {
					return s
				}
			}
			return ""
		}
		if before, after := first(was), first(now); before != after && before != "" && after != "" && (after != change.Merge || before == change.Fold) {
			return true
		}
	}
	return false
}

func landers(p *Protection) value {
	if p.LandBy == nil {
		return value{}
	}
	return who(p.LandBy)
}

func (c *comparison) requirements(what string, was, now []require.Requirement) {
	same := func(list []require.Requirement, r require.Requirement) bool {
		return slices.ContainsFunc(list, func(o require.Requirement) bool { return o.SameAs(&r) && o.Level == r.Level })
	}
	for _, r := range was {
		if !same(now, r) {
			held := r.Level == require.Advisory || slices.ContainsFunc(now,
				func(n require.Requirement) bool { return n.AtLeast(r) })
			c.differ(r.Line, what+"require", value{"was", r.Sentence()}, value{}, !held)
		}
	}
	for _, r := range now {
		if !same(was, r) {
			c.differ(r.Line, what+"require", value{}, value{"now", r.Sentence()}, false)
		}
	}
}

// covers says whether globs are seen to match at least what others match: they hold every pattern of theirs and take
// out nothing more.
func covers(now, was []string) bool {
	out := func(s string) bool { return strings.HasPrefix(s, "!") }
	return !slices.ContainsFunc(was, func(p string) bool {
		return !out(p) && !slices.Contains(now, p) &&
			!slices.Contains(now, "**")
	}) &&
		!slices.ContainsFunc(now, func(p string) bool { return out(p) && !slices.Contains(was, p) })
}
