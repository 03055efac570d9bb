package rules

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// Sentence is one effective setting in words, and where it comes from.
type Sentence struct {
	Setting string // the key it is about, such as push, require or land.with
	Text    string
	Level   Level // of a requirement; else empty
	Sources []Source
}

// FixedByHouse names the house whose document the setting comes from, so that the repository cannot lower it; empty:
// it is the repository's own.
func (s Sentence) FixedByHouse() string {
	for _, source := range s.Sources {
		if source.Document != "" {
			return source.Document
		}
	}
	return ""
}

// Sentences says what holds for a branch, one setting a sentence, in a fixed order. Every text about what rules mean
// is written here.
func (e *Effective) Sentences() []Sentence {
	var out []Sentence
	say := func(setting string, from []Source, format string, args ...any) {
		out = append(out, Sentence{Setting: setting, Text: fmt.Sprintf(format, args...), Sources: from})
	}
	for _, s := range e.Suspended {
		say("suspended", nil, "The protection %q is suspended by %s until %s: %s", s.Protection, s.By,
			s.Until.UTC().Format("2006-01-02 15:04 UTC"), s.Because)
	}
	if !e.Protected {
		say("push", nil, "No protection matches: whoever may write may push.")
		return out
	}
	for _, g := range grouped(e.Push) {
		if len(g.Value) == 0 {
			say("push", g.From, "Nobody pushes to it directly; changes land through the queue.")
		} else {
			say("push", g.From, "Only %s may push to it directly.", principalNames(g.Value))
		}
	}
	e.sayCreate(say)
	if e.Rewrite.Value != Allowed {
		say("rewrite", e.Rewrite.From, "Its history is not rewritten.")
	} else {
		say("rewrite", e.Rewrite.From, "Its history may be rewritten.")
	}
	if e.Delete.Value != Allowed {
		say("delete", e.Delete.From, "It is not deleted.")
	} else {
		say("delete", e.Delete.From, "It may be deleted.")
	}
	for _, r := range e.Requirements {
		text := r.sentence()
		if r.When != nil {
			text += ", when " + r.When.Words()
		}
		if r.Level == Advisory {
			text += " (advisory)"
		}
		out = append(out, Sentence{Setting: "require", Text: text + ".", Level: r.Level, Sources: r.From})
	}
	e.sayAfterPush(say)
	e.sayLanding(say)
	for _, p := range e.Protections {
		if len(p.Override) > 0 {
			say("override", []Source{p.Source}, "%s may set aside what %q asks, case by case: with a reason, for a "+
				"time, and with a second look by somebody else.", capital(principalNames(p.Override)), p.Name)
		}
		if len(p.Exempt) > 0 {
			say("exempt", []Source{p.Source}, "%s is not bound by %q; each use is shown and recorded.",
				capital(principalNames(p.Exempt)), p.Name)
		}
	}
	return out
}

// grouped puts equal lists together, each with every place that states it.
func grouped(lists []Allowance) []Setting[[]Principal] {
	var out []Setting[[]Principal]
	for _, a := range lists {
		i := slices.IndexFunc(out, func(g Setting[[]Principal]) bool { return set(g.Value) == set(a.Who) })
		if i < 0 {
			out = append(out, Setting[[]Principal]{a.Who, []Source{a.Source}})
			continue
		}
		out[i].From = append(out[i].From, a.Source)
	}
	return out
}

// CreatedWords puts into words of what branches one has to hold what a branch is created from: "main or release/**".
func (m Matching) CreatedWords() string { return globWords(m.Created.Texts()) }

// sayCreate says who may create the branch, and from what: those who say the same together.
func (e *Effective) sayCreate(say func(string, []Source, string, ...any)) {
	byText := map[string][]Allowance{}
	var texts []string
	for i, a := range e.Create {
		text := "Nobody creates it by pushing."
		if len(a.Who) > 0 {
			text = fmt.Sprintf("Only %s may create it, from a commit that a branch of %s holds already.",
				principalNames(a.Who), e.Protections[i].CreatedWords())
		}
		if byText[text] == nil {
			texts = append(texts, text)
		}
		byText[text] = append(byText[text], a)
	}
	for _, text := range texts {
		var from []Source
		for _, a := range byText[text] {
			from = append(from, a.Source)
		}
		say("create", from, "%s", text)
	}
}

func (e *Effective) sayAfterPush(say func(string, []Source, string, ...any)) {
	say("after_push.approvals_stay", e.ApprovalsStay.From, "%s", map[Stay]string{
		StayNever:       "Every push ends the approvals given before it.",
		StayIfUnchanged: "An approval outlives a push that leaves the difference as it was.",
		StayAlways:      "Approvals outlive every push.",
	}[e.ApprovalsStay.Value])
	say("after_push.objections_stay", e.ObjectionsStay.From, "%s", map[Stay]string{
		StayNever:       "Every push ends the objections made before it.",
		StayIfUnchanged: "An objection ends with a push that changes the difference.",
		StayAlways:      "An objection stands until it is withdrawn.",
	}[e.ObjectionsStay.Value])
}

