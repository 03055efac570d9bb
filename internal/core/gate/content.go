package gate

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"tavrin/internal/core/rules"
	"tavrin/internal/core/trailer"
)

// threads judges whether every discussion is settled, and by somebody whose settling counts.
func (j *judge) threads(q rules.Sourced) {
	r := Requirement{Key: "threads", Title: q.Title, Level: q.Level, State: Met, Need: len(j.f.Threads)}
	if len(j.f.Threads) == 0 {
		r.State, r.Next = NotApplicable, "there is no discussion to settle"
		j.add(r, q.From)
		return
	}
	var open []string
	for _, t := range j.f.Threads {
		person := j.f.People[t.SettledBy]
		switch {
		case t.SettledBy == "":
			open = append(open, fmt.Sprintf("%s's on %s", t.By, t.Where))
		case len(q.SettledBy) > 0 && !person.IsAny(q.SettledBy), len(q.SettledBy) == 0 && !person.Role.AtLeast(Writer):
			open = append(open, fmt.Sprintf("%s's on %s, which %s settled without the right to", t.By, t.Where,
				t.SettledBy))
		default:
			r.Have++
		}
	}
	if len(open) > 0 {
		r.State = Unmet
		r.Next = fmt.Sprintf("settle %s: tavrin thread list %d", few(open, "and"), j.f.Number)
		for login, p := range j.f.People {
			if p.IsAny(q.SettledBy) || len(q.SettledBy) == 0 && p.Role.AtLeast(Writer) && !p.Robot {
				r.Who = append(r.Who, login)
			}
		}
		slices.Sort(r.Who)
	}
	j.add(r, q.From)
}

func (j *judge) tasks(q rules.Sourced) {
	all, open := j.f.tasks()
	r := Requirement{Key: "tasks", Title: q.Title, Level: q.Level, State: Met, Have: all - len(open), Need: all}
	switch {
	case all == 0:
		r.State, r.Next = NotApplicable, "the description has no checklist"
	case len(open) > 0:
		r.State, r.Who = Unmet, j.f.Authors
		r.Next = fmt.Sprintf("still to do: %s; tick them in the description: tavrin change edit %d --description …",
			few(quoted(open), "and"), j.f.Number)
	}
	j.add(r, q.From)
}

func quoted(texts []string) []string {
	out := make([]string, len(texts))
	for i, t := range texts {
		if runes := []rune(t); len(runes) > 60 {
			t = string(runes[:60]) + "…"
		}
		out[i] = fmt.Sprintf("%q", t)
	}
	return out
}

func (j *judge) ticket(q rules.Sourced) {
	r := Requirement{Key: "ticket", Title: q.Title, Level: q.Level, State: Unmet, Need: 1, Who: j.f.Authors}
	for _, part := range q.In {
		var texts []string
		switch part {
		case rules.InTitle:
			texts = []string{j.f.Title}
		case rules.InDescription:
			texts = []string{j.f.Description}
		case rules.InBranch:
			texts = []string{j.f.Source}
		case rules.InCommits:
			for _, c := range j.f.Commits {
				texts = append(texts, c.Message)
			}
		}
		if slices.ContainsFunc(texts, q.Pattern.MatchString) {
			r.State, r.Have = Met, 1
			j.add(r, q.From)
			return
		}
	}
	r.Next = fmt.Sprintf("name the ticket in the %s", list(stringsOf(q.In), "or"))
	if q.Example != "" {
		r.Next += fmt.Sprintf(", such as %q", q.Example)
	}
	if slices.Contains(q.In, rules.InTitle) || slices.Contains(q.In, rules.InDescription) {
		r.Next += fmt.Sprintf(": tavrin change edit %d --title … or --description …", j.f.Number)
	}
	j.add(r, q.From)
}

// commonTicket is how many trackers write their tickets.
var commonTicket = regexp.MustCompile(`\b[A-Z][A-Z0-9]{1,9}-[0-9]{1,7}\b`)

