package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tavrin/wire"
)

// gitHere runs git in the clone at hand, with the token for the service.
func gitHere(ctx context.Context, h here, args ...string) error {
	cmd, err := gitWithToken(ctx, h.Client, args...)
	if err != nil {
		return err
	}
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("git %s: %s", args[0], strings.TrimSpace(block(string(out))))
	}
	return nil
}

// pushPreview pushes what is checked out here to the caller's preview space, and returns its name there.
func (p *program) pushPreview(ctx context.Context, h here) (string, error) {
	out, err := exec.CommandContext(ctx, "git", "rev-parse", "--verify", "HEAD^{commit}").Output()
	if err != nil {
		return "", misuse("--here is for a clone with a commit checked out")
	}
	me, err := h.Me(ctx)
	if err != nil {
		return "", err
	}
	commit := strings.TrimSpace(string(out))
	name := wire.PreviewRefs + me.Login + "/" + short(commit)
	return name, gitHere(ctx, h, "push", "--quiet", h.GitURL(h.repo), commit+":"+name)
}

// fetched is what a fetch brought into the clone at hand.
type fetched struct {
	Number int    `json:"number"`
	What   string `json:"what"`
	Commit string `json:"commit"`
}

// fetch brings a change into the clone at hand, to try it there: any revision, or its rehearsal.
func (p *program) fetch() *cobra.Command {
	var revision int
	var rehearsal, checkout bool
	c := onChange(p, "fetch N", "Fetch a change, an earlier revision or its rehearsal into this clone",
		func(ctx context.Context, h here, n int) (fetched, error) {
			f, err := p.commitOf(ctx, h, n, revision, rehearsal)
			if err != nil {
				return f, err
			}
			if err := gitHere(ctx, h, "fetch", "--quiet", h.GitURL(h.repo), f.Commit); err != nil || !checkout {
				return f, err
			}
			return f, gitHere(ctx, h, "checkout", "--quiet", "--detach", f.Commit)
		}, func(w io.Writer, f fetched) {
			row(w, fmt.Sprintf("%s of change %d is here as %s", f.What, f.Number, f.Commit))
			if !checkout {
				row(w, "git checkout --detach "+short(f.Commit))
			}
		})
	c.Flags().IntVar(&revision, "revision", 0, "an earlier revision (default: the newest)")
	c.Flags().BoolVar(&rehearsal, "rehearsal", false, "the rehearsal: as it would land")
	c.Flags().BoolVar(&checkout, "checkout", false, "check it out, on no branch")
	c.MarkFlagsMutuallyExclusive("revision", "rehearsal")
	return c
}

// commitOf finds the commit of a revision or rehearsal.
func (p *program) commitOf(ctx context.Context, h here, n, revision int, rehearsal bool) (fetched, error) {
	k, err := h.Change(ctx, h.repo, n)
	if err != nil {
		return fetched{}, err
	}
	if rehearsal {
		if k.Entry == nil || k.Entry.Rehearsal == nil {
			return fetched{}, fmt.Errorf("change %d has no rehearsal now: it gets one in the queue, once it is ready",
				n)
		}
		return fetched{n, "the rehearsal", k.Entry.Rehearsal.Commit}, nil
	}
	if revision == 0 || revision == k.Revision {
		return fetched{n, fmt.Sprintf("revision %d", k.Revision), k.Head}, nil
	}
	all, err := h.Revisions(ctx, h.repo, n)
	for _, r := range all {
		if r.Number == revision {
			return fetched{n, fmt.Sprintf("revision %d", revision), r.Head}, nil
		}
	}
	if err == nil {
		err = fmt.Errorf("change %d has no revision %d; the newest is %d", n, revision, k.Revision)
	}
	return fetched{}, err
}

// tried is one check that was run here.
type tried struct {
	Check   string  `json:"check"`
	Command string  `json:"command"`
	State   string  `json:"state"` // passed or failed
	Seconds float64 `json:"seconds"`
}

