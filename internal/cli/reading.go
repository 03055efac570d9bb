package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"tavrin/client"
	"tavrin/wire"
)

// diff shows what a change brings, or what came to it.
func (p *program) diff() *cobra.Command {
	var q wire.Reading
	var unseen, raw, filesOnly, ignoreSpace bool
	var path string
	c := onChange(p, "diff N", "Show what a change brings, one commit of it, or what came since you last looked",
		func(ctx context.Context, h here, n int) (wire.Diff, error) {
			if unseen {
				last, err := h.Diff(ctx, h.repo, n, wire.Reading{}, true)
				if err != nil {
					return last, err
				}
				q.Since = last.Looked
			}
			if ignoreSpace {
				q.Space = "ignored"
			}
			if path != "" {
				return oneFile(ctx, h, n, q, path)
			}
			d, err := h.Diff(ctx, h.repo, n, q, filesOnly)
			if err == nil && q.Commit == "" && !filesOnly {
				err = ignoreSignIn(h.Looked(ctx, h.repo, n, d.Revision))
			}
			return d, err
		}, func(w io.Writer, d wire.Diff) {
			if len(d.NotTaken) > 0 {
				fmt.Fprintln(p.err, "tavrin: what came only from the target could not be told apart in "+plain(strings.Join(d.NotTaken, ", ")))
			}
			if !filesOnly {
				if raw {
					fmt.Fprint(p.out, d.Patch)
					return
				}
				for _, f := range d.Files {
					if len(f.Notes) > 0 {
						fmt.Fprintf(p.out, "%s: %s\n", plain(f.Path), plain(strings.Join(f.Notes, "; ")))
					}
				}
				fmt.Fprint(p.out, block(d.Patch))
				if d.Partial {
					fmt.Fprintln(p.err, "tavrin: the difference is longer than what is shown; --stat lists its files, "+
						"--path shows one")
				}
				return
			}
			for _, f := range d.Files {
				row(w, f.Status, fileWords(f), fmt.Sprintf("+%d -%d", f.Added, f.Removed))
			}
		})
	f := c.Flags()
	f.IntVar(&q.Revision, "revision", 0, "an earlier revision (default: the newest)")
	f.IntVar(&q.Since, "from", 0, "only what came after that revision, without what came only from the target")
	f.BoolVar(&unseen, "new", false, "only what came since you last looked at it")
	f.StringVar(&q.Commit, "commit", "", "only one commit, by its id or enough of the beginning; tavrin change commits lists them")
	f.BoolVar(&ignoreSpace, "ignore-space", false, "lines that differ only in white space are the same")
	f.IntVar(&q.Context, "context", 0, "lines around what differs (default 3)")
	f.BoolVar(&filesOnly, "stat", false, "only the files and counts")
	f.BoolVar(&raw, "raw", false, "every byte as it is, for git apply; otherwise characters that are not seen are "+
		"shown by their numbers")
	f.StringVar(&path, "path", "", "only one file")
	c.MarkFlagsMutuallyExclusive("from", "new", "commit")
	c.MarkFlagsMutuallyExclusive("stat", "path")
	return c
}

// ignoreSignIn lets through that nothing is remembered of somebody who is not known.
func ignoreSignIn(err error) error {
	var p *client.Problem
	if errors.As(err, &p) && p.Status == 401 {
		return nil
	}
	return err
}

func fileWords(f wire.FileDiff) string {
	text := f.Path
	if f.OldPath != "" {
		text = f.OldPath + " to " + f.Path
		if f.Similarity == 100 {
			text += " (only moved)"
		}
	}
	if f.NewMode != "" {
		text += fmt.Sprintf(" (mode %s to %s)", f.OldMode, f.NewMode)
	}
	if f.Binary {
		text += " (binary)"
	}
	for _, note := range f.Notes {
		text += " (" + note + ")"
	}
	if f.Generated {
		text += " (generated)"
	}
	if f.Read {
		text += " (read)"
	}
	return text
}

// fileNamed finds a file of a difference by its path.
func fileNamed(ctx context.Context, h here, n int, q wire.Reading, path string) (wire.FileDiff, wire.Diff, error) {
	d, err := h.Diff(ctx, h.repo, n, q, true)
	if err != nil {
		return wire.FileDiff{}, d, err
	}
	for _, f := range d.Files {
		if f.Path == path {
			return f, d, nil
		}
	}
	return wire.FileDiff{}, d, fmt.Errorf("that difference has no file %s; tavrin change diff %d --stat lists them",
		path, n)
}

// oneFile is the difference in one file.
func oneFile(ctx context.Context, h here, n int, q wire.Reading, path string) (wire.Diff, error) {
	f, d, err := fileNamed(ctx, h, n, q, path)
	if err != nil {
		return d, err
	}
	patch, err := h.FileDiff(ctx, h.repo, n, f.File, q)
	d.Files, d.Patch, d.Partial = []wire.FileDiff{f}, patch.Patch, patch.Partial
	return d, err
}

// commits lists what a revision brings, commit by commit.
func (p *program) commits() *cobra.Command {
	var revision int
	c := onChange(p, "commits N", "List the commits of a change, and by whom they are signed",
		func(ctx context.Context, h here, n int) ([]wire.Commit, error) {
			all, err := h.Revisions(ctx, h.repo, n)
			if err != nil {
				return nil, err
			}
			for _, r := range all {
				if revision == 0 || r.Number == revision {
					return r.Commits, nil
				}
			}
			return nil, fmt.Errorf("change %d has no revision %d; the newest is %d", n, revision, all[0].Number)
		}, func(w io.Writer, commits []wire.Commit) {
			for _, k := range commits {
				signed := k.Signature
				if k.SignedBy != "" {
					signed = "signed by " + k.SignedBy
				}
				row(w, k.ID, k.Author, ago(k.AuthoredAt), signed, k.Subject)
			}
		})
	c.Flags().IntVar(&revision, "revision", 0, "an earlier revision (default: the newest)")
	return c
}

// ticked is a file that was ticked as read, or unticked.
type ticked struct {
	Number   int    `json:"number"`
	Revision int    `json:"revision"`
	Path     string `json:"path"`
	Read     bool   `json:"read"`
}

// read ticks a file as read.
func (p *program) read() *cobra.Command {
	var revision int
	var undo bool
	c := inRepo(p, "read N PATH", "Mark a file as read; the mark goes when the file changes", cobra.ExactArgs(2),
		func(ctx context.Context, h here, args []string) (ticked, error) {
			n, err := changeNumber(args[0])
			if err != nil {
				return ticked{}, err
			}
			f, d, err := fileNamed(ctx, h, n, wire.Reading{Revision: revision}, args[1])
			if err != nil {
				return ticked{}, err
			}
			return ticked{n, d.Revision, args[1], !undo}, h.Tick(ctx, h.repo, n, d.Revision, f.File, !undo)
		}, func(w io.Writer, t ticked) {
			row(w, fmt.Sprintf("%s of change %d is %s, at revision %d", t.Path, t.Number,
				either(t.Read, "ticked as read", "not ticked any more"), t.Revision))
		})
	c.Flags().IntVar(&revision, "revision", 0, "the revision that you read (default: the newest)")
	c.Flags().BoolVar(&undo, "undo", false, "take the tick away")
	return c
}
