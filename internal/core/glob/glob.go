// Package glob matches names that are paths: branch names and paths in a tree.
//
// A pattern is a glob, never a regular expression, and always covers the whole name:
//
//   - any run of characters but "/"
//     **       any run of characters, "/" included; "a/**" is everything below a, "**/a" is a at any depth
//     ?        one character but "/"
//     [abc]    one of the characters, [a-z] one of a range, [!abc] or [^abc] none of them, [\]] the character "]"
//     {a,b}    either part
//     \x       the character x itself
//
// Matching is case-sensitive, also for branch names: Main is not main. A list of patterns may hold exclusions,
// written with a leading "!"; a name is in the list when some pattern matches it and no exclusion does, whatever
// their order.
//
// Braces are multiplied out when a pattern is compiled, so that what is left is a row of literals and wildcards;
// matching such a row needs no more than two places to fall back to (the last "*" and the last "**"), so its time
// is at most the product of both lengths, whatever the pattern. An Index answers for thousands of lists at once.
//
// The package does no I/O; everything compiled is safe for concurrent use.
package glob

import (
	"fmt"
	"strings"
	"unicode/utf8"
)

const (
	// MaxLength is the longest pattern accepted, in bytes.
	MaxLength = 512
	// MaxAlternatives is the largest number of rows that a pattern's braces may multiply out to.
	MaxAlternatives = 256
	// MaxRows is the largest number of rows that all patterns of one list may multiply out to.
	MaxRows = 20_000
)

// Syntax says in a few words how a glob is written, for messages about wrong ones.
const Syntax = "a glob: * within a name, ** across /, ? one character, [a-z], {a,b}, leading ! to exclude"

// Pattern is one compiled glob. The zero value matches nothing.
type Pattern struct {
	text string
	rows []row
}

// row is a glob without braces: literals and wildcards that follow each other.
type row []token

type tokenKind uint8

const (
	literal  tokenKind = iota
	one                // ?
	class              // [...]
	star               // *
	stars              // **
	anyDepth           // **/ at the start of a name: nothing, or anything that ends in "/"
)

type token struct {
	kind    tokenKind
	text    string // of a literal
	ranges  []rune // of a class: pairs of first and last
	negated bool   // of a class
}

// Compile reads a pattern. The error says what is wrong with it and at which byte.
func Compile(text string) (Pattern, error) {
	switch {
	case text == "":
		return Pattern{}, fmt.Errorf("a glob cannot be empty")
	case len(text) > MaxLength:
		return Pattern{}, fmt.Errorf("a glob is at most %d bytes, this one has %d", MaxLength, len(text))
	case strings.IndexByte(text, 0) >= 0:
		return Pattern{}, fmt.Errorf("glob %q: holds a NUL, at byte %d", text, strings.IndexByte(text, 0)+1)
	}
	plain, err := multiplied(text)
	if err != nil {
		return Pattern{}, err
	}
	p := Pattern{text: text, rows: make([]row, 0, len(plain))}
	for _, alternative := range plain {
		r, err := tokens(alternative)
		if err != nil {
			return Pattern{}, fmt.Errorf("glob %q: %w", text, err)
		}
		p.rows = append(p.rows, r)
	}
	return p, nil
}

// Rows returns for how many patterns without braces the pattern stands.
func (p Pattern) Rows() int { return len(p.rows) }

// multiplied gives the patterns without braces that a pattern stands for.
func multiplied(text string) ([]string, error) {
	out, rest, err := alternatives(text, text, 0)
	if err != nil {
		return nil, err
	}
	if rest != "" { // only a "}" or a "," ends a part early, and a "," at the top is plain
		return nil, fmt.Errorf("glob %q: \"}\" without \"{\", at byte %d", text, len(text)-len(rest)+1)
	}
	return out, nil
}

