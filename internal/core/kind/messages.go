package kind

import (
	"fmt"
	"strings"

	"tavrin/internal/core/change"
	"tavrin/internal/core/grammar"
	"tavrin/internal/core/people"
	"tavrin/internal/core/require"
)

var _ = register(require.Kind{
	Name: "messages", Group: require.OfContent, Order: 4, OnPush: true, ByDescription: true,
	Keys: []grammar.Key{
		{Path: "messages", Shape: grammar.Expression,
			Means:  "every message that comes to the branch, by landing or by push, matches the regular expression",
			Absent: "-", Together: require.Conjunction, Example: "messages: \"^[a-z-]+: .+\""},
		exampleKey,
	},
	Judged: "each commit's that comes, and the final one of a strategy that writes one, as they land but for " +
		"the trailers that the service and land.trailers add; of a push each commit's",
	Gone: "-",
	New:  func() require.Ask { return &messages{} },
})

// messages asks that every message that comes matches.
type messages struct{ pattern }

func (m *messages) Title() string { return fmt.Sprintf("every message matches %s", m.matches) }

func (m *messages) Words() string {
	if m.example != "" {
		return fmt.Sprintf("%s, such as %q", m.Title(), m.example)
	}
	return m.Title()
}

func (m *messages) AtLeast(other require.Ask) bool {
	return m.matches.String() == other.(*messages).matches.String()
}

func (m *messages) Join(same require.Ask) require.Ask {
	joined := *m
	joined.example = require.FirstSaid(m.example, same.(*messages).example)
	return &joined
}

// Judge judges every message that the landing would bring to the target.
func (m *messages) Judge(c *require.Case, q require.Sourced) {
	r := q.Outcome("messages")
	var wrong []string
	ofFinal := false
	if c.LandsBy.Keeps() {
		for _, commit := range coming(c) {
			r.Need++
			if m.matches.MatchString(commit.Message) {
				r.Have++
			} else {
				wrong = append(wrong, fmt.Sprintf("%.10s %q", commit.ID, commit.Subject()))
			}
		}
	}
	if c.LandsBy.Final() {
		r.Need++
		text := c.Final()
		subject, _, _ := strings.Cut(text, "\n")
		switch {
		case c.Message == "" && c.Disputed: // else one more template could open the gate
			wrong = append(wrong, "the final message, on which the protections disagree")
		case m.matches.MatchString(text):
			r.Have++
		default:
			wrong, ofFinal = append(wrong, fmt.Sprintf("the final message %q", subject)), true
		}
	}
	if len(wrong) > 0 {
		r.Lacks = require.Count(len(wrong), "message") + " not of the form asked for"
		r.Next = m.unfit(wrong)
		if ofFinal {
			r.Do(require.DoEditTitle, c.ThisChange())
		}
		if len(wrong) > 1 || !ofFinal {
			c.MendedBy(&r, require.DoReword)
		}
		r.State, r.Who = require.Missing, c.Authors
	}
	c.Say(r, q)
}

// unfit says which messages do not match, and what would.
func (m *messages) unfit(wrong []string) string {
	text := fmt.Sprintf("%s: not of the form %s", require.Few(wrong, "and"), m.matches)
	if m.example != "" {
		text += fmt.Sprintf("; one that fits is %q", m.example)
	}
	return text
}

func (m *messages) OnPush(commits []change.Commit, _ people.Everyone) (short, sentence string) {
	var wrong []string
	for _, c := range commits {
		if !m.matches.MatchString(c.Message) {
			wrong = append(wrong, fmt.Sprintf("%.10s %q", c.ID, c.Subject()))
		}
	}
	if len(wrong) == 0 {
		return "", ""
	}
	return "a message is not of the form asked for", m.unfit(wrong) + "."
}

// LintOn warns of a template of the final message that cannot fit.
func (m *messages) LintOn(b require.BranchLint, q require.Sourced) {
	made := b.Settings().Template
	title, _, _ := strings.Cut(m.example, "\n")
	if made == "" || title == "" && strings.Contains(made, "{title}") {
		return // it depends on the title
	}
	if !m.matches.MatchString(strings.TrimSpace(b.Filled(made, title))) {
		b.Fragile(q.From, "make them fit", "%s: the message %q does not fit the messages that are asked for, %s",
			b.Branch(), made, m.matches)
	}
}
