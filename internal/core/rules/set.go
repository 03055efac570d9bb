package rules

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"tavrin/internal/core/glob"
)

// Layer is one document and which it is.
type Layer struct {
	// Document may be nil: nothing was applied yet.
	Document *Document
	// Of is "house NAME" for the rules of a house, empty for a repository's own.
	Of      string
	Version int
}

// Suspension sets a protection aside for a time. It ends by itself.
type Suspension struct {
	Document   string    `json:"document,omitempty" doc:"\"house NAME\"; absent: the repository's own rules"`
	Protection string    `json:"protection"`
	Until      time.Time `json:"until"`
	By         string    `json:"by"`
	Because    string    `json:"because"`
}

// Set is the documents that together hold for one repository. It does not change; For remembers its answers.
type Set struct {
	layers     []Layer
	repository string // NAME, without the house
	suspended  []Suspension
	areas      []PlacedArea
	index      *glob.Index
	memo       sync.Map // branch → *Effective
	kept       atomic.Int32
}

// maxKept bounds how many branches an answer is remembered for: names are asked about that do not exist.
const maxKept = 2000

// PlacedArea is an area and the document it stands in.
type PlacedArea struct {
	*Area
	From Source
}

// NewSet puts a repository's documents together: its house's and its own, either of which may hold no document.
// repository is its name, with or without the house.
func NewSet(repository string, layers ...Layer) *Set {
	s := &Set{repository: repository[strings.LastIndexByte(repository, '/')+1:]}
	for _, l := range layers {
		if l.Document == nil {
			continue
		}
		s.layers = append(s.layers, l)
		for i := range l.Document.Areas {
			if a := &l.Document.Areas[i]; s.concerns(a.Repositories) {
				s.areas = append(s.areas, PlacedArea{a, Source{Document: l.Of, Protection: "area " + a.Name, Version: l.Version, Line: a.Line}})
			}
		}
	}
	slices.SortStableFunc(s.layers, func(a, b Layer) int { return strings.Compare(b.Of, a.Of) }) // the house's first
	slices.SortStableFunc(s.areas, func(a, b PlacedArea) int {
		return cmp.Or(strings.Compare(a.Name, b.Name), strings.Compare(b.From.Document, a.From.Document))
	})
	lists := make([]glob.List, len(s.areas))
	for i, a := range s.areas {
		lists[i] = a.Paths
	}
	s.index = glob.NewIndex(lists)
	return s
}

// Alone is the set of a single document, as a repository has it without house rules.
func (d *Document) Alone(version int) *Set { return NewSet("", Layer{Document: d, Version: version}) }

// concerns says whether patterns for repositories mean this one; none mean all.
func (s *Set) concerns(patterns glob.List) bool {
	return len(patterns.Patterns()) == 0 || patterns.Match(s.repository)
}

// Without returns the set with protections set aside. Suspensions of protections that there are not have no effect.
func (s *Set) Without(suspended []Suspension) *Set {
	if len(suspended) == 0 && len(s.suspended) == 0 {
		return s
	}
	return &Set{layers: s.layers, repository: s.repository, suspended: slices.Clone(suspended), areas: s.areas, index: s.index}
}

// Layers returns the set's documents, the house's first.
func (s *Set) Layers() []Layer { return s.layers }

// Check returns what the documents say of the named check, the house's before the repository's own; the zero Check
// with that name where they say nothing.
func (s *Set) Check(name string) Check {
	for _, l := range s.layers {
		for _, c := range l.Document.Checks {
			if c.Name == name {
				return c
			}
		}
	}
	return Check{Name: name, Limit: DefaultLimit}
}

// Checks returns every check that the documents define, by name, the house's before the repository's own.
func (s *Set) Checks() []Check {
	var out []Check
	for _, l := range s.layers {
		for _, c := range l.Document.Checks {
			if !slices.ContainsFunc(out, func(o Check) bool { return o.Name == c.Name }) {
				out = append(out, c)
			}
		}
	}
	slices.SortFunc(out, func(a, b Check) int { return strings.Compare(a.Name, b.Name) })
	return out
}

