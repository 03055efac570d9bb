// Package trailer knows the trailers that only the service writes into messages.
//
// Git's trailers (git-interpret-trailers) are lines "Key: value" at the end of a message; a line that begins with white
// space goes on with the one before. Here every line of a message that could be read as one counts, wherever it stands:
// what shows trailers does not agree on where they end. The package is pure.
package trailer

import (
	"regexp"
	"strings"
	"unicode"
)

// The trailers that say what the service decided. They are genuine only in a commit that is on record as landed.
const (
	LandedChange = "Landed-change"
	ApprovedBy   = "Approved-by"
	// anybody's to write into a commit; in a message typed for a landing it is the service's
	CoAuthoredBy = "Co-authored-by"
)

var (
	reserved = regexp.MustCompile(`(?i)^(?:` + LandedChange + `|` + ApprovedBy + `)[\pZ\t]*[:：﹕︓]`)
	typed    = regexp.MustCompile(`(?i)^(?:` + LandedChange + `|` + ApprovedBy + `|` + CoAuthoredBy + `)[\pZ\t]*[:：﹕︓]`)
)

// plain takes out of a line what nobody sees, and makes every dash the usual one.
func plain(line string) string {
	return strings.Map(func(c rune) rune {
		switch {
		case unicode.Is(unicode.Cf, c) || unicode.IsControl(c) && c != '\t' || unicode.Is(unicode.Mn, c):
			return -1
		case unicode.Is(unicode.Pd, c) || c == '\u2212':
			return '-'
		}
		return c
	}, strings.TrimLeft(line, " \t"))
}

// lines splits a message where anything that shows it may begin a new line.
func lines(message string) []string {
	return strings.FieldsFunc(message, func(c rune) bool {
		switch c {
		case '\n', '\r', '\v', '\f', 0, 0x85, 0x2028, 0x2029:
			return true
		}
		return false
	})
}

func first(message string, form *regexp.Regexp) string {
	for _, line := range lines(message) {
		if found := form.FindString(plain(line)); found != "" {
			return strings.TrimSpace(strings.TrimRight(found, ":：﹕︓ "))
		}
	}
	return ""
}

// Reserved returns the first trailer of a message that only the service writes; empty: there is none.
func Reserved(message string) string { return first(message, reserved) }

// Typed is Reserved for a message that somebody types for a landing, in which the service names the co-authors too.
func Typed(message string) string { return first(message, typed) }

// Drop returns the message without the trailers that only the service writes, and the lines that go on with them.
func Drop(message string) string { return drop(message, reserved) }

// DropTyped is Drop for a text that goes into a message for a landing.
func DropTyped(message string) string { return drop(message, typed) }

func drop(message string, form *regexp.Regexp) string {
	if first(message, form) == "" {
		return message
	}
	var out strings.Builder
	dropping := false
	for line := range strings.Lines(message) {
		goesOn := dropping && strings.TrimSpace(line) != "" && (line[0] == ' ' || line[0] == '\t')
		if dropping = goesOn || first(line, form) != ""; !dropping {
			out.WriteString(line)
		}
	}
	return out.String()
}
