package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os/exec"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tavrin/client"
	"tavrin/wire"
)

// override sets requirements aside, in the open.
func (p *program) override() *cobra.Command {
	return group("override", "Set requirements aside in an emergency, in the open; look at what others set aside",
		p.overrideLanding(), p.overridePush(), p.listOverrides(), p.lookAt())
}

// printPlan says exactly what would be set aside and what would be left.
func printPlan(w io.Writer, v wire.OverridePlan) {
	fmt.Fprintln(w, "This would set aside:")
	for _, r := range v.Aside {
		fmt.Fprintf(w, "  <o> %s  (%s, asked by %s)\n", plain(r.Title), plain(r.Key), plain(r.Because))
	}
	for _, r := range v.Left {
		why := "not named"
		if r.Why != "" {
			why = "not yours to set aside: " + r.Why
		}
		fmt.Fprintf(w, "and leave:\n  [ ] %s  (%s): %s\n", plain(r.Title), plain(r.Key), plain(why))
	}
}

// confirm shows a plan and finds out whether exactly that is meant: by the code that was given, or on the terminal.
func (p *program) confirm(plan wire.OverridePlan, given string) (string, error) {
	if given != "" {
		return given, nil
	}
	printPlan(p.err, plan)
	if !p.interactive {
		fmt.Fprintf(p.err, "Nothing was set aside. To set aside exactly that, say the same again with --confirm %s\n",
			plan.Confirm)
		return "", &exitError{status: statusNotYet}
	}
	if !p.agreed("Everybody will see it, and somebody else has to look at it afterwards. Set exactly that aside?") {
		return "", errors.New("nothing was set aside")
	}
	return plan.Confirm, nil
}

func (p *program) overrideLanding() *cobra.Command {
	n := client.NewOverride{}
	var length time.Duration
	var strategy string
	c := onChange(p, "land N", "Let a change land although requirements do not hold; it joins the queue and goes first",
		func(ctx context.Context, h here, number int) (wire.Override, error) {
			plan, err := h.PlanOverride(ctx, h.repo, number, n.Requirements)
			if err != nil {
				return wire.Override{}, err
			}
			if n.Confirm, err = p.confirm(plan, n.Confirm); err != nil {
				return wire.Override{}, err
			}
			n.ForSeconds = int64(length / time.Second)
			o, err := h.Override(ctx, h.repo, number, n)
			if err != nil {
				return o, err
			}
			k, err := h.Change(ctx, h.repo, number)
			if err == nil && (k.Entry == nil || k.Entry.Position == 0) {
				_, err = h.Join(ctx, h.repo, number, client.NewEntry{Strategy: strategy})
			}
			if err != nil {
				return o, fmt.Errorf("override %d is made, but the change could not join the queue: %w", o.ID, err)
			}
			return o, nil
		}, func(w io.Writer, o wire.Override) {
			row(w, fmt.Sprintf("override %d: change %d may land on %s until %s although it lacks", o.ID, o.Number, o.Branch,
				o.Until.Local().Format("15:04")))
			for _, r := range o.Aside {
				row(w, "  <o> "+r.Title)
			}
			row(w, "it is in the queue; tavrin change wait "+fmt.Sprint(o.Number))
		})
	f := c.Flags()
	f.StringSliceVar(&n.Requirements, "requirement", nil, "key of a requirement to set aside, as tavrin change gate "+
		"-o json names it; may be given several times (default: everything that you may)")
	f.StringVar(&n.Because, "because", "", "why it cannot wait; everybody reads it (needed)")
	f.DurationVar(&length, "for", time.Hour, "how long it may be used: from 1m to 24h")
	f.StringVar(&n.Confirm, "confirm", "", "the code that the same command showed; asked for on a terminal")
	f.StringVar(&strategy, "strategy", "", "rebase, squash or merge (default: as the rules say)")
	return needs(c, "because")
}