// Demanded returns the checks that requirements and areas name one by one, each once.
func (s *Set) Demanded() []Check {
	var out []Check
	add := func(name string) {
		if !slices.ContainsFunc(out, func(c Check) bool { return c.Name == name }) {
			out = append(out, s.Check(name))
		}
	}
	for _, l := range s.layers {
		for i := range l.Document.Protections {
			p := &l.Document.Protections[i]
			if !s.concerns(p.Repositories) {
				continue
			}
			for _, r := range p.Require {
				for _, c := range r.Checks {
					if !c.Several() {
						add(c.Text)
					}
				}
			}
		}
	}
	for _, a := range s.areas {
		for _, name := range a.Checks {
			add(name)
		}
	}
	return out
}

// Label returns what the documents say of a label, and whether they know it. Where both do, both lists of who may set
// it have to name a person.
func (s *Set) Label(name string) (setBy [][]Principal, known bool) {
	for _, l := range s.layers {
		for _, x := range l.Document.Labels {
			if x.Name == name {
				setBy, known = append(setBy, x.SetBy), true
			}
		}
	}
	return setBy, known
}

// Areas returns every area that is meant for the repository, by name.
func (s *Set) Areas() []PlacedArea { return s.areas }

// AreasOf returns the areas that a path lies in, by name.
func (s *Set) AreasOf(path string) []PlacedArea {
	var out []PlacedArea
	for _, i := range s.index.Of(path, nil) {
		out = append(out, s.areas[i])
	}
	return out
}

// Touched is one area and the changed paths that lie in it.
type Touched struct {
	PlacedArea
	Paths []string // in the order given
}

// Touched returns the areas that at least one of the paths lies in, by name. A rename counts at both its ends:
// callers pass the old and the new path.
func (s *Set) Touched(paths []string) []Touched {
	if len(s.areas) == 0 {
		return nil
	}
	byArea := make([][]string, len(s.areas))
	var space [16]int
	for _, p := range paths {
		for _, i := range s.index.Of(p, space[:0]) {
			byArea[i] = append(byArea[i], p)
		}
	}
	var out []Touched
	for i, paths := range byArea {
		if len(paths) > 0 {
			out = append(out, Touched{s.areas[i], paths})
		}
	}
	return out
}

// Sourced is a requirement with every place that asks for it.
type Sourced struct {
	Requirement
	From    []Source
	Because string // the sources in words
	Title   string // what it asks, in full
}

// Allowance is one protection's list of who may do something. Everyone has to be in every list.
type Allowance struct {
	Who    []Principal
	Source Source
}

// Setting is a value in force and the places that it comes from.
type Setting[T any] struct {
	Value T
	From  []Source
}

// stricter takes a protection's value into the setting: the one that comes first in the order from strict to loose.
func (s *Setting[T]) stricter(value T, from Source, before func(a, b T) int) {
	switch n := before(value, s.Value); {
	case n < 0 || len(s.From) == 0:
		s.Value, s.From = value, []Source{from}
	case n == 0:
		s.From = append(s.From, from)
	}
}

// Matching is a protection that matches a branch.
type Matching struct {
	Name     string
	Source   Source
	Patterns []string // branch patterns and kinds as written
	Exempt   []Principal
}

