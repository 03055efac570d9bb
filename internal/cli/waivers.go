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

	"tavrin/internal/core/change"
	"tavrin/wire"
)

// waiver waives requirements, in the open.
func (p *program) waiver() *cobra.Command {
	return group("waiver", "Waive requirements in an emergency, in the open; acknowledge what others waived",
		p.waiveLanding(), p.waivePush(), p.listWaivers(), p.acknowledge())
}

// printPlan says exactly what would be waived and what would be left.
func printPlan(w io.Writer, v wire.WaiverPlan) {
	notes := &footnotes{}
	row(w, "This would waive:")
	for _, r := range v.Waives {
		row(w, "<o>", r.Key, r.Title, notes.mark(r.Because))
	}
	if len(v.Left) > 0 {
		row(w, "and leave:")
	}
	for _, r := range v.Left {
		why := "not named"
		if r.Why != "" {
			why = "not yours to waive: " + r.Why
		}
		row(w, "[ ]", r.Key, r.Title)
		row(w, "", "", why)
	}
	fmt.Fprintln(w)
	notes.list(w)
	fmt.Fprintln(w)
}

// confirm shows a plan and finds out whether exactly that is meant: by the code that was given, or on the terminal.
func (p *program) confirm(plan wire.WaiverPlan, given string) (string, error) {
	if given != "" {
		return given, nil
	}
	t := newTable(p.err)
	printPlan(t, plan)
	t.flush()
	if !p.interactive {
		fmt.Fprintf(p.err, "Nothing was waived. To waive exactly that, say the same again with --confirm %s\n",
			plan.Confirm)
		return "", &exitError{status: statusNotYet}
	}
	if !p.agreed("Everybody will see it, and somebody else has to acknowledge it afterwards. Waive exactly that?") {
		return "", errors.New("nothing was waived")
	}
	return plan.Confirm, nil
}

func (p *program) waiveLanding() *cobra.Command {
	n := wire.NewWaiver{}
	var length time.Duration
	var strategy string
	c := onChange(p, "land N", "Waive requirements for one landing; the change joins the queue and goes first",
		func(ctx context.Context, h here, number int) (wire.Waiver, error) {
			plan, err := h.PlanWaiver(ctx, h.repo, number, n.Requirements)
			if err != nil {
				return wire.Waiver{}, err
			}
			if n.Confirm, err = p.confirm(plan, n.Confirm); err != nil {
				return wire.Waiver{}, err
			}
			n.ForSeconds = int64(length / time.Second)
			o, err := h.Waive(ctx, h.repo, number, n)
			if err != nil {
				return o, err
			}
			k, err := h.Change(ctx, h.repo, number)
			if err == nil && (k.Entry == nil || k.Entry.Position == 0) {
				_, err = h.Join(ctx, h.repo, number, wire.NewEntry{Strategy: change.Strategy(strategy)})
			}
			if err != nil {
				return o, fmt.Errorf("waiver %d is made, but the change could not join the queue: %w", o.ID, err)
			}
			return o, nil
		}, func(w io.Writer, o wire.Waiver) {
			row(w, fmt.Sprintf("waiver %d: change %d may land on %s until %s although it lacks", o.ID, o.Number, o.Branch,
				o.Until.Local().Format("15:04")))
			for _, r := range o.Waives {
				row(w, "  <o> "+r.Title)
			}
			row(w, "it is in the queue; tavrin change wait "+fmt.Sprint(o.Number))
		})
	f := c.Flags()
	f.StringSliceVar(&n.Requirements, "requirement", nil, "key of a requirement to waive, as tavrin change gate "+
		"-o json names it; may be given several times (default: everything that you may)")
	f.StringVar(&n.Reason, "reason", "", "why it cannot wait; everybody reads it (needed)")
	f.DurationVar(&length, "for", time.Hour, "how long it may be used: from 1m to 24h")
	f.StringVar(&n.Confirm, "confirm", "", "the code that the same command showed; asked for on a terminal")
	f.StringVar(&strategy, "strategy", "", "one of "+strings.Join(texts(change.Strategies), ", ")+" (default: as the rules say)")
	return needs(c, "reason")
}

