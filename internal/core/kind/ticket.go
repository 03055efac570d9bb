package kind

import (
	"cmp"
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"

	"tavrin/internal/core/change"
	"tavrin/internal/core/grammar"
	"tavrin/internal/core/require"
)

var _ = register(require.Kind{
	Name: "ticket", Group: require.OfDiscussion, Order: 3, ByDescription: true,
	Keys: []grammar.Key{
		{Path: "ticket", Shape: grammar.Expression,
			Means:  "a ticket is referred to: some part of the change matches the regular expression",
			Absent: "-", Together: require.Conjunction, Example: "ticket: \"FEN-[0-9]+\""},
		{Path: "in", Shape: grammar.Words, Allowed: grammar.Texts(parts), Means: "where the ticket may be referred to",
			Absent: "anywhere", Together: require.PartOf, Example: "in: [title, commits]"},
		exampleKey,
		{Path: "link", Shape: grammar.Text, Means: "where a ticket leads: an address in which {ticket} stands for it", Absent: "tickets are shown without a link",
			Together: require.PartOf, Example: "link: \"https://tickets.example/{ticket}\"", Else: "where a ticket leads"},
		{Path: "tracker", Shape: grammar.Word, Allowed: grammar.Texts(asked), Means: "what the house's tracker has to say of one of the tickets referred to: " +
			"that it exists, or that it is open", Absent: "the tracker is not asked", Together: "the stricter", Example: "tracker: open"},
		{Path: "max_age", Shape: grammar.Duration, High: 720, Means: "how long an answer of the tracker counts: from 1m to 720h", Absent: "1h",
			Together: "the shorter", Example: "max_age: 12h"},
	},
	Judged: "the parts of the change that in names, as they are now, and the tracker's newest answers",
	Gone:   "the house has no tracker, or it does not answer: not met",
	New:    func() require.Ask { return &ticket{in: parts} },
})

// part is a part of a change in which a ticket may be referred to.
type part string

const (
	inTitle       part = "title"
	inDescription part = "description"
	inBranch      part = "branch"
	inCommits     part = "commits"
)

var parts = []part{inTitle, inDescription, inBranch, inCommits}

// answer is what a tracker is asked to say of a ticket.
type answer string

const (
	exists answer = "exists"
	open   answer = "open"
)

// asked are the answers, the stricter later.
var asked = []answer{exists, open}

// answerCounts is how long an answer counts where no rule says it.
const answerCounts = time.Hour

// MaxAsked is of how many tickets of a change a tracker is asked: those named first.
const MaxAsked = 20

// ticket asks that a ticket is referred to, and what a tracker says of it.
type ticket struct {
	pattern
	in      []part
	link    string // with {ticket} in it; empty: none
	tracker answer // empty: it is not asked
	maxAge  time.Duration
}

func (t *ticket) Read(r *grammar.Reader, f grammar.Field) {
	switch f.Name {
	case "in":
		t.in = grammar.SomeOf(r, f, parts...)
	case "link":
		t.link = r.Text(f)
		if wrong := ValidTicketAddress(t.link); wrong != "" {
			r.Bad(f.Value, wrong, "link: \"https://tickets.example/{ticket}\"")
		}
	case "tracker":
		t.tracker = grammar.OneOf(r, f, asked...)
	case "max_age":
		t.maxAge = require.MaxAge(r, f)
	default:
		t.pattern.Read(r, f)
	}
}

// Complete tells of an age of answers that nobody asks for.
func (t *ticket) Complete(r *grammar.Reader, n ast.Node) {
	t.pattern.Complete(r, n)
	if t.maxAge > 0 && t.tracker == "" {
		r.Bad(n, "max_age is for the answer of a tracker, and none is asked", "tracker: open, or no max_age")
	}
}

func (t *ticket) Ages() bool { return t.tracker != "" }

// counts is how long an answer counts; 0: for ever, for none is asked for.
func (t *ticket) counts() time.Duration {
	if t.tracker == "" {
		return 0
	}
	return cmp.Or(t.maxAge, answerCounts)
}

func (t *ticket) Identity() string {
	return fmt.Sprintf("%s|%s|%s|%d", t.pattern.Identity(), grammar.Set(t.in), t.tracker, t.counts())
}

func (t *ticket) Title() string {
	where, says := "", ""
	if len(t.in) < len(parts) {
		where = " in its " + grammar.Either(grammar.Texts(t.in))
	}
	switch t.tracker {
	case exists:
		says = " that the tracker knows"
	case open:
		says = " that is open in the tracker"
	}
	if says != "" {
		says += ", asked not longer ago than " + grammar.Brief(t.counts())
	}
	return fmt.Sprintf("a ticket is referred to%s (%s)%s", where, t.matches, says)
}

func (t *ticket) Words() string { return t.Title() }

