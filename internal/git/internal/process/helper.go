package process

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"
)

// ErrNotFound is returned for what the repository does not have.
var ErrNotFound = errors.New("not found in the repository")

// Helper is a git process that answers requests on its standard input, one after the other.
type Helper struct {
	*process
	In  io.WriteCloser
	Out *bufio.Reader
	max int64 // the largest answer taken, in bytes
}

// Help starts a helper that ends with the context, or when it takes too long.
func (at Place) Help(ctx context.Context, args ...string) (*Helper, error) {
	return at.help(ctx, at.most(args), args...)
}

func (at Place) help(ctx context.Context, most time.Duration, args ...string) (*Helper, error) {
	p, err := at.prepare(ctx, most, args...)
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
	b := at.Bounds()
	if err := p.start(b); err != nil {
		return nil, err
	}
	return &Helper{process: p, In: in, Out: bufio.NewReader(out), max: b.GitOutput}, nil
}

// Close ends the helper; what it still has to say is of no more use.
func (h *Helper) Close() {
	h.In.Close()
	h.cancel()
	h.Wait() // an error of a helper that was cut short says only that
}

// Broken explains an answer that did not come: usually something that git does not know.
func (h *Helper) Broken(err error) error {
	h.In.Close() // it may be gone already
	if said := h.Wait(); said != nil {
		return said
	}
	return fmt.Errorf("a git helper ended early: %w", err)
}

// Object asks "git cat-file --batch" for an object of a kind.
func (h *Helper) Object(id, kind string) (string, error) {
	if _, err := fmt.Fprintln(h.In, id); err != nil {
		return "", h.Broken(err)
	}
	return h.Answer(id, kind)
}

// Answer reads the next answer of "git cat-file --batch": the id, kind and size in a line, and so many bytes.
func (h *Helper) Answer(id, kind string) (string, error) {
	head, err := h.Out.ReadString('\n')
	if err != nil {
		return "", h.Broken(err)
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
	if _, err := io.ReadFull(h.Out, body); err != nil {
		return "", h.Broken(err)
	}
	return string(body[:size]), nil
}
