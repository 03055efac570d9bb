// Package areas answers maintainers' questions about who owns what: who owns a path and why, what nobody owns, and
// which patterns match nothing.
//
// Every area that matches a path applies; areas are never ordered. The answers are worked out from the rules in force
// and a list of paths; the package does no I/O.
package areas

import (
	"slices"
	"strings"

	"tavrin/internal/core/glob"
	"tavrin/internal/core/rules"
)

// Owner is one area that a path lies in, and why.
type Owner struct {
	Area    rules.PlacedArea
	Pattern string // the first of its patterns that matches
}

// Of returns the areas of a path, by name, each with the pattern that brought it in.
func Of(set *rules.Set, path string) []Owner {
	var out []Owner
	for _, a := range set.AreasOf(path) {
		o := Owner{Area: a}
		for _, p := range a.Paths.Patterns() {
			if p.Match(path) {
				o.Pattern = p.String()
				break
			}
		}
		out = append(out, o)
	}
	return out
}

// Share is how much of a folder somebody owns.
type Share struct {
	Folder string // without a slash at its end; empty: the whole tree
	Files  int
	Owned  int
}

// Unowned returns how many files nobody owns.
func (s Share) Unowned() int { return s.Files - s.Owned }

// Shares counts, for the whole tree and its folders down to a depth, the files that lie in an area.
func Shares(set *rules.Set, paths []string, depth int) []Share {
	byFolder := map[string]*Share{}
	count := func(folder string, owned bool) {
		if byFolder[folder] == nil {
			byFolder[folder] = &Share{Folder: folder}
		}
		byFolder[folder].Files++
		if owned {
			byFolder[folder].Owned++
		}
	}
	for _, p := range paths {
		owned := len(set.AreasOf(p)) > 0
		count("", owned)
		parts := strings.Split(p, "/")
		for i := 1; i < len(parts) && i <= depth; i++ {
			count(strings.Join(parts[:i], "/"), owned)
		}
	}
	out := make([]Share, 0, len(byFolder))
	for _, s := range byFolder {
		out = append(out, *s)
	}
	slices.SortFunc(out, func(a, b Share) int { return strings.Compare(a.Folder, b.Folder) })
	return out
}

// Idle is a pattern that matches nothing.
type Idle struct {
	Area    rules.PlacedArea
	Pattern string
}

// IdlePatterns returns the patterns of areas that match none of the paths. Exclusions count as idle when they take
// nothing out of what their area's other patterns match.
func IdlePatterns(set *rules.Set, paths []string) []Idle {
	type one struct {
		area     rules.PlacedArea
		text     string
		excludes bool
	}
	var all []one
	var lists []glob.List
	for _, a := range set.Areas() {
		for _, text := range a.Text {
			rest, excludes := strings.CutPrefix(text, "!")
			if list, err := glob.CompileList([]string{rest}); err == nil {
				all, lists = append(all, one{a, text, excludes}), append(lists, list)
			}
		}
	}
	index := glob.NewIndex(lists)
	used := make([]bool, len(all))
	for _, p := range paths {
		hits := index.Of(p, nil)
		included := map[string]bool{}
		for _, i := range hits {
			if !all[i].excludes {
				used[i] = true
				included[all[i].area.From.String()] = true
			}
		}
		for _, i := range hits {
			if all[i].excludes && included[all[i].area.From.String()] {
				used[i] = true
			}
		}
	}
	var out []Idle
	for i, o := range all {
		if !used[i] {
			out = append(out, Idle{o.area, o.text})
		}
	}
	return out
}
