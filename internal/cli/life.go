package cli

import (
	"context"
	"fmt"
	"io"
	"time"

	"github.com/spf13/cobra"

	"tavrin/client"
	"tavrin/wire"
)

// editRepository changes something of a repository itself.
func (p *program) editRepository() *cobra.Command {
	var name, description, branch, readOnly string
	var public, writable bool
	var c *cobra.Command
	c = named(p, "edit [HOUSE/NAME]", "Rename it, or change its description, default branch, visibility, or whether it is read-only", 0,
		func(ctx context.Context, h here, _ []string) (made, error) {
			e := wire.RepositoryEdit{}
			for flag, set := range map[string]func(){
				"name": func() { e.Name = &name }, "description": func() { e.Description = &description },
				"default-branch": func() { e.DefaultBranch = &branch }, "public": func() { e.Public = &public },
				"read-only": func() { e.ReadOnly = &readOnly }, "writable": func() { e.ReadOnly = new(string) },
			} {
				if c.Flags().Changed(flag) {
					set()
				}
			}
			if e == (wire.RepositoryEdit{}) {
				return made{}, misuse("say what to edit: --name, --description, --default-branch, --public, --read-only or --writable")
			}
			if e.ReadOnly != nil && *e.ReadOnly == "" && !writable {
				return made{}, misuse("say why it is read-only: --read-only REASON")
			}
			r, err := h.EditRepository(ctx, h.repo, e)
			return made{r, h.GitURL(r.Name)}, err
		}, printRepository)
	f := c.Flags()
	f.StringVar(&name, "name", "", "HOUSE/NAME that it gets, in the same house; its old name goes on saying where it went")
	f.StringVar(&description, "description", "", "what it is, in one line")
	f.StringVar(&branch, "default-branch", "", "its default branch")
	f.BoolVar(&public, "public", false, "whether everybody may read it without signing in")
	f.StringVar(&readOnly, "read-only", "", "make it read-only, and say why")
	f.BoolVar(&writable, "writable", false, "let it be written to again")
	c.MarkFlagsMutuallyExclusive("read-only", "writable")
	return c
}

// deleteRepository deletes a repository; its name has to be said twice.
func (p *program) deleteRepository() *cobra.Command {
	var confirm, reason string
	c := answer(p, "delete HOUSE/NAME", "Delete a repository; for 30 days it can be restored", cobra.ExactArgs(1),
		func(ctx context.Context, c *client.Client, args []string) (wire.Deleted, error) {
			if confirm != args[0] {
				return wire.Deleted{}, misuse("to delete %s, say its name once more: --confirm %s", args[0], args[0])
			}
			return c.DeleteRepository(ctx, args[0], reason)
		}, func(w io.Writer, d wire.Deleted) {
			row(w, fmt.Sprintf("%s is deleted, with %s; until %s: tavrin repo restore %s", d.Name, counted(d.OpenChanges, "open change"),
				d.Until.Local().Format(time.DateOnly), d.Name))
		})
	c.Flags().StringVar(&confirm, "confirm", "", "its name once more (needed)")
	c.Flags().StringVar(&reason, "reason", "", "why (needed)")
	return needs(c, "reason")
}

// restoreRepository and deletedRepositories are the way back.
func (p *program) restoreRepository() *cobra.Command {
	return answer(p, "restore HOUSE/NAME", "Bring a deleted repository back as it was", cobra.ExactArgs(1),
		func(ctx context.Context, c *client.Client, args []string) (made, error) {
			r, err := c.RestoreRepository(ctx, args[0])
			return made{r, c.GitURL(args[0])}, err
		}, printRepository)
}

func (p *program) deletedRepositories() *cobra.Command {
	return answer(p, "deleted", "List the deleted repositories that you may restore", cobra.NoArgs,
		func(ctx context.Context, c *client.Client, _ []string) ([]wire.Deleted, error) {
			return c.DeletedRepositories(ctx)
		}, func(w io.Writer, all []wire.Deleted) {
			row(w, "REPOSITORY", "DELETED BY", "WHEN", "UNTIL", "OPEN CHANGES")
			for _, d := range all {
				row(w, d.Name, d.DeletedBy, ago(d.DeletedAt), d.Until.Local().Format(time.DateOnly), d.OpenChanges)
			}
		})
}

func printRepository(w io.Writer, r made) {
	row(w, "repository", r.Name)
	if r.Description != "" {
		row(w, "what it is", r.Description)
	}
	if r.Trouble != "" {
		row(w, "stopped", "read-only: "+r.Trouble)
	}
	if r.ReadOnly != "" {
		row(w, "read-only", r.ReadOnly)
	}
	row(w, "default branch", r.DefaultBranch)
	row(w, "your role", r.Role)
	row(w, "readable by all", yesNo(r.Public))
	row(w, "rules", version(r.RulesVersion))
	row(w, "house rules", version(r.HouseVersion))
	row(w, "clone", cloneCommand(r))
}
