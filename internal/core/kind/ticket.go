package kind

import (
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strings"

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
	},
	Judged: "the parts of the change that in names, as they are now", Gone: "-",
	New: func() require.Ask { return &ticket{in: parts} },
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

// ticket asks that a ticket is referred to.
type ticket struct {
	pattern
	in   []part
	link string // with {ticket} in it; empty: none
}

func (t *ticket) Read(r *grammar.Reader, f grammar.Field) {
	switch f.Name {
	case "in":
		t.in = grammar.SomeOf(r, f, parts...)
	case "link":
		t.link = r.Text(f)
		u, err := url.Parse(strings.ReplaceAll(t.link, ticketPlace, "x"))
		if err != nil || u.Scheme != "https" && u.Scheme != "http" || u.Host == "" || !strings.HasPrefix(t.link, u.Scheme+"://"+u.Host) ||
			!strings.Contains(t.link, ticketPlace) {
			r.Bad(f.Value, fmt.Sprintf("%q is no address with %s in it", t.link, ticketPlace), "link: \"https://tickets.example/{ticket}\"")
		}
	default:
		t.pattern.Read(r, f)
	}
}

func (t *ticket) Identity() string { return t.pattern.Identity() + "|" + grammar.Set(t.in) }

func (t *ticket) Title() string {
	where := ""
	if len(t.in) < len(parts) {
		where = " in its " + grammar.Either(grammar.Texts(t.in))
	}
	return fmt.Sprintf("a ticket is referred to%s (%s)", where, t.matches)
}

func (t *ticket) Words() string { return t.Title() }

func (t *ticket) AtLeast(other require.Ask) bool {
	o := other.(*ticket)
	return t.matches.String() == o.matches.String() && grammar.Within(t.in, o.in)
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
	for _, in := range t.in {
		var texts []string
		switch in {
		case inTitle:
			texts = []string{c.Facts.Title}
		case inDescription:
			texts = []string{c.Description}
		case inBranch:
			texts = []string{c.Source}
		case inCommits:
			for _, commit := range c.Commits {
				texts = append(texts, commit.Message)
			}
		}
		if slices.ContainsFunc(texts, t.matches.MatchString) {
			r.Have = 1
			c.Say(r, q)
			return
		}
	}
	r.State, r.Lacks = require.Missing, "no ticket named"
	r.Next = fmt.Sprintf("name the ticket in the %s", require.List(grammar.Texts(t.in), "or"))
	if t.example != "" {
		r.Next += fmt.Sprintf(", such as %q", t.example)
	}
	if slices.Contains(t.in, inTitle) {
		r.Do(require.DoEditTitle, c.ThisChange())
	}
	if slices.Contains(t.in, inDescription) {
		r.Do(require.DoEditDescription, c.ThisChange())
	}
	if len(r.Steps) == 0 {
		c.MendedBy(&r, require.DoReword)
	}
	c.Say(r, q)
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
				out[name] = strings.ReplaceAll(t.link, ticketPlace, url.PathEscape(name))
			}
		}
	}
	return out
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
