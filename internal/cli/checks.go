package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/exec"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"tavrin/internal/core/change"
	"tavrin/internal/runner"
	"tavrin/wire"
)

func (p *program) check() *cobra.Command {
	var name string
	rerun := inRepo(p, "rerun COMMIT", "Ask for another attempt of a check", cobra.ExactArgs(1),
		func(ctx context.Context, h here, args []string) (wire.Check, error) {
			return h.Rerun(ctx, h.repo, args[0], name)
		}, func(w io.Writer, k wire.Check) {
			row(w, fmt.Sprintf("attempt %d of %s on %s was asked for", k.Attempt, k.Name, short(k.Commit)))
		})
	rerun.Flags().StringVar(&name, "name", "", "name of the check (needed)")
	var taken bool
	wanted := inRepo(p, "wanted", "List checks that wait for a report", cobra.NoArgs,
		func(ctx context.Context, h here, _ []string) ([]wire.Check, error) {
			if taken {
				return h.TakenOn(ctx, h.repo)
			}
			return h.Wanted(ctx, h.repo)
		}, printChecks)
	wanted.Flags().BoolVar(&taken, "taken", false, "those that a worker has taken on, and that are running")
	return group("check", "Report checks, look at them, run them by hand", p.reportCheck(), needs(rerun, "name"),
		p.listChecks(),
		wanted, p.claimCheck(),
		inRepo(p, "log COMMIT NAME", "Print the end of a runner's log", cobra.ExactArgs(2),
			func(ctx context.Context, h here, args []string) (wire.Check, error) {
				checks, err := h.Checks(ctx, h.repo, args[0])
				i := slices.IndexFunc(checks, func(k wire.Check) bool { return k.Name == args[1] })
				if err == nil && i < 0 {
					err = fmt.Errorf("check %q was not seen on %s", args[1], short(args[0]))
				}
				if err != nil {
					return wire.Check{}, err
				}
				return checks[i], nil
			}, func(_ io.Writer, k wire.Check) { fmt.Fprint(p.out, block(k.Log)) }),
		p.aboutRepo(&cobra.Command{Use: "run NAME", Short: "Run a command check by hand, in the work tree as it is",
			Args: cobra.ExactArgs(1), RunE: func(cmd *cobra.Command, args []string) error {
				return p.runHere(cmd.Context(), args[0])
			}}))
}

// claimCheck takes a check on, for one of several workers.
func (p *program) claimCheck() *cobra.Command {
	var name string
	none := false
	c := inRepo(p, "claim", "Take the oldest check that waits, so that no other worker does; exit 0 taken, 3 none waits", cobra.NoArgs,
		func(ctx context.Context, h here, _ []string) ([]wire.Check, error) {
			k, err := h.ClaimCheck(ctx, h.repo, name)
			if none = k == nil; none {
				return []wire.Check{}, err
			}
			return []wire.Check{*k}, err
		}, printChecks)
	run := c.RunE
	c.RunE = func(cmd *cobra.Command, args []string) error {
		if err := run(cmd, args); err != nil || !none {
			return err
		}
		return &exitError{status: statusNotYet}
	}
	c.Flags().StringVar(&name, "name", "", "only that check (default: any that the token names)")
	return c
}

func (p *program) reportCheck() *cobra.Command {
	n := wire.NewReport{}
	var stands string
	c := inRepo(p, "report", "Report how a check stands", cobra.NoArgs,
		func(ctx context.Context, h here, _ []string) (wire.Check, error) {
			n.State = change.CheckState(stands)
			return h.ReportCheck(ctx, h.repo, n)
		}, func(w io.Writer, k wire.Check) {
			row(w, fmt.Sprintf("%s is %s on %s (attempt %d)", k.Name, k.State, short(k.Commit), k.Attempt))
		})
	f := c.Flags()
	f.StringVar(&n.Commit, "commit", "", "the commit, by its id or enough of the beginning (needed)")
	f.StringVar(&n.Name, "name", "", "name of the check (needed)")
	f.StringVar(&stands, "state", "", "waiting, running, passed, failed, errored, skipped or cancelled (needed)")
	f.StringVar(&n.Link, "link", "", "where to read more")
	f.StringVar(&n.Summary, "summary", "", "what came out, in a line")
	f.IntVar(&n.Attempt, "attempt", 0, "which attempt is answered; needed from the second on")
	return needs(c, "commit", "name", "state")
}

