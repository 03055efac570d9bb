package require

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"tavrin/internal/core/change"
	"tavrin/internal/core/grammar"
	"tavrin/internal/core/people"
)

// Exclusion names somebody whose approval does not count.
type Exclusion string

// The exclusions.
const (
	NotAuthor       Exclusion = "author"         // opener, whoever's push contributed, and registered addresses
	NotLastPusher   Exclusion = "last_pusher"    // the last to change the difference
	NotCommitAuthor Exclusion = "commit_authors" // whoever brought or wrote a commit in it; narrower than author
)

// Exclusions lists them.
var Exclusions = []Exclusion{NotAuthor, NotLastPusher, NotCommitAuthor}

// Pool says whose approvals are wanted: the title's words, and who is in it.
type Pool struct {
	Words  string // empty: everybody who may write
	From   []people.Principal
	Not    []Exclusion
	Newest bool // only approvals of the newest revision count
	Stay   Stay
	MaxAge time.Duration // how long an approval counts; 0: for ever
}

// readers are everybody with access.
var readers = []people.Principal{{Kind: people.ByRole, Name: string(people.Reader)}}

// Writers are whose approvals count where nobody in particular is named.
var Writers = []people.Principal{{Kind: people.ByRole, Name: string(people.Writer)}}

var maintainers = []people.Principal{{Kind: people.ByRole, Name: string(people.Maintainer)}}

// from names the pool after a number of approvals.
func (p Pool) from() string {
	if p.Words == "" {
		return ""
	}
	return " from " + p.Words
}

// placedPool is whose approvals the line at a place of the report wants.
type placedPool struct {
	at int
	Pool
}

// asking is equal for demands for approvals that ask the same.
type asking struct {
	what           string // the identity of the requirement; empty: the owners of an area
	area, document string
	count          int
	newest         bool
	not            [3]bool // for each of Exclusions
	stay           Stay
	maxAge         time.Duration
}

// asks is what a pool asks besides whose approvals they are.
func (p Pool) asks() asking {
	a := asking{newest: p.Newest, stay: p.Stay, maxAge: p.MaxAge}
	for i, x := range Exclusions {
		a.not[i] = slices.Contains(p.Not, x)
	}
	return a
}

// Approved judges one demand of a requirement for n approvals out of a pool.
func (c *Case) Approved(o Outcome, n int, p Pool, q Sourced) {
	c.approvedBy(o, asking{what: q.Identity(), stay: p.Stay}, n, p, q)
}

func (c *Case) approvedBy(o Outcome, asks asking, n int, p Pool, q Sourced) {
	if c.shownAlready(asks, o.Level, q.From) {
		return
	}
	o.State, o.Need = Missing, n
	c.pools = append(c.pools, placedPool{len(c.Outcomes), p})
	c.count(p)
	if o.Have = len(c.counted); o.Have >= n {
		o.State = Met
		c.Say(o, q)
		return
	}
	o.Who = c.couldApprove(p, c.counted, n-o.Have)
	if o.Lacks = "needs " + Count(n-o.Have, "approval"); o.Have > 0 {
		o.Lacks = strings.Replace(o.Lacks, " approval", " more approval", 1)
	}
	o.Lacks += p.from()
	if len(o.Who) > 0 {
		o.Do(DoApprove, Arguments{Change: c.Number, Revision: c.Revision})
	}
	switch could := len(o.Who); {
	case could >= n-o.Have:
		o.Next = fmt.Sprintf("%s could give %s", FewOr(o.Who), oneOrAll(n-o.Have, could))
	case could == 0:
		o.Next = "nobody could give one, so a maintainer has to add people or change the rule"
		c.AskMaintainers(&o)
	default:
		o.Next = fmt.Sprintf("only %s could give one, so a maintainer has to add people or change the rule", FewOr(o.Who))
		c.AskMaintainers(&o)
	}
	var notes []string
	for i := range c.given {
		if why := c.discount(&c.given[i], p); why != counts && why != notAsked {
			notes = append(notes, c.said(c.given[i].Review, p, why))
		}
	}
	if len(notes) > 0 {
		o.Next += " (" + strings.Join(notes, "; ") + ")"
	}
	c.Say(o, q)
}

// count finds whose approvals count for a pool.
func (c *Case) count(p Pool) {
	c.counted = c.counted[:0]
	for i := range c.approvals() {
		if a := &c.given[i]; c.discount(a, p) == counts {
			a.counts, c.counted = true, append(c.counted, a.By)
		}
	}
}

// oneOrAll says how many approvals those who could give one could give.
func oneOrAll(missing, could int) string {
	switch {
	case missing == 1 || could == 1:
		return "it"
	case missing == could:
		return "them, all of them"
	}
	return "them"
}

// couldApprove lists those whose approval would count, by login; those on standby only where the others are too few.
func (c *Case) couldApprove(p Pool, counted []string, missing int) []string {
	among := c.People.Among(p.From)
	who := make([]string, 0, len(among))
	standby := 0
	for _, person := range among {
		if !c.mayApprove(person.Login, person, p) || slices.Contains(counted, person.Login) {
			continue
		}
		if person.Standby {
			standby++
		}
		who = append(who, person.Login)
	}
	if standby == 0 || len(who)-standby < missing {
		return who
	}
	return slices.DeleteFunc(who, func(login string) bool { return c.People.Named(login).Standby })
}

