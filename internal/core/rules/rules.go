// Package rules reads a rules document and says what holds for a branch.
//
// A rules document is YAML text (its form is described in docs/reference/rules.md). Parse turns it into a
// Document or into findings, each with line, column, excerpt and what would be right; never into half of both.
// Document.For gives the Effective settings of one branch: every protection that matches applies, requirements
// are put side by side and never blended, and for every other setting the stricter wins. So neither the order of
// protections nor that of requirements changes anything, and adding a protection can only tighten.
//
// The package is pure: no I/O, no clock. What the settings mean for a change is the business of package gate,
// for a push that of package guard.
package rules

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"tavrin/internal/core/glob"
)

// Format is the value of the document's first key, "tavrin": the version of the document's form.
const Format = "rules/1"

// MaxBytes is the largest document accepted.
const MaxBytes = 1 << 20

// Document is one parsed rules document.
type Document struct {
	Kinds       []Kind
	Areas       []Area
	Checks      []Check
	Protections []Protection
}

// Kind is a branch kind: a name for a set of branch patterns.
type Kind struct {
	Name     string
	Patterns []string
	Line     int
}

// Area is a named part of the tree with its owners.
type Area struct {
	Name   string
	Paths  glob.List
	Text   []string // the patterns as written
	Owners []Principal
	// Approvals is how many owners' approvals the area asks by itself of every change that touches it; 0: none.
	Approvals int
	Checks    []string // checks that a change touching the area needs, on the rehearsal
	Line      int
}

// Check is what the document says of one check.
type Check struct {
	Name string
	// Command is the command line a runner runs with "sh -c" in a clean checkout; empty: reported from outside.
	Command string
	// Limit is how long the command may run. Absent in the document: DefaultLimit.
	Limit time.Duration
	// Witness is the login of the only robot that may report it; empty: any robot whose token names the check.
	Witness string
	Line    int
}

// DefaultLimit is the time limit of a command check that states none.
const DefaultLimit = 10 * time.Minute

// PrincipalKind says what a Principal's name is the name of.
type PrincipalKind string

// The kinds of principal.
const (
	Person PrincipalKind = "person"
	Team   PrincipalKind = "team"
	ByRole PrincipalKind = "role"
	Robot  PrincipalKind = "robot"
)

// Principal names a person, a robot, a team, or everybody with at least a role.
type Principal struct {
	Kind PrincipalKind
	Name string
}

// String returns the principal as a document writes it, such as "team:hydraulics".
func (p Principal) String() string { return string(p.Kind) + ":" + p.Name }

// Permission says whether something may be done. The zero value is the strict one.
type Permission string

// The permissions, strictest first.
const (
	Never   Permission = "never"
	Allowed Permission = "allowed"
)

// Stay says what a push does to approvals given before it. Stricter is earlier.
type Stay string

// The values of approvals_stay, strictest first. StayIfUnchanged is meant where a document says nothing.
const (
	StayNever       Stay = "never"
	StayIfUnchanged Stay = "if_unchanged"
	StayAlways      Stay = "always"
)

var stayOrder = []Stay{StayNever, StayIfUnchanged, StayAlways}

// Strategy is a way to bring a change's commits onto the target.
type Strategy string

// The strategies.
const (
	Rebase Strategy = "rebase"
	Squash Strategy = "squash"
	Merge  Strategy = "merge"
)

// Strategies lists every strategy in the order they are offered.
var Strategies = []Strategy{Rebase, Squash, Merge}

// Level says whether a requirement blocks.
type Level string

// The levels. Required is meant where a document says nothing.
const (
	Required Level = "required"
	Advisory Level = "advisory"
)

// Demand is what a requirement asks for.
type Demand string

// The demands of this version of the document.
const (
	Approvals  Demand = "approvals"
	Owners     Demand = "owners"
	Objections Demand = "objections"
	Checks     Demand = "checks"
)

// demandOrder is the order in which demands are shown: what people do first, what machines do last.
var demandOrder = []Demand{Approvals, Owners, Objections, Checks}