// Effective is what all matching protections together say of one branch. Protected is false, and the rest empty,
// when none matches.
type Effective struct {
	Branch         string
	Protected      bool
	Protections    []Matching
	Requirements   []Sourced
	Push           []Allowance
	Create         []Allowance
	LandBy         []Allowance
	Rewrite        Setting[Permission]
	Delete         Setting[Permission]
	ApprovalsStay  Setting[Stay]
	ObjectionsStay Setting[Stay]
	With           []Strategy
	WithFrom       []Source
	Default        Strategy // the one all matching protections that state one agree on; empty: none, or they disagree
	DefaultFrom    []Source
	DefaultsSaid   int             // how many different defaults the matching protections state
	Message        Setting[string] // empty value: none stated, or they disagree
	MessagesSaid   int
	Trailers       []Setting[string]
	RemoveSource   Setting[bool] // false where they disagree
	RemovesSaid    int
	JoinEarly      Setting[bool]
	Exempted       []Source     // protections that do not bind the person asked about; see Binding
	Suspended      []Suspension // that would match the branch if they were not suspended
}

// Names returns the names of the matching protections.
func (e *Effective) Names() []string {
	names := make([]string, len(e.Protections))
	for i, p := range e.Protections {
		names[i] = p.Name
	}
	return names
}

// For combines every protection that matches the branch. The answer must not be changed: it is remembered.
func (s *Set) For(branch string) *Effective {
	if e, ok := s.memo.Load(branch); ok {
		return e.(*Effective)
	}
	e := s.combined(branch)
	if s.kept.Add(1) <= maxKept {
		s.memo.Store(branch, e)
	}
	return e
}

func (s *Set) combined(branch string) *Effective {
	e := &Effective{Branch: branch, Rewrite: Setting[Permission]{Value: Allowed}, Delete: Setting[Permission]{Value: Allowed},
		ApprovalsStay: Setting[Stay]{Value: StayAlways}, ObjectionsStay: Setting[Stay]{Value: StayNever}, JoinEarly: Setting[bool]{Value: true}, With: slices.Clone(Strategies)}
	var defaults, messages, removes agreement
	trailers := map[string][]Source{}
	for _, l := range s.layers {
		for i := range l.Document.Protections {
			p := &l.Document.Protections[i]
			if !s.concerns(p.Repositories) || !p.Branches.Match(branch) {
				continue
			}
			if n := slices.IndexFunc(s.suspended, func(x Suspension) bool { return x.Document == l.Of && x.Protection == p.Name }); n >= 0 {
				e.Suspended = append(e.Suspended, s.suspended[n])
				continue
			}
			source := func(key string) Source {
				return Source{Document: l.Of, Protection: p.Name, Version: l.Version, Line: p.LineOf(key)}
			}
			e.Protected = true
			e.Protections = append(e.Protections, Matching{p.Name, source("name"), p.Text, p.Exempt})
			e.Push = append(e.Push, Allowance{p.Push, source("push")})
			if p.Create != nil {
				e.Create = append(e.Create, Allowance{p.Create, source("create")})
			} else {
				e.Create = append(e.Create, Allowance{p.Push, source("push")})
			}
			if p.LandBy != nil {
				e.LandBy = append(e.LandBy, Allowance{p.LandBy, source("land.by")})
			}
			e.Rewrite.stricter(p.Rewrite, source("rewrite"), order(permissions))
			e.Delete.stricter(p.Delete, source("delete"), order(permissions))
			e.ApprovalsStay.stricter(p.ApprovalsStay, source("after_push.approvals_stay"), order(stays))
			e.ObjectionsStay.stricter(p.ObjectionsStay, source("after_push.objections_stay"), reversed(order(stays)))
			if len(p.With) > 0 {
				e.With = slices.DeleteFunc(e.With, func(s Strategy) bool { return !slices.Contains(p.With, s) })
				e.WithFrom = append(e.WithFrom, source("land.with"))
			}
			defaults.say(string(p.Default), p.Default != "", source("land.strategy"))
			messages.say(p.Message, p.Message != "", source("land.message"))
			removes.say(fmt.Sprint(p.RemoveSource != nil && *p.RemoveSource), p.RemoveSource != nil, source("land.remove_source"))
			if p.JoinEarly != nil {
				e.JoinEarly.stricter(*p.JoinEarly, source("land.join_early"), falseFirst)
			}
			for _, t := range p.Trailers {
				trailers[t] = append(trailers[t], source("land.trailers"))
			}
			for _, r := range p.Require {
				e.add(r, Source{Document: l.Of, Protection: p.Name, Version: l.Version, Line: r.Line})
			}
		}
	}
	e.Default, e.DefaultFrom, e.DefaultsSaid = Strategy(defaults.value), defaults.from, defaults.said()
	if !slices.Contains(e.With, e.Default) {
		e.Default = ""
	}
	if e.DefaultsSaid == 0 && len(e.With) == 1 {
		e.Default, e.DefaultFrom = e.With[0], e.WithFrom
	}
	e.Message, e.MessagesSaid = Setting[string]{messages.value, messages.from}, messages.said()
	e.RemoveSource, e.RemovesSaid = Setting[bool]{removes.value == "true", removes.from}, removes.said()
	for text, from := range trailers {
		e.Trailers = append(e.Trailers, Setting[string]{text, from})
	}
	e.sort()
	return e
}

