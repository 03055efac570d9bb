package rules

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// Difference is one thing in which two versions of a document differ.
type Difference struct {
	What    string `json:"what" doc:"the setting, such as protection \"trunk\": push"`
	Was     string `json:"was,omitempty" doc:"absent: it is new"`
	Now     string `json:"now,omitempty" doc:"absent: it is gone"`
	Loosens bool   `json:"loosens" doc:"it cannot be ruled out that something may pass now that could not before"`
	Line    int    `json:"line" doc:"in the new document; in the old one where it is gone"`
}

// Compare lists in what a new version of a document differs from an old one, either of which may be nil for an empty
// one, and what of it loosens. It errs on the strict side: what is not seen to tighten loosens.
func Compare(was, now *Document) []Difference {
	if was == nil {
		was = &Document{}
	}
	if now == nil {
		now = &Document{}
	}
	c := comparison{}
	c.document(was, now)
	return c.out
}

// Loosens says whether one of the differences loosens.
func Loosens(differences []Difference) bool {
	return slices.ContainsFunc(differences, func(d Difference) bool { return d.Loosens })
}

type comparison struct{ out []Difference }

func (c *comparison) differ(line int, what, was, now string, loosens bool) {
	if was != now {
		c.out = append(c.out, Difference{What: what, Was: was, Now: now, Loosens: loosens, Line: line})
	}
}

// both goes through two lists of named things.
func both[T any](was, now []T, name func(*T) string, gone, added func(*T), kept func(was, now *T)) {
	for i := range was {
		j := slices.IndexFunc(now, func(n T) bool { return name(&n) == name(&was[i]) })
		if j < 0 {
			gone(&was[i])
		} else {
			kept(&was[i], &now[j])
		}
	}
	for i := range now {
		if !slices.ContainsFunc(was, func(w T) bool { return name(&w) == name(&now[i]) }) {
			added(&now[i])
		}
	}
}

func (c *comparison) document(was, now *Document) {
	c.differ(now.LineOf("loosening"), "loosening", sorted(was.AgreedBy), sorted(now.AgreedBy), len(was.AgreedBy) > 0 && (len(now.AgreedBy) == 0 || !within(now.AgreedBy, was.AgreedBy)))
	c.differ(now.LineOf("changes"), "changes: description", was.Description, now.Description, false)
	both(was.Kinds, now.Kinds, func(k *Kind) string { return k.Name },
		func(k *Kind) { c.differ(k.Line, "branch kind "+k.Name, sorted(k.Patterns), "", false) },
		func(k *Kind) { c.differ(k.Line, "branch kind "+k.Name, "", sorted(k.Patterns), false) },
		func(a, b *Kind) {
			c.differ(b.Line, "branch kind "+a.Name, sorted(a.Patterns), sorted(b.Patterns), false)
		})
	both(was.Labels, now.Labels, func(l *Label) string { return l.Name },
		func(l *Label) { c.differ(l.Line, "label "+l.Name, sorted(l.SetBy), "", true) },
		func(l *Label) { c.differ(l.Line, "label "+l.Name, "", sorted(l.SetBy), false) },
		func(a, b *Label) {
			c.differ(b.Line, "label "+a.Name+": set_by", sorted(a.SetBy), sorted(b.SetBy), true) // who sets it decides what is asked, either way
		})
	both(was.Areas, now.Areas, func(a *Area) string { return a.Name },
		func(a *Area) { c.differ(a.Line, "area "+a.Name, sorted(a.Text), "", true) },
		func(a *Area) { c.differ(a.Line, "area "+a.Name, "", sorted(a.Text), false) }, c.area)
	both(was.Checks, now.Checks, func(k *Check) string { return k.Name },
		func(k *Check) { c.differ(k.Line, "check "+k.Name, "defined", "", true) },
		func(k *Check) {
			c.differ(k.Line, "check "+k.Name, "", "defined", k.Command != "" || k.Place != "")
		}, c.check)
	both(was.Protections, now.Protections, func(p *Protection) string { return p.Name },
		func(p *Protection) { c.differ(p.Line, fmt.Sprintf("protection %q", p.Name), "in force", "", true) },
		func(p *Protection) { c.differ(p.Line, fmt.Sprintf("protection %q", p.Name), "", "in force", false) },
		func(a, b *Protection) { c.protection(was, now, a, b) })
}

