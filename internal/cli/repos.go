package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"strings"

	"github.com/spf13/cobra"

	"tavrin/client"
	"tavrin/wire"
)

func (p *program) repository() *cobra.Command {
	n := wire.NewRepository{}
	var from string
	create := answer(p, "create HOUSE/NAME", "Make a repository, empty or imported from a local folder or a URL",
		cobra.ExactArgs(1), func(ctx context.Context, c *client.Client, args []string) (made, error) {
			n.Name = args[0]
			r, err := p.createRepository(ctx, c, from, n)
			return made{r, c.GitURL(r.Name)}, err
		}, func(w io.Writer, r made) { row(w, "made "+r.Name); row(w, "git clone "+r.Clone) })
	create.Flags().StringVar(&from, "import", "", "folder of a Git repository, or a URL on the administrator's list")
	create.Flags().StringVar(&n.DefaultBranch, "default-branch", "", "default branch (default: that of the imported "+
		"folder, or main)")
	create.Flags().BoolVar(&n.Public, "public", false, "readable without signing in")
	return group("repo", "Make repositories, import, list, and give roles", create,
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
			}, func(w io.Writer, r made) {
				row(w, "repository", r.Name)
				if r.Trouble != "" {
					row(w, "stopped", "read-only: "+r.Trouble)
				}
				row(w, "default branch", r.DefaultBranch)
				row(w, "your role", r.Role)
				row(w, "readable by all", yesNo(r.Public))
				row(w, "rules", version(r.RulesVersion))
				row(w, "house rules", version(r.HouseVersion))
				row(w, "clone", "git clone "+r.Clone)
			}),
		named(p, "resume [HOUSE/NAME]", "Try once more to resume a repository that was stopped (administrators)", 0,
			func(ctx context.Context, h here, _ []string) (wire.Repository, error) {
				return h.ResumeRepository(ctx, h.repo)
			}, func(w io.Writer, r wire.Repository) { row(w, r.Name+" goes on") }),
		named(p, "grant [HOUSE/NAME] LOGIN|team:NAME ROLE", "Give a role: reader, writer, maintainer or none", 2,
			func(ctx context.Context, h here, args []string) (wire.Grant, error) {
				g := wire.Grant{Where: h.repo, Who: args[0], Role: args[1]}
				return g, h.Grant(ctx, g.Where, g.Who, g.Role)
			}, printGrant))
}

// made is a repository with the address that git takes.
type made struct {
	wire.Repository
	Clone string `json:"clone"`
}

func version(n int) string {
	if n == 0 {
		return "none"
	}
	return fmt.Sprintf("version %d", n)
}

// createRepository makes a repository. A local folder is imported by pushing, a URL by the service.
func (p *program) createRepository(ctx context.Context, c *client.Client, from string,
	n wire.NewRepository) (wire.Repository, error) {
	local := from != "" && !strings.Contains(from, "://")
	if from != "" && !local {
		n.ImportURL = from
	}
	if local && n.DefaultBranch == "" {
		out, err := exec.CommandContext(ctx, "git", "-C", from, "symbolic-ref", "--short", "HEAD").Output()
		if err != nil {
			return wire.Repository{}, fmt.Errorf("%s is not a Git repository with a branch checked out; give "+
				"--default-branch", from)
		}
		n.DefaultBranch = strings.TrimSpace(string(out))
	}
	r, err := c.CreateRepository(ctx, n)
	if err != nil || !local {
		return r, err
	}
	if err := p.pushAll(ctx, c, from, n.Name); err != nil {
		return r, fmt.Errorf("%s was made, but the import did not work: %w; push to it yourself, or try again under "+
			"another name", n.Name, err)
	}
	return c.Repository(ctx, n.Name)
}

// pushAll imports a local folder by pushing all its branches and tags.
func (p *program) pushAll(ctx context.Context, c *client.Client, folder, name string) error {
	self, err := os.Executable()
	if err != nil {
		return err
	}
	cmd := exec.CommandContext(ctx, "git", "-C", folder, "-c", "credential.helper=", "-c",
		"credential.helper=!'"+strings.ReplaceAll(self, "'", `'\''`)+"' credential",
		"push", "--quiet", c.GitURL(name), "refs/heads/*:refs/heads/*", "refs/tags/*:refs/tags/*")
	cmd.Env = append(os.Environ(), "TAVRIN_URL="+c.URL(), "GIT_TERMINAL_PROMPT=0")
	if out, err := cmd.CombinedOutput(); err != nil {
		return errors.New(strings.TrimSpace(block(string(out))))
	}
	return nil
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