// agreement gathers what protections state of a setting that has no stricter: all have to say the same.
type agreement struct {
	values []string
	value  string // the one they agree on
	from   []Source
}

func (a *agreement) say(value string, stated bool, from Source) {
	if !stated {
		return
	}
	if !slices.Contains(a.values, value) {
		a.values = append(a.values, value)
	}
	a.from = append(a.from, from)
	if a.value = ""; len(a.values) == 1 {
		a.value = value
	}
}

func (a *agreement) said() int { return len(a.values) }

func order[T comparable](strictFirst []T) func(a, b T) int {
	return func(a, b T) int { return slices.Index(strictFirst, a) - slices.Index(strictFirst, b) }
}

func reversed[T any](before func(a, b T) int) func(a, b T) int {
	return func(a, b T) int { return before(b, a) }
}

func falseFirst(a, b bool) int {
	switch {
	case a == b:
		return 0
	case b:
		return -1
	}
	return 1
}

// add puts a requirement beside those already there, or, when one asks the same, adds the source to it; required
// wins over advisory.
func (e *Effective) add(r Requirement, from Source) {
	for i := range e.Requirements {
		if e.Requirements[i].key == r.key {
			e.Requirements[i].From = append(e.Requirements[i].From, from)
			if r.Level == Required {
				e.Requirements[i].Level = Required
			}
			return
		}
	}
	e.Requirements = append(e.Requirements, Sourced{Requirement: r, From: []Source{from}})
}

// sort gives everything an order that does not depend on that of the documents.
func (e *Effective) sort() {
	bySource := func(a, b Source) int {
		return cmp.Or(strings.Compare(b.Document, a.Document), strings.Compare(a.Protection, b.Protection), a.Line-b.Line)
	}
	slices.SortFunc(e.Protections, func(a, b Matching) int { return bySource(a.Source, b.Source) })
	for _, list := range [][]Allowance{e.Push, e.Create, e.LandBy} {
		slices.SortFunc(list, func(a, b Allowance) int { return bySource(a.Source, b.Source) })
	}
	for _, list := range [][]Source{e.Rewrite.From, e.Delete.From, e.ApprovalsStay.From, e.ObjectionsStay.From, e.WithFrom, e.DefaultFrom, e.Message.From, e.RemoveSource.From, e.JoinEarly.From} {
		slices.SortFunc(list, bySource)
	}
	slices.SortFunc(e.Trailers, func(a, b Setting[string]) int { return strings.Compare(a.Value, b.Value) })
	slices.SortFunc(e.Suspended, func(a, b Suspension) int {
		return cmp.Or(strings.Compare(b.Document, a.Document), strings.Compare(a.Protection, b.Protection))
	})
	slices.SortFunc(e.Requirements, func(a, b Sourced) int {
		return cmp.Or(slices.Index(Demands, a.Demand)-slices.Index(Demands, b.Demand), strings.Compare(a.key, b.key))
	})
	for i := range e.Requirements {
		slices.SortFunc(e.Requirements[i].From, bySource)
		e.Requirements[i].Title = e.Requirements[i].title()
		e.Requirements[i].Because = Because(e.Requirements[i].From)
		e.Requirements[i].Line = 0 // its sources say where it stands
	}
}

