// Package cli is the command line: it asks the service through the client and prints what comes back.
//
// Answers go to standard output, errors to standard error in one or a few lines. The exit status is 0 when the
// command did what it says, 1 for an error, 2 for misuse, 3 for "not yet" and 4 for "never".
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"os/exec"
	"os/signal"
	"strings"
	"syscall"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"tavrin/client"
	"tavrin/internal/api"
)

// The exit statuses.
const (
	statusError  = 1
	statusMisuse = 2
	statusNotYet = 3
	statusNever  = 4
)

// exitError ends the program with a status. Its error may be nil: everything has been said.
type exitError struct {
	status int
	err    error
}

func (e *exitError) Error() string {
	if e.err == nil {
		return ""
	}
	return e.err.Error()
}

func (e *exitError) Unwrap() error { return e.err }

func misuse(format string, args ...any) error {
	return &exitError{statusMisuse, fmt.Errorf(format, args...)}
}

// program is what the commands share: where to read and write, and the flags that every command has.
type program struct {
	in          io.Reader
	out, err    io.Writer
	url, token  string
	repo        string
	format      string
	interactive bool
}

// Main runs the command line and returns the exit status.
func Main(args []string, in io.Reader, out, errOut io.Writer) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	p := &program{in: in, out: out, err: errOut}
	if f, ok := in.(*os.File); ok {
		p.interactive = term.IsTerminal(int(f.Fd()))
	}
	root := p.root()
	root.SetArgs(args)
	root.SetIn(in)
	root.SetOut(out)
	root.SetErr(errOut)
	err := root.ExecuteContext(ctx)
	return p.report(err)
}

// report prints an error and chooses the exit status.
func (p *program) report(err error) int {
	if err == nil {
		return 0
	}
	var exit *exitError
	var problem *client.Problem
	switch {
	case errors.As(err, &exit):
		if exit.err != nil {
			fmt.Fprintln(p.err, "tavrin:", exit.err)
		}
		return exit.status
	case errors.As(err, &problem):
		fmt.Fprintln(p.err, "tavrin:", problem.Detail)
		for _, f := range problem.Findings {
			fmt.Fprintf(p.err, "%s\n%s\n", f, f.Excerpt)
		}
		return statusError
	}
	fmt.Fprintln(p.err, "tavrin:", err)
	// cobra has no type for it
	if strings.HasPrefix(err.Error(), "required flag(s)") || strings.Contains(err.Error(), "flags in the group") {
		return statusMisuse
	}
	return statusError
}

// The groups of tavrin help, by who uses the commands.
const (
	forAuthors     = "authors"
	forMaintainers = "maintainers"
	forRobots      = "robots"
	forAdmins      = "administrators"
)

// Root returns the command tree, for generated documentation.
func Root() *cobra.Command {
	return (&program{in: strings.NewReader(""), out: io.Discard, err: io.Discard}).root()
}

