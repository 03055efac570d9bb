// Package require is what a requirement is: what a kind of them has to say of itself, how one is read, and the case in
// which a change is judged by them.
//
// The kinds themselves are in package kind, each in a file of its own. What several of them need is here: who may
// approve and whose approval counts, which checks are wanted on which commit, and in how few approvals a change could
// do with. Which requirements hold for a branch is said by package rules; what is made of all of them together, by
// package gate.
package require

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"tavrin/internal/core/change"
	"tavrin/internal/core/condition"
	"tavrin/internal/core/grammar"
	"tavrin/internal/core/people"
)

// Group is what a kind is about, which is how a gate report is put in order.
type Group string

// The groups, in the order in which they are shown: what people do first, what machines do last.
const (
	OfChange     Group = "change"     // the change itself: open, its branches, what it depends on
	OfReview     Group = "review"     // what reviewers say
	OfDiscussion Group = "discussion" // what is still talked about or to do
	OfContent    Group = "content"    // what it brings: paths, commits, messages
	OfChecks     Group = "checks"     // what robots say
	OfLanding    Group = "landing"    // who asked to land, and how
)

// Kind is one kind of requirement.
type Kind struct {
	Name  string // its key in a document, with which the keys of its lines in a gate report begin
	Group Group
	Order int // among those of its group
	// Keys are its own, first, and those that may stand beside it; paths are their names.
	Keys []grammar.Key
	// New returns what it asks where a document says nothing beside it; NewOfArea, what it asks of changes that touch an
	// area, in whose definition it stands: nil, it stands in none.
	New, NewOfArea func() Ask
	// OnPush says that it holds for direct pushes too: what it asks is then an OnPush.
	OnPush bool
	// Elsewhere says that it is judged by which other branches hold the commits.
	Elsewhere bool
	// OfTip says that it is judged by the checks on the target's tip.
	OfTip bool
	// After is the setting that decides what a push does to what meets it; empty: none does.
	After string
	// ByDescription says that it is judged by descriptions too.
	ByDescription bool
	// NotBy are the strategies by which a landing cannot break it.
	NotBy []change.Strategy
	// Judged says, for the reference, what of a change is looked at; Gone, what becomes of it when what it names is gone,
	// or there is nothing that it could be about.
	Judged, Gone string
}

// Ask is what one requirement asks.
type Ask interface {
	// Read reads the value of one of the kind's keys.
	Read(r *grammar.Reader, f grammar.Field)
	// Identity is equal for two of a kind exactly when they ask the same.
	Identity() string
	// Title names what is asked, in full: equal titles ask the same.
	Title() string
	// Words say it in a sentence about the branch.
	Words() string
	// AtLeast says whether it is seen to ask at least what another of the kind asks.
	AtLeast(other Ask) bool
	// Judge adds a line to the gate, or several.
	Judge(c *Case, q Sourced)
}

// Completed is an Ask that has something to say of its keys together, once all are read.
type Completed interface {
	Complete(r *grammar.Reader, n ast.Node)
}

// Joined is an Ask with parts that are no part of what it asks. Join returns it with those of one that asks the same.
type Joined interface {
	Join(same Ask) Ask
}

// Approving is what asks for approvals of whom it names: beside those who may write, and the owners of areas.
type Approving interface{ Approvers() []people.Principal }

// Aging is an Ask that may no longer be met although nothing has happened but that time has passed.
type Aging interface {
	Ages() bool
}

// Pushed is an Ask that holds for direct pushes.
type Pushed interface {
	// OnPush says what the commits that a push brings break: in a few words, and in a sentence; empty: nothing.
	OnPush(commits []change.Commit, known people.Everyone) (short, sentence string)
}

// Tagged is an Ask that may be about tags in place of changes.
type Tagged interface {
	// OfTags says whether it is.
	OfTags() bool
	// OnTag says why a tag breaks it, in a few words and in a sentence; empty: it does not.
	OnTag(t change.Tag, known people.Everyone) (short, sentence string)
}

