package require

import (
	"fmt"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"tavrin/internal/core/condition"
	"tavrin/internal/core/grammar"
)

// What becomes of a key where several protections, documents or areas state it.
const (
	Conjunction = "never blended: every one stays, and the gate is all of them; those that ask the same are shown once with every source"
	PartOf      = "part of what the requirement asks; another value makes another requirement beside it"
)

// common are the keys that may stand beside every kind.
func common(path string) []grammar.Key {
	return append([]grammar.Key{
		{Path: path + ".called", Shape: grammar.Text, Means: "a title of your own", Absent: "titled by what it asks", Together: PartOf, Example: "called: many eyes", Else: "what messages call the requirement"},
		{Path: path + ".level", Shape: grammar.Word, Allowed: grammar.Texts([]Level{Required, Advisory}), Means: "whether it blocks; advisory ones are shown in the same detail", Absent: "required", Together: "required over advisory, where both ask the same", Example: "level: advisory", OnPush: true},
		{Path: path + ".when", Shape: grammar.Mapping, Means: "when it is asked for; everything stated has to be so", Absent: "always", Together: "narrows the requirement it is on, nothing else", Example: "when: {lines: over 400}"},
		{Path: path + ".unless", Shape: grammar.Mapping, Means: "when it is not asked for; everything stated has to be so of everything that the change brings", Absent: "it is asked for whatever else is so", Together: "narrows the requirement it is on, nothing else", Example: "unless: {paths: docs/**}"},
	}, slices.Concat(condition.Keys(path+".when", false), condition.Keys(path+".unless", true))...)
}

// Keys lists the keys of a requirement that stands at a path: those of the kinds, what may stand beside each of them,
// and what may stand beside all. A key of several kinds means the same beside each.
func Keys(kinds []*Kind, path string) []grammar.Key {
	var own, beside []grammar.Key
	for _, k := range kinds {
		for i, key := range k.Keys {
			key.Path = path + "." + key.Path
			if i == 0 {
				own = append(own, key)
				continue
			}
			if n := slices.IndexFunc(beside, func(o grammar.Key) bool { return o.Path == key.Path }); n >= 0 {
				beside[n].Beside = append(beside[n].Beside, k.Name)
				continue
			}
			key.Beside = []string{k.Name}
			beside = append(beside, key)
		}
	}
	every := common(path)
	return slices.Concat(own, every[:4], beside, every[4:])
}

// beside lists the names of the keys that may stand in a requirement beside its kind's.
func (k *Kind) beside() []string {
	all := []string{"called", "level", "when", "unless"}
	for _, key := range k.Keys[1:] {
		all = append(all, key.Path)
	}
	return all
}

// Read reads a requirement that stands at a path of the document: in a protection, or in the definition of an area.
func Read(kinds []*Kind, r *grammar.Reader, n ast.Node, path string, ofArea bool) (Requirement, bool) {
	q := Requirement{Level: Required}
	q.Line, _ = grammar.Place(n)
	before := r.Found()
	fields := r.Keys(n, "a requirement", path)
	for _, f := range fields {
		kind := Named(kinds, f.Name)
		if kind == nil {
			continue
		}
		if q.Kind != nil {
			r.Bad(f.Key, fmt.Sprintf("a requirement asks one thing, this one asks for %s and %s", q.Kind.Name, f.Name),
				"begin a new list item with \"- "+f.Name+": …\"")
			return q, false
		}
		q.Kind = kind
	}
	if q.Kind == nil {
		if r.Found() == before { // else what was meant is found wrong already
			r.Bad(n, "a requirement says what it asks for", "one of "+strings.Join(names(kinds), ", "))
		}
		return q, false
	}
	if ofArea {
		q.Asks = q.Kind.NewOfArea()
	} else {
		q.Asks = q.Kind.New()
	}
	beside := q.Kind.beside()
	for _, f := range fields {
		switch {
		case f.Name != q.Kind.Name && !slices.Contains(beside, f.Name):
			r.Bad(f.Key, fmt.Sprintf("%q means nothing beside %q", f.Name, q.Kind.Name),
				"one of "+strings.Join(beside, ", "))
		case f.Name == "called":
			if q.Called = r.Text(f); len(q.Called) > 80 || grammar.Odd(q.Called) != "" {
				r.Bad(f.Value, "\"called\" is not a title", "a few words on one line, at most 80 characters")
			}
		case f.Name == "level":
			q.Level = grammar.OneOf(r, f, Required, Advisory)
		case f.Name == "when":
			q.When = condition.Read(r, f, path+".when", false)
		case f.Name == "unless":
			q.Unless = condition.Read(r, f, path+".unless", true)
		default:
			q.Asks.Read(r, f)
		}
	}
	if c, together := q.Asks.(Completed); together {
		c.Complete(r, n)
	}
	q.Seal()
	return q, true
}