func (e *Effective) sayLanding(say func(string, []Source, string, ...any)) {
	for _, g := range grouped(e.LandBy) {
		say("land.by", g.From, "Only %s may ask to land.", principalNames(g.Value))
	}
	text := "Changes land by " + joined(e.With)
	if len(e.With) == 0 {
		text = "No strategy is left, so nothing can land"
	}
	say("land.with", e.WithFrom, "%s.", text)
	switch {
	case e.Default != "" && len(e.With) > 1:
		say("land.strategy", e.DefaultFrom, "They land by %s unless said otherwise.", e.Default)
	case e.DefaultsSaid > 1:
		say("land.strategy", e.DefaultFrom, "The protections disagree on the default strategy, so the person chooses.")
	}
	if e.MessagesSaid == 1 {
		say("land.message", e.Message.From, "The message of a squash or merge is %q.", e.Message.Value)
	} else if e.MessagesSaid > 1 {
		say("land.message", e.Message.From, "The protections disagree on the message, so it is title and description.")
	}
	for _, t := range e.Trailers {
		say("land.trailers", t.From, "The trailer %q is added to it.", t.Value)
	}
	switch {
	case e.RemovesSaid > 1:
		say("land.remove_source", e.RemoveSource.From, "The protections disagree on removing the source branch, so "+
			"it is kept.")
	case e.RemoveSource.Value:
		say("land.remove_source", e.RemoveSource.From, "The source branch is removed after landing.")
	}
	if !e.JoinEarly.Value {
		say("land.join_early", e.JoinEarly.From, "A change joins the queue when its gate is ready, not before.")
	}
}

// AreaSentences says what areas ask by themselves of changes that touch them, whatever the branch.
func (s *Set) AreaSentences() []Sentence {
	var out []Sentence
	say := func(a PlacedArea, key, format string, args ...any) {
		from := a.From
		from.Line = a.LineOf(key)
		out = append(out, Sentence{Setting: "areas", Text: fmt.Sprintf(format, args...), Level: Required,
			Sources: []Source{from}})
	}
	for _, a := range s.areas {
		if a.Approvals > 0 {
			say(a, "asks.approvals", "What touches %s needs %s by its owners, %s.", a.Name,
				approvalsCounted(a.Approvals), principalNames(a.Owners))
		}
		if len(a.Checks) > 0 {
			say(a, "checks", "What touches %s passes %s on the rehearsal.", a.Name, strings.Join(a.Checks, ", "))
		}
	}
	return out
}

// DefinitionSentences says what checks are, who sets labels, and who has to agree to a loosening, document by document.
func (s *Set) DefinitionSentences() []Sentence {
	var out []Sentence
	known := map[string]bool{} // checks that the house defines are the house's
	for _, l := range s.layers {
		say := func(setting, what string, line int, format string, args ...any) {
			out = append(out, Sentence{Setting: setting, Text: fmt.Sprintf(format, args...),
				Sources: []Source{{Document: l.Of, Protection: what, Version: l.Version, Line: line}}})
		}
		for i := range l.Document.Checks {
			if c := &l.Document.Checks[i]; !known[c.Name] {
				known[c.Name] = true
				say("checks", "check "+c.Name, c.Line, "Check %s %s.", c.Name, c.definition())
			}
		}
		for _, x := range l.Document.Labels {
			say("labels", "label "+x.Name, x.Line, "Label %s is set by %s.", x.Name, principalNames(x.SetBy))
		}
		if len(l.Document.AgreedBy) > 0 {
			whose := "these rules"
			if l.Of != "" {
				whose = "the rules of " + l.Of
			}
			say("loosening", "loosening", l.Document.LineOf("loosening"),
				"Loosening %s needs a second person's word, of %s.", whose, principalNames(l.Document.AgreedBy))
		}
	}
	return out
}

func (c *Check) definition() string {
	text := "is reported by whoever has a token for it"
	switch {
	case c.Command != "":
		text = fmt.Sprintf("is the command %q, for at most %s", c.Command, brief(c.Limit))
	case c.Witness != "":
		text = "is reported by robot:" + c.Witness
	}
	if c.Command == "" {
		text += ", within " + brief(c.Limit)
	}
	if c.Place != "" {
		text += ", and its pass is a deployment to " + c.Place
	}
	if c.Fresh > 0 {
		text += ", and a pass counts for " + brief(c.Fresh)
	}
	return text
}

func (r Sourced) sentence() string {
	text := r.asks()
	if r.Called != "" {
		return capital(r.Called) + ": " + text
	}
	return capital(text)
}

