package rules

import (
	"fmt"
	"slices"
	"strings"
)

// Sentence is one effective setting in words, and where it comes from.
type Sentence struct {
	Text    string
	Sources []Source
}

// Sentences says what holds for a branch, one setting a sentence, in a fixed order.
func (e Effective) Sentences() []Sentence {
	if !e.Protected {
		return []Sentence{{Text: "No protection matches: whoever may write may push."}}
	}
	var out []Sentence
	say := func(from []Source, format string, args ...any) {
		out = append(out, Sentence{fmt.Sprintf(format, args...), from})
	}
	for _, a := range e.Push {
		if len(a.Who) == 0 {
			say([]Source{a.Source}, "Nobody pushes to it directly; changes land through the queue.")
		} else {
			say([]Source{a.Source}, "Only %s may push to it directly.", names(a.Who))
		}
	}
	if e.Rewrite != Allowed {
		say([]Source{e.RewriteFrom}, "Its history is not rewritten.")
	}
	if e.Delete != Allowed {
		say([]Source{e.DeleteFrom}, "It is not deleted.")
	}
	for _, r := range e.Requirements {
		text := r.sentence()
		if r.Level == Advisory {
			text += " (advisory)"
		}
		say(r.From, "%s.", text)
	}
	switch e.Stay {
	case StayNever:
		say(nil, "Every push ends the approvals given before it.")
	case StayIfUnchanged:
		say(nil, "An approval outlives a push that leaves the difference as it was.")
	case StayAlways:
		say(nil, "Approvals outlive every push.")
	}
	for _, a := range e.LandBy {
		say([]Source{a.Source}, "Only %s may ask to land.", names(a.Who))
	}
	words := make([]string, len(e.With))
	for i, s := range e.With {
		words[i] = string(s)
	}
	text := "Changes land by " + strings.Join(words, ", ")
	if len(words) == 0 {
		text = "No strategy is left, so nothing can land"
	}
	if e.Default != "" && len(words) > 1 {
		text += "; by " + string(e.Default) + " unless said otherwise"
	}
	say(e.WithFrom, "%s.", text)
	if e.RemoveSource {
		say(nil, "The source branch is removed after landing.")
	}
	return out
}

func (r Sourced) sentence() string {
	switch r.Demand {
	case Approvals:
		noun := "approvals"
		if r.Count == 1 {
			noun = "approval"
		}
		text := fmt.Sprintf("%d %s", r.Count, noun)
		if len(r.Requirement.From) > 0 {
			text += " from " + names(r.Requirement.From)
		}
		if slices.Contains(r.NotFrom, NotAuthor) {
			text += ", an author's own not counting"
		}
		if slices.Contains(r.NotFrom, NotLastPusher) {
			text += ", nor that of the last to push"
		}
		return text
	case Owners:
		return "An owner of every touched area approves"
	case Objections:
		return "Nobody objects"
	case Checks:
		return fmt.Sprintf("%s passes on the %s", strings.Join(r.Checks, ", "), r.At)
	}
	return string(r.Demand)
}

func names(ps []Principal) string {
	texts := make([]string, len(ps))
	for i, p := range ps {
		texts[i] = p.String()
	}
	return strings.Join(texts, ", ")
}
