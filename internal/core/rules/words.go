package rules

import (
	"fmt"
	"slices"

	"tavrin/internal/core/grammar"
	"tavrin/internal/core/people"
	"tavrin/internal/core/queue"
	"tavrin/internal/core/require"
)

// Sentence is one effective setting in words, and where it comes from.
type Sentence struct {
	Setting string // the key it is about, such as push, require or land.strategies
	Text    string
	Level   require.Level // of a requirement; else empty
	Sources []require.Source
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
	say := func(setting string, from []require.Source, format string, args ...any) {
		out = append(out, Sentence{Setting: setting, Text: fmt.Sprintf(format, args...), Sources: from})
	}
	for _, s := range e.Suspended {
		say("suspended", nil, "The protection %q is suspended by %s until %s: %s", s.Protection, s.By,
			s.Until.UTC().Format("2006-01-02 15:04 UTC"), s.Reason)
	}
	if !e.Protected {
		say("push", nil, "No protection matches: whoever may write may push.")
		return out
	}
	for _, g := range grouped(e.Push) {
		if len(g.Value) == 0 {
			say("push", g.From, "Nobody pushes to it directly; changes land through the queue.")
		} else {
			say("push", g.From, "Only %s may push to it directly.", people.Names(g.Value))
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
		out = append(out, Sentence{Setting: "require", Text: r.Sentence() + ".", Level: r.Level, Sources: r.From})
	}
	e.sayAfterPush(say)
	e.sayLanding(say)
	for _, p := range e.Protections {
		if len(p.Waive) > 0 {
			say("waive", []require.Source{p.Source}, "%s may waive what %q asks, case by case: with a reason, for a "+
				"time, and acknowledged by somebody else.", grammar.Capital(people.Names(p.Waive)), p.Name)
		}
		if len(p.Exempt) > 0 {
			say("exempt", []require.Source{p.Source}, "%s is not bound by %q; each use is shown and recorded.",
				grammar.Capital(people.Names(p.Exempt)), p.Name)
		}
	}
	return out
}

// grouped puts equal lists together, each with every place that states it.
func grouped(lists []Allowance) []Setting[[]people.Principal] {
	var out []Setting[[]people.Principal]
	for _, a := range lists {
		i := slices.IndexFunc(out, func(g Setting[[]people.Principal]) bool { return grammar.Set(g.Value) == grammar.Set(a.Who) })
		if i < 0 {
			out = append(out, Setting[[]people.Principal]{a.Who, []require.Source{a.Source}})
			continue
		}
		out[i].From = append(out[i].From, a.Source)
	}
	return out
}

// CreatedWords puts into words of what branches one has to hold what a branch is created from: "main or release/**".
func (m Matching) CreatedWords() string { return grammar.GlobWords(m.Created.Texts()) }

// sayCreate says who may create the branch, and from what: those who say the same together.
func (e *Effective) sayCreate(say func(string, []require.Source, string, ...any)) {
	byText := map[string][]Allowance{}
	var texts []string
	for i, a := range e.Create {
		text := "Nobody creates it by pushing."
		if len(a.Who) > 0 {
			text = fmt.Sprintf("Only %s may create it, from a commit that is on %s already.",
				people.Names(a.Who), e.Protections[i].CreatedWords())
		}
		if byText[text] == nil {
			texts = append(texts, text)
		}
		byText[text] = append(byText[text], a)
	}
	for _, text := range texts {
		var from []require.Source
		for _, a := range byText[text] {
			from = append(from, a.Source)
		}
		say("create", from, "%s", text)
	}
}

func (e *Effective) sayAfterPush(say func(string, []require.Source, string, ...any)) {
	say("after_push.approvals_stay", e.ApprovalsStay.From, "%s", map[require.Stay]string{
		require.StayNever:       "Every push ends the approvals given before it.",
		require.StayIfUnchanged: "An approval outlives a push that leaves the difference as it was.",
		require.StayAlways:      "Approvals outlive every push.",
	}[e.ApprovalsStay.Value])
	say("after_push.objections_stay", e.ObjectionsStay.From, "%s", map[require.Stay]string{
		require.StayNever:       "Every push ends the objections made before it.",
		require.StayIfUnchanged: "An objection ends with a push that changes the difference.",
		require.StayAlways:      "An objection stands until it is withdrawn.",
	}[e.ObjectionsStay.Value])
}

func (e *Effective) sayLanding(say func(string, []require.Source, string, ...any)) {
	for _, g := range grouped(e.LandBy) {
		say("land.who", g.From, "Only %s may ask to land.", people.Names(g.Value))
	}
	text := "Changes land by " + grammar.Joined(e.With)
	if len(e.With) == 0 {
		text = "No strategy is left, so nothing can land"
	}
	say("land.strategies", e.WithFrom, "%s.", text)
	switch {
	case e.Default != "" && len(e.With) > 1:
		say("land.default", e.DefaultFrom, "They land by %s unless said otherwise.", e.Default)
	case e.DefaultsSaid > 1:
		say("land.default", e.DefaultFrom, "The protections disagree on the default strategy, so the person chooses.")
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
	case e.DeletesSaid > 1:
		say("land.delete_source", e.DeleteSource.From, "The protections disagree on removing the source branch, so "+
			"it is kept.")
	case e.DeleteSource.Value:
		say("land.delete_source", e.DeleteSource.From, "The source branch is removed after landing.")
	}
	e.sayQueue(say)
	if !e.JoinEarly.Value {
		say("land.join_early", e.JoinEarly.From, "A change joins the queue when its gate is ready, not before.")
	}
	if e.UndoFirst.Value {
		say("land.undo_first", e.UndoFirst.From, "A change that takes back a landing, and does nothing else, goes before the others in the queue.")
	}
	if !e.DropEmpty.Value {
		say("land.drop_empty", e.DropEmpty.From, "A commit that would change nothing on the branch is not left out: by a strategy that would have to, nothing lands.")
	}
}

func (e *Effective) sayQueue(say func(string, []require.Source, string, ...any)) {
	q := &e.Queue
	if q.Planner.Value == queue.OneByOne {
		say("queue.planner", q.Planner.From, "One change is rehearsed at a time.")
	} else if len(q.Slots.From) > 0 {
		say("queue.slots", q.Slots.From, "Up to %s at once.", require.Count(q.Slots.Value, "rehearsal"))
	}
	switch n := q.Reruns.Value; {
	case n == 0:
		say("queue.reruns", q.Reruns.From, "A change that is red by itself is ejected at once.")
	case n != DefaultReruns:
		say("queue.reruns", q.Reruns.From, "A change that is red by itself is tested up to %s more before it is ejected.", require.Count(n, "time"))
	}
	if q.Tests.Value == ByArea {
		say("queue.tests", q.Tests.From, "Changes that touch different areas are tested and landed side by side.")
	}
	switch q.OnPush.Value {
	case queue.Back:
		say("queue.on_push", q.OnPush.From, "A push to a change in the queue puts it at the end of the line.")
	case queue.Leave:
		say("queue.on_push", q.OnPush.From, "A push to a change in the queue takes it out.")
	case queue.Stays:
	}
	for _, g := range grouped(q.Urgent) {
		say("queue.urgent", g.From, "Only %s may have a change go ahead of what waits.", people.Names(g.Value))
	}
}

// AreaSentences says what areas ask by themselves of changes that touch them, whatever the branch.
func (s *Set) AreaSentences() []Sentence {
	var out []Sentence
	for _, a := range s.areas {
		for _, q := range a.Requirements {
			out = append(out, Sentence{Setting: "areas", Text: fmt.Sprintf("What touches %s: %s.", a.Name, q.Clause()),
				Level: q.Level, Sources: q.From})
		}
	}
	return out
}

// TagSentences says what holds for tags, protection by protection.
func (s *Set) TagSentences() []Sentence {
	var out []Sentence
	for _, l := range s.layers {
		for i := range l.Document.Protections {
			p := &l.Document.Protections[i]
			if p.TagText == nil || !s.concerns(p.Repositories) || s.suspension(l, p) != nil {
				continue
			}
			tags := "Tags " + grammar.GlobWords(p.TagText)
			say := func(key, format string, args ...any) {
				out = append(out, Sentence{Setting: "tags", Text: fmt.Sprintf(format, args...), Sources: []require.Source{{
					Document: l.Of, Protection: p.Name, Version: l.Version, Line: p.LineOf(key)}}})
			}
			say("create", "%s are made by %s.", tags, people.Names(p.Create))
			if p.Rewrite == Allowed {
				say("rewrite", "%s may be moved by maintainers who may make them.", tags)
			} else {
				say("rewrite", "%s do not move.", tags)
			}
			if p.Delete == Allowed {
				say("delete", "%s may be deleted by maintainers who may make them.", tags)
			} else {
				say("delete", "%s are not deleted.", tags)
			}
			if len(p.Require) > 0 {
				say("require", "%s are signed by a registered key.", tags)
			}
			if len(p.Exempt) > 0 {
				say("exempt", "%s is not bound by %q; each use is shown and recorded.", grammar.Capital(people.Names(p.Exempt)), p.Name)
			}
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
				Sources: []require.Source{{Document: l.Of, Protection: what, Version: l.Version, Line: line}}})
		}
		for i := range l.Document.Checks {
			if c := &l.Document.Checks[i]; !known[c.Name] {
				known[c.Name] = true
				say("checks", "check "+c.Name, c.Line, "Check %s %s.", c.Name, defined(c))
			}
		}
		for _, x := range l.Document.Labels {
			say("labels", "label "+x.Name, x.Line, "Label %s is set by %s.", x.Name, people.Names(x.SetBy))
		}
		if len(l.Document.AgreedBy) > 0 {
			whose := "these rules"
			if l.Of != "" {
				whose = "the rules of " + l.Of
			}
			say("loosening", "loosening", l.Document.LineOf("loosening"),
				"Loosening %s needs a second person's word, of %s.", whose, people.Names(l.Document.AgreedBy))
		}
	}
	return out
}

func defined(c *Check) string {
	text := "is reported by whoever has a token for it"
	switch {
	case c.Command != "":
		text = fmt.Sprintf("is the command %q, for at most %s", c.Command, grammar.Brief(c.Timeout))
	case c.ReportedBy != "":
		text = "is reported by robot:" + c.ReportedBy
	}
	if c.Command == "" {
		text += ", within " + grammar.Brief(c.Timeout)
	}
	if c.Environment != "" {
		text += ", and its pass is a deployment to " + c.Environment
	}
	if c.MaxAge > 0 {
		text += ", and a pass counts for " + grammar.Brief(c.MaxAge)
	}
	if c.SeesTree {
		text += ", and a pass counts for every commit of the same tree"
	}
	if len(c.OnTip) > 0 {
		text += ", and is asked for on every new tip of " + grammar.GlobWords(c.OnTip)
	}
	return text
}
