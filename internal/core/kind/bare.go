package kind

import (
	"tavrin/internal/core/grammar"
	"tavrin/internal/core/require"
)

// bare is an Ask of one word, which has nothing to compare. Kinds embed it.
type bare struct {
	word, title, words string
}

// Read reads the word.
func (b bare) Read(r *grammar.Reader, f grammar.Field) { grammar.OneOf(r, f, b.word) }

// Identity is empty: all of the kind ask the same.
func (bare) Identity() string { return "" }

// Title is the kind's.
func (b bare) Title() string { return b.title }

// Words are the kind's.
func (b bare) Words() string { return b.words }

// AtLeast is true: all of the kind ask the same.
func (bare) AtLeast(require.Ask) bool { return true }

// wordKey is the key of a kind that is one word.
func wordKey(kind, word, means string) grammar.Key {
	return grammar.Key{Path: kind, Shape: grammar.Word, Allowed: []string{word}, Means: means, Absent: "-",
		Together: require.Conjunction, Example: kind + ": " + word}
}
