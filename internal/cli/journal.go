package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
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
		p.verifyJournal(),
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
	file := ""
	c := answer(p, "verify", "Check that no line was altered, and that records and branches are as the journal tells",
		cobra.NoArgs, func(ctx context.Context, c *client.Client, _ []string) (wire.SignedHead, error) {
			if file == "" {
				return c.VerifyJournal(ctx, nil)
			}
			earlier, err := newestHead(file)
			if err != nil {
				return wire.SignedHead{}, err
			}
			return c.VerifyJournal(ctx, &earlier)
		}, func(w io.Writer, head wire.SignedHead) {
			if file != "" {
				row(w, "the journal goes on from the head in "+file)
			}
			row(w, "the journal is unbroken, and records and branches are as it tells")
			printHead(w, head)
		})
	c.Flags().StringVar(&file, "head", "", "file with a head exported earlier (tavrin journal head -o json), from "+
		"which the journal must go on; of several lines the last counts")
	return c
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