func (t *ticket) AtLeast(other require.Ask) bool {
	o := other.(*ticket)
	return t.matches.String() == o.matches.String() && grammar.Within(t.in, o.in) &&
		slices.Index(asked, t.tracker) >= slices.Index(asked, o.tracker) && require.Younger(t.counts(), o.counts())
}

func (t *ticket) Join(same require.Ask) require.Ask {
	joined := *t
	joined.example = require.FirstSaid(t.example, same.(*ticket).example)
	joined.link = require.FirstSaid(t.link, same.(*ticket).link)
	return &joined
}

func (t *ticket) Judge(c *require.Case, q require.Sourced) {
	r := q.Outcome("ticket")
	r.Need, r.Who = 1, c.Authors
	switch {
	case !slices.ContainsFunc(t.texts(c.Facts), t.matches.MatchString):
		r.State, r.Lacks = require.Missing, "no ticket named"
		t.mended(c, &r, "name the ticket in the %s")
	case t.tracker == "":
		r.Have = 1
	default:
		t.judgeAnswers(c, &r)
	}
	c.Say(r, q)
}

// mended says how the authors refer to a ticket; the words have a place for the parts in which they may.
func (t *ticket) mended(c *require.Case, r *require.Outcome, words string) {
	r.Next = fmt.Sprintf(words, require.List(grammar.Texts(t.in), "or"))
	if t.example != "" {
		r.Next += fmt.Sprintf(", such as %q", t.example)
	}
	title, description := slices.Contains(t.in, inTitle), slices.Contains(t.in, inDescription)
	if title {
		r.Do(require.DoEditTitle, c.ThisChange())
	}
	if description {
		r.Do(require.DoEditDescription, c.ThisChange())
	}
	if !title && !description {
		c.MendedBy(r, require.DoReword)
	}
}

// judgeAnswers judges by what the tracker said of the tickets named. One good answer is enough; where there is none, what
// is not known yet is waited for, before anybody is told to name another ticket.
func (t *ticket) judgeAnswers(c *require.Case, r *require.Outcome) {
	if c.Tracker == "" {
		r.State, r.Lacks, r.Who = require.Missing, "the house has no tracker to ask", nil
		r.Next = "a maintainer of the house names one (tavrin tracker set), or the rules do not ask it"
		c.AskMaintainers(r)
		return
	}
	var awaited, wrong []string
	for _, name := range t.named(c.Facts, MaxAsked) {
		said := c.Ticket(name)
		old := !c.At.IsZero() && c.At.Sub(said.At) > t.counts()
		switch {
		case said.State == change.TicketNotAsked:
			awaited = append(awaited, "no answer yet about "+name)
		case old:
			awaited = append(awaited, fmt.Sprintf("the answer about %s is %s old, more than %s", name, grammar.Brief(c.At.Sub(said.At).Truncate(time.Second)),
				grammar.Brief(t.counts())))
		case said.State == change.TicketOpen, said.State == change.TicketClosed && t.tracker == exists:
			r.Have = 1
			return
		case said.State == change.TicketClosed:
			wrong = append(wrong, name+" is closed")
			continue
		default:
			wrong = append(wrong, "there is no "+name)
			continue
		}
		if said.Trouble != "" {
			awaited[len(awaited)-1] += " (" + said.Trouble + ")"
		}
	}
	r.AnybodyDo(require.DoAskTracker, c.ThisChange())
	if len(awaited) > 0 {
		r.State, r.Who = require.Pending, []string{}
		r.Lacks = require.Few(awaited, "and")
		r.Next = fmt.Sprintf("%s is asked again by itself", c.Tracker)
		return
	}
	r.State, r.Lacks = require.Missing, fmt.Sprintf("%s says that %s", c.Tracker, require.Few(wrong, "and"))
	t.mended(c, r, "open it there, or name another ticket in the %s")
}

// texts are the parts of a change in which it is looked.
func (t *ticket) texts(f change.Facts) []string {
	var texts []string
	for _, in := range t.in {
		switch in {
		case inTitle:
			texts = append(texts, f.Title)
		case inDescription:
			texts = append(texts, f.Description)
		case inBranch:
			texts = append(texts, f.Source)
		case inCommits:
			for _, commit := range f.Commits {
				texts = append(texts, commit.Message)
			}
		}
	}
	return texts
}

// named lists the tickets that a change refers to where the rule looks, at most so many.
func (t *ticket) named(f change.Facts, most int) []string {
	var out []string
	for _, text := range t.texts(f) {
		for _, found := range t.matches.FindAllString(text, 10*most) {
			if found = strings.TrimSpace(found); found != "" && !slices.Contains(out, found) && len(out) < most {
				out = append(out, found)
			}
		}
	}
	return out
}

// Wanted is a ticket of which a tracker is to be asked, and how often: an answer counts for so long.
type Wanted struct {
	Ticket string
	MaxAge time.Duration
}