func (p *program) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "tavrin",
		Short: "Say what protects a branch; land changes only when it holds",
		Long: `Tavrin hosts Git repositories and guards their branches. Maintainers say what protects a branch; changes are
reviewed, rehearsed on the newest target, checked as they would land, and land through a queue.

The service is at TAVRIN_URL (default ` + client.DefaultURL + `); TAVRIN_TOKEN says who you are. Inside a clone, commands
are about its repository; elsewhere --repo HOUSE/NAME says which. NO_COLOR keeps states without colour.`,
		Version: api.Version, SilenceErrors: true, SilenceUsage: true,
	}
	root.AddGroup(
		&cobra.Group{ID: forAuthors, Title: "For authors and reviewers:"},
		&cobra.Group{ID: forMaintainers, Title: "For maintainers:"},
		&cobra.Group{ID: forRobots, Title: "For checks, robots and runners:"},
		&cobra.Group{ID: forAdmins, Title: "For administrators:"},
	)
	flags := root.PersistentFlags()
	flags.StringVar(&p.url, "url", os.Getenv("TAVRIN_URL"), "address of the service (TAVRIN_URL)")
	flags.StringVar(&p.repo, "repo", "", "repository, HOUSE/NAME") // before the command too; where it means something it is shown
	if err := flags.MarkHidden("repo"); err != nil {
		panic("cli: " + err.Error()) // it is defined in the line above
	}
	flags.StringVarP(&p.format, "output", "o", "table", "form of the answer: table, json or yaml")
	p.token = os.Getenv("TAVRIN_TOKEN")
	root.SetFlagErrorFunc(func(c *cobra.Command, err error) error {
		return misuse("%w; see %s --help", err, c.CommandPath())
	})
	root.PersistentPreRunE = func(*cobra.Command, []string) error {
		switch p.format {
		case "table", "json", "yaml":
			return nil
		}
		return misuse("--output is table, json or yaml, not %q", p.format)
	}
	for group, commands := range map[string][]*cobra.Command{
		forAuthors: {p.change(), p.review(), p.thread(), p.queue(), p.waiver(), p.browse(), p.desk(), p.notifications(),
			p.digest(), p.follow("follow", "Follow a change, or everything that happens in a repository",
				true), p.follow("unfollow", "Unfollow a change or a repository", false), p.feed(), p.credential(), p.key(), p.me()},
		forMaintainers: {p.rules(), p.area(), p.repository(), p.journal()},
		forRobots:      {p.check(), p.runner()},
		forAdmins: {p.serve(), p.backup(), p.restore(), p.recover(), p.house(), p.person(), p.robot(), p.team(),
			p.tokens(), p.refusals(), p.demo()},
	} {
		for _, c := range commands {
			c.GroupID = group
			root.AddCommand(c)
		}
	}
	root.AddCommand(&cobra.Command{Use: "openapi", Short: "Print the description of the API", Hidden: true,
		RunE: func(*cobra.Command, []string) error {
			description, err := api.Description()
			fmt.Fprintln(p.out, string(description))
			return err
		}})
	strict(root)
	return root
}

// strict makes wrong arguments and unknown subcommands misuse, for every command.
func strict(c *cobra.Command) {
	if args := c.Args; args != nil {
		c.Args = func(c *cobra.Command, given []string) error {
			if err := args(c, given); err != nil {
				return misuse("%w; usage: %s", err, c.UseLine())
			}
			return nil
		}
	}
	if c.HasSubCommands() && c.RunE == nil {
		c.Args = cobra.ArbitraryArgs
		c.RunE = func(c *cobra.Command, given []string) error {
			if len(given) > 0 {
				return misuse("there is no command %q here; see %s --help", given[0], c.CommandPath())
			}
			return c.Help()
		}
	}
	for _, sub := range c.Commands() {
		strict(sub)
	}
}

// client makes a client of the service.
func (p *program) client() (*client.Client, error) { return client.New(p.url, p.token) }

// here finds the repository that the command is about: the one that was named, or that of a remote.
func (p *program) here(c *client.Client) (here, error) {
	if p.repo != "" {
		return here{c, p.repo}, nil
	}
	out, err := exec.Command("git", "remote", "-v").Output()
	for line := range strings.Lines(string(out)) {
		f := strings.Fields(line)
		if err != nil || len(f) < 2 {
			continue
		}
		if name := repoOfRemote(f[1], c.URL()); name != "" {
			return here{c, name}, nil
		}
	}
	return here{}, misuse("which repository? Give --repo HOUSE/NAME, or run this in a clone of one from %s", c.URL())
}

// repoOfRemote returns the repository that a remote's address means at this service, or nothing.
func repoOfRemote(remote, service string) string {
	u, err := url.Parse(remote)
	if err != nil {
		return ""
	}
	u.User = nil
	rest, ok := strings.CutPrefix(u.String(), service+"/git/")
	name, ok2 := strings.CutSuffix(strings.TrimSuffix(rest, "/"), ".git")
	if !ok || !ok2 {
		return ""
	}
	return name
}
