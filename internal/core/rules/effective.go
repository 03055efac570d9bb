package rules

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"tavrin/internal/core/change"
	"tavrin/internal/core/glob"
	"tavrin/internal/core/grammar"
	"tavrin/internal/core/people"
	"tavrin/internal/core/queue"
	"tavrin/internal/core/require"
)

// Allowance is one protection's list of who may do something. Everyone has to be in every list.
type Allowance struct {
	Who    []people.Principal
	Source require.Source
}

// Setting is a value in force and the places that it comes from.
type Setting[T any] struct {
	Value T
	From  []require.Source
}

// stricter takes a protection's value into the setting: the one that comes first in the order from strict to loose.
func (s *Setting[T]) stricter(value T, from require.Source, before func(a, b T) int) {
	switch n := before(value, s.Value); {
	case n < 0 || len(s.From) == 0:
		s.Value, s.From = value, []require.Source{from}
	case n == 0:
		s.From = append(s.From, from)
	}
}

// Matching is a protection that matches a branch.
type Matching struct {
	Name     string
	Source   require.Source
	Patterns []string // branch patterns and kinds as written
	// Created are the branches of which one has to hold a commit that a branch is created from.
	Created glob.List
	Exempt  []people.Principal
	Waive   []people.Principal
	With    []change.Strategy // that it allows; empty: all
}

// Effective is what all matching protections together say of one branch. Protected is false, and the rest empty,
// when none matches.
type Effective struct {
	Branch         string
	Protected      bool
	Protections    []Matching
	Requirements   []require.Sourced
	Push           []Allowance // one of each of Protections, in their order; so is Create
	Create         []Allowance
	LandBy         []Allowance
	Rewrite        Setting[Permission]
	Delete         Setting[Permission]
	ApprovalsStay  Setting[require.Stay]
	ObjectionsStay Setting[require.Stay]
	With           []change.Strategy
	WithFrom       []require.Source
	Default        change.Strategy // the one all matching protections that state one agree on; empty: none, or they disagree
	DefaultFrom    []require.Source
	DefaultsSaid   int             // how many different defaults the matching protections state
	Message        Setting[string] // empty value: none stated, or they disagree
	MessagesSaid   int
	Trailers       []Setting[string]
	DeleteSource   Setting[bool] // false where they disagree
	DeletesSaid    int
	UndoFirst      Setting[bool] // false where they disagree
	JoinEarly      Setting[bool]
	DropEmpty      Setting[bool]
	Queue          EffectiveQueue
	Exempted       []require.Source    // protections that do not bind the person asked about; see Binding
	Suspended      []change.Suspension // that would match the branch if they were not suspended
}

// EffectiveQueue is what protections say together of a branch's queue.
type EffectiveQueue struct {
	Planner Setting[queue.Planner]
	Slots   Setting[int] // from nobody: as where nothing is stated
	Reruns  Setting[int]
	Tests   Setting[Tests]
	OnPush  Setting[queue.OnPush]
	Urgent  []Allowance // none: maintainers
}

// Settings are what the queue has to know.
func (q *EffectiveQueue) Settings() queue.Settings {
	return queue.Settings{Planner: q.Planner.Value, Slots: q.Slots.Value, Reruns: q.Reruns.Value, Areas: q.Tests.Value == ByArea, OnPush: q.OnPush.Value}
}

// MayRaise says whether somebody may have a change go ahead of what waits.
func (q *EffectiveQueue) MayRaise(p people.Person) bool {
	if len(q.Urgent) == 0 {
		return p.Role.AtLeast(people.Maintainer)
	}
	return !slices.ContainsFunc(q.Urgent, func(a Allowance) bool { return !p.IsAny(a.Who) })
}

// WhoRaises says who may, in words.
func (q *EffectiveQueue) WhoRaises() string {
	if len(q.Urgent) == 0 {
		return "maintainers"
	}
	var all []string
	for _, a := range q.Urgent {
		all = append(all, people.Names(a.Who))
	}
	return strings.Join(all, ", and of these ")
}

// take takes what one protection says of a queue in. Saying nothing, it says what that means.
func (q *EffectiveQueue) take(p *Queue, source func(string) require.Source) {
	if p.Planner != "" {
		q.Planner.stricter(p.Planner, source("queue.planner"), order(planners))
	}
	if p.Slots != 0 {
		q.Slots.stricter(p.Slots, source("queue.slots"), cmp.Compare[int])
	}
	q.Reruns.stricter(p.Reruns, source("queue.reruns"), cmp.Compare[int])
	q.Tests.stricter(p.Tests, source("queue.tests"), order(tests))
	if p.OnPush != "" {
		q.OnPush.stricter(p.OnPush, source("queue.on_push"), order(onPushes))
	}
	if p.Urgent != nil {
		q.Urgent = append(q.Urgent, Allowance{p.Urgent, source("queue.urgent")})
	}
}

// done says what holds where nothing is stated.
func (q *EffectiveQueue) done() {
	if len(q.Slots.From) == 0 {
		q.Slots.Value = DefaultSlots
	}
}