// Choose settles how a change lands: as asked, if that is allowed; else by the default that the rules agree on; else,
// where they state none, by the first they allow, and then it says so in words that follow "by STRATEGY". Where they
// disagree, or rule their own default out, the person has to choose: the error says among what.
func (e *Effective) Choose(asked Strategy) (chosen Strategy, said string, err error) {
	allowed := joined(e.With)
	switch {
	case len(e.With) == 0:
		return "", "", fmt.Errorf("the protections of %s leave no strategy, so nothing can land: a maintainer has to change the rules", e.Branch)
	case asked != "" && !slices.Contains(e.With, asked):
		return "", "", fmt.Errorf("strategy %s is not allowed for %s: one of %s", asked, e.Branch, allowed)
	case asked != "":
		return asked, "", nil
	case e.Default != "":
		return e.Default, "", nil
	case e.DefaultsSaid > 0:
		return "", "", fmt.Errorf("the protections of %s agree on no default strategy: say which, one of %s", e.Branch, allowed)
	}
	return e.With[0], ", the first that is allowed, since the rules state no default", nil
}

// identity is equal for two requirements exactly when they ask the same, wherever they stand and at whatever level.
func (r *Requirement) identity() string {
	pattern, when := "", ""
	if r.Pattern != nil {
		pattern = r.Pattern.String()
	}
	if r.When != nil {
		when = r.When.String()
	}
	return fmt.Sprintf("%s|%03d|%q|%s|%s|%v|%s|%q|%s|%q|%s|%s|%s|%d|%v|%s|%s|%q", r.Demand, r.Count, r.Called, sorted(r.From), sorted(r.NotFrom), r.Newest,
		sorted(r.SettledBy), pattern, sorted(r.In), r.Example, sorted(r.Checks), sorted(r.At), r.Fresh, r.AtLeast, r.Skipped, r.Witness, r.To, when)
}

// String gives the name as written.
func (c CheckName) String() string { return c.Text }

// sorted joins words in an order of their own, each once, since a list that says who or what has none.
func sorted[T any](words []T) string {
	texts := make([]string, len(words))
	for i, w := range words {
		texts[i] = fmt.Sprint(w)
	}
	slices.Sort(texts)
	return strings.Join(slices.Compact(texts), ",")
}

// Binding is For without the protections that exempt a person, of whom is says what they are.
func (s *Set) Binding(branch string, is func(Principal) bool) *Effective {
	e := s.For(branch)
	exempts := func(m Matching) bool { return slices.ContainsFunc(m.Exempt, is) }
	if !slices.ContainsFunc(e.Protections, exempts) {
		return e
	}
	var skipped []Source
	without := slices.Clone(s.suspended)
	for _, m := range e.Protections {
		if exempts(m) {
			skipped = append(skipped, m.Source)
			without = append(without, Suspension{Document: m.Source.Document, Protection: m.Name})
		}
	}
	bound := s.Without(without).combined(branch)
	bound.Suspended, bound.Exempted = e.Suspended, skipped
	return bound
}

// Asks says whether the effective settings ask what the requirement asks.
func (e *Effective) Asks(q Sourced) bool {
	return slices.ContainsFunc(e.Requirements, func(o Sourced) bool { return o.key == q.key })
}

// SameAs says whether two requirements ask the same, at whatever level.
func (r *Requirement) SameAs(o *Requirement) bool { return r.key == o.key }

// Because names the sources in a sentence.
func Because(sources []Source) string {
	if len(sources) == 1 {
		return sources[0].String()
	}
	texts := make([]string, len(sources))
	for i, s := range sources {
		texts[i] = s.String()
	}
	return strings.Join(texts, " and ")
}
