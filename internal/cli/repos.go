package cli

import (
	"context"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"tavrin/client"
	"tavrin/wire"
)

func (p *program) repository() *cobra.Command {
	return group("repo", "Make, import, list, edit and delete repositories, and give roles", p.createRepository(), p.tidyBranches(),
		answer(p, "list", "List the repositories you may read", cobra.NoArgs,
			func(ctx context.Context, c *client.Client, _ []string) ([]wire.Repository, error) {
				return c.Repositories(ctx)
			}, func(w io.Writer, repos []wire.Repository) {
				row(w, "REPOSITORY", "DEFAULT", "YOUR ROLE", "RULES", "HOUSE RULES", "OPEN CHANGES", "IN QUEUE")
				for _, r := range repos {
					row(w, r.Name, r.DefaultBranch, r.Role, version(r.RulesVersion), version(r.HouseVersion), r.OpenChanges,
						r.InQueue)
				}
			}),
		inRepo(p, "show", "Show the repository and how to clone it", cobra.NoArgs,
			func(ctx context.Context, h here, _ []string) (made, error) {
				r, err := h.Repository(ctx, h.repo)
				return made{r, h.GitURL(r.Name)}, err
			}, printRepository), p.editRepository(), p.deleteRepository(), p.restoreRepository(), p.deletedRepositories(),
		named(p, "resume [HOUSE/NAME]", "Try once more to resume a repository that was stopped (administrators)", 0,
			func(ctx context.Context, h here, _ []string) (wire.Repository, error) {
				return h.ResumeRepository(ctx, h.repo)
			}, func(w io.Writer, r wire.Repository) { row(w, r.Name+" goes on") }),
		named(p, "grant [HOUSE/NAME] LOGIN|team:NAME ROLE", "Give a role: reader, writer, maintainer or none", 2,
			func(ctx context.Context, h here, args []string) (wire.Grant, error) {
				g := wire.Grant{Where: h.repo, Who: args[0], Role: args[1]}
				return g, h.Grant(ctx, g.Where, g.Who, g.Role)
			}, printGrant),
		named(p, "revoke [HOUSE/NAME] LOGIN|team:NAME", "Take a role back", 1,
			func(ctx context.Context, h here, args []string) (wire.Grant, error) {
				return revoke(ctx, h.Client, h.repo, args[0])
			}, printGrant),
		named(p, "roles [HOUSE/NAME]", "List who has which role, here and in the house", 0,
			func(ctx context.Context, h here, _ []string) ([]wire.Grant, error) {
				return h.Grants(ctx, h.repo)
			}, printGrants))
}

// made is a repository with the address that git takes.
type made struct {
	wire.Repository
	Clone string `json:"clone"`
}

// cloneCommand clones a repository so that git takes this program's token from then on, for that service alone.
func cloneCommand(r made) string {
	service, _, _ := strings.Cut(r.Clone, "/git/")
	return fmt.Sprintf("git clone -c credential.%s.helper='!tavrin credential' %s", service, r.Clone)
}

func version(n int) string {
	if n == 0 {
		return "none"
	}
	return fmt.Sprintf("version %d", n)
}

// browse looks into a repository: branches, history and files.
func (p *program) browse() *cobra.Command {
	var at string
	var limit int
	history := inRepo(p, "history", "List commits with their checks", cobra.NoArgs,
		func(ctx context.Context, h here, _ []string) ([]wire.Commit, error) {
			return h.History(ctx, h.repo, at, limit)
		}, func(w io.Writer, commits []wire.Commit) {
			row(w, "COMMIT", "CHECKS", "CHANGE", "BY", "APPROVED BY", "AUTHOR", "SUBJECT")
			for _, k := range commits {
				change, by, approvers := "-", "-", "-"
				if k.Landed != nil {
					change, by, approvers = fmt.Sprint(k.Change), k.Landed.Strategy, list(k.Landed.Approvers)
					if !k.Landed.Top {
						by = "with it"
					}
				}
				if k.Waiver != nil {
					by += fmt.Sprintf(", waiver %d", k.Waiver.ID)
				}
				row(w, short(k.ID), state(dash(k.Checks)), change, by, approvers, k.Author, k.Subject)
			}
		})
	history.Flags().IntVar(&limit, "limit", 20, "how many")
	files := inRepo(p, "files [PATH]", "List a folder, or print a file", cobra.MaximumNArgs(1),
		func(ctx context.Context, h here, args []string) (wire.Tree, error) {
			return h.Tree(ctx, h.repo, at, strings.Join(args, ""))
		}, func(w io.Writer, tree wire.Tree) {
			for _, e := range tree.Entries {
				if e.Kind == "tree" {
					row(w, e.Name+"/")
				} else {
					row(w, e.Name, fmt.Sprintf("%d B", e.Size))
				}
			}
			switch {
			case tree.Binary:
				row(w, "(a binary file)")
			case tree.File:
				fmt.Fprint(p.out, block(tree.Text))
			}
		})
	blame := inRepo(p, "blame PATH", "Say which change brought each line of a file", cobra.ExactArgs(1),
		func(ctx context.Context, h here, args []string) (wire.LineOrigins, error) {
			return h.Lines(ctx, h.repo, at, args[0])
		}, func(w io.Writer, v wire.LineOrigins) {
			row(w, "LINES", "CHANGE", "COMMIT", "WHEN", "AUTHOR", "SUBJECT")
			for _, o := range v.Origins {
				span, change := fmt.Sprint(o.First), "-"
				if o.Last > o.First {
					span = fmt.Sprintf("%d-%d", o.First, o.Last)
				}
				if o.Landed != nil {
					change = fmt.Sprint(o.Landed.Number)
				}
				row(w, span, change, short(o.Commit), ago(o.AuthoredAt), o.Author, o.Subject)
			}
		})
	for _, sub := range []*cobra.Command{history, files, blame} {
		sub.Flags().StringVar(&at, "at", "", "branch, tag or commit (default: the default branch)")
	}
	return group("browse", "Look at branches, history and files",
		inRepo(p, "branches", "List branches with what protects them", cobra.NoArgs,
			func(ctx context.Context, h here, _ []string) ([]wire.Branch, error) {
				return h.Branches(ctx, h.repo)
			}, func(w io.Writer, branches []wire.Branch) {
				row(w, "BRANCH", "TIP", "CHECKS", "PROTECTED BY", "SUBJECT")
				for _, b := range branches {
					row(w, b.Name, short(b.Commit), state(dash(b.Checks)), list(b.Protections), b.Subject)
				}
			}), history, files, blame)
}
