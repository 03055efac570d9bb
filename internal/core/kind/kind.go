// Package kind has the kinds of requirement, each whole in a file of its own: how it is written, how it is put into
// words, when two ask the same, how a change is judged by it, what a direct push needs, what is to be warned of.
//
// Whoever adds a kind writes one file, which registers it; nothing else names kinds one by one, and the schema and the
// reference follow. The package promises that a kind is judged by the facts and by what its own requirement says alone.
package kind

import (
	"slices"

	"tavrin/internal/core/require"
)

var all []*require.Kind

// register makes a kind known.
func register(k require.Kind) *require.Kind {
	all = append(all, &k)
	slices.SortFunc(all, require.Order)
	return &k
}

// All lists every kind in the order in which they are shown.
func All() []*require.Kind { return all }

// OfAreas lists those that may stand in the definition of an area.
func OfAreas() []*require.Kind { return require.OfAreas(all) }

// Of finds a kind by its name; nil: there is none.
func Of(name string) *require.Kind { return require.Named(all, name) }