// Place says on which commit a check is asked for.
type Place string

// The places. AtRehearsal is meant where a document says nothing.
const (
	AtRehearsal Place = "rehearsal"
	AtHead      Place = "head"
)

// Exclusion names somebody whose approval does not count.
type Exclusion string

// The exclusions. NotAuthor is meant where a document says nothing; "not_from: []" lifts it.
const (
	NotAuthor     Exclusion = "author"
	NotLastPusher Exclusion = "last_pusher"
)

// Requirement is one thing that must hold for a change to land.
type Requirement struct {
	Demand  Demand
	Count   int         // Approvals: how many
	Called  string      // a title of the document's own, if any
	From    []Principal // Approvals: whose count; empty: everybody who may write
	NotFrom []Exclusion // Approvals
	Checks  []string    // Checks: their names
	At      Place       // Checks
	Level   Level
	Line    int
}

// Protection is one entry of "protect": the branches it is for and what it requires of them.
type Protection struct {
	Name     string
	Branches glob.List
	Text     []string // branch patterns and kinds as written
	// Push lists who may push directly; empty: nobody.
	Push     []Principal
	PushLine int
	Rewrite  Permission
	Delete   Permission
	Require  []Requirement
	Stay     Stay
	// LandBy lists who may ask to land; empty: everybody who may write.
	LandBy       []Principal
	With         []Strategy // allowed strategies; empty: all
	Default      Strategy   // empty: none stated
	Message      string     // template of the final message; empty: none stated
	RemoveSource *bool
	Line         int
	lines        map[string]int // of the keys, to say where a setting stands
}

// LineOf returns the line of one of the protection's keys, such as "rewrite" or "land.with", or else its own line.
func (p *Protection) LineOf(key string) int {
	if n, ok := p.lines[key]; ok {
		return n
	}
	return p.Line
}

// Source says where something in force comes from.
type Source struct {
	Protection string `json:"protection" doc:"name of the protection or area"`
	Version    int    `json:"version" doc:"version of the rules document"`
	Line       int    `json:"line" doc:"line in that version"`
}

// String names the source the way every message does: "trunk" (rules version 3, line 12).
func (s Source) String() string {
	return fmt.Sprintf("%q (rules version %d, line %d)", s.Protection, s.Version, s.Line)
}

// Sourced is a requirement with every place that asks for it.
type Sourced struct {
	Requirement
	From []Source
}

// Allowance is one protection's list of who may do something. Everyone has to be in every list.
type Allowance struct {
	Who    []Principal
	Source Source
}

// Effective is what all matching protections together say of one branch. Protected is false, and the rest empty,
// when none matches.
type Effective struct {
	Branch       string
	Protected    bool
	Protections  []string // names
	Requirements []Sourced
	Push         []Allowance
	LandBy       []Allowance
	Rewrite      Permission
	RewriteFrom  Source
	Delete       Permission
	DeleteFrom   Source
	Stay         Stay
	With         []Strategy
	WithFrom     []Source
	Default      Strategy // the one all matching protections that state one agree on; empty: none, or they disagree
	DefaultsSaid int      // how many different defaults the matching protections state
	Message      string
	RemoveSource bool
}