func (p *program) waivePush() *cobra.Command {
	n := wire.NewPushWaiver{}
	var length time.Duration
	c := inRepo(p, "push BRANCH", "Waive what a branch requires for one push of one commit",
		cobra.ExactArgs(1), func(ctx context.Context, h here, args []string) (wire.Waiver, error) {
			n.Branch = args[0]
			if n.Commit == "" {
				n.Commit = "HEAD"
			}
			if id, err := exec.CommandContext(ctx, "git", "rev-parse", "--verify", "--quiet", "--end-of-options",
				n.Commit+"^{commit}").Output(); err == nil {
				lines := strings.Fields(string(id))
				n.Commit = lines[len(lines)-1]
			}
			plan, err := h.PlanPushWaiver(ctx, h.repo, n.Branch, n.Commit)
			if err != nil {
				return wire.Waiver{}, err
			}
			if n.Confirm, err = p.confirm(plan, n.Confirm); err != nil {
				return wire.Waiver{}, err
			}
			n.ForSeconds = int64(length / time.Second)
			return h.WaivePush(ctx, h.repo, n)
		}, func(w io.Writer, o wire.Waiver) {
			row(w, fmt.Sprintf("waiver %d: until %s, and once, you may run", o.ID, o.Until.Local().Format("15:04")))
			row(w, fmt.Sprintf("  git push origin %s:refs/heads/%s", o.Commit, o.Branch))
		})
	f := c.Flags()
	f.StringVar(&n.Commit, "commit", "", "the commit, which the repository has to have already (default: HEAD)")
	f.StringVar(&n.Reason, "reason", "", "why it cannot wait; everybody reads it (needed)")
	f.DurationVar(&length, "for", time.Hour, "how long it may be used: from 1m to 24h")
	f.StringVar(&n.Confirm, "confirm", "", "the code that the same command showed; asked for on a terminal")
	return needs(c, "reason")
}

func (p *program) listWaivers() *cobra.Command {
	var open bool
	c := inRepo(p, "list", "List what was waived, and what is not acknowledged yet", cobra.NoArgs,
		func(ctx context.Context, h here, _ []string) ([]wire.Waiver, error) {
			return h.Waivers(ctx, h.repo, open)
		}, func(w io.Writer, all []wire.Waiver) {
			row(w, "ID", "BY", "WHEN", "FOR", "ONTO", "STATE", "REASON")
			for _, o := range all {
				what := fmt.Sprintf("change %d", o.Number)
				if o.Number == 0 {
					what = "push of " + short(o.Commit)
				}
				row(w, o.ID, o.By, ago(o.MadeAt), what, o.Branch, waiverState(o), o.Reason)
			}
		})
	c.Flags().BoolVar(&open, "open", false, "only those that may still be used, and those not acknowledged yet")
	return c
}

func waiverState(o wire.Waiver) string {
	switch {
	case o.AcknowledgedBy != "":
		return "used; acknowledged by " + o.AcknowledgedBy + ": " + o.Acknowledgement
	case o.State == "used":
		return "used; not acknowledged yet"
	case o.State == "lapsed":
		return "lapsed: " + o.Why
	}
	return "open until " + o.Until.Local().Format("15:04")
}

func (p *program) acknowledge() *cobra.Command {
	var text string
	c := inRepo(p, "acknowledge ID", "Acknowledge what somebody else's waiver let through", cobra.ExactArgs(1),
		func(ctx context.Context, h here, args []string) (wire.Waiver, error) {
			id, err := number(args[0], "a waiver; see tavrin waiver list")
			if err != nil {
				return wire.Waiver{}, err
			}
			return h.Acknowledge(ctx, h.repo, id, text)
		}, func(w io.Writer, o wire.Waiver) { row(w, fmt.Sprintf("waiver %d: %s", o.ID, waiverState(o))) })
	c.Flags().StringVar(&text, "text", "", "what you found (needed)")
	return needs(c, "text")
}