func (c *comparison) area(a, b *Area) {
	what := "area " + a.Name + ": "
	c.differ(b.LineOf("paths"), what+"paths", sorted(a.Text), sorted(b.Text), !covers(b.Text, a.Text))
	c.differ(b.LineOf("owners"), what+"owners", sorted(a.Owners), sorted(b.Owners), !within(b.Owners, a.Owners))
	c.differ(b.LineOf("asks.approvals"), what+"asks.approvals", fmt.Sprint(a.Approvals), fmt.Sprint(b.Approvals), b.Approvals < a.Approvals)
	c.differ(b.LineOf("checks"), what+"checks", sorted(a.Checks), sorted(b.Checks), !within(a.Checks, b.Checks))
	c.differ(b.LineOf("asks.reviewers"), what+"asks.reviewers", sorted(a.Reviewers), sorted(b.Reviewers), false)
	c.differ(b.LineOf("asks.optional"), what+"asks.optional", sorted(a.Optional), sorted(b.Optional), false)
	c.repositories(b.Line, what, a.Repositories.Texts(), b.Repositories.Texts())
}

func (c *comparison) repositories(line int, what string, was, now []string) {
	c.differ(line, what+"repositories", sorted(was), sorted(now), len(now) > 0 && (len(was) == 0 || !covers(now, was)))
}

func (c *comparison) check(a, b *Check) {
	what := "check " + a.Name + ": "
	c.differ(b.LineOf("command"), what+"command", a.Command, b.Command, true)
	c.differ(b.LineOf("witness"), what+"witness", a.Witness, b.Witness, a.Witness != "" || b.Witness == "")
	c.differ(b.LineOf("limit"), what+"limit", brief(a.Limit), brief(b.Limit), false)
	c.differ(b.LineOf("fresh"), what+"fresh", span(a.Fresh), span(b.Fresh), !shorter(b.Fresh, a.Fresh))
	c.differ(b.LineOf("place"), what+"place", a.Place, b.Place, true)
}

func span(d time.Duration) string {
	if d == 0 {
		return ""
	}
	return brief(d)
}

// shorter says whether a freshness is at least as strict as another; 0 is for ever.
func shorter(a, b time.Duration) bool { return b == 0 || a > 0 && a <= b }

func (c *comparison) protection(was, now *Document, a, b *Protection) {
	what := fmt.Sprintf("protection %q: ", a.Name)
	stood, stand := standing(was, a.Text), standing(now, b.Text)
	c.differ(b.LineOf("branches"), what+"branches", sorted(stood), sorted(stand), !covers(stand, stood))
	c.repositories(b.LineOf("repositories"), what, a.RepoText, b.RepoText)
	c.differ(b.LineOf("push"), what+"push", principalNames(a.Push), principalNames(b.Push), !within(b.Push, a.Push))
	create := func(p *Protection) []Principal {
		if p.Create == nil {
			return p.Push
		}
		return p.Create
	}
	c.differ(b.LineOf("create"), what+"create", principalNames(create(a)), principalNames(create(b)), !within(create(b), create(a)))
	c.differ(b.LineOf("rewrite"), what+"rewrite", string(a.Rewrite), string(b.Rewrite), b.Rewrite == Allowed)
	c.differ(b.LineOf("delete"), what+"delete", string(a.Delete), string(b.Delete), b.Delete == Allowed)
	c.differ(b.LineOf("exempt"), what+"exempt", principalNames(a.Exempt), principalNames(b.Exempt), !within(b.Exempt, a.Exempt))
	c.differ(b.LineOf("override"), what+"override", principalNames(a.Override), principalNames(b.Override), !within(b.Override, a.Override))
	c.differ(b.LineOf("after_push.approvals_stay"), what+"approvals_stay", string(a.ApprovalsStay), string(b.ApprovalsStay), slices.Index(stays, b.ApprovalsStay) > slices.Index(stays, a.ApprovalsStay))
	c.differ(b.LineOf("after_push.objections_stay"), what+"objections_stay", string(a.ObjectionsStay), string(b.ObjectionsStay), slices.Index(stays, b.ObjectionsStay) < slices.Index(stays, a.ObjectionsStay))
	c.differ(b.LineOf("land.by"), what+"land.by", sorted(a.LandBy), sorted(b.LandBy), a.LandBy != nil && (b.LandBy == nil || !within(b.LandBy, a.LandBy)))
	with := func(p *Protection) []Strategy {
		if len(p.With) == 0 {
			return Strategies
		}
		return p.With
	}
	c.differ(b.LineOf("land.with"), what+"land.with", sorted(with(a)), sorted(with(b)), !within(with(b), with(a)))
	c.differ(b.LineOf("land.strategy"), what+"land.strategy", string(a.Default), string(b.Default), false)
	c.differ(b.LineOf("land.message"), what+"land.message", a.Message, b.Message, false)
	c.differ(b.LineOf("land.trailers"), what+"land.trailers", sorted(a.Trailers), sorted(b.Trailers), false)
	truth := func(p *bool, absent bool) string {
		if p == nil {
			return fmt.Sprint(absent)
		}
		return fmt.Sprint(*p)
	}
	c.differ(b.LineOf("land.remove_source"), what+"land.remove_source", truth(a.RemoveSource, false), truth(b.RemoveSource, false), false)
	c.differ(b.LineOf("land.join_early"), what+"land.join_early", truth(a.JoinEarly, true), truth(b.JoinEarly, true), truth(b.JoinEarly, true) == "true")
	c.requirements(what, a, b)
}

