// Package glob matches names that are paths: branch names and paths in a tree.
//
// A pattern is a glob, never a regular expression, and always covers the whole name:
//
//   - any run of characters but "/"
//     **       any run of characters, "/" included; "a/**" is everything below a, "**/a" is a at any depth
//     ?        one character but "/"
//     [abc]    one of the characters, [a-z] one of a range, [!abc] none of them
//     {a,b}    either part
//     \x       the character x itself
//
// Matching is case-sensitive. A list of patterns may hold exclusions, written with a leading "!"; a name is in
// the list when some pattern matches it and no exclusion does, whatever their order.
//
// The package does no I/O; a compiled pattern is safe for concurrent use.
package glob

import (
	"fmt"
	"regexp"
	"strings"
)

// MaxLength is the longest pattern accepted, in bytes.
const MaxLength = 512

// Pattern is one compiled glob.
type Pattern struct {
	text string
	re   *regexp.Regexp
}

// Compile reads a pattern. The error says what is wrong with it and at which byte.
func Compile(text string) (Pattern, error) {
	if text == "" {
		return Pattern{}, fmt.Errorf("a glob cannot be empty")
	}
	if len(text) > MaxLength {
		return Pattern{}, fmt.Errorf("a glob is at most %d bytes, this one has %d", MaxLength, len(text))
	}
	var b strings.Builder
	b.WriteString(`\A(?s:`)
	depth := 0
	for i := 0; i < len(text); {
		switch c := text[i]; c {
		case '*':
			i += star(&b, text, i)
			continue
		case '?':
			b.WriteString(`[^/]`)
		case '[':
			width, err := class(&b, text[i:])
			if err != nil {
				return Pattern{}, fmt.Errorf("glob %q: %w, at byte %d", text, err, i+1)
			}
			i += width
			continue
		case '{':
			depth++
			b.WriteString(`(?:`)
		case '}':
			if depth == 0 {
				return Pattern{}, fmt.Errorf("glob %q: \"}\" without \"{\", at byte %d", text, i+1)
			}
			depth--
			b.WriteString(`)`)
		case ',':
			if depth > 0 {
				b.WriteString(`|`)
			} else {
				b.WriteString(`,`)
			}
		case '\\':
			if i+1 == len(text) {
				return Pattern{}, fmt.Errorf("glob %q: ends in a lone \"\\\"", text)
			}
			i++
			b.WriteString(regexp.QuoteMeta(text[i : i+1]))
		case 0:
			return Pattern{}, fmt.Errorf("glob %q: holds a NUL, at byte %d", text, i+1)
		default:
			b.WriteString(regexp.QuoteMeta(text[i : i+1]))
		}
		i++
	}
	if depth > 0 {
		return Pattern{}, fmt.Errorf("glob %q: \"{\" without \"}\"", text)
	}
	b.WriteString(`)\z`)
	re, err := regexp.Compile(b.String())
	if err != nil {
		return Pattern{}, fmt.Errorf("glob %q: cannot be read: %w", text, err)
	}
	return Pattern{text: text, re: re}, nil
}

// star writes the expression for the run of stars at text[i:] and returns how many bytes it consumed.
func star(b *strings.Builder, text string, i int) int {
	if !strings.HasPrefix(text[i:], "**") {
		b.WriteString(`[^/]*`)
		return 1
	}
	atStart := i == 0 || text[i-1] == '/'
	if atStart && strings.HasPrefix(text[i:], "**/") {
		b.WriteString(`(?:.*/)?`)
		return 3
	}
	b.WriteString(`.*`)
	return 2
}

// class writes the expression for the character class that text begins with and returns its width in bytes.
func class(b *strings.Builder, text string) (int, error) {
	end := strings.IndexByte(text[1:], ']')
	if end <= 0 {
		return 0, fmt.Errorf("\"[\" without \"]\"")
	}
	body := text[1 : 1+end]
	negated := strings.HasPrefix(body, "!")
	body = strings.TrimPrefix(body, "!")
	if body == "" || strings.Contains(body, "/") {
		return 0, fmt.Errorf("a character class needs characters, none of them \"/\"")
	}
	b.WriteString(`[`)
	if negated {
		b.WriteString(`^/`)
	}
	for i, r := range body {
		if r == '-' && i > 0 && i < len(body)-1 {
			b.WriteByte('-')
			continue
		}
		if strings.ContainsRune(`\^-[]&~`, r) {
			b.WriteByte('\\')
		}
		b.WriteRune(r)
	}
	b.WriteString(`]`)
	return end + 2, nil
}

// Match says whether the pattern covers the whole name.
func (p Pattern) Match(name string) bool { return p.re != nil && p.re.MatchString(name) }

// String returns the pattern as it was written.
func (p Pattern) String() string { return p.text }

// List is a set of patterns with exclusions. The zero value matches nothing.
type List struct {
	include, exclude []Pattern
}

// CompileList reads patterns, those with a leading "!" as exclusions. A list of exclusions alone is an error,
// since it could match nothing.
func CompileList(texts []string) (List, error) {
	var l List
	for _, text := range texts {
		rest, excluded := strings.CutPrefix(text, "!")
		p, err := Compile(rest)
		if err != nil {
			return List{}, err
		}
		if excluded {
			l.exclude = append(l.exclude, p)
		} else {
			l.include = append(l.include, p)
		}
	}
	if len(l.include) == 0 {
		return List{}, fmt.Errorf("a list of globs needs at least one that does not begin with \"!\"")
	}
	return l, nil
}

// Match says whether the name is in the list.
func (l List) Match(name string) bool {
	for _, p := range l.exclude {
		if p.Match(name) {
			return false
		}
	}
	for _, p := range l.include {
		if p.Match(name) {
			return true
		}
	}
	return false
}
