package cli

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"

	"github.com/spf13/cobra"

	"tavrin/client"
	"tavrin/wire"
)

func (p *program) journal() *cobra.Command {
	var limit int
	var all bool
	list := answer(p, "list", "List lines, newest first", cobra.NoArgs,
		func(ctx context.Context, c *client.Client, _ []string) ([]wire.JournalLine, error) {
			h, err := p.here(ctx, c)
			if err != nil || all {
				h.repo = "" // outside a clone, and when asked for: of every repository
			}
			return c.Journal(ctx, h.repo, limit)
		}, func(w io.Writer, lines []wire.JournalLine) {
			row(w, "LINE", "WHEN", "KIND", "WHERE", "WHAT")
			for _, l := range lines {
				row(w, l.Seq, ago(l.At), l.Kind, dash(l.Repository), l.Text)
			}
		})
	list.Flags().IntVar(&limit, "limit", 50, "how many")
	p.aboutRepo(list)
	list.Flags().BoolVar(&all, "all", false, "of every repository you may read, even in a clone of one")
	return group("journal", "Read and verify the record of everything that was decided or done", list,
		p.verifyJournal(), p.exportJournal(),
		answer(p, "head", "Print the newest line's place and hash, signed, for somebody else to keep (with -o json)",
			cobra.NoArgs, func(ctx context.Context, c *client.Client, _ []string) (wire.SignedHead, error) {
				return c.JournalHead(ctx)
			}, printHead))
}

func printHead(w io.Writer, head wire.SignedHead) {
	row(w, "lines", head.Seq)
	row(w, "head", head.Hash)
	row(w, "key", head.PublicKey)
	row(w, "for ssh", head.SSHKey)
	row(w, "signature", head.Signature)
}

func (p *program) verifyJournal() *cobra.Command {
	file, whole, from := "", false, int64(0)
	progress := func(t wire.Task) {
		if from = t.From; p.progress() != nil {
			p.progress()(t)
		}
	}
	c := answer(p, "verify", "Check that no line was altered, and that records and branches are as the journal tells",
		cobra.NoArgs, func(ctx context.Context, c *client.Client, _ []string) (wire.SignedHead, error) {
			if file == "" {
				return c.VerifyJournal(ctx, nil, whole, progress)
			}
			earlier, err := newestHead(file)
			if err != nil {
				return wire.SignedHead{}, err
			}
			return c.VerifyJournal(ctx, &earlier, whole, progress)
		}, func(w io.Writer, head wire.SignedHead) {
			if file != "" {
				row(w, "the journal goes on from the head in "+file)
			}
			row(w, "the journal is unbroken, and records and branches are as it tells")
			if from > 0 {
				row(w, fmt.Sprintf("read were the lines after %d, up to which it was verified before; --whole reads all of them", from))
			}
			printHead(w, head)
		})
	c.Flags().BoolVar(&whole, "whole", false, "read every line from the first on, not only those since the last verification")
	c.Flags().StringVar(&file, "head", "", "file with a head exported earlier (tavrin journal head -o json), from "+
		"which the journal must go on; of several lines the last counts")
	return c
}

// exportPage is how many lines are asked for at once.
const exportPage = 500

// exportJournal writes the journal to a file, and goes on where a file ends that was begun before.
func (p *program) exportJournal() *cobra.Command {
	return &cobra.Command{Use: "export FILE", Short: "Write the journal to a file, a line of JSON each; a file that was begun before is gone on with",
		Args: cobra.ExactArgs(1), RunE: func(cmd *cobra.Command, args []string) error {
			ctx := cmd.Context()
			c, err := p.client()
			if err != nil {
				return err
			}
			last, err := lastExported(args[0])
			if err != nil {
				return err
			}
			f, err := os.OpenFile(args[0], os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
			if err != nil {
				return err
			}
			n, err := p.exportTo(ctx, c, f, &last)
			if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
				return err
			}
			fmt.Fprintf(p.out, "%s added to %s, which ends with line %d\n", counted(n, "line"), args[0], last.Seq)
			return nil
		}}
}

// exportTo writes the lines after one, each of which has to go on from the one before.
func (p *program) exportTo(ctx context.Context, c *client.Client, w io.Writer, last *wire.JournalHead) (n int, err error) {
	out := bufio.NewWriter(w)
	for {
		lines, err := c.JournalAfter(ctx, "", last.Seq, exportPage)
		if err != nil || len(lines) == 0 {
			return n, errors.Join(err, out.Flush())
		}
		for _, l := range lines {
			if l.Seq != last.Seq+1 || l.Prev != last.Hash {
				return n, errors.Join(out.Flush(), fmt.Errorf("line %d does not go on from line %d of the file: it is of another journal, or not all of it is yours to read", l.Seq, last.Seq))
			}
			text, err := json.Marshal(l)
			if err == nil {
				_, err = out.Write(append(text, '\n'))
			}
			if err != nil {
				return n, err
			}
			last.Seq, last.Hash = l.Seq, l.Hash
			n++
		}
		if toTerminal(p.err) {
			fmt.Fprintf(p.err, "\rline %d", last.Seq)
		}
	}
}

// lastExported finds the last line of a file that was begun, and cuts off what is not a whole one: it was written when the machine
// stopped.
func lastExported(file string) (wire.JournalHead, error) {
	f, err := os.OpenFile(file, os.O_RDWR, 0o600)
	if errors.Is(err, fs.ErrNotExist) {
		return wire.JournalHead{}, nil
	}
	if err != nil {
		return wire.JournalHead{}, err
	}
	defer f.Close()
	var last wire.JournalLine
	whole := int64(0)
	for in := bufio.NewReader(f); ; {
		text, err := in.ReadBytes('\n')
		if err != nil {
			break
		}
		if err := json.Unmarshal(text, &last); err != nil || last.Seq == 0 {
			return wire.JournalHead{}, fmt.Errorf("%s is no journal that was exported: byte %d begins a line that is none", file, whole)
		}
		whole += int64(len(text))
	}
	return wire.JournalHead{Seq: last.Seq, Hash: last.Hash}, f.Truncate(whole)
}

// newestHead reads the last head of a file: one, as printed, or one a line.
func newestHead(file string) (wire.SignedHead, error) {
	text, err := os.ReadFile(file)
	if err != nil {
		return wire.SignedHead{}, err
	}
	var head wire.SignedHead
	d := json.NewDecoder(bytes.NewReader(text))
	for n := 0; ; n++ {
		var next wire.SignedHead
		if err := d.Decode(&next); errors.Is(err, io.EOF) && n > 0 {
			break
		} else if err != nil {
			return head, fmt.Errorf("%s holds no head of a journal, as tavrin journal head -o json prints it: %w", file,
				err)
		}
		head = next
	}
	if head.Seq < 1 || head.Hash == "" {
		return head, fmt.Errorf("%s holds no head of a journal, as tavrin journal head -o json prints it", file)
	}
	return head, nil
}
