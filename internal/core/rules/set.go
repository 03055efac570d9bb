package rules

import (
	"cmp"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"tavrin/internal/core/change"
	"tavrin/internal/core/glob"
	"tavrin/internal/core/people"
	"tavrin/internal/core/require"
)

// Layer is one document and which it is.
type Layer struct {
	// Document may be nil: nothing was applied yet.
	Document *Document
	// Of is "house NAME" for the rules of a house, empty for a repository's own.
	Of      string
	Version int
}

// Set is the documents that together hold for one repository. It does not change; For remembers its answers.
type Set struct {
	layers     []Layer
	repository string // NAME, without the house
	suspended  []change.Suspension
	areas      []PlacedArea
	index      *glob.Index
	folded     sync.Once
	// foldedIndex is the index of the areas' globs in lower case.
	foldedIndex *glob.Index
	memo        sync.Map // branch → *Effective
	kept        atomic.Int32
}

// maxKept bounds how many branches an answer is remembered for: names are asked about that do not exist.
const maxKept = 2000

// PlacedArea is an area and the document it stands in.
type PlacedArea struct {
	*Area
	From         require.Source
	Requirements []require.Sourced // what it requires, each with its line
}

// placed says where an area stands, and what it requires.
func placed(a *Area, l Layer) PlacedArea {
	out := PlacedArea{Area: a, From: require.Source{Document: l.Of, Protection: "area " + a.Name, Version: l.Version, Line: a.Line}}
	for _, q := range a.Require {
		from := out.From
		from.Line, q.Line = q.Line, 0
		out.Requirements = append(out.Requirements, require.Sourced{Requirement: q, From: []require.Source{from}}.Sealed())
	}
	return out
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
				s.areas = append(s.areas, placed(a, l))
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

// Without returns the set with protections suspended. Suspensions of protections that there are not have no effect.
func (s *Set) Without(suspended []change.Suspension) *Set {
	if len(suspended) == 0 && len(s.suspended) == 0 {
		return s
	}
	return &Set{layers: s.layers, repository: s.repository, suspended: slices.Clone(suspended), areas: s.areas,
		index: s.index}
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
	return Check{Name: name, Timeout: require.DefaultAnswer}
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
	named := func(all []require.Requirement) {
		for _, r := range all {
			for _, c := range r.CheckNames() {
				if !c.Several() {
					add(c.Text)
				}
			}
		}
	}
	for _, l := range s.layers {
		for i := range l.Document.Protections {
			p := &l.Document.Protections[i]
			if !s.concerns(p.Repositories) {
				continue
			}
			named(p.Require)
		}
	}
	for _, a := range s.areas {
		named(a.Require)
	}
	return out
}

// Description is what the description of a new change begins with: the house's text, then the repository's.
func (s *Set) Description() string {
	var texts []string
	for _, l := range s.layers {
		if l.Document.Description != "" {
			texts = append(texts, l.Document.Description)
		}
	}
	return strings.Join(texts, "\n\n")
}

// Label returns what the documents say of a label, and whether they know it. Where both do, both lists of who may set
// it have to name a person.
func (s *Set) Label(name string) (setBy [][]people.Principal, known bool) {
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

// MayCount says whether an approval of somebody could count for anything that the documents ask of any change.
func (s *Set) MayCount(p people.Person) bool {
	if p.Role.AtLeast(people.Writer) || slices.ContainsFunc(s.areas, func(a PlacedArea) bool { return p.IsAny(a.Owners) }) {
		return true
	}
	named := func(q require.Requirement) bool {
		asks, approving := q.Asks.(require.Approving)
		return approving && p.IsAny(asks.Approvers())
	}
	for _, l := range s.layers {
		for _, x := range l.Document.Protections {
			if slices.ContainsFunc(x.Require, named) {
				return true
			}
		}
	}
	return slices.ContainsFunc(s.areas, func(a PlacedArea) bool { return slices.ContainsFunc(a.Require, named) })
}

// AreasOf returns the areas that a path lies in, by name.
func (s *Set) AreasOf(path string) []PlacedArea {
	var out []PlacedArea
	for _, i := range s.index.Of(path, nil) {
		out = append(out, s.areas[i])
	}
	return out
}

// Area returns the area of a document, by the words in which sources name it.
func (s *Set) Area(from require.Source) (PlacedArea, bool) {
	i := slices.IndexFunc(s.areas, func(a PlacedArea) bool {
		return a.From.Document == from.Document && a.From.Protection == from.Protection
	})
	if i < 0 {
		return PlacedArea{}, false
	}
	return s.areas[i], true
}

// LabelOfHouse says whether the house's document defines a label.
func (s *Set) LabelOfHouse(name string) bool {
	return slices.ContainsFunc(s.layers, func(l Layer) bool {
		return l.Of != "" && slices.ContainsFunc(l.Document.Labels, func(x Label) bool { return x.Name == name })
	})
}

// NearlyIn returns an area that a path would lie in if upper and lower case were the same, and does not lie in.
func (s *Set) NearlyIn(path string) (PlacedArea, bool) {
	s.folded.Do(func() {
		lists := make([]glob.List, len(s.areas))
		for i, a := range s.areas {
			texts := a.Paths.Texts()
			for n := range texts {
				texts[n] = strings.ToLower(texts[n])
			}
			lists[i], _ = glob.CompileList(texts) // what compiled with capitals compiles without
		}
		s.foldedIndex = glob.NewIndex(lists)
	})
	in := s.index.Of(path, nil)
	for _, i := range s.foldedIndex.Of(strings.ToLower(path), nil) {
		if !slices.Contains(in, i) && !s.areas[i].Paths.Match(path) {
			return s.areas[i], true
		}
	}
	return PlacedArea{}, false
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
	return s.combine(branch, func(p *Protection) bool { return p.Branches.Match(branch) })
}

// ForTag combines every protection that matches a tag, but those that exempt a person, of whom is says what they are.
func (s *Set) ForTag(tag string, is func(people.Principal) bool) *Effective {
	var exempted []require.Source
	e := s.combine(tag, func(p *Protection) bool { return p.Tags.Match(tag) && !slices.ContainsFunc(p.Exempt, is) })
	for _, m := range s.combine(tag, func(p *Protection) bool { return p.Tags.Match(tag) }).Protections {
		if slices.ContainsFunc(m.Exempt, is) {
			exempted = append(exempted, m.Source)
		}
	}
	e.Exempted = exempted
	return e
}

// combine combines the protections that match a name.
func (s *Set) combine(name string, matches func(*Protection) bool) *Effective {
	c := newCombining(name)
	for _, l := range s.layers {
		for i := range l.Document.Protections {
			p := &l.Document.Protections[i]
			if !s.concerns(p.Repositories) || !matches(p) {
				continue
			}
			if x := s.suspension(l, p); x != nil {
				c.Suspended = append(c.Suspended, *x)
				continue
			}
			c.take(l, p)
		}
	}
	return c.done()
}

// suspension is what puts a protection out of force now; nil: nothing.
func (s *Set) suspension(l Layer, p *Protection) *change.Suspension {
	for i, x := range s.suspended {
		if x.Document == l.Of && x.Protection == p.Name {
			return &s.suspended[i]
		}
	}
	return nil
}

// Binding is For without the protections that exempt a person, of whom is says what they are.
func (s *Set) Binding(branch string, is func(people.Principal) bool) *Effective {
	e := s.For(branch)
	exempts := func(m Matching) bool { return slices.ContainsFunc(m.Exempt, is) }
	if !slices.ContainsFunc(e.Protections, exempts) {
		return e
	}
	var skipped []require.Source
	without := slices.Clone(s.suspended)
	for _, m := range e.Protections {
		if exempts(m) {
			skipped = append(skipped, m.Source)
			without = append(without, change.Suspension{Document: m.Source.Document, Protection: m.Name})
		}
	}
	bound := s.Without(without).combined(branch)
	bound.Suspended, bound.Exempted = e.Suspended, skipped
	return bound
}

// InTheWay finds a protection of names that could not be made while a branch is there: Git keeps a branch as a file and
// what stands below it in a folder of the same name, so that one keeps the other out. Only what a pattern says before
// its first wildcard counts.
func (s *Set) InTheWay(branch string) (pattern string, from require.Source, found bool) {
	for _, l := range s.layers {
		for i := range l.Document.Protections {
			p := &l.Document.Protections[i]
			if !s.concerns(p.Repositories) || p.Branches.Match(branch) {
				continue
			}
			for _, g := range p.Branches.Patterns() {
				for _, b := range g.Beginnings() {
					if strings.HasPrefix(b.Text, branch+"/") || b.Whole && strings.HasPrefix(branch, b.Text+"/") {
						return g.String(), require.Source{Document: l.Of, Protection: p.Name, Version: l.Version,
							Line: p.Line}, true
					}
				}
			}
		}
	}
	return "", require.Source{}, false
}