// Names returns the names of the matching protections.
func (e *Effective) Names() []string {
	names := make([]string, len(e.Protections))
	for i, p := range e.Protections {
		names[i] = p.Name
	}
	return names
}

// combining puts the protections of a branch together, one by one.
type combining struct {
	*Effective
	defaults, messages, removes, undoes agreement
	trailers                            map[string][]require.Source
}

// newCombining begins with the loosest of everything.
func newCombining(branch string) *combining {
	return &combining{Effective: &Effective{Branch: branch, Rewrite: Setting[Permission]{Value: Allowed},
		Delete:        Setting[Permission]{Value: Allowed},
		ApprovalsStay: Setting[require.Stay]{Value: require.StayAlways}, ObjectionsStay: Setting[require.Stay]{Value: require.StayNever}, JoinEarly: Setting[bool]{Value: true}, DropEmpty: Setting[bool]{Value: true},
		Queue: EffectiveQueue{Planner: Setting[queue.Planner]{Value: queue.Adaptive}, Slots: Setting[int]{Value: MaxSlots}, Reruns: Setting[int]{Value: MaxReruns},
			Tests: Setting[Tests]{Value: ByArea}, OnPush: Setting[queue.OnPush]{Value: queue.Stays}}, With: slices.Clone(change.Strategies)},
		trailers: map[string][]require.Source{}}
}

// take takes one protection in.
func (c *combining) take(l Layer, p *Protection) {
	source := func(key string) require.Source {
		return require.Source{Document: l.Of, Protection: p.Name, Version: l.Version, Line: p.LineOf(key)}
	}
	c.Protected = true
	c.Protections = append(c.Protections, Matching{p.Name, source("name"), p.Text, p.HeldBy(), p.Exempt, p.Waive, p.With})
	c.Push = append(c.Push, Allowance{p.Push, source("push")})
	if p.Create != nil {
		c.Create = append(c.Create, Allowance{p.Create, source("create")})
	} else {
		c.Create = append(c.Create, Allowance{p.Push, source("push")})
	}
	if p.LandBy != nil {
		c.LandBy = append(c.LandBy, Allowance{p.LandBy, source("land.who")})
	}
	c.Rewrite.stricter(p.Rewrite, source("rewrite"), order(permissions))
	c.Delete.stricter(p.Delete, source("delete"), order(permissions))
	c.ApprovalsStay.stricter(p.ApprovalsStay, source("after_push.approvals_stay"), order(require.Stays))
	c.ObjectionsStay.stricter(p.ObjectionsStay, source("after_push.objections_stay"), reversed(order(require.Stays)))
	if len(p.With) > 0 {
		c.With = slices.DeleteFunc(c.With, func(s change.Strategy) bool { return !slices.Contains(p.With, s) })
		c.WithFrom = append(c.WithFrom, source("land.strategies"))
	}
	c.defaults.say(string(p.Default), p.Default != "", source("land.default"))
	c.messages.say(p.Message, p.Message != "", source("land.message"))
	c.removes.say(fmt.Sprint(p.DeleteSource != nil && *p.DeleteSource), p.DeleteSource != nil,
		source("land.delete_source"))
	c.undoes.say(fmt.Sprint(p.UndoFirst != nil && *p.UndoFirst), p.UndoFirst != nil, source("land.undo_first"))
	if p.JoinEarly != nil {
		c.JoinEarly.stricter(*p.JoinEarly, source("land.join_early"), falseFirst)
	}
	if p.DropEmpty != nil {
		c.DropEmpty.stricter(*p.DropEmpty, source("land.drop_empty"), falseFirst)
	}
	c.Queue.take(&p.Queue, source)
	for _, t := range p.Trailers {
		c.trailers[t] = append(c.trailers[t], source("land.trailers"))
	}
	for _, r := range p.Require {
		c.add(r, require.Source{Document: l.Of, Protection: p.Name, Version: l.Version, Line: r.Line})
	}
}

// HeldBy are the branches of which one has to hold a commit that a branch of the protection is created from.
func (p *Protection) HeldBy() glob.List {
	if p.FromText != nil {
		return p.From
	}
	return p.Branches
}

// Holds says whether a commit that these branches hold may become a branch under the protection, as far as it goes.
// That says nothing of who may make it.
func (m Matching) Holds(branches []string) bool {
	return slices.ContainsFunc(branches, m.Created.Match)
}

// MayBegin says whether a branch may begin at a commit that these branches hold, whoever makes it: each protection has
// to find it held. Which branches those are is said by the protection itself, so that no other makes more of them.
func (e *Effective) MayBegin(holding []string) bool {
	return !slices.ContainsFunc(e.Protections, func(m Matching) bool { return !m.Holds(holding) })
}

