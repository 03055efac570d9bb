package gate

import (
	"fmt"
	"slices"
	"strings"

	"tavrin/internal/core/change"
	"tavrin/internal/core/kind"
	"tavrin/internal/core/people"
	"tavrin/internal/core/require"
	"tavrin/internal/core/rules"
	"tavrin/internal/core/trailer"
)

// Obstacle is one thing that a direct push breaks: of which kind, where it is asked, in a few words and in a
// sentence.
type Obstacle struct {
	Kind     string
	From     require.Source
	Short    string
	Sentence string
}

// Claims says which commits carry a trailer that only the service writes although the records do not know them as
// landed.
func Claims(commits []change.Commit) []string {
	var claims []string
	for _, c := range commits {
		if c.Reserved != "" && !c.Landed {
			claims = append(claims, fmt.Sprintf("%.10s %q (%s)", c.ID, c.Subject(), c.Reserved))
		}
	}
	return claims
}

// Pushed says what a direct push would break of the requirements that hold for pushes too: linear history, messages
// and signatures, each with where it is asked and what to do. Commits are those the push brings to the branch. A
// condition is about changes, and a push is none: what stands beside one holds for every push.
func Pushed(e *rules.Effective, commits []change.Commit, known people.Everyone) []Obstacle {
	var out []Obstacle
	for _, q := range e.Requirements {
		pushed, holds := q.Asks.(require.Pushed)
		if !holds || q.Level != require.Required {
			continue
		}
		short, sentence := pushed.OnPush(commits, known)
		if short == "" {
			continue
		}
		if q.Narrowed() {
			sentence += " (Its condition is about changes; it holds for every push.)"
		}
		for _, from := range q.From {
			out = append(out, Obstacle{q.Kind.Name, from, short, sentence})
		}
	}
	return out
}

// FinalText is the text of the final message of a squash or merge, without trailers: as typed when somebody joined,
// else by the rules' template, else title and description.
func FinalText(e *rules.Effective, f change.Facts) string {
	text := f.Message
	if text == "" {
		text = rules.Fill(finalTemplate(e, f), placeholders(f))
	}
	return strings.TrimSpace(trailer.DropTyped(text))
}

// finalTemplate is what the final message is made from; empty when it was typed.
func finalTemplate(e *rules.Effective, f change.Facts) string {
	switch {
	case f.Message != "":
		return ""
	case e.Message.Value != "":
		return e.Message.Value
	}
	return "{title}\n\n{description}"
}

// Trailers are the rules' own trailers of the final message, filled in.
func Trailers(e *rules.Effective, f change.Facts) []string {
	var out []string
	for _, t := range e.Trailers {
		line := strings.Join(strings.Fields(rules.Fill(t.Value, placeholders(f))), " ") // a trailer is one line
		if trailer.Typed(line) == "" {
			out = append(out, line)
		}
	}
	return out
}

func placeholders(f change.Facts) map[string]string {
	return map[string]string{"title": f.Title, "description": f.Description, "number": fmt.Sprint(f.Number),
		"source": f.Source, "target": f.Target,
		"repository": f.Repository, "author": f.Opener}
}

// Tickets lists the tickets that a change refers to, by what the rules of its target ask for.
func Tickets(set *rules.Set, f change.Facts) []string {
	return kind.Tickets(set.For(f.Target).Requirements, f)
}

// Fewest finds the smallest set of people whose approvals would meet every requirement of approvals that is open; see
// require.Case.
func Fewest(set *rules.Set, f change.Facts) (logins []string, hopeless []string, exact bool) {
	_, j := judged(set, f, true)
	return j.Fewest()
}

// TicketLinks says where the tickets of a change lead, as far as the rules say so.
func TicketLinks(set *rules.Set, f change.Facts) map[string]string {
	return kind.TicketLinks(set.For(f.Target).Requirements, Tickets(set, f))
}

// WantedTickets lists the tickets of a change of which the rules of its target want an answer of the tracker.
func WantedTickets(set *rules.Set, f change.Facts) []kind.Wanted {
	return kind.WantedTickets(set.For(f.Target).Requirements, f)
}

// Touches is the part of the tree that a change touches, by the names of areas; everywhere: a path that it touches is in no area, so
// that nobody knows, or it touches none.
func Touches(set *rules.Set, f change.Facts) (areas []string, everywhere bool) {
	set = set.Without(f.Suspended)
	comes := Comes(set, f)
	for _, p := range comes {
		if len(set.AreasOf(p)) == 0 {
			return nil, true
		}
	}
	for _, area := range set.Touched(comes) {
		areas = append(areas, area.Name)
	}
	slices.Sort(areas)
	return areas, len(areas) == 0
}
