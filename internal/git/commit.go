package git

import (
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/ianaindex"

	"tavrin/internal/core/trailer"
)

// Commits are read as Git stores them, by one reader: what people write into one has no way to look like its end, like
// another commit, or like something that Git says.

// Commit is one commit.
type Commit struct {
	ID             string
	Tree           string
	Parents        []string
	Author         Signature
	CommitterEmail string
	CommittedAt    time.Time
	Subject        string // the first paragraph, in one line
	Body           string // what comes after it
	raw            string
}

// Signature is a name, an address and a time as a commit has them: text, not proof of who it was.
type Signature struct {
	Name  string
	Email string
	When  time.Time
}

// Reserved returns the first trailer of the message that only the service writes; empty: there is none.
func (c Commit) Reserved() string {
	_, message, _ := strings.Cut(c.raw, "\n\n")
	if found := trailer.Reserved(message); found != "" {
		return found
	}
	return trailer.Reserved(c.Subject + "\n\n" + c.Body) // as it reads when its encoding is taken into account
}

// Header is a commit taken apart, its texts as stored.
type Header struct {
	Tree, Author, Committer, Encoding string
	Parents                           []string
	Message                           string
}

// ParseHeader reads a commit as stored (gitformat: lines of "key value", those that begin with a space go on with the
// one before; an empty line; the message).
func ParseHeader(text string) Header {
	var h Header
	head, message, _ := strings.Cut(text, "\n\n")
	h.Message = message
	for line := range strings.SplitSeq(head, "\n") {
		key, value, _ := strings.Cut(line, " ")
		switch {
		case key == "tree" && h.Tree == "":
			h.Tree = value
		case key == "parent" && h.Author == "":
			h.Parents = append(h.Parents, value)
		case key == "author" && h.Author == "":
			h.Author = value
		case key == "committer" && h.Committer == "":
			h.Committer = value
		case key == "encoding" && h.Encoding == "":
			h.Encoding = value
		}
	}
	return h
}

// parseCommit reads a commit as stored.
func parseCommit(id, text string) Commit {
	h := ParseHeader(text)
	c := Commit{ID: id, Tree: h.Tree, Parents: h.Parents, raw: text}
	decode := decoder(h.Encoding)
	c.Author = readIdent(decode(h.Author))
	by := readIdent(decode(h.Committer))
	c.CommitterEmail, c.CommittedAt = by.Email, by.When
	first, rest, _ := strings.Cut(strings.TrimLeft(decode(h.Message), "\n"), "\n\n")
	c.Subject = strings.TrimSpace(strings.Join(strings.FieldsFunc(first, func(r rune) bool { return r == '\n' }), " "))
	c.Body = strings.TrimSpace(rest)
	return c
}

// Readable says whether the commit's texts can be read: whether its encoding is a known one.
func (h Header) Readable() bool {
	_, err := encodingOf(h.Encoding)
	return err == nil
}

var errUnknownEncoding = errors.New("unknown encoding")

// encodingOf finds an encoding by its name; the empty name is UTF-8.
func encodingOf(name string) (encoding.Encoding, error) {
	switch strings.ToLower(name) {
	case "", "utf-8", "utf8":
		return encoding.Nop, nil
	}
	e, err := ianaindex.IANA.Encoding(name)
	if err != nil || e == nil {
		return nil, errUnknownEncoding
	}
	return e, nil
}

// decoder returns what turns a commit's text into UTF-8. What cannot be read stays as it is, made valid.
func decoder(name string) func(string) string {
	e, err := encodingOf(name)
	return func(text string) string {
		if err == nil && e != encoding.Nop {
			if out, err := e.NewDecoder().String(text); err == nil {
				return out
			}
		}
		if utf8.ValidString(text) {
			return text
		}
		return strings.ToValidUTF8(text, "\uFFFD")
	}
}

// lastSecond is that of the year 9999: what is later cannot be written down, and is taken for no time at all.
const lastSecond = 253402300799

// readIdent reads "NAME <ADDRESS> SECONDS ZONE", as Git does: the address ends at the first ">", the time is after the
// last.
func readIdent(line string) Signature {
	name, rest, _ := strings.Cut(line, "<")
	address, _, _ := strings.Cut(rest, ">")
	s := Signature{Name: strings.TrimSpace(name), Email: strings.TrimSpace(address)}
	if f := strings.Fields(line[strings.LastIndexByte(line, '>')+1:]); len(f) > 0 {
		if n, err := strconv.ParseInt(f[0], 10, 64); err == nil && n >= 0 && n <= lastSecond {
			s.When = time.Unix(n, 0).UTC()
		}
	}
	return s
}

// CommitText writes a commit as Git stores it.
func CommitText(tree string, parents []string, author, committer Signature, message string) string {
	var b strings.Builder
	fmt.Fprintf(&b, "tree %s\n", tree)
	for _, p := range parents {
		fmt.Fprintf(&b, "parent %s\n", p)
	}
	fmt.Fprintf(&b, "author %s\ncommitter %s\n\n%s", author.Line(), committer.Line(), message)
	if !strings.HasSuffix(message, "\n") {
		b.WriteByte('\n')
	}
	return b.String()
}

// Line writes a signature the way a commit has it.
func (s Signature) Line() string {
	clean := func(t string) string {
		return strings.TrimSpace(strings.Map(func(c rune) rune {
			if c < ' ' || c == '<' || c == '>' {
				return -1
			}
			return c
		}, t))
	}
	when := s.When.Unix()
	if s.When.IsZero() {
		when = 0
	}
	return fmt.Sprintf("%s <%s> %d %s", clean(s.Name), clean(s.Email), when, s.When.Format("-0700"))
}