// Linted is an Ask with something to warn of.
type Linted interface {
	Lint(l Lint, q *Requirement)
}

var groups = []Group{OfChange, OfReview, OfDiscussion, OfContent, OfChecks, OfLanding}

// Order orders kinds as they are shown.
func Order(a, b *Kind) int {
	return cmp.Or(slices.Index(groups, a.Group)-slices.Index(groups, b.Group), a.Order-b.Order, strings.Compare(a.Name, b.Name))
}

// Named finds a kind by its name; nil: there is none.
func Named(kinds []*Kind, name string) *Kind {
	for _, k := range kinds {
		if k.Name == name {
			return k
		}
	}
	return nil
}

// OfAreas are those kinds that may stand in the definition of an area.
func OfAreas(kinds []*Kind) []*Kind {
	return slices.DeleteFunc(slices.Clone(kinds), func(k *Kind) bool { return k.NewOfArea == nil })
}

func names(kinds []*Kind) []string {
	all := make([]string, len(kinds))
	for i, k := range kinds {
		all[i] = k.Name
	}
	return all
}

// Level says whether a requirement blocks.
type Level string

// The levels. Required is meant where a document says nothing.
const (
	Required Level = "required"
	Advisory Level = "advisory"
)

// Requirement is one thing that must hold for a change to land.
type Requirement struct {
	Kind   *Kind
	Asks   Ask
	Called string               // a title of the document's own, if any
	When   *condition.Condition // nil: always
	Unless *condition.Condition // nil: never
	Level  Level
	Line   int
	key    string
}

// Identity is equal for two requirements exactly when they ask the same, wherever they stand, at whatever level, and
// whatever they are called.
func (q *Requirement) Identity() string { return q.key }

// Seal fixes what a requirement asks, once it is read.
func (q *Requirement) Seal() {
	q.key = q.Kind.Name + "|" + q.Asks.Identity() + "|" + q.When.Identity() + "|" + q.Unless.Identity()
}

// Narrowed says whether it is not asked of every change.
func (q *Requirement) Narrowed() bool { return q.When != nil || q.Unless != nil }

// AskedOf says whether it is asked of a change, and why it is where that could not be worked out.
func (q *Requirement) AskedOf(b condition.Brought) (asked bool, why string) {
	if holds, trouble := q.When.Holds(b); !holds && trouble == "" {
		return false, ""
	} else if trouble != "" {
		return true, trouble
	}
	if q.Unless == nil {
		return true, ""
	}
	holds, trouble := q.Unless.Holds(b)
	return !holds || trouble != "", trouble
}

// AskedWords say when it is asked, to follow "asked": "when valves is touched, unless the source branch is hotfix".
func (q *Requirement) AskedWords() string {
	var said []string
	if q.When != nil {
		said = append(said, "when "+q.When.Words())
	}
	if q.Unless != nil {
		said = append(said, "unless "+q.Unless.Words())
	}
	return strings.Join(said, ", ")
}

// SameAs says whether two requirements ask the same, at whatever level.
func (q *Requirement) SameAs(o *Requirement) bool { return q.key == o.key }

// AtLeast says whether the requirement is seen to ask at least what another asks.
func (q *Requirement) AtLeast(o Requirement) bool {
	narrower := func(a, b *condition.Condition) bool { return a != nil && a.Identity() != b.Identity() }
	if q.Kind != o.Kind || q.Level == Advisory && o.Level == Required || narrower(q.When, o.When) || narrower(q.Unless, o.Unless) {
		return false
	}
	return q.Asks.AtLeast(o.Asks)
}

// Title names what a requirement asks, in full: equal titles ask the same.
func (q *Requirement) Title() string {
	if q.Called != "" {
		return q.Called + ": " + q.Asks.Title()
	}
	return q.Asks.Title()
}

