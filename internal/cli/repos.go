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
)

func (p *program) repository() *cobra.Command {
	c := &cobra.Command{Use: "repo", Short: "Make repositories, import, list, and give roles"}
	n := client.NewRepository{}
	var from string
	create := &cobra.Command{Use: "create HOUSE/NAME", Short: "Make a repository, empty or imported from a local folder or a URL", Args: cobra.ExactArgs(1), RunE: func(cmd *cobra.Command, args []string) error {
		return p.createRepository(cmd.Context(), args[0], from, n)
	}}
	create.Flags().StringVar(&from, "import", "", "folder of a Git repository, or a URL on the administrator's list")
	create.Flags().StringVar(&n.DefaultBranch, "default-branch", "", "default branch (default: that of the imported folder, or main)")
	create.Flags().BoolVar(&n.Public, "public", false, "readable without signing in")
	c.AddCommand(create,
		&cobra.Command{Use: "list", Short: "List the repositories you may read", Args: cobra.NoArgs, RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := p.client()
			if err != nil {
				return err
			}
			repos, err := c.Repositories(cmd.Context())
			if err != nil {
				return err
			}
			return p.print(repos, func(w io.Writer) {
				row(w, "REPOSITORY", "DEFAULT", "YOUR ROLE", "RULES", "OPEN CHANGES", "IN QUEUE")
				for _, r := range repos {
					row(w, r.Name, r.DefaultBranch, r.Role, version(r.RulesVersion), r.OpenChanges, r.InQueue)
				}
			})
		}},
		&cobra.Command{Use: "show", Short: "Describe the repository and how to clone it", Args: cobra.NoArgs, RunE: func(cmd *cobra.Command, _ []string) error {
			c, repo, err := p.here()
			if err != nil {
				return err
			}
			r, err := c.Repository(cmd.Context(), repo)
			if err != nil {
				return err
			}
			return p.print(r, func(w io.Writer) {
				row(w, "repository", r.Name)
				row(w, "default branch", r.DefaultBranch)
				row(w, "your role", r.Role)
				row(w, "readable by all", yesNo(r.Public))
				row(w, "rules", version(r.RulesVersion))
				row(w, "clone", "git clone "+c.GitURL(r.Name))
			})
		}},
		&cobra.Command{Use: "grant HOUSE/NAME LOGIN|team:NAME ROLE", Short: "Give a role: reader, writer, maintainer or none", Args: cobra.ExactArgs(3), RunE: p.grant},
	)
	return c
}

func version(n int) string {
	if n == 0 {
		return "none"
	}
	return fmt.Sprintf("version %d", n)
}

func (p *program) createRepository(ctx context.Context, name, from string, n client.NewRepository) error {
	c, err := p.client()
	if err != nil {
		return err
	}
	n.Name = name
	local := from != "" && !strings.Contains(from, "://")
	if from != "" && !local {
		n.ImportURL = from
	}
	if local && n.DefaultBranch == "" {
		out, err := exec.CommandContext(ctx, "git", "-C", from, "symbolic-ref", "--short", "HEAD").Output()
		if err != nil {
			return fmt.Errorf("%s is not a Git repository with a branch checked out; give --default-branch", from)
		}
		n.DefaultBranch = strings.TrimSpace(string(out))
	}
	r, err := c.CreateRepository(ctx, n)
	if err != nil {
		return err
	}
	if local {
		if err := p.pushAll(ctx, c, from, name); err != nil {
			return fmt.Errorf("%s was made, but the import did not work: %w; push to it yourself, or try again under another name", name, err)
		}
		if r, err = c.Repository(ctx, name); err != nil {
			return err
		}
	}
	return p.print(r, func(w io.Writer) { row(w, "made "+r.Name); row(w, "git clone "+c.GitURL(r.Name)) })
}