// For combines every protection that matches the branch. version is the document's, for the sources.
func (d *Document) For(branch string, version int) Effective {
	e := Effective{
		Branch: branch, Rewrite: Allowed, Delete: Allowed, Stay: StayAlways, With: slices.Clone(Strategies),
	}
	defaults, messages := map[Strategy]bool{}, map[string]bool{}
	removes := map[bool]bool{}
	for i := range d.Protections {
		p := &d.Protections[i]
		if !p.Branches.Match(branch) {
			continue
		}
		source := func(key string) Source { return Source{Protection: p.Name, Version: version, Line: p.LineOf(key)} }
		e.Protected = true
		e.Protections = append(e.Protections, p.Name)
		e.Push = append(e.Push, Allowance{p.Push, source("push")})
		if len(p.LandBy) > 0 {
			e.LandBy = append(e.LandBy, Allowance{p.LandBy, source("land.by")})
		}
		if p.Rewrite != Allowed && e.Rewrite == Allowed {
			e.Rewrite, e.RewriteFrom = Never, source("rewrite")
		}
		if p.Delete != Allowed && e.Delete == Allowed {
			e.Delete, e.DeleteFrom = Never, source("delete")
		}
		e.Stay = stricterStay(e.Stay, p.Stay)
		if len(p.With) > 0 {
			e.With = slices.DeleteFunc(e.With, func(s Strategy) bool { return !slices.Contains(p.With, s) })
			e.WithFrom = append(e.WithFrom, source("land.with"))
		}
		if p.Default != "" {
			defaults[p.Default] = true
		}
		if p.Message != "" {
			messages[p.Message] = true
		}
		if p.RemoveSource != nil {
			removes[*p.RemoveSource] = true
		}
		for _, r := range p.Require {
			e.add(r, Source{Protection: p.Name, Version: version, Line: r.Line})
		}
	}
	e.Default, e.DefaultsSaid = soleKey(defaults), len(defaults)
	if !slices.Contains(e.With, e.Default) {
		e.Default = ""
	}
	if e.DefaultsSaid == 0 && len(e.With) == 1 {
		e.Default = e.With[0]
	}
	e.Message = soleKey(messages)
	e.RemoveSource = soleKey(removes)
	slices.Sort(e.Protections)
	slices.SortStableFunc(e.Requirements, func(a, b Sourced) int {
		return cmp.Or(slices.Index(demandOrder, a.Demand)-slices.Index(demandOrder, b.Demand), strings.Compare(a.identity(), b.identity()))
	})
	return e
}

// Choose settles how a change lands: as asked, if that is allowed; else by the default that the rules agree on; else,
// where they state none, by the first they allow, and then it says so in words that follow "by STRATEGY". Where they
// disagree, or rule their own default out, the person has to choose: the error says among what.
func (e Effective) Choose(asked Strategy) (chosen Strategy, said string, err error) {
	words := make([]string, len(e.With))
	for i, s := range e.With {
		words[i] = string(s)
	}
	allowed := strings.Join(words, ", ")
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

// add puts a requirement beside those already there, or, when an identical one is, adds the source to it.
func (e *Effective) add(r Requirement, from Source) {
	for i := range e.Requirements {
		if e.Requirements[i].identity() == r.identity() {
			e.Requirements[i].From = append(e.Requirements[i].From, from)
			return
		}
	}
	e.Requirements = append(e.Requirements, Sourced{Requirement: r, From: []Source{from}})
}

// identity is equal for two requirements exactly when they ask the same, wherever they stand.
func (r Requirement) identity() string {
	names := func(ps []Principal) string {
		texts := make([]string, len(ps))
		for i, p := range ps {
			texts[i] = p.String()
		}
		slices.Sort(texts)
		return strings.Join(texts, ",")
	}
	not := make([]string, len(r.NotFrom))
	for i, x := range r.NotFrom {
		not[i] = string(x)
	}
	slices.Sort(not)
	checks := slices.Sorted(slices.Values(r.Checks))
	return fmt.Sprintf("%s|%03d|%s|%s|%s|%s|%s|%s", r.Demand, r.Count, r.Called, names(r.From),
		strings.Join(not, ","), strings.Join(checks, ","), r.At, r.Level)
}

// Check returns what the document says of the named check; the zero Check with that name where it says nothing.
func (d *Document) Check(name string) Check {
	for _, c := range d.Checks {
		if c.Name == name {
			return c
		}
	}
	return Check{Name: name, Limit: DefaultLimit}
}

func stricterStay(a, b Stay) Stay {
	if b == "" {
		b = StayIfUnchanged
	}
	if slices.Index(stayOrder, a) < slices.Index(stayOrder, b) {
		return a
	}
	return b
}

// soleKey returns the only key of a map, or the zero value when there are none or several.
func soleKey[K comparable](m map[K]bool) (only K) {
	if len(m) != 1 {
		return only
	}
	for k := range m {
		only = k
	}
	return only
}
