package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"tavrin/internal/backup"
	"tavrin/internal/folder"
	"tavrin/internal/service"
)

// Commands that keep a service's folder. They work on the machine that it lies on, and need no token: whoever can write
// to the folder has the service.

const dataHelp = "folder of the service (needed)"

// onFolder is a command that makes one folder of another.
func (p *program) onFolder(use, short, help string, call func(ctx context.Context, arg, dir string) (backup.Manifest,
	error), verb string) *cobra.Command {
	dir := ""
	c := &cobra.Command{Use: use, Short: short, Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			m, err := call(cmd.Context(), args[0], dir)
			if err != nil {
				return err
			}
			return p.print(m, func(w io.Writer) { printManifest(w, verb, m) })
		}}
	c.Flags().StringVar(&dir, "data", "", help)
	return needs(c, "data")
}

func (p *program) backup() *cobra.Command {
	c := p.onFolder("backup FOLDER|FILE.tar", "Back up a service's folder, while the service runs or not", dataHelp,
		func(ctx context.Context, to, dir string) (backup.Manifest, error) {
			return backup.Take(ctx, dir, to)
		}, "backed up")
	c.Long = "Copies the records, the repositories and the signing key at one point of the journal. Writes wait " +
		"while the records are\ncopied. Whoever has the backup has the service: keep it as you keep the folder."
	return c
}

func (p *program) restore() *cobra.Command {
	return p.onFolder("restore FOLDER|FILE.tar", "Make a service's folder of a backup, after verifying it",
		"folder to make, where none is or an empty one (needed)", backup.Restore, "restored")
}

func printManifest(w io.Writer, verb string, m backup.Manifest) {
	names := make([]string, len(m.Repositories))
	for i, r := range m.Repositories {
		names[i] = r.Name
	}
	row(w, verb, list(names))
	for _, r := range m.Repositories {
		if r.Trouble != "" {
			row(w, "not whole", fmt.Sprintf("%s was stopped, and is copied as it is: %s", r.Name, r.Trouble))
		}
	}
	row(w, "made at", m.MadeAt.Format("2006-01-02 15:04:05 MST"))
	row(w, "journal", fmt.Sprintf("line %d, %s", m.Journal.Seq, m.Journal.Hash))
	row(w, "schema", m.Schema)
}

// recover groups what is done on the machine itself when something is lost.
func (p *program) recover() *cobra.Command {
	dir := ""
	on := func(use, short string, args cobra.PositionalArgs, run func(ctx context.Context,
		args []string) error) *cobra.Command {
		c := &cobra.Command{Use: use, Short: short, Args: args,
			RunE: func(cmd *cobra.Command, args []string) error { return run(cmd.Context(), args) }}
		c.Flags().StringVar(&dir, "data", "", dataHelp)
		return needs(c, "data")
	}
	c := group("recover", "On the service's machine: get back in, replace a lost key, go on after a loss",
		on("admin LOGIN", "Make LOGIN an administrator, in use, with a token for 24 hours", cobra.ExactArgs(1),
			func(ctx context.Context, args []string) error {
				return p.opened(ctx, dir, func(s *service.Service) error {
					token, err := s.Access.RecoverAdmin(ctx, args[0])
					if err == nil {
						fmt.Fprintf(p.out, "%s is an administrator; this token is shown once and good for 24 hours:\n  %s\n", args[0], token)
					}
					return err
				})
			}),
		on("new-key", "Make a signing key in the place of one that is lost", cobra.NoArgs,
			func(ctx context.Context, _ []string) error {
				if err := folder.NewKey(dir); err != nil {
					return err
				}
				return p.opened(ctx, dir, func(s *service.Service) error {
					public, err := s.NoteNewKey(ctx)
					if err == nil {
						fmt.Fprintf(p.out, "from now on the service signs with %s; keep the old public key to verify "+
							"what was signed before\n", public)
					}
					return err
				})
			}),
		on("accept-loss", "Go on with a folder of which something is missing", cobra.NoArgs,
			func(ctx context.Context, _ []string) error {
				if err := folder.AcceptLoss(ctx, dir); err != nil {
					return err
				}
				return p.opened(ctx, dir, func(s *service.Service) error {
					found, err := s.Audit.NoteLoss(ctx)
					for _, f := range found {
						fmt.Fprintln(p.out, f)
					}
					if err == nil {
						fmt.Fprintln(p.out, "the loss is on record, and the service can be started")
					}
					return err
				})
			}))
	c.Long = "Each needs the service to be stopped, takes access to its folder as the proof of who you are, and is " +
		"put on record."
	return c
}

// opened does something with the service of a folder that nobody serves.
func (p *program) opened(ctx context.Context, dir string, f func(*service.Service) error) error {
	if _, err := os.Stat(filepath.Join(dir, backup.Records)); err != nil {
		return fmt.Errorf("%s is not the folder of a service: %w", dir, err)
	}
	s, err := service.Open(ctx, service.Options{Dir: dir, Log: slog.New(slog.NewTextHandler(p.err,
		&slog.HandlerOptions{Level: slog.LevelWarn}))})
	if err != nil {
		return err
	}
	return errors.Join(f(s), s.Close())
}