// Sentence says what it asks, without a full stop.
func (q *Requirement) Sentence() string { return grammar.Capital(q.Clause()) }

// Clause says what it asks, as a part of a sentence.
func (q *Requirement) Clause() string {
	text := q.Asks.Words()
	if q.Called != "" {
		text = grammar.Capital(q.Called) + ": " + text
	}
	if q.Narrowed() {
		text += ", " + q.AskedWords()
	}
	if q.Level == Advisory {
		text += " (advisory)"
	}
	return text
}

// Ranked is an Ask that has an order of its own among those of its kind; what asks less first.
type Ranked interface {
	Rank() [2]int
}

// Compare orders requirements as they are shown: by kind, what is always asked first.
func Compare(a, b Sourced) int {
	narrowed := func(q Sourced) int {
		if q.Narrowed() {
			return 1
		}
		return 0
	}
	rank := func(q Sourced) (of [2]int) {
		if r, ranked := q.Asks.(Ranked); ranked {
			of = r.Rank()
		}
		return of
	}
	x, y := rank(a), rank(b)
	return cmp.Or(Order(a.Kind, b.Kind), narrowed(a)-narrowed(b), x[0]-y[0], x[1]-y[1],
		strings.Compare(a.key, b.key))
}

// Take takes what is no part of what they ask from one that asks the same: of several titles and examples, the first in
// the order of letters.
func (q *Sourced) Take(same Requirement) {
	q.Called = FirstSaid(q.Called, same.Called)
	if j, joins := q.Asks.(Joined); joins {
		q.Asks = j.Join(same.Asks)
	}
}

// Source says where something in force comes from.
type Source struct {
	Document   string `json:"document,omitempty" doc:"the document: \"house NAME\"; absent: the repository's own"`
	Protection string `json:"protection" doc:"name of the protection or area"`
	Version    int    `json:"version" doc:"version of the rules document"`
	Line       int    `json:"line" doc:"line in that version"`
}

// String names the source the way every message does: "trunk" (rules version 3, line 12).
func (s Source) String() string {
	if s.Document != "" {
		return fmt.Sprintf("%q (%s, rules version %d, line %d)", s.Protection, s.Document, s.Version, s.Line)
	}
	return fmt.Sprintf("%q (rules version %d, line %d)", s.Protection, s.Version, s.Line)
}

// Because names the sources in a sentence.
func Because(sources []Source) string {
	if len(sources) == 1 {
		return sources[0].String()
	}
	return strings.Join(grammar.Texts(sources), " and ")
}

// Sourced is a requirement with every place that asks for it.
type Sourced struct {
	Requirement
	From    []Source
	Area    *Area  // that asks it; nil: protections do
	Because string // the sources in words
	Titled  string // its title, worked out once
}

// Stronger gives the sources and the level of two that ask the same: of those that require it, where one does.
func Stronger(a Level, from []Source, b Level, more []Source) ([]Source, Level) {
	switch {
	case a == b:
		return slices.Concat(from, more), a
	case b == Required:
		return slices.Clone(more), b
	}
	return from, a
}

// Sealed works out the words of a requirement with its sources, once.
func (q Sourced) Sealed() Sourced {
	q.Titled, q.Because = q.Title(), Because(q.From)
	return q
}

// FirstSaid is the first of two texts in the order of letters, an empty one left out.
func FirstSaid(a, b string) string {
	if a == "" || b != "" && b < a {
		return b
	}
	return a
}

// Stay says what a push does to approvals or objections given before it.
type Stay string

// The values. For approvals StayNever is the strictest and StayIfUnchanged is meant where a document says nothing;
// for objections it is the other way round, and StayAlways is both the strictest and the default.
const (
	StayNever       Stay = "never"
	StayIfUnchanged Stay = "if_unchanged"
	StayAlways      Stay = "always"
)

// Stays lists them, for approvals strictest first.
var Stays = []Stay{StayNever, StayIfUnchanged, StayAlways}