// mayApprove says whether a person's approval would count for a pool.
func (c *Case) mayApprove(login string, person people.Person, p Pool) bool {
	return !person.Robot && person.Role.AtLeast(people.Reader) && person.IsAny(p.From) && c.excluded(login, p.Not) == counts
}

// approval is an approval that stands, and who gave it.
type approval struct {
	*change.Review
	person people.Person
	known  bool // they have access
	counts bool // for a demand that was judged
}

// approvals lists the approvals that stand.
func (c *Case) approvals() []approval {
	if c.given == nil {
		c.given = make([]approval, 0, len(c.Reviews))
		for i := range c.Reviews {
			if r := &c.Reviews[i]; r.Verdict == change.Approve {
				person, known := c.People.Of(r.By)
				c.given = append(c.given, approval{Review: r, person: person, known: known})
			}
		}
	}
	return c.given
}

// discount is why an approval does not count for a pool.
type discount uint8

const (
	counts discount = iota
	notAsked
	leftTeam
	noAccess
	disabled
	byRobot
	byAuthor
	byCommitAuthor
	byLastPusher
	notNewest
	changedSince
	hiddenSince
	endedByPush
	tooOld
)

// discount says why an approval does not count, or that it does.
func (c *Case) discount(r *approval, p Pool) discount {
	switch {
	case r.Disabled:
		return disabled
	case !r.known:
		return noAccess
	case !r.person.IsAny(p.From):
		then := r.person
		if then.Teams = r.Teams; then.IsAny(p.From) {
			return leftTeam
		}
		return notAsked
	case r.person.Robot:
		return byRobot
	}
	if why := c.excluded(r.By, p.Not); why != counts {
		return why
	}
	if p.MaxAge > 0 && !r.At.IsZero() && !c.At.IsZero() && c.At.Sub(r.At) > p.MaxAge {
		return tooOld
	}
	switch stay := p.Stay; {
	case r.Revision == c.Revision:
		return counts
	case p.Newest:
		return notNewest
	case stay == StayAlways:
		return counts
	case stay == StayIfUnchanged && r.SameDifference && len(r.Hidden) > 0 && c.LandsBy.Keeps():
		return hiddenSince
	case stay == StayIfUnchanged && r.SameDifference:
		return counts
	case stay == StayIfUnchanged:
		return changedSince
	default:
		return endedByPush
	}
}

// said puts into words why an approval does not count.
func (c *Case) said(r *change.Review, p Pool, why discount) string {
	not := r.By + "'s approval does not count: "
	switch why {
	case noAccess:
		return not + "they have no access any more"
	case disabled:
		return not + "their account is disabled"
	case leftTeam:
		return not + "they have left the team since"
	case byRobot:
		return r.By + " is a robot, and robots do not approve"
	case byAuthor:
		return not + "an author of the change"
	case byCommitAuthor:
		return not + "they brought or wrote a commit of it"
	case byLastPusher:
		return not + "the last to push"
	case notNewest:
		return fmt.Sprintf("%s approved revision %d, and the newest is asked for", r.By, r.Revision)
	case changedSince:
		return fmt.Sprintf("%s approved revision %d, and the difference has changed since", r.By, r.Revision)
	case hiddenSince:
		return fmt.Sprintf("%s approved revision %d, and commits since touch %s, which the difference does not show",
			r.By, r.Revision, Few(r.Hidden, "and"))
	case endedByPush:
		return fmt.Sprintf("%s approved revision %d, and every push ends approvals here", r.By, r.Revision)
	case tooOld:
		return fmt.Sprintf("%s approved %s ago, and an approval counts for %s", r.By,
			grammar.Brief(c.At.Sub(r.At).Truncate(time.Minute)), grammar.Brief(p.MaxAge))
	case counts, notAsked:
	}
	return ""
}

func (c *Case) excluded(login string, not []Exclusion) discount {
	for _, x := range not {
		switch x {
		case NotAuthor:
			if slices.Contains(c.Authors, login) {
				return byAuthor
			}
		case NotCommitAuthor:
			if slices.Contains(c.CommitAuthors, login) {
				return byCommitAuthor
			}
		case NotLastPusher:
			if c.LastPusher == login {
				return byLastPusher
			}
		}
	}
	return counts
}