func (c *comparison) requirements(what string, a, b *Protection) {
	same := func(list []Requirement, r Requirement) bool {
		return slices.ContainsFunc(list, func(o Requirement) bool { return o.key == r.key && o.Level == r.Level })
	}
	for _, r := range a.Require {
		if !same(b.Require, r) {
			held := r.Level == Advisory || slices.ContainsFunc(b.Require, func(n Requirement) bool { return n.atLeast(r) })
			c.differ(r.Line, what+"require", r.said(), "", !held)
		}
	}
	for _, r := range b.Require {
		if !same(a.Require, r) {
			c.differ(r.Line, what+"require", "", r.said(), false)
		}
	}
}

func (r Requirement) said() string {
	text := Sourced{Requirement: r}.sentence()
	if r.When != nil {
		text += ", when " + r.When.Words()
	}
	if r.Level == Advisory {
		text += " (advisory)"
	}
	return text
}

// atLeast says whether the requirement is seen to ask at least what another asks.
func (r Requirement) atLeast(o Requirement) bool {
	if r.Demand != o.Demand || r.Level == Advisory && o.Level == Required || r.When != nil && (o.When == nil || r.When.String() != o.When.String()) {
		return false
	}
	switch r.Demand {
	case Approvals:
		return r.Count >= o.Count && (len(o.From) == 0 && len(r.From) == 0 || len(o.From) > 0 && len(r.From) > 0 && within(r.From, o.From)) && within(o.NotFrom, r.NotFrom) && (r.Newest || !o.Newest)
	case Threads:
		return len(o.SettledBy) == 0 && len(r.SettledBy) == 0 || len(r.SettledBy) > 0 && within(r.SettledBy, o.SettledBy)
	case Ticket, Messages:
		return r.Pattern.String() == o.Pattern.String() && within(r.In, o.In)
	case Checks:
		names := func(q Requirement) []string { return texts(q.Checks) }
		more := r.AtLeast == 0 && o.AtLeast == 0 && within(names(o), names(r)) || sorted(names(o)) == sorted(names(r)) && (r.AtLeast == 0 || o.AtLeast > 0 && r.AtLeast >= o.AtLeast)
		return more && within(o.At, r.At) && shorter(r.Fresh, o.Fresh) && (!r.Skipped || o.Skipped) && (o.Witness == "" || r.Witness == o.Witness)
	case Deployment:
		return r.To == o.To && within(o.At, r.At) && shorter(r.Fresh, o.Fresh)
	case Owners, Objections, Tasks, PathCase, Fixups, History, Signed:
	}
	return true
}

// standing gives the patterns that branch words stand for.
func standing(d *Document, words []string) []string {
	var out []string
	for _, w := range words {
		if stands, ok := d.Used[w]; ok {
			out = append(out, stands...)
		} else {
			out = append(out, w)
		}
	}
	return out
}

// covers says whether globs are seen to match at least what others match: they hold every pattern of theirs and take
// out nothing more.
func covers(now, was []string) bool {
	out := func(s string) bool { return strings.HasPrefix(s, "!") }
	return !slices.ContainsFunc(was, func(p string) bool { return !out(p) && !slices.Contains(now, p) && !slices.Contains(now, "**") }) &&
		!slices.ContainsFunc(now, func(p string) bool { return out(p) && !slices.Contains(was, p) })
}

// within says whether everything in a is in b.
func within[T comparable](a, b []T) bool {
	return !slices.ContainsFunc(a, func(x T) bool { return !slices.Contains(b, x) })
}
