// Package plainyaml measures the YAML that people send before anything parses it: a parser recurses, and takes a time
// that grows with the square of some lengths, so that one document could hold a processor for minutes or overflow the
// stack, which ends the process.
//
// What passes is one document of plain YAML 1.2: mappings, lists and scalars, no deeper than MaxDepth, with no mapping
// of more than MaxEntries entries, and without anchors, aliases, tags and directives. The measure is taken from the
// tokens, in one pass; whether the tokens make sense is the parser's to say.
package plainyaml

import (
	"fmt"
	"strings"
	"unicode/utf8"

	"github.com/goccy/go-yaml/lexer"
	"github.com/goccy/go-yaml/token"
)

const (
	// MaxBytes is the longest document.
	MaxBytes = 1 << 20
	// MaxDepth is how deep mappings and lists may stand in each other.
	MaxDepth = 32
	// MaxEntries is how many entries one mapping may have. A list may be as long as the document.
	MaxEntries = 2000
)

// Trouble is the first thing for which a document is not parsed.
type Trouble struct {
	Line, Column int    // counted from 1
	Message      string // what is wrong
	Right        string // what would be right
}

// Error gives the trouble in one sentence.
func (t *Trouble) Error() string {
	return fmt.Sprintf("line %d, column %d: %s; %s", t.Line, t.Column, t.Message, t.Right)
}

// Check returns why a text is not to be parsed, or nil. what names it in the words: "the document", "the file".
func Check(text, what string) *Trouble {
	_, trouble := Tokens(text, what)
	return trouble
}

// Tokens returns a text's tokens, for the parser, or why it is not to be parsed.
func Tokens(text, what string) (token.Tokens, *Trouble) {
	switch {
	case len(text) > MaxBytes:
		return nil, &Trouble{1, 1, fmt.Sprintf("%s has %d bytes", what, len(text)),
			fmt.Sprintf("at most %d bytes", MaxBytes)}
	case !utf8.ValidString(text):
		return nil, &Trouble{1, 1, what + " is not valid UTF-8", "save it as UTF-8"}
	case strings.ContainsRune(text, 0):
		return nil, &Trouble{1, 1, what + " holds a NUL character", "plain text only"}
	}
	m := measure{what: what}
	tokens := lexer.Tokenize(text)
	for _, t := range tokens {
		if trouble := m.take(t); trouble != nil {
			return nil, trouble
		}
	}
	return tokens, nil
}

// measure is what is known after some tokens.
type measure struct {
	what  string
	line  int     // of the last token
	flow  int     // how many [ and { are open
	block []level // the collections in block style that are open, from the outside in: their columns grow
	begun bool    // something of the document was seen
	ended bool    // its end was
}

// level is a collection in block style. Its entries begin in one column, by which they are known as its.
type level struct{ column, entries int }

// take adds one token. A collection in block style has no token of its own: what first stands on a line, or after "- "
// or "? ", begins an entry of the collection in its column, and ends those further right.
func (m *measure) take(t *token.Token) *Trouble {
	at := t.Position
	trouble := func(message, right string) *Trouble { return &Trouble{at.Line, at.Column, message, right} }
	switch t.Type {
	case token.CommentType:
		return nil
	case token.AnchorType:
		return trouble(m.what+" holds an anchor, which is not used here", "write out what it stands for")
	case token.AliasType:
		return trouble(m.what+" holds an alias, which is not used here", "write out what it stands for")
	case token.TagType:
		return trouble(m.what+" holds a tag, which is not used here", "leave it out")
	case token.DirectiveType:
		return trouble(m.what+" holds a directive, which is not used here", "leave it out")
	}
	if m.ended || m.begun && t.Type == token.DocumentHeaderType {
		return trouble(m.what+" holds several documents", "one, without --- or ... in it")
	}
	m.begun, m.ended = true, t.Type == token.DocumentEndType
	if m.ended || t.Type == token.DocumentHeaderType {
		return nil
	}
	first := at.Line != m.line
	m.line = at.Line
	if m.flow == 0 && (first || m.inPlace(t.Prev)) {
		if trouble := m.entry(t); trouble != nil {
			return trouble
		}
	}
	switch t.Type {
	case token.SequenceStartType, token.MappingStartType:
		m.flow++
	case token.SequenceEndType, token.MappingEndType:
		m.flow = max(0, m.flow-1)
	}
	if len(m.block)+m.flow > MaxDepth {
		return trouble(m.what+" is nested too deeply", fmt.Sprintf("at most %d levels", MaxDepth))
	}
	return nil
}

// inPlace says whether what follows a token on its line begins an entry of its own.
func (m *measure) inPlace(before *token.Token) bool {
	return before != nil && (before.Type == token.SequenceEntryType || before.Type == token.MappingKeyType)
}

// entry counts a token that begins an entry of a collection in block style.
func (m *measure) entry(t *token.Token) *Trouble {
	column := t.Position.Column
	for len(m.block) > 0 && m.block[len(m.block)-1].column > column {
		m.block = m.block[:len(m.block)-1]
	}
	if len(m.block) == 0 || m.block[len(m.block)-1].column < column {
		m.block = append(m.block, level{column: column})
	}
	if t.Type == token.SequenceEntryType {
		return nil // of a list, which may stand in the column of the key it belongs to
	}
	last := &m.block[len(m.block)-1]
	if last.entries++; last.entries > MaxEntries {
		return &Trouble{t.Position.Line, column, fmt.Sprintf("%s has a mapping of more than %d entries", m.what,
			MaxEntries), "fewer in one mapping"}
	}
	return nil
}