// WantedTickets lists the tickets of a change of which the requirements want an answer of the tracker.
func WantedTickets(all []require.Sourced, f change.Facts) []Wanted {
	var out []Wanted
	for _, q := range all {
		t, is := q.Asks.(*ticket)
		if !is || t.tracker == "" {
			continue
		}
		for _, name := range t.named(f, MaxAsked) {
			i := slices.IndexFunc(out, func(w Wanted) bool { return w.Ticket == name })
			if i < 0 {
				out = append(out, Wanted{name, t.counts()})
			} else {
				out[i].MaxAge = min(out[i].MaxAge, t.counts())
			}
		}
	}
	return out
}

// Lint warns of an expression that is bound to the ends of texts that may be long.
func (t *ticket) Lint(l require.Lint, q *require.Requirement) {
	text := t.matches.String()
	bound := strings.HasPrefix(text, "^") || strings.HasSuffix(text, "$") && !strings.HasSuffix(text, `\$`)
	if bound && (slices.Contains(t.in, inDescription) || slices.Contains(t.in, inCommits)) {
		l.Fragile(q.Line, "leave out ^ and $, begin it with (?m), or say in: title",
			"%s: the ticket's expression %s is bound to the ends of the whole text, and descriptions and messages "+
				"have many lines", l.What(), text)
	}
}

// commonTicket is how many trackers write their tickets.
var commonTicket = regexp.MustCompile(`\b[A-Z][A-Z0-9]{1,9}-[0-9]{1,7}\b`)

// Tickets lists the tickets that a change refers to, in the order in which they are named: what the patterns of the
// requirements match in the title, description, source branch and messages; where there are none, what looks like one.
func Tickets(all []require.Sourced, f change.Facts) []string {
	var patterns []*regexp.Regexp
	for _, q := range all {
		if t, is := q.Asks.(*ticket); is {
			patterns = append(patterns, t.matches)
		}
	}
	if len(patterns) == 0 {
		patterns = []*regexp.Regexp{commonTicket}
	}
	texts := []string{f.Title, f.Description, f.Source}
	for _, c := range f.Commits {
		texts = append(texts, c.Message)
	}
	out := []string{}
	for _, text := range texts {
		for _, p := range patterns {
			for _, found := range p.FindAllString(text, 50) {
				if found = strings.TrimSpace(found); found != "" && !slices.Contains(out, found) && len(out) < 50 {
					out = append(out, found)
				}
			}
		}
	}
	return out
}

// ticketPlace stands for a ticket in a link.
const ticketPlace = "{ticket}"

// TicketLinks says where tickets lead, of those for which a requirement says so.
func TicketLinks(all []require.Sourced, tickets []string) map[string]string {
	out := map[string]string{}
	for _, q := range all {
		t, is := q.Asks.(*ticket)
		if !is || t.link == "" {
			continue
		}
		for _, name := range tickets {
			if _, known := out[name]; !known && t.matches.MatchString(name) {
				out[name] = TicketAddress(t.link, name)
			}
		}
	}
	return out
}

// TicketAddress is the address of a ticket, from one in which {ticket} stands for it. Nothing that a ticket is called leads
// out of its place, be it in the path or in the query.
func TicketAddress(template, ticket string) string {
	return strings.ReplaceAll(template, ticketPlace, strings.ReplaceAll(url.QueryEscape(ticket), "+", "%20"))
}

// ValidTicketAddress says why an address is none in which a ticket has its place; empty: it is one.
func ValidTicketAddress(template string) string {
	u, err := url.Parse(strings.ReplaceAll(template, ticketPlace, "x"))
	if err != nil || u.Scheme != "https" && u.Scheme != "http" || u.Host == "" || !strings.HasPrefix(template, u.Scheme+"://"+u.Host+"/") ||
		!strings.Contains(template, ticketPlace) {
		return fmt.Sprintf("%q is no address with %s in it", template, ticketPlace)
	}
	return ""
}

// pattern is an expression to match, and an example of what does. Kinds embed it.
type pattern struct {
	matches *regexp.Regexp
	example string // for the refusal
}

var exampleKey = grammar.Key{Path: "example", Shape: grammar.Text, Means: "one that fits, for the refusal",
	Absent: "the refusal shows the expression alone", Together: require.PartOf, Example: "example: \"valves: open slowly\"",
	Else: "what a refusal shows"}

// Read reads the expression, or the example.
func (p *pattern) Read(r *grammar.Reader, f grammar.Field) {
	if f.Name == "example" {
		p.example = r.Text(f)
		return
	}
	p.matches = r.Expression(f)
}

// Complete tells of an example that is none.
func (p *pattern) Complete(r *grammar.Reader, n ast.Node) {
	if p.example != "" && p.matches != nil && !p.matches.MatchString(p.example) {
		r.Bad(n, fmt.Sprintf("the example %q does not match the expression %s", p.example, p.matches), "one that does")
	}
}

// Identity is the expression.
func (p *pattern) Identity() string {
	if p.matches == nil {
		return ""
	}
	return fmt.Sprintf("%q", p.matches.String())
}