func (r Sourced) asks() string {
	switch r.Demand {
	case Approvals:
		return r.asksApprovals()
	case Owners:
		return "an owner of every touched area approves"
	case Objections:
		return "nobody objects"
	case Threads:
		if len(r.SettledBy) > 0 {
			return "every discussion is settled, by " + principalNames(r.SettledBy)
		}
		return "every discussion is settled"
	case Tasks:
		return "every task of the description is done"
	case Ticket:
		where := ""
		if len(r.In) < len(parts) {
			where = " in its " + either(words(r.In))
		}
		return fmt.Sprintf("a ticket is referred to%s (%s)", where, r.Pattern)
	case PathCase:
		return "no path differs from an area's by upper and lower case alone"
	case Fixups:
		return "no fixup commit is left unfolded"
	case History:
		return "no merge commit comes to it"
	case Messages:
		text := fmt.Sprintf("every message matches %s", r.Pattern)
		if r.Example != "" {
			text += fmt.Sprintf(", such as %q", r.Example)
		}
		return text
	case Signed:
		return "every commit is signed by a registered key"
	case Checks:
		return r.asksChecks()
	case Deployment:
		return fmt.Sprintf("a deployment to %s succeeds on the %s", r.To, strings.Join(words(r.At), " and the ")) +
			r.freshness()
	}
	return string(r.Demand)
}

func (r Sourced) asksApprovals() string {
	text := approvalsCounted(r.Count)
	if len(r.Requirement.From) > 0 {
		text += " from " + principalNames(r.Requirement.From)
	}
	if r.Newest {
		text += " on the newest revision"
	}
	switch {
	case slices.Contains(r.NotFrom, NotAuthor):
		text += ", an author's own not counting"
	case slices.Contains(r.NotFrom, NotCommitAuthor):
		text += ", nobody's counting who brought or wrote a commit in it"
	default:
		text += ", an author's own counting"
	}
	if slices.Contains(r.NotFrom, NotLastPusher) {
		text += ", nor that of the last to push"
	}
	return text
}

func (r Sourced) asksChecks() string {
	names := strings.Join(texts(r.Checks), ", ")
	text := "check " + names + " passes"
	switch {
	case r.AtLeast > 0:
		text = fmt.Sprintf("at least %d of the checks %s pass", r.AtLeast, names)
	case len(r.Checks) > 1 || r.Checks[0].Several():
		text = "checks " + names + " pass"
	}
	text += " on the " + strings.Join(words(r.At), " and the ")
	if r.Witness != "" {
		text += ", reported by robot:" + r.Witness
	}
	if r.Skipped {
		text += ", skipped counting as passed"
	}
	return text + r.freshness()
}

func (r Sourced) freshness() string {
	if r.Fresh == 0 {
		return ""
	}
	return ", not longer ago than " + Brief(r.Fresh)
}

// Brief writes a duration without parts that are zero: 10m, not 10m0s.
func Brief(d time.Duration) string { return brief(d) }

func principalNames(ps []Principal) string {
	if len(ps) == 0 {
		return "nobody"
	}
	return strings.Join(texts(ps), ", ")
}

// capital begins a sentence with a word. Names keep their small letters.
func capital(text string) string {
	if text == "" || strings.Contains(strings.SplitN(text, " ", 2)[0], ":") {
		return text
	}
	return strings.ToUpper(text[:1]) + text[1:]
}

// title names what a requirement asks, in full: equal titles ask the same.
func (r *Requirement) title() string {
	text := ""
	switch r.Demand {
	case Approvals:
		text = approvalsCounted(r.Count)
		if len(r.From) > 0 {
			text += " from " + either(texts(r.From))
		}
		if r.Newest {
			text += " on the newest revision"
		}
		if slices.Contains(r.NotFrom, NotLastPusher) {
			text += ", not the last pusher's"
		}
		switch {
		case slices.Contains(r.NotFrom, NotAuthor):
		case slices.Contains(r.NotFrom, NotCommitAuthor):
			text += ", not that of who brought or wrote a commit"
		default:
			text += ", an author's own counting"
		}
	case Owners:
		text = "an owner of every touched area"
	case Objections:
		text = "no open objection"
	case Threads:
		text = "every discussion is settled"
		if len(r.SettledBy) > 0 {
			text += " by " + either(texts(r.SettledBy))
		}
	case Tasks:
		text = "every task of the description is done"
	case Ticket:
		text = "a ticket is referred to"
		if len(r.In) < len(parts) {
			text += " in its " + either(words(r.In))
		}
		text += fmt.Sprintf(" (%s)", r.Pattern)
	case PathCase:
		text = "no path differs from an area's by upper and lower case alone"
	case Fixups:
		text = "no fixup commit is left"
	case History:
		text = "no merge commit comes to the branch"
	case Messages:
		text = fmt.Sprintf("every message matches %s", r.Pattern)
	case Signed:
		text = "every commit is signed"
	case Checks:
		text = "checks " + strings.Join(texts(r.Checks), ", ")
	case Deployment:
		text = "a deployment to " + r.To
	}
	if r.Called != "" {
		return r.Called + ": " + text
	}
	return text
}

func approvalsCounted(n int) string {
	if n == 1 {
		return "1 approval"
	}
	return fmt.Sprintf("%d approvals", n)
}