// Tickets lists the tickets that a change refers to, in the order in which they are named: what the rules' patterns for
// its target match in the title, description, source branch and messages; where the rules state none, what looks like
// one.
func Tickets(set *rules.Set, f Facts) []string {
	var patterns []*regexp.Regexp
	for _, q := range set.For(f.Target).Requirements {
		if q.Demand == rules.Ticket {
			patterns = append(patterns, q.Pattern)
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

// forFolding matches the subject of a commit that is meant to be folded into another.
var forFolding = regexp.MustCompile(`^(fixup|squash|amend)! `)

// ForFolding says whether a commit of that message is meant to be folded into another.
func ForFolding(message string) bool { return forFolding.MatchString(message) }

func (j *judge) pathCase(q rules.Sourced) {
	r := Requirement{Key: "case", Title: q.Title, Level: q.Level, State: Met}
	var wrong []string
	for _, path := range j.f.Comes(j.strategy()) {
		if area, nearly := j.set.NearlyIn(path); nearly {
			wrong = append(wrong, fmt.Sprintf("%s (area %s)", path, area.Name))
		}
	}
	if len(wrong) > 0 {
		r.State, r.Who = Unmet, j.f.Authors
		r.Next = fmt.Sprintf("%s: written as the area writes it, or moved elsewhere", few(wrong, "and"))
	}
	j.add(r, q.From)
}

func (j *judge) fixups(q rules.Sourced) {
	r := Requirement{Key: "fixups", Title: q.Title, Level: q.Level, State: Met}
	strategy := j.strategy()
	if strategy.Folds() {
		r.State, r.Next = NotApplicable, fmt.Sprintf("%s leaves one commit, so that nothing is left to fold", strategy)
		j.add(r, q.From)
		return
	}
	var left []string
	for _, c := range j.f.Commits {
		if ForFolding(c.Message) {
			left = append(left, fmt.Sprintf("%.10s %q", c.ID, c.Subject()))
		}
	}
	if r.Have = len(left); r.Have > 0 {
		r.State, r.Who = Unmet, j.f.Authors
		r.Next = fmt.Sprintf("%s: fold with git rebase --interactive --autosquash %s and push", few(left, "and"),
			j.f.Target)
		if slices.Contains(j.effective.With, rules.Squash) {
			r.Next += ", or land by squash"
		}
	}
	j.add(r, q.From)
}

// strategy is the one the change lands by: the entry's, or what it would be if somebody joined without saying.
func (j *judge) strategy() rules.Strategy {
	if j.f.Strategy != "" {
		return j.f.Strategy
	}
	chosen, _, _ := j.effective.Choose("") // none where the rules leave it to whoever lands it
	return chosen
}

func (j *judge) history(q rules.Sourced) {
	r := Requirement{Key: "history", Title: q.Title, Level: q.Level, State: Met}
	if strategy := j.strategy(); !strategy.Straight() {
		var straight []string
		for _, s := range j.effective.With {
			if s.Straight() {
				straight = append(straight, string(s))
			}
		}
		r.State, r.Who = Unmet, j.f.Authors
		r.Next = fmt.Sprintf("by %s the branch would get a merge commit: join the queue with --strategy %s", strategy,
			list(straight, "or"))
		if len(straight) == 0 {
			r.Next = "only strategies that make a merge commit are allowed: a maintainer has to change the rules"
		}
	}
	j.add(r, q.From)
}

// messages judges every message that the landing would bring to the target.
func (j *judge) messages(q rules.Sourced) {
	r := Requirement{Key: "messages", Title: q.Title, Level: q.Level, State: Met}
	var wrong []string
	strategy := j.strategy()
	if strategy != rules.Squash {
		for _, c := range j.f.Commits {
			r.Need++
			message := c.Message
			if strategy == rules.Rebase { // which drops merge commits, and what only the service says
				message = strings.TrimSpace(trailer.Drop(message))
			}
			if q.Pattern.MatchString(message) || strategy == rules.Rebase && c.Parents > 1 {
				r.Have++
			} else {
				wrong = append(wrong, fmt.Sprintf("%.10s %q", c.ID, c.Subject()))
			}
		}
	}
	if strategy != rules.Rebase {
		r.Need++
		text := FinalText(j.effective, j.f)
		subject, _, _ := strings.Cut(text, "\n")
		switch {
		case j.f.Message == "" && j.effective.MessagesSaid > 1: // else one more template could open the gate
			wrong = append(wrong, "the final message, on which the protections disagree")
		case q.Pattern.MatchString(text):
			r.Have++
		default:
			wrong = append(wrong, fmt.Sprintf("the final message %q", subject))
		}
	}
	if len(wrong) > 0 {
		r.State, r.Who = Unmet, j.f.Authors
		r.Next = unfit(wrong, q.Requirement) + "; reword (git commit --amend, git rebase --interactive, or the " +
			"title of the change for a squash)"
	}
	j.add(r, q.From)
}

// unfit says which messages do not match, and what would.
func unfit(wrong []string, q rules.Requirement) string {
	text := fmt.Sprintf("%s: not of the form %s", few(wrong, "and"), q.Pattern)
	if q.Example != "" {
		text += fmt.Sprintf("; one that fits is %q", q.Example)
	}
	return text
}

func (j *judge) signed(q rules.Sourced) {
	r := Requirement{Key: "signed", Title: q.Title, Level: q.Level, State: Met, Need: len(j.f.Commits)}
	wrong := unsigned(j.f.Commits, j.f.People)
	if r.Have = len(j.f.Commits) - len(wrong); len(wrong) > 0 {
		r.State, r.Who, r.Next = Unmet, j.f.Authors, few(wrong,
			"and")+": sign the commits again with a registered key and push"
	}
	j.add(r, q.From)
}

// unsigned lists the commits without a signature that counts, each with why.
func unsigned(commits []Commit, people map[string]Person) []string {
	var wrong []string
	for _, c := range commits {
		why := "is " + c.Signature.State.Words()
		switch _, known := people[c.Signature.By]; {
		case c.Signature.State == BadlyMade:
			why = c.Signature.State.Words()
		case c.Signature.State != Good:
		case !known:
			why = "is signed by " + c.Signature.By + ", who has no access any more"
		default:
			continue
		}
		wrong = append(wrong, fmt.Sprintf("%.10s %s", c.ID, why))
	}
	return wrong
}

// Obstacle is one thing that a direct push breaks: of which demand, where it is asked, in a few words and in a
// sentence.
type Obstacle struct {
	Demand   rules.Demand
	From     rules.Source
	Short    string
	Sentence string
}

// Claims says which commits carry a trailer that only the service writes although the records do not know them as
// landed.
func Claims(commits []Commit) []string {
	var claims []string
	for _, c := range commits {
		if c.Reserved != "" && !c.Landed {
			claims = append(claims, fmt.Sprintf("%.10s %q (%s)", c.ID, c.Subject(), c.Reserved))
		}
	}
	return claims
}

// Pushed says what a direct push would break of the requirements that hold for pushes too: straight history, messages
// and signatures, each with where it is asked and what to do. Commits are those the push brings to the branch. A
// condition is about changes, and a push is none: what stands beside one holds for every push.
func Pushed(e *rules.Effective, commits []Commit, known map[string]Person) []Obstacle {
	var out []Obstacle
	for _, q := range e.Requirements {
		if q.Level != rules.Required {
			continue
		}
		short, sentence := "", ""
		switch q.Demand {
		case rules.History:
			for _, c := range commits {
				if c.Parents > 1 {
					short, sentence = "no merge commits", fmt.Sprintf("%.10s is a merge commit, and the history "+
						"stays straight: rebase, then push.", c.ID)
				}
			}
		case rules.Messages:
			var wrong []string
			for _, c := range commits {
				if !q.Pattern.MatchString(c.Message) {
					wrong = append(wrong, fmt.Sprintf("%.10s %q", c.ID, c.Subject()))
				}
			}
			if len(wrong) > 0 {
				short, sentence = "a message is not of the form asked for", unfit(wrong, q.Requirement)+"."
			}
		case rules.Signed:
			if wrong := unsigned(commits, known); len(wrong) > 0 {
				short, sentence = "a commit is not signed", few(wrong, "and")+"."
			}
		case rules.Approvals, rules.Owners, rules.Objections, rules.Threads, rules.Tasks, rules.Ticket, rules.PathCase, rules.Fixups, rules.Checks, rules.Deployment:
		}
		if short != "" && q.When != nil {
			sentence += " (Its condition is about changes; it holds for every push.)"
		}
		for _, from := range q.From {
			if short != "" {
				out = append(out, Obstacle{q.Demand, from, short, sentence})
			}
		}
	}
	return out
}

// FinalText is the text of the final message of a squash or merge, without trailers: as typed when somebody joined,
// else by the rules' template, else title and description.
func FinalText(e *rules.Effective, f Facts) string {
	text := f.Message
	if text == "" {
		text = rules.Fill(finalTemplate(e, f), f.placeholders())
	}
	return strings.TrimSpace(trailer.DropTyped(text))
}

// finalTemplate is what the final message is made from; empty when it was typed.
func finalTemplate(e *rules.Effective, f Facts) string {
	switch {
	case f.Message != "":
		return ""
	case e.Message.Value != "":
		return e.Message.Value
	}
	return "{title}\n\n{description}"
}

// Trailers are the rules' own trailers of the final message, filled in.
func Trailers(e *rules.Effective, f Facts) []string {
	var out []string
	for _, t := range e.Trailers {
		line := strings.Join(strings.Fields(rules.Fill(t.Value, f.placeholders())), " ") // a trailer is one line
		if trailer.Typed(line) == "" {
			out = append(out, line)
		}
	}
	return out
}

func (f Facts) placeholders() map[string]string {
	return map[string]string{"title": f.Title, "description": f.Description, "number": fmt.Sprint(f.Number),
		"source": f.Source, "target": f.Target,
		"repository": f.Repository, "author": f.Opener}
}
