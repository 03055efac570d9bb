package git

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
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

// header takes a commit apart.
type header struct {
	tree, author, committer, encoding string
	parents                           []string
	message                           string // as stored
}

// readHeader reads a commit as stored (gitformat: lines of "key value", those that begin with a space go on with the
// one before; an empty line; the message).
func readHeader(text string) header {
	var h header
	head, message, _ := strings.Cut(text, "\n\n")
	h.message = message
	for line := range strings.SplitSeq(head, "\n") {
		key, value, _ := strings.Cut(line, " ")
		switch {
		case key == "tree" && h.tree == "":
			h.tree = value
		case key == "parent" && h.author == "":
			h.parents = append(h.parents, value)
		case key == "author" && h.author == "":
			h.author = value
		case key == "committer" && h.committer == "":
			h.committer = value
		case key == "encoding" && h.encoding == "":
			h.encoding = value
		}
	}
	return h
}

// parseCommit reads a commit as stored.
func parseCommit(id, text string) Commit {
	h := readHeader(text)
	c := Commit{ID: id, Tree: h.tree, Parents: h.parents, raw: text}
	decode := decoder(h.encoding)
	c.Author = readIdent(decode(h.author))
	by := readIdent(decode(h.committer))
	c.CommitterEmail, c.CommittedAt = by.Email, by.When
	first, rest, _ := strings.Cut(strings.TrimLeft(decode(h.message), "\n"), "\n\n")
	c.Subject = strings.TrimSpace(strings.Join(strings.FieldsFunc(first, func(r rune) bool { return r == '\n' }), " "))
	c.Body = strings.TrimSpace(rest)
	return c
}

// readableEncoding says whether text in an encoding can be read; the empty name is UTF-8.
func readableEncoding(name string) bool {
	_, err := encodingOf(name)
	return err == nil
}

var errUnknownEncoding = errors.New("unknown encoding")

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

// Log lists commits reachable from the commit `from` and not from those in `not`, newest first: at most limit, after
// the first skip.
func (r *Repo) Log(ctx context.Context, from string, not []string, skip, limit int) ([]Commit, error) {
	ids, err := r.list(ctx, from, not, fmt.Sprintf("--skip=%d", skip), fmt.Sprintf("--max-count=%d", limit))
	if err != nil {
		return nil, err
	}
	return r.Commits(ctx, ids)
}

// LogAll lists all commits reachable from the commit `from` and not from those in `not`, newest first. More than the
// named bound allows, or longer messages than the bounds allow, are an error: nothing is left out.
func (r *Repo) LogAll(ctx context.Context, from string, not []string, bound string) ([]Commit, error) {
	b := r.program.bounds()
	ids, err := r.list(ctx, from, not, fmt.Sprintf("--max-count=%d", b.Of(bound)+1))
	if err != nil {
		return nil, err
	}
	if int64(len(ids)) > b.Of(bound) {
		return nil, b.Reach(bound, "%.10s brings more than %d commits", from, b.Of(bound))
	}
	commits, err := r.Commits(ctx, ids)
	size := int64(0)
	for _, c := range commits {
		size += int64(len(c.raw))
	}
	if size > b.ChangeMessageBytes {
		return nil, b.Reach("change.message-bytes", "the commits of %.10s have %d bytes of text", from, size)
	}
	return commits, err
}

// Between lists the ids of the commits reachable from the commit `from` and not from those in `not`, newest first.
func (r *Repo) Between(ctx context.Context, from string, not []string) ([]string, error) {
	return r.list(ctx, from, not)
}

func (r *Repo) list(ctx context.Context, from string, not []string, args ...string) ([]string, error) {
	args = append(append([]string{"rev-list", "--topo-order"}, args...), from)
	for _, n := range not {
		args = append(args, "^"+n)
	}
	out, err := r.run(ctx, nil, append(args, "--")...)
	return strings.Fields(string(out)), err
}

// Commits reads the commits with these ids, in their order.
func (r *Repo) Commits(ctx context.Context, ids []string) ([]Commit, error) {
	commits := make([]Commit, 0, len(ids))
	err := r.eachCommit(ctx, ids, func(id, text string) error {
		commits = append(commits, parseCommit(id, text))
		return nil
	})
	return commits, err
}

// eachCommit reads the commits with these ids, in their order, as stored.
func (r *Repo) eachCommit(ctx context.Context, ids []string, f func(id, text string) error) error {
	if len(ids) == 0 {
		return nil
	}
	h, err := r.startHelper(ctx, "cat-file", "--batch", "--buffer")
	if err != nil {
		return err
	}
	defer h.close()
	go func() { // a reader that waits for each answer would wait as often as there are commits
		w := bufio.NewWriter(h.in)
		for _, id := range ids {
			w.WriteString(id + "\n")
		}
		w.Flush() // a helper that is gone takes nothing more: its answers, read below, end with its error
		h.in.Close()
	}()
	for _, id := range ids {
		text, err := h.answer(id, "commit")
		if err != nil {
			return err
		}
		if err := f(id, text); err != nil {
			return err
		}
	}
	return nil
}

// helper is a git process that answers requests on its standard input, one after the other.
type helper struct {
	*process
	in  io.WriteCloser
	out *bufio.Reader
	max int64 // the largest answer taken, in bytes
}

func (r *Repo) startHelper(ctx context.Context, args ...string) (*helper, error) {
	p, err := r.prepare(ctx, args...)
	if err != nil {
		return nil, err
	}
	in, err := p.cmd.StdinPipe()
	if err != nil {
		return nil, errors.Join(err, p.giveUp())
	}
	out, err := p.cmd.StdoutPipe()
	if err != nil {
		return nil, errors.Join(err, p.giveUp())
	}
	b := r.program.bounds()
	if err := p.start(b); err != nil {
		return nil, err
	}
	return &helper{process: p, in: in, out: bufio.NewReader(out), max: b.GitOutput}, nil
}

// close ends the helper; what it still has to say is of no more use.
func (h *helper) close() {
	h.in.Close()
	h.cancel()
	h.wait() // an error of a helper that was cut short says only that
}

// broken explains an answer that did not come: usually something that git does not know.
func (h *helper) broken(err error) error {
	h.in.Close() // it may be gone already
	if said := h.wait(); said != nil {
		return said
	}
	return fmt.Errorf("a git helper ended early: %w", err)
}

// object asks "git cat-file --batch" for an object of a kind.
func (h *helper) object(id, kind string) (string, error) {
	if _, err := fmt.Fprintln(h.in, id); err != nil {
		return "", h.broken(err)
	}
	return h.answer(id, kind)
}

// answer reads the next answer of "git cat-file --batch": the id, kind and size in a line, and so many bytes.
func (h *helper) answer(id, kind string) (string, error) {
	head, err := h.out.ReadString('\n')
	if err != nil {
		return "", h.broken(err)
	}
	f := strings.Fields(head)
	if len(f) != 3 || f[0] != id || f[1] != kind {
		return "", fmt.Errorf("%.10s is not a %s of the repository: %w", id, kind, ErrNotFound)
	}
	size, err := strconv.ParseInt(f[2], 10, 64)
	if err != nil || size < 0 || size > h.max {
		return "", fmt.Errorf("%s %.10s has %s bytes, more than is read at once", kind, id, f[2])
	}
	body := make([]byte, size+1)
	if _, err := io.ReadFull(h.out, body); err != nil {
		return "", h.broken(err)
	}
	return string(body[:size]), nil
}
