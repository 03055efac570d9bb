package grammar

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// What is the same is told by value. A value is written as a text that is equal for equal values only: each word in
// quotes, so that ["a,b"] is not [a, b]; a list that says who, what or where as a set, in an order of its own, each
// once.

// Set writes a list of which neither the order nor a repetition means anything.
func Set[T any](words []T) string {
	texts := make([]string, len(words))
	for i, w := range words {
		texts[i] = strconv.Quote(fmt.Sprint(w))
	}
	slices.Sort(texts)
	return "[" + strings.Join(slices.Compact(texts), " ") + "]"
}

// GlobSet writes a list of globs; that there is none is not that nothing matches.
func GlobSet(texts []string) string {
	if texts == nil {
		return "any"
	}
	return Set(texts)
}

// Shown writes a list for people, in an order of its own, each once; what could be taken for two stands in quotes.
func Shown[T any](words []T) string {
	texts := make([]string, len(words))
	for i, w := range words {
		if texts[i] = fmt.Sprint(w); strings.ContainsAny(texts[i], ", \"") || texts[i] == "" {
			texts[i] = strconv.Quote(texts[i])
		}
	}
	slices.Sort(texts)
	return strings.Join(slices.Compact(texts), ", ")
}

// Texts returns things as texts.
func Texts[T any](words []T) []string {
	out := make([]string, len(words))
	for i, w := range words {
		out[i] = fmt.Sprint(w)
	}
	return out
}

// GlobWords puts globs into words: "main or release/**, but not release/old".
func GlobWords(texts []string) string {
	var in, out []string
	for _, text := range texts {
		if rest, taken := strings.CutPrefix(text, "!"); taken {
			out = append(out, rest)
		} else {
			in = append(in, text)
		}
	}
	if len(out) == 0 {
		return Either(in)
	}
	return Either(in) + ", but not " + Either(out) + ","
}

// Either lists words, with "or" before the last.
func Either(words []string) string {
	if len(words) < 2 {
		return strings.Join(words, "")
	}
	return strings.Join(words[:len(words)-1], ", ") + " or " + words[len(words)-1]
}

// Within says whether everything in a is in b.
func Within[T comparable](a, b []T) bool {
	return !slices.ContainsFunc(a, func(x T) bool { return !slices.Contains(b, x) })
}

// Capital begins a sentence with a word. Names keep their small letters.
func Capital(text string) string {
	if text == "" || strings.Contains(strings.SplitN(text, " ", 2)[0], ":") {
		return text
	}
	return strings.ToUpper(text[:1]) + text[1:]
}