// pushAll imports a local folder by pushing all its branches and tags.
func (p *program) pushAll(ctx context.Context, c *client.Client, folder, name string) error {
	self, err := os.Executable()
	if err != nil {
		return err
	}
	cmd := exec.CommandContext(ctx, "git", "-C", folder, "-c", "credential.helper=", "-c", "credential.helper=!'"+strings.ReplaceAll(self, "'", `'\''`)+"' credential",
		"push", "--quiet", c.GitURL(name), "refs/heads/*:refs/heads/*", "refs/tags/*:refs/tags/*")
	cmd.Env = append(os.Environ(), "TAVRIN_URL="+c.URL(), "GIT_TERMINAL_PROMPT=0")
	if out, err := cmd.CombinedOutput(); err != nil {
		return errors.New(strings.TrimSpace(block(string(out))))
	}
	return nil
}

// browse looks into a repository: branches, history and files.
func (p *program) browse() *cobra.Command {
	c := &cobra.Command{Use: "browse", Short: "Look at branches, history and files"}
	var at string
	var limit int
	branches := &cobra.Command{Use: "branches", Short: "List branches with what protects them", Args: cobra.NoArgs, RunE: func(cmd *cobra.Command, _ []string) error {
		c, repo, err := p.here()
		if err != nil {
			return err
		}
		branches, err := c.Branches(cmd.Context(), repo)
		if err != nil {
			return err
		}
		return p.print(branches, func(w io.Writer) {
			row(w, "BRANCH", "TIP", "CHECKS", "PROTECTED BY", "SUBJECT")
			for _, b := range branches {
				row(w, b.Name, short(b.Commit), dash(b.Checks), list(b.Protections), b.Subject)
			}
		})
	}}
	history := &cobra.Command{Use: "history", Short: "List commits with their checks", Args: cobra.NoArgs, RunE: func(cmd *cobra.Command, _ []string) error {
		c, repo, err := p.here()
		if err != nil {
			return err
		}
		commits, err := c.History(cmd.Context(), repo, at, limit)
		if err != nil {
			return err
		}
		return p.print(commits, func(w io.Writer) {
			row(w, "COMMIT", "CHECKS", "CHANGE", "AUTHOR", "SUBJECT")
			for _, k := range commits {
				change := "-"
				if k.Change > 0 {
					change = fmt.Sprint(k.Change)
				}
				row(w, short(k.ID), dash(k.Checks), change, k.Author, k.Subject)
			}
		})
	}}
	history.Flags().IntVar(&limit, "limit", 20, "how many")
	files := &cobra.Command{Use: "files [PATH]", Short: "List a folder, or print a file", Args: cobra.MaximumNArgs(1), RunE: func(cmd *cobra.Command, args []string) error {
		c, repo, err := p.here()
		if err != nil {
			return err
		}
		tree, err := c.Tree(cmd.Context(), repo, at, strings.Join(args, ""))
		if err != nil {
			return err
		}
		return p.print(tree, func(w io.Writer) {
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
	}}
	for _, sub := range []*cobra.Command{history, files} {
		sub.Flags().StringVar(&at, "at", "", "branch, tag or commit (default: the default branch)")
	}
	c.AddCommand(branches, history, files)
	return c
}

func (p *program) rules() *cobra.Command {
	c := &cobra.Command{Use: "rules", Short: "Say what protects branches"}
	var because, branch string
	ifVersion, version := -1, 0
	apply := &cobra.Command{Use: "apply FILE", Short: "Make a document the repository's rules", Args: cobra.ExactArgs(1), RunE: func(cmd *cobra.Command, args []string) error {
		text, err := p.readFile(args[0])
		if err != nil {
			return err
		}
		c, repo, err := p.here()
		if err != nil {
			return err
		}
		r, err := c.ApplyRules(cmd.Context(), repo, text, because, ifVersion)
		if err != nil {
			return p.inFile(args[0], err)
		}
		return p.print(r, func(w io.Writer) { row(w, fmt.Sprintf("rules version %d is in force in %s", r.Version, repo)) })
	}}
	apply.Flags().StringVar(&because, "because", "", "why the rules change (needed)")
	apply.Flags().IntVar(&ifVersion, "if-version", -1, "apply only if this is the version in force")
	if err := apply.MarkFlagRequired("because"); err != nil {
		panic(err)
	}
	check := &cobra.Command{Use: "check FILE", Short: "Read a document and say what it means, without applying it", Args: cobra.ExactArgs(1), RunE: func(cmd *cobra.Command, args []string) error {
		return p.checkRules(cmd.Context(), args[0])
	}}
	show := &cobra.Command{Use: "show", Short: "Print the rules in force", Args: cobra.NoArgs, RunE: func(cmd *cobra.Command, _ []string) error {
		c, repo, err := p.here()
		if err != nil {
			return err
		}
		r, err := c.Rules(cmd.Context(), repo, version)
		if err != nil {
			return err
		}
		return p.print(r, func(io.Writer) {
			if r.Version == 0 {
				fmt.Fprintln(p.err, "no rules have been applied to "+repo+" yet: tavrin rules apply FILE --because TEXT")
				return
			}
			fmt.Fprintf(p.err, "version %d, applied by %s %s: %s\n", r.Version, r.AppliedBy, ago(r.AppliedAt), plain(r.Because))
			fmt.Fprint(p.out, block(r.Text))
		})
	}}
	show.Flags().IntVar(&version, "version", 0, "an earlier version")
	history := &cobra.Command{Use: "history", Short: "List the versions: who, when and why", Args: cobra.NoArgs, RunE: func(cmd *cobra.Command, _ []string) error {
		c, repo, err := p.here()
		if err != nil {
			return err
		}
		versions, err := c.RulesVersions(cmd.Context(), repo)
		if err != nil {
			return err
		}
		return p.print(versions, func(w io.Writer) {
			row(w, "VERSION", "BY", "WHEN", "BECAUSE")
			for _, r := range versions {
				row(w, r.Version, r.AppliedBy, ago(r.AppliedAt), r.Because)
			}
		})
	}}
	explain := &cobra.Command{Use: "explain", Short: "Say what protects a branch, setting by setting", Args: cobra.NoArgs, RunE: func(cmd *cobra.Command, _ []string) error {
		c, repo, err := p.here()
		if err != nil {
			return err
		}
		e, err := c.ExplainBranch(cmd.Context(), repo, branch)
		if err != nil {
			return err
		}
		return p.print(e, func(w io.Writer) {
			for _, s := range e.Sentences {
				var from []string
				for _, source := range s.Sources {
					from = append(from, source.String())
				}
				row(w, s.Text, strings.Join(from, " and "))
			}
		})
	}}
	explain.Flags().StringVar(&branch, "branch", "main", "the branch, one that exists or one that may come")
	c.AddCommand(apply, show, check, history, explain)
	return c
}

func (p *program) readFile(path string) (string, error) {
	if path == "-" {
		text, err := io.ReadAll(io.LimitReader(p.in, 2<<20))
		return string(text), err
	}
	f, err := os.Open(path)
	if err != nil {
		return "", err
	}
	defer f.Close()
	text, err := io.ReadAll(io.LimitReader(f, 2<<20))
	return string(text), err
}

// inFile puts the file's name before each finding of a refused document.
func (p *program) inFile(file string, err error) error {
	var problem *client.Problem
	if !errors.As(err, &problem) || len(problem.Findings) == 0 {
		return err
	}
	fmt.Fprintln(p.err, "tavrin:", problem.Detail)
	for _, f := range problem.Findings {
		fmt.Fprintf(p.err, "%s:%s\n%s\n", file, f, block(f.Excerpt))
	}
	return &exitError{status: statusError}
}

func (p *program) checkRules(ctx context.Context, file string) error {
	text, err := p.readFile(file)
	if err != nil {
		return err
	}
	c, err := p.client()
	if err != nil {
		return err
	}
	checked, err := c.CheckRules(ctx, text)
	if err != nil {
		return err
	}
	err = p.print(checked, func(w io.Writer) {
		for _, s := range checked.Sentences {
			row(w, s)
		}
		for _, f := range checked.Findings {
			fmt.Fprintf(p.err, "%s:%s\n%s\n", file, f, block(f.Excerpt))
		}
	})
	if err == nil && !checked.Valid {
		return &exitError{status: statusError}
	}
	return err
}