// Approvers lists whose approvals count, by login.
func (c *Case) Approvers() []string {
	if len(c.pools) == 0 {
		c.count(Pool{From: readers, Not: []Exclusion{NotAuthor}, Stay: c.ApprovalsStay})
	}
	out := []string{}
	for i := range c.given {
		if c.given[i].counts {
			out = append(out, c.given[i].By)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// Weighed is a review that stands, and what it does to the gate.
type Weighed struct {
	By       string         `json:"by"`
	Verdict  change.Verdict `json:"verdict" enum:"approve,object"`
	Revision int            `json:"revision"`
	For      []string       `json:"for" doc:"of an approval: the requirements it counts for; of an objection: those it holds up"`
	Not      []string       `json:"not" doc:"why it does not count, or not for everything"`
	// Since is what was altered of the change since, where its final message is made of that.
	Since []string `json:"since,omitempty" doc:"of an approval: what of the final message was altered after it was given"`
}

// Weigh says of each review that stands whether it counts, for what, and if not why not.
func (c *Case) Weigh() []Weighed {
	out := make([]Weighed, 0, len(c.Reviews))
	for _, r := range c.Reviews {
		w := Weighed{By: r.By, Verdict: r.Verdict, Revision: r.Revision, For: []string{}, Not: []string{}}
		if r.Verdict == change.Approve {
			c.weighApproval(r, &w)
		} else {
			c.weighObjection(r, &w)
		}
		out = append(out, w)
	}
	return out
}

func (c *Case) weighApproval(r change.Review, w *Weighed) {
	i := slices.IndexFunc(c.approvals(), func(a approval) bool { return a.By == r.By })
	asked := false
	for _, p := range c.pools {
		q := c.Outcomes[p.at]
		if q.State == NotAsked {
			continue
		}
		asked = true
		switch why := c.discount(&c.given[i], p.Pool); why {
		case counts:
			w.For = append(w.For, q.Title)
		case notAsked:
			w.Not = append(w.Not, fmt.Sprintf("%s: asked for from %s", q.Title, cmp.Or(p.Words, "those who may write")))
		default:
			if said := c.said(&r, p.Pool, why); !slices.Contains(w.Not, said) {
				w.Not = append(w.Not, said)
			}
		}
	}
	if !asked {
		w.Not = append(w.Not, "no approval is asked for here")
	}
	w.Since = c.alteredSince(r)
}

// alteredSince says what of the final message was altered after a review was given.
func (c *Case) alteredSince(r change.Review) []string {
	made := c.Template
	if !c.LandsBy.Final() || r.Title == "" {
		return nil
	}
	var out []string
	if r.Title != c.Facts.Title && strings.Contains(made, "{title}") {
		out = append(out, fmt.Sprintf("the title, of which the final message is made, was %q", r.Title))
	}
	if r.Description != c.Description && strings.Contains(made, "{description}") {
		out = append(out, "the description, of which the final message is made, was another")
	}
	return out
}

// StayOf is what a push does to the approvals that a requirement asks for. Approvals of another difference never count for
// what an area asks, whatever protections say of pushes, of which there may be none.
func (c *Case) StayOf(q Sourced) Stay {
	if q.Area != nil && c.ApprovalsStay == StayAlways {
		return StayIfUnchanged
	}
	return c.ApprovalsStay
}

// OwnersOf asks for n approvals by an area's owners, of whom a pool says what else is asked. An author who owns the area
// does not count for it, unless the pool says so.
func (c *Case) OwnersOf(t Area, n int, p Pool, q Sourced) {
	p.Words = "an owner of " + t.Named() + " (" + List(people.Texts(t.Owners), "or") + ")"
	p.From = t.Owners
	o := q.Outcome("owners/" + t.Name)
	o.Title = OwnersTitle(n, t) + p.Narrowed()
	asks := p.asks()
	asks.area, asks.document, asks.count = t.Name, t.Document, n
	c.approvedBy(o, asks, n, p, q)
}

// OwnersTitle names so many approvals by the owners of an area.
func OwnersTitle(n int, t Area) string { return Count(n, "approval") + " by an owner of " + t.Named() }

// Narrowed says in a title what a pool asks that is not always asked.
func (p Pool) Narrowed() string {
	text := ""
	if p.Newest {
		text += " on the newest revision"
	}
	if slices.Contains(p.Not, NotLastPusher) {
		text += ", not the last pusher's"
	}
	switch {
	case slices.Contains(p.Not, NotAuthor):
	case slices.Contains(p.Not, NotCommitAuthor):
		text += ", not that of who brought or wrote a commit"
	default:
		text += ", an author's own counting"
	}
	return text + MaxAgeWords(p.MaxAge)
}

// OfObjections notes that the line which is added next is one that objections hold up.
func (c *Case) OfObjections() { c.objections = append(c.objections, len(c.Outcomes)) }

// Stands says whether an objection outlived the pushes since.
func (c *Case) Stands(r change.Review) bool {
	switch c.ObjectionsStay {
	case StayNever:
		return r.Revision == c.Revision
	case StayIfUnchanged:
		return r.Revision == c.Revision || r.SameDifference
	case StayAlways:
	}
	return true
}

func (c *Case) weighObjection(r change.Review, w *Weighed) {
	asked := false
	for _, n := range c.objections {
		if q := c.Outcomes[n]; q.State != NotAsked {
			asked = true
			if c.Stands(r) {
				w.For = append(w.For, q.Title)
			}
		}
	}
	switch {
	case !asked:
		w.Not = append(w.Not, "the rules do not ask for objections to be resolved")
	case !c.Stands(r):
		w.Not = append(w.Not, fmt.Sprintf("it was for revision %d, and a push ends objections here", r.Revision))
	}
}