// checkHere runs a change's command checks on this machine, in a checkout of its own.
func (p *program) checkHere() *cobra.Command {
	var revision int
	var rehearsal bool
	var only []string
	failed := false
	c := onChange(p, "check N", "Run a change's command checks here, in a checkout of its own; exit 0 all passed, 3 not",
		func(ctx context.Context, h here, n int) ([]tried, error) {
			f, err := p.commitOf(ctx, h, n, revision, rehearsal)
			if err != nil {
				return nil, err
			}
			checks, err := commandsOf(ctx, h, n, only)
			if err != nil {
				return nil, err
			}
			dir, err := os.MkdirTemp("", "tavrin-check-")
			if err != nil {
				return nil, err
			}
			defer os.RemoveAll(dir)
			tree := filepath.Join(dir, "tree")
			if err := gitHere(ctx, h, "fetch", "--quiet", h.GitURL(h.repo), f.Commit); err != nil {
				return nil, err
			}
			if err := gitHere(ctx, h, "worktree", "add", "--quiet", "--detach", tree, f.Commit); err != nil {
				return nil, err
			}
			defer gitHere(context.WithoutCancel(ctx), h, "worktree", "remove", "--force", tree)
			fmt.Fprintf(p.err, "running %s of %s of change %d (%s) on this machine\n", counted(len(checks), "check"),
				f.What, n, short(f.Commit))
			var out []tried
			for _, k := range checks {
				t, err := p.runCheck(ctx, tree, k)
				if err != nil {
					return out, err
				}
				failed = failed || t.State != "passed"
				out = append(out, t)
			}
			return out, nil
		}, func(w io.Writer, all []tried) {
			row(w, "CHECK", "STATE", "TOOK", "COMMAND")
			for _, t := range all {
				row(w, t.Check, state(t.State), fmt.Sprintf("%.1f s", t.Seconds), t.Command)
			}
		})
	run := c.RunE
	c.RunE = func(cmd *cobra.Command, args []string) error {
		if err := run(cmd, args); err != nil || !failed {
			return err
		}
		return &exitError{status: statusNotYet}
	}
	c.Flags().IntVar(&revision, "revision", 0, "an earlier revision (default: the newest)")
	c.Flags().BoolVar(&rehearsal, "rehearsal", false, "the rehearsal: as it would land")
	c.Flags().StringSliceVar(&only, "check", nil, "only these checks (default: every command that its gate asks for)")
	c.MarkFlagsMutuallyExclusive("revision", "rehearsal")
	return c
}

// commandsOf finds the checks of a change that are commands.
func commandsOf(ctx context.Context, h here, n int, only []string) ([]wire.CheckName, error) {
	report, err := h.Gate(ctx, h.repo, n)
	if err != nil {
		return nil, err
	}
	names, err := h.CheckNames(ctx, h.repo)
	if err != nil {
		return nil, err
	}
	wanted := only
	for _, q := range report.Requirements {
		if len(only) == 0 {
			wanted = append(wanted, q.Checks...)
		}
	}
	var out []wire.CheckName
	for _, k := range names {
		if k.Command != "" && slices.Contains(wanted, k.Name) {
			out = append(out, k)
		}
	}
	for _, name := range only {
		if !slices.ContainsFunc(out, func(k wire.CheckName) bool { return k.Name == name }) {
			return nil, fmt.Errorf("check %q is not a command of the rules, so that it cannot be run here: tavrin "+
				"check list shows those that are", name)
		}
	}
	if len(out) == 0 {
		return nil, errors.New("the gate asks for no check that is a command; nothing can be run here")
	}
	return out, nil
}

// runCheck runs a check's command in a folder, with its output on standard error.
func (p *program) runCheck(ctx context.Context, dir string, k wire.CheckName) (tried, error) {
	fmt.Fprintf(p.err, "-- %s: %s\n", plain(k.Name), plain(k.Command))
	cmd := exec.CommandContext(ctx, "sh", "-c", k.Command)
	cmd.Dir, cmd.Stdout, cmd.Stderr = dir, p.err, p.err
	cmd.Env = slices.DeleteFunc(os.Environ(), func(kv string) bool { return strings.HasPrefix(kv, "TAVRIN_TOKEN=") })
	begun := time.Now()
	err := cmd.Run()
	t := tried{Check: k.Name, Command: k.Command, State: "passed", Seconds: time.Since(begun).Seconds()}
	var exit *exec.ExitError
	if errors.As(err, &exit) {
		t.State, err = "failed", nil
	}
	return t, err
}
