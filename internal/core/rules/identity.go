package rules

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// What is the same is told by value. A value is written as a text that is equal for equal values only: each word in
// quotes, so that ["a,b"] is not [a, b]; a list that says who, what or where as a set, in an order of its own, each
// once.

// set writes a list of which neither the order nor a repetition means anything.
func set[T any](words []T) string {
	texts := make([]string, len(words))
	for i, w := range words {
		texts[i] = strconv.Quote(fmt.Sprint(w))
	}
	slices.Sort(texts)
	return "[" + strings.Join(slices.Compact(texts), " ") + "]"
}

// identity is equal for two requirements exactly when they ask the same, wherever they stand, at whatever level, and
// whatever they are called.
func (r *Requirement) identity() string {
	pattern, when := "", ""
	if r.Pattern != nil {
		pattern = r.Pattern.String()
	}
	if r.When != nil {
		when = r.When.identity()
	}
	return fmt.Sprintf("%s|%03d|%s|%s|%v|%s|%q|%s|%s|%s|%d|%d|%v|%q|%q|%s", r.Demand, r.Count, set(r.From),
		set(r.NotFrom), r.Newest,
		set(r.SettledBy), pattern, set(r.In), set(r.Checks), set(r.At), r.Fresh, r.AtLeast, r.Skipped, r.Witness, r.To, when)
}

// Identity is equal for two requirements exactly when they ask the same, at whatever level and whatever they are
// called.
func (r Requirement) Identity() string { return r.key }

// identity is equal for two conditions exactly when they state the same. Branch kinds are what they stand for, since
// the same word may be a kind in one document and a name in another.
func (c *Condition) identity() string {
	scope := ""
	if c.OfHouse && c.scoped() { // what of areas and labels it knows depends on where it stands
		scope = "house"
	}
	return fmt.Sprintf("%s;%s;%s;%s;%s;%s;%s;%q;%s", globs(c.PathsText), set(c.Areas), c.Lines, c.Files,
		globs(c.stands), set(c.Author), set(c.Labels), c.Expression, scope)
}

// globs writes a list of globs; that there is none is not that nothing matches.
func globs(texts []string) string {
	if texts == nil {
		return "any"
	}
	return set(texts)
}

// scoped says whether the condition asks for areas or labels.
func (c *Condition) scoped() bool { return len(c.Areas) > 0 || len(c.Labels) > 0 || c.Expression != "" }

// String gives the name as written.
func (c CheckName) String() string { return c.Text }

// shown writes a list for people, in an order of its own, each once; what could be taken for two stands in quotes.
func shown[T any](words []T) string {
	texts := make([]string, len(words))
	for i, w := range words {
		if texts[i] = fmt.Sprint(w); strings.ContainsAny(texts[i], ", \"") || texts[i] == "" {
			texts[i] = strconv.Quote(texts[i])
		}
	}
	slices.Sort(texts)
	return strings.Join(slices.Compact(texts), ", ")
}