func (p *program) overridePush() *cobra.Command {
	n := client.NewPushOverride{}
	var length time.Duration
	c := inRepo(p, "push BRANCH", "Allow yourself to push one commit to a branch against its rules, once",
		cobra.ExactArgs(1), func(ctx context.Context, h here, args []string) (wire.Override, error) {
			n.Branch = args[0]
			if n.Commit == "" {
				n.Commit = "HEAD"
			}
			if id, err := exec.CommandContext(ctx, "git", "rev-parse", "--verify", "--quiet", "--end-of-options",
				n.Commit+"^{commit}").Output(); err == nil {
				lines := strings.Fields(string(id))
				n.Commit = lines[len(lines)-1]
			}
			plan, err := h.PlanPushOverride(ctx, h.repo, n.Branch, n.Commit)
			if err != nil {
				return wire.Override{}, err
			}
			if n.Confirm, err = p.confirm(plan, n.Confirm); err != nil {
				return wire.Override{}, err
			}
			n.ForSeconds = int64(length / time.Second)
			return h.OverridePush(ctx, h.repo, n)
		}, func(w io.Writer, o wire.Override) {
			row(w, fmt.Sprintf("override %d: until %s, and once, you may run", o.ID, o.Until.Local().Format("15:04")))
			row(w, fmt.Sprintf("  git push origin %s:refs/heads/%s", o.Commit, o.Branch))
		})
	f := c.Flags()
	f.StringVar(&n.Commit, "commit", "", "the commit, which the repository has to have already (default: HEAD)")
	f.StringVar(&n.Because, "because", "", "why it cannot wait; everybody reads it (needed)")
	f.DurationVar(&length, "for", time.Hour, "how long it may be used: from 1m to 24h")
	f.StringVar(&n.Confirm, "confirm", "", "the code that the same command showed; asked for on a terminal")
	return needs(c, "because")
}

func (p *program) listOverrides() *cobra.Command {
	var open bool
	c := inRepo(p, "list", "List what was set aside, and what nobody has looked at yet", cobra.NoArgs,
		func(ctx context.Context, h here, _ []string) ([]wire.Override, error) {
			return h.Overrides(ctx, h.repo, open)
		}, func(w io.Writer, all []wire.Override) {
			if len(all) == 0 {
				row(w, "None.")
				return
			}
			row(w, "ID", "BY", "WHEN", "FOR", "ONTO", "STATE", "BECAUSE")
			for _, o := range all {
				what := fmt.Sprintf("change %d", o.Number)
				if o.Number == 0 {
					what = "push of " + short(o.Commit)
				}
				row(w, o.ID, o.By, ago(o.MadeAt), what, o.Branch, overrideState(o), o.Because)
			}
		})
	c.Flags().BoolVar(&open, "open", false, "only those that may still be used, and those nobody has looked at yet")
	return c
}

func overrideState(o wire.Override) string {
	switch {
	case o.LookedBy != "":
		return "used; looked at by " + o.LookedBy + ": " + o.Look
	case o.State == "used":
		return "used; nobody has looked at it yet"
	case o.State == "lapsed":
		return "lapsed: " + o.Why
	}
	return "open until " + o.Until.Local().Format("15:04")
}

func (p *program) lookAt() *cobra.Command {
	var text string
	c := inRepo(p, "look ID", "Have the second look at what somebody else's override let through", cobra.ExactArgs(1),
		func(ctx context.Context, h here, args []string) (wire.Override, error) {
			id, err := number(args[0], "an override; see tavrin override list")
			if err != nil {
				return wire.Override{}, err
			}
			return h.LookAt(ctx, h.repo, id, text)
		}, func(w io.Writer, o wire.Override) { row(w, fmt.Sprintf("override %d: %s", o.ID, overrideState(o))) })
	c.Flags().StringVar(&text, "text", "", "what you found (needed)")
	return needs(c, "text")
}
