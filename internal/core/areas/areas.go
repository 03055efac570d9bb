// Package areas says which areas a set of paths touches.
//
// Every area that matches a path applies; areas are never ordered. A rename counts at both its ends: callers pass
// the old and the new path. The package is pure.
package areas

import (
	"slices"
	"strings"

	"tavrin/internal/core/rules"
)

// Touched is one area and the changed paths that lie in it.
type Touched struct {
	Area  *rules.Area
	Paths []string // in the order given
}

// Of returns the areas that at least one of the paths lies in, by name.
func Of(all []rules.Area, paths []string) []Touched {
	var out []Touched
	for i := range all {
		t := Touched{Area: &all[i]}
		for _, p := range paths {
			if all[i].Paths.Match(p) {
				t.Paths = append(t.Paths, p)
			}
		}
		if len(t.Paths) > 0 {
			out = append(out, t)
		}
	}
	slices.SortFunc(out, func(a, b Touched) int { return strings.Compare(a.Area.Name, b.Area.Name) })
	return out
}
