// Package cli is the command line: it asks the service through the client and prints what comes back.
//
// Answers go to standard output, errors to standard error in one or a few lines. The exit status is 0 when the
// command did what it says, 1 for an error, 2 for misuse, 3 for "not yet" and 4 for "never".
package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"
	"github.com/spf13/pflag"
	"golang.org/x/term"

	"tavrin/client"
	"tavrin/internal/api"
	"tavrin/internal/core/near"
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

TAVRIN_TOKEN says who you are. Inside a clone, commands are about its repository and go to the service that it comes from,
if git's configuration gives that service the token (credential.ADDRESS.helper '!tavrin credential'); elsewhere --repo
HOUSE/NAME and TAVRIN_URL say which (default ` + client.DefaultURL + `). NO_COLOR keeps states without colour.`,
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
		return misuse("%w; see %s --help%s", err, c.CommandPath(), meantFlag(c, err))
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
		forMaintainers: {p.rules(), p.area(), p.freeze(), p.repository(), p.journal()},
		forRobots:      {p.check(), p.runner(), p.webhook(), p.tracker(), p.standIn()},
		forAdmins: {p.serve(), p.backup(), p.restore(), p.recover(), p.house(), p.person(), p.robot(), p.team(),
			p.tokens(), p.refusals(), p.demo(), p.man()},
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
	p.completing(root)
	return root
}

// man writes the manual pages, for man(1).
func (p *program) man() *cobra.Command {
	return &cobra.Command{Use: "man DIR", Short: "Write the manual pages of all commands into a folder, such as /usr/local/share/man/man1",
		Args: cobra.ExactArgs(1), RunE: func(cmd *cobra.Command, args []string) error {
			if err := os.MkdirAll(args[0], 0o755); err != nil {
				return err
			}
			epoch := time.Unix(0, 0).UTC() // the same pages from the same program
			root := cmd.Root()
			root.DisableAutoGenTag = true
			return doc.GenManTree(root, &doc.GenManHeader{Section: "1", Source: "Tavrin " + api.Version, Manual: "Tavrin", Date: &epoch}, args[0])
		}}
}

// meantCommand says which command below c may have been meant by a word.
func meantCommand(c *cobra.Command, word string) string {
	var known []string
	for _, sub := range c.Commands() {
		if sub.IsAvailableCommand() {
			known = append(known, sub.Name())
		}
	}
	if name := cmp.Or(synonyms[word], near.To(word, known)); slices.Contains(known, name) {
		return fmt.Sprintf("; did you mean %s %s?", c.CommandPath(), name)
	}
	for _, name := range known { // a word that begins one alone
		if strings.HasPrefix(name, word) {
			return fmt.Sprintf("; did you mean %s %s?", c.CommandPath(), name)
		}
	}
	return ""
}

// meantFlag says which option of a command may have been meant, where the error is that there is none of that name.
func meantFlag(c *cobra.Command, err error) string {
	word, unknown := strings.CutPrefix(err.Error(), "unknown flag: --")
	if !unknown {
		return ""
	}
	var known []string
	c.Flags().VisitAll(func(f *pflag.Flag) {
		if !f.Hidden {
			known = append(known, f.Name)
		}
	})
	if name := near.To(word, known); name != "" {
		return fmt.Sprintf("; did you mean --%s?", name)
	}
	return ""
}

// synonyms are the commands that people mean by words that other programs have for them.
var synonyms = map[string]string{
	"add": "create", "new": "create", "make": "create", "delete": "remove", "rm": "remove", "ls": "list", "status": "show",
	"info": "show", "get": "show", "modify": "edit", "rename": "edit", "abandon": "close", "merge": "queue", "land": "queue",
	"user": "person", "users": "person", "people": "person", "repository": "repo", "repositories": "repo", "members": "set",
	"accept": "approve", "reject": "object", "block": "object", "inbox": "desk", "todo": "desk", "log": "journal", "audit": "journal",
	"ci": "check", "checks": "check", "rule": "rules", "policy": "rules", "protect": "rules", "comment": "thread",
	"comments": "thread", "enqueue": "join", "dequeue": "leave", "cancel": "leave", "owners": "area", "areas": "area",
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
				return misuse("there is no command %q here; see %s --help%s", given[0], c.CommandPath(), meantCommand(c, given[0]))
			}
			return c.Help()
		}
	}
	for _, sub := range c.Commands() {
		strict(sub)
	}
}
