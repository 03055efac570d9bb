// Package typed checks what people type: lines, texts, names; and hides tokens in it.
//
// Whatever a person sends that others will read goes through here before it is kept.
package typed

import (
	"regexp"
	"strings"
	"unicode"
	"unicode/utf8"

	"tavrin/internal/problem"
)

// How long texts may be.
const (
	MaxTitle = 200      // characters
	MaxProse = 16 << 10 // bytes
)

// The forms of names.
var (
	LoginForm = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,38}$`)
	HouseForm = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,38}$`)
	RepoForm  = regexp.MustCompile(`^[a-z0-9][a-z0-9._-]{0,63}$`)
	EmailForm = regexp.MustCompile(`^[^\s<>@]+@[^\s<>@]+$`)
	CheckForm = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9 ._/:-]{0,99}$`)
)

// TokenPrefix is how every token begins, so that it can be recognised and masked.
const TokenPrefix = "tvr_"

var tokenForm = regexp.MustCompile(TokenPrefix + `[A-Z2-7]{10,}`)

// Mask hides tokens in a text that is about to be kept or shown: what was pasted by mistake is not shown to everybody.
func Mask(text string) string { return tokenForm.ReplaceAllString(text, TokenPrefix+"…") }

// Line checks a text of one line that people will read; min and max count characters.
func Line(field, text string, min, max int) error {
	switch n := utf8.RuneCountInString(text); {
	case !utf8.ValidString(text):
		return problem.Wrong(field, "%s is not valid UTF-8", field)
	case n < min:
		return problem.Wrong(field, "%s is empty", field)
	case n > max:
		return problem.Wrong(field, "%s has %d characters; at most %d", field, n, max)
	case strings.ContainsFunc(text, unicode.IsControl):
		return problem.Wrong(field, "%s holds control characters; one line of plain text is expected", field)
	}
	return nil
}

// Prose checks a text of many lines; max counts bytes.
func Prose(field, text string, max int) error {
	if !utf8.ValidString(text) || strings.ContainsRune(text, 0) {
		return problem.Wrong(field, "%s is not valid UTF-8 text", field)
	}
	if len(text) > max {
		return problem.Wrong(field, "%s has %d bytes; at most %d", field, len(text), max)
	}
	return nil
}

// Shortened cuts a text to what fits into a sentence.
func Shortened(text string) string {
	text = strings.Join(strings.Fields(strings.ToValidUTF8(text, "\uFFFD")), " ")
	if runes := []rune(text); len(runes) > 300 {
		return string(runes[:300]) + "…"
	}
	return text
}

// Shown makes a path or text of a repository fit for JSON.
func Shown(text string) string { return strings.ToValidUTF8(text, "\uFFFD") }