// done decides what all protections have to agree on, and gives everything an order.
func (c *combining) done() *Effective {
	e := c.Effective
	e.Default, e.DefaultFrom, e.DefaultsSaid = change.Strategy(c.defaults.value), c.defaults.from, c.defaults.said()
	if !slices.Contains(e.With, e.Default) {
		e.Default = ""
	}
	if e.DefaultsSaid == 0 && len(e.With) == 1 {
		e.Default, e.DefaultFrom = e.With[0], e.WithFrom
	}
	e.Message, e.MessagesSaid = Setting[string]{c.messages.value, c.messages.from}, c.messages.said()
	e.DeleteSource, e.DeletesSaid = Setting[bool]{c.removes.value == "true", c.removes.from}, c.removes.said()
	e.UndoFirst = Setting[bool]{c.undoes.value == "true", c.undoes.from}
	e.Queue.done()
	for text, from := range c.trailers {
		e.Trailers = append(e.Trailers, Setting[string]{text, from})
	}
	e.sort()
	return e
}

// agreement gathers what protections state of a setting that has no stricter: all have to say the same.
type agreement struct {
	values []string
	value  string // the one they agree on
	from   []require.Source
}

func (a *agreement) say(value string, stated bool, from require.Source) {
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

// add puts a requirement beside those already there, or, when one asks the same, adds the source to it. Required wins
// over advisory: what only advises is then no source of it, and has no say in who may waive it.
func (e *Effective) add(r require.Requirement, from require.Source) {
	for i := range e.Requirements {
		if e.Requirements[i].SameAs(&r) {
			q := &e.Requirements[i]
			q.From, q.Level = require.Stronger(q.Level, q.From, r.Level, []require.Source{from})
			q.Take(r)
			return
		}
	}
	e.Requirements = append(e.Requirements, require.Sourced{Requirement: r, From: []require.Source{from}})
}

// sort gives everything an order that does not depend on that of the documents.
func (e *Effective) sort() {
	bySource := func(a, b require.Source) int {
		return cmp.Or(strings.Compare(b.Document, a.Document), strings.Compare(a.Protection, b.Protection),
			a.Line-b.Line)
	}
	slices.SortFunc(e.Protections, func(a, b Matching) int { return bySource(a.Source, b.Source) })
	for _, list := range [][]Allowance{e.Push, e.Create, e.LandBy, e.Queue.Urgent} {
		slices.SortFunc(list, func(a, b Allowance) int { return bySource(a.Source, b.Source) })
	}
	for _, list := range [][]require.Source{e.Rewrite.From, e.Delete.From, e.ApprovalsStay.From, e.ObjectionsStay.From,
		e.WithFrom, e.DefaultFrom, e.Message.From, e.DeleteSource.From, e.JoinEarly.From, e.DropEmpty.From, e.UndoFirst.From,
		e.Queue.Planner.From, e.Queue.Slots.From, e.Queue.Reruns.From, e.Queue.Tests.From, e.Queue.OnPush.From} {
		slices.SortFunc(list, bySource)
	}
	slices.SortFunc(e.Trailers, func(a, b Setting[string]) int { return strings.Compare(a.Value, b.Value) })
	slices.SortFunc(e.Suspended, func(a, b change.Suspension) int {
		return cmp.Or(strings.Compare(b.Document, a.Document), strings.Compare(a.Protection, b.Protection))
	})
	slices.SortFunc(e.Requirements, require.Compare)
	for i := range e.Requirements {
		slices.SortFunc(e.Requirements[i].From, bySource)
		e.Requirements[i].Line = 0 // its sources say where it stands
		e.Requirements[i] = e.Requirements[i].Sealed()
	}
}

// Choose decides how a change lands: as asked, if that is allowed; else by the default that the rules agree on; else,
// where they state none, by the first they allow, and then it says so in words that follow "by STRATEGY". Where they
// disagree, or rule their own default out, the person has to choose: the error says among what.
func (e *Effective) Choose(asked change.Strategy) (chosen change.Strategy, said string, err error) {
	allowed := grammar.Joined(e.With)
	switch {
	case len(e.With) == 0:
		return "", "", fmt.Errorf("the protections of %s leave no strategy, so nothing can land: a maintainer has "+
			"to change the rules", e.Branch)
	case asked != "" && !slices.Contains(e.With, asked):
		return "", "", fmt.Errorf("strategy %s is not allowed for %s: one of %s", asked, e.Branch, allowed)
	case asked != "":
		return asked, "", nil
	case e.Default != "":
		return e.Default, "", nil
	case e.DefaultsSaid > 0:
		return "", "", fmt.Errorf("the protections of %s agree on no default strategy: say which, one of %s", e.Branch,
			allowed)
	}
	return e.With[0], ", the first that is allowed, since the rules state no default", nil
}

// Asked returns the requirement of the effective settings that asks what another asks, at the level at which they ask
// it.
func (e *Effective) Asked(q require.Sourced) (require.Sourced, bool) {
	if i := slices.IndexFunc(e.Requirements, func(o require.Sourced) bool { return o.SameAs(&q.Requirement) }); i >= 0 {
		return e.Requirements[i], true
	}
	return q, false
}