// alternatives reads up to the end of a part: the end of the text, or, inside braces, a "," or "}" that is theirs.
func alternatives(whole, text string, depth int) (out []string, rest string, err error) {
	if depth > 8 {
		return nil, "", fmt.Errorf("glob %q: braces are nested too deeply", whole)
	}
	out = []string{""}
	add := func(parts ...string) error {
		if len(out)*len(parts) > MaxAlternatives {
			return fmt.Errorf("glob %q: its braces stand for more than %d patterns", whole, MaxAlternatives)
		}
		next := make([]string, 0, len(out)*len(parts))
		for _, o := range out {
			for _, p := range parts {
				next = append(next, o+p)
			}
		}
		out = next
		return nil
	}
	for text != "" {
		width := 1
		switch c := text[0]; {
		case c == '\\' && len(text) == 1:
			return nil, "", fmt.Errorf("glob %q: ends in a lone \"\\\"", whole)
		case c == '\\':
			_, size := utf8.DecodeRuneInString(text[1:])
			width = 1 + size
		case c == '[':
			if width, err = classWidth(text); err != nil {
				return nil, "", fmt.Errorf("glob %q: %w, at byte %d", whole, err, len(whole)-len(text)+1)
			}
		case c == '}' || (c == ',' && depth > 0):
			return out, text, nil
		case c == '{':
			var parts []string
			rest := text
			for rest[0] != '}' {
				var some []string
				if some, rest, err = alternatives(whole, rest[1:], depth+1); err != nil {
					return nil, "", err
				}
				if parts = append(parts, some...); len(parts) > MaxAlternatives {
					return nil, "", fmt.Errorf("glob %q: its braces stand for more than %d patterns", whole,
						MaxAlternatives)
				}
				if rest == "" {
					return nil, "", fmt.Errorf("glob %q: \"{\" without \"}\"", whole)
				}
			}
			if err := add(parts...); err != nil {
				return nil, "", err
			}
			text = rest[1:]
			continue
		}
		if width == 1 && text[0] != '\\' { // all that is plain at once: each addition is made to every alternative
			if width = strings.IndexAny(text[1:], `\[{},`) + 1; width == 0 {
				width = len(text)
			}
		}
		if err := add(text[:width]); err != nil {
			return nil, "", err
		}
		text = text[width:]
	}
	return out, "", nil
}

// classWidth returns the width in bytes of the character class that text begins with.
func classWidth(text string) (int, error) {
	_, width, err := readClass(text)
	return width, err
}

// tokens reads a pattern without braces.
func tokens(text string) (row, error) {
	var r row
	var plain strings.Builder
	flush := func() {
		if plain.Len() > 0 {
			r = append(r, token{kind: literal, text: plain.String()})
			plain.Reset()
		}
	}
	for i := 0; i < len(text); {
		switch c := text[i]; {
		case c == '\\':
			_, size := utf8.DecodeRuneInString(text[i+1:])
			plain.WriteString(text[i+1 : i+1+size])
			i += 1 + size
		case strings.HasPrefix(text[i:], "**/") && (i == 0 || text[i-1] == '/'):
			flush()
			r = append(r, token{kind: anyDepth})
			i += 3
		case strings.HasPrefix(text[i:], "**"):
			flush()
			r = append(r, token{kind: stars})
			i += 2
		case c == '*':
			flush()
			r = append(r, token{kind: star})
			i++
		case c == '?':
			flush()
			r = append(r, token{kind: one})
			i++
		case c == '[':
			flush()
			t, width, err := readClass(text[i:])
			if err != nil {
				return nil, err
			}
			r = append(r, t)
			i += width
		default:
			plain.WriteByte(c)
			i++
		}
	}
	flush()
	return r, nil
}