// listChecks lists the checks of a commit or, without one, every name seen so far.
func (p *program) listChecks() *cobra.Command {
	ofCommit := inRepo(p, "list [COMMIT]", "List the checks of a commit, or all names seen so far",
		cobra.MaximumNArgs(1), func(ctx context.Context, h here, args []string) ([]wire.Check, error) {
			return h.Checks(ctx, h.repo, args[0])
		}, printChecks)
	names := inRepo(p, "list", "", cobra.NoArgs, func(ctx context.Context, h here, _ []string) ([]wire.CheckName,
		error) {
		return h.CheckNames(ctx, h.repo)
	}, func(w io.Writer, names []wire.CheckName) {
		row(w, "CHECK", "REQUIRED", "REPORTS", "LAST SEEN", "COMMAND")
		for _, n := range names {
			seen := "never"
			if n.LastSeen != nil {
				seen = ago(*n.LastSeen)
			}
			row(w, n.Name, yesNo(n.Demanded), n.Reports, seen, dash(n.Command))
		}
	})
	run := ofCommit.RunE
	ofCommit.RunE = func(cmd *cobra.Command, args []string) error {
		if len(args) == 0 {
			return names.RunE(cmd, args)
		}
		return run(cmd, args)
	}
	return ofCommit
}

func printChecks(w io.Writer, checks []wire.Check) {
	row(w, "CHECK", "STATE", "COMMIT", "ATTEMPT", "FOR", "BY", "SUMMARY", "LINK")
	for _, k := range checks {
		row(w, k.Name, state(k.State), short(k.Commit), k.Attempt, dash(k.AskedFor), dash(k.By), dash(k.Summary), k.Link)
	}
}

// runHere runs a command check in the current clone, as the rules define it.
func (p *program) runHere(ctx context.Context, name string) error {
	c, err := p.client()
	if err != nil {
		return err
	}
	h, err := p.here(ctx, c)
	if err != nil {
		return err
	}
	names, err := h.CheckNames(ctx, h.repo)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(names, func(n wire.CheckName) bool { return n.Name == name })
	if i < 0 || names[i].Command == "" {
		var known []string
		for _, n := range names {
			if n.Command != "" {
				known = append(known, n.Name)
			}
		}
		return fmt.Errorf("the rules of %s define no command for %q; they define: %s", h.repo, name, list(known))
	}
	top, err := exec.CommandContext(ctx, "git", "rev-parse", "--show-toplevel").Output()
	if err != nil {
		return errors.New("run this in a clone of the repository")
	}
	fmt.Fprintf(p.err, "%s: %s\n", name, plain(names[i].Command))
	cmd := exec.CommandContext(ctx, "sh", "-c", names[i].Command)
	cmd.Dir, cmd.Stdout, cmd.Stderr = strings.TrimSpace(string(top)), p.out, p.err
	for _, kv := range os.Environ() { // what the check prints may end in a public log
		if !strings.HasPrefix(kv, "TAVRIN_TOKEN=") {
			cmd.Env = append(cmd.Env, kv)
		}
	}
	if err := cmd.Run(); err != nil {
		return fmt.Errorf("%s failed: %w", name, err)
	}
	fmt.Fprintf(p.err, "%s passed\n", name)
	return nil
}

func (p *program) runner() *cobra.Command {
	var users string
	o := runner.Options{}
	c := &cobra.Command{Use: "runner", Short: "Take command checks and run them", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			text, err := os.ReadFile(o.TokenFile)
			if err != nil {
				return fmt.Errorf("read the runner's token: %w", err)
			}
			p.token = strings.TrimSpace(string(text))
			if o.Client, err = p.client(); err != nil {
				return err
			}
			if users != "" {
				if n, err := fmt.Sscanf(users, "%d-%d", &o.FirstUser, &o.LastUser); n != 2 || err != nil ||
					o.FirstUser < 1 || o.LastUser < o.FirstUser {
					return misuse("--job-users is FIRST-LAST, two numbers of users, such as %d-%d, not %q",
						runner.FirstJobUser, runner.LastJobUser, users)
				}
			}
			o.Log = slog.New(slog.NewTextHandler(p.err, nil))
			return runner.Run(cmd.Context(), o)
		}}
	f := c.Flags()
	f.StringVar(&o.TokenFile, "token-file", "", "file with the runner's token (needed)")
	f.StringVar(&o.Dir, "work-dir", "", "folder for checkouts (default: the system's for temporary files)")
	f.BoolVar(&o.BesideService, "beside-service", false, "start even where the service's data can be read")
	f.BoolVar(&o.BesideRunner, "beside-runner", false, "run jobs as this runner's own user, where they can read its "+
		"token")
	f.StringVar(&users, "job-users", "", fmt.Sprintf("FIRST-LAST: the users, by number, of which a runner started "+
		"as root gives each job one (default %d-%d)", runner.FirstJobUser, runner.LastJobUser))
	f.BoolVar(&o.Once, "once", false, "end when no job is waiting")
	return needs(c, "token-file")
}
