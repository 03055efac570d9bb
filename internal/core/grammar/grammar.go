// Package grammar is how rules documents are written: the shapes that the values of keys have, and a reader that finds
// out what is wrong where one has another.
//
// It knows nothing of what the keys mean. It promises that each thing wrong is told once, with its place, an excerpt and
// what would be right; that all of them are told at once; and that reading costs no more than the bounds on what a
// document may hold allow.
package grammar

import (
	"strings"
)

// Shape is how a key's value is written.
type Shape string

// The shapes. Where a list of words, names or globs is meant, a single one may stand without the brackets.
const (
	Text       Shape = "text"
	Lines      Shape = "lines" // one text or a list
	Number     Shape = "number"
	Truth      Shape = "true or false"
	Duration   Shape = "duration"
	Word       Shape = "word"
	Words      Shape = "words"
	Globs      Shape = "globs"
	Who        Shape = "principals"
	WhoOrNone  Shape = "principals or nobody"
	RobotName  Shape = "robot"
	Expression Shape = "expression"
	Mapping    Shape = "mapping"
	Named      Shape = "named entries"
	List       Shape = "list of entries"
	Amount     Shape = "amount"
)

// Key is one key of the rules document: how it is written, what it means, what its absence means, and what becomes
// of it where several protections, documents or areas state it.
type Key struct {
	// Path is where it stands: "." goes into a mapping, "[]" into the entries of a list, "{}" into named entries.
	Path     string
	Shape    Shape
	Allowed  []string // of Word and Words
	Pattern  string   // of Text: a regular expression that it matches; empty: any
	Low      int      // of Number
	High     int      // of Duration: in hours
	Means    string
	Absent   string
	Together string
	Example  string // the key with a value, as YAML
	House    bool   // only in house rules
	// Gone says what becomes of it when what it names is gone; empty: it names nobody and nothing.
	Gone string
	// OnPush says that direct pushes are judged by it too.
	OnPush bool
	// Else says what it decides, of a key by which neither landings nor pushes are judged.
	Else string
	// Beside are the kinds of requirement that it may stand beside; empty: beside every one.
	Beside []string
}

// Name returns the last part of the path.
func (k Key) Name() string { return k.Path[strings.LastIndexAny(k.Path, ".]}")+1:] }

// Grammar is the keys of a document, found by their paths.
type Grammar struct {
	byPath     map[string]Key
	under, own map[string][]string
}

// New makes a grammar of keys.
func New(keys []Key) *Grammar {
	g := &Grammar{byPath: map[string]Key{}, under: map[string][]string{}, own: map[string][]string{}}
	for _, k := range keys {
		g.byPath[k.Path] = k
		if k.Name() == "" {
			continue
		}
		g.under[Parent(k.Path)] = append(g.under[Parent(k.Path)], k.Name())
		if !k.House {
			g.own[Parent(k.Path)] = append(g.own[Parent(k.Path)], k.Name())
		}
	}
	return g
}

// Under returns the names of the keys that may stand directly in the mapping at a path, of a house's document or of
// another.
func (g *Grammar) Under(path string, house bool) []string {
	if house {
		return g.under[path]
	}
	return g.own[path]
}

// At returns the key at a path.
func (g *Grammar) At(path string) Key {
	if k, ok := g.byPath[path]; ok {
		return k
	}
	return Key{Path: path}
}

// Parent is the path of the mapping that a key stands in: "" for the document.
func Parent(path string) string {
	if i := strings.LastIndexByte(path, '.'); i >= 0 {
		return path[:i]
	}
	return ""
}

// LineNumbers are those that the keys of a mapping stand on.
type LineNumbers map[string]int

// Of returns the line of a key, or another where it does not stand there.
func (l LineNumbers) Of(key string, otherwise int) int {
	if n, ok := l[key]; ok {
		return n
	}
	return otherwise
}