// readClass reads the character class that text begins with, as Git reads it: "!" or "^" negates, "]" is plain where it
// comes first, and a "\" takes the next character as it is. Named classes such as [:alpha:] are refused rather than
// misread.
func readClass(text string) (t token, width int, err error) {
	t.kind = class
	rest := text[1:]
	if rest != "" && strings.ContainsRune("!^", rune(rest[0])) {
		t.negated, rest = true, rest[1:]
	}
	char := func() (c rune) {
		rest = strings.TrimPrefix(rest, `\`)
		c, size := utf8.DecodeRuneInString(rest)
		rest = rest[size:]
		return c
	}
	for rest != "" && (rest[0] != ']' || len(t.ranges) == 0) {
		if strings.HasPrefix(rest, "[:") {
			return token{}, 0, fmt.Errorf("named classes such as [:alpha:] are not read: write the range")
		}
		first := char()
		last := first
		if len(rest) > 1 && rest[0] == '-' && rest[1] != ']' {
			rest = rest[1:]
			last = char()
		}
		switch {
		case first == '/' || last == '/':
			return token{}, 0, fmt.Errorf("a character class needs characters, none of them \"/\"")
		case last < first:
			return token{}, 0, fmt.Errorf("the range %c-%c runs backwards", first, last)
		}
		t.ranges = append(t.ranges, first, last)
	}
	if rest == "" {
		return token{}, 0, fmt.Errorf("\"[\" without \"]\"")
	}
	return t, len(text) - len(rest) + 1, nil
}

// has says whether a class holds a character. No class holds "/".
func (t token) has(c rune) bool {
	if c == '/' {
		return false
	}
	for i := 0; i < len(t.ranges); i += 2 {
		if t.ranges[i] <= c && c <= t.ranges[i+1] {
			return !t.negated
		}
	}
	return t.negated
}

// match says whether the row covers the whole name. When a token does not fit, the last "*" takes one character
// more; when it may not (the next is a "/"), the last "**" does. Earlier wildcards need never be tried again: what
// lies between two of them was matched as far left as it can be, and that leaves most to the later ones.
func (r row) match(name string) bool {
	type place struct{ token, at int }
	last, lastMany := place{-1, 0}, place{-1, 0}
	t, at := 0, 0
	for {
		ok := false
		if t == len(r) {
			if at == len(name) {
				return true
			}
		} else {
			switch tok := r[t]; tok.kind {
			case star:
				last, t, ok = place{t, at}, t+1, true
			case stars, anyDepth:
				lastMany, last, t, ok = place{t, at}, place{-1, 0}, t+1, true
			case literal:
				if strings.HasPrefix(name[at:], tok.text) {
					at, t, ok = at+len(tok.text), t+1, true
				}
			case one, class:
				if at < len(name) {
					c, size := utf8.DecodeRuneInString(name[at:])
					if tok.kind == one && c != '/' || tok.kind == class && tok.has(c) {
						at, t, ok = at+size, t+1, true
					}
				}
			}
		}
		if ok {
			continue
		}
		if last.token >= 0 && last.at < len(name) && name[last.at] != '/' {
			_, size := utf8.DecodeRuneInString(name[last.at:])
			last.at += size
			t, at = last.token+1, last.at
			continue
		}
		if lastMany.token < 0 || lastMany.at >= len(name) {
			return false
		}
		if r[lastMany.token].kind == anyDepth {
			next := strings.IndexByte(name[lastMany.at:], '/')
			if next < 0 {
				return false
			}
			lastMany.at += next + 1
		} else {
			_, size := utf8.DecodeRuneInString(name[lastMany.at:])
			lastMany.at += size
		}
		last = place{-1, 0}
		t, at = lastMany.token+1, lastMany.at
	}
}

// Match says whether the pattern covers the whole name.
func (p Pattern) Match(name string) bool {
	for _, r := range p.rows {
		if r.match(name) {
			return true
		}
	}
	return false
}

// String returns the pattern as it was written.
func (p Pattern) String() string { return p.text }

// Beginning is what every name begins with that one alternative of a pattern matches; Whole says that it is all of it.
type Beginning struct {
	Text  string
	Whole bool
}

// Beginnings returns the beginnings of the names that the pattern matches, one for each alternative.
func (p Pattern) Beginnings() []Beginning {
	out := make([]Beginning, 0, len(p.rows))
	for _, r := range p.rows {
		b := Beginning{Whole: true}
		for _, t := range r {
			if t.kind != literal {
				b.Whole = false
				break
			}
			b.Text += t.text
		}
		out = append(out, b)
	}
	return out
}

// List is a set of patterns with exclusions. The zero value matches nothing.
type List struct {
	include, exclude []Pattern
	rows             int
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
		if l.rows += len(p.rows); l.rows > MaxRows {
			return List{}, fmt.Errorf("a list of globs stands for more than %d patterns, its braces multiplied out",
				MaxRows)
		}
	}
	if len(l.include) == 0 {
		return List{}, fmt.Errorf("a list of globs needs at least one that does not begin with \"!\"")
	}
	return l, nil
}

// Rows returns for how many patterns without braces the list stands.
func (l List) Rows() int { return l.rows }

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

// Texts returns the list's patterns as written, exclusions with their "!".
func (l List) Texts() []string {
	var out []string
	for _, p := range l.include {
		out = append(out, p.text)
	}
	for _, p := range l.exclude {
		out = append(out, "!"+p.text)
	}
	return out
}

// Patterns returns the list's patterns that include, each with its text as written.
func (l List) Patterns() []Pattern { return l.include }
