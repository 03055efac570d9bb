package cli

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"tavrin/client"
	"tavrin/wire"
)

// freeze plans times at which nothing lands.
func (p *program) freeze() *cobra.Command {
	return group("freeze", "Plan times at which nothing lands", p.freezePlan(), p.freezeImport(), p.freezeList(),
		p.freezeStop("end ID", "End a freeze that is in force, this time", "freeze %d is over: changes land again", (*client.Client).EndFreeze),
		p.freezeStop("delete ID", "Have a freeze come no more", "freeze %d comes no more", (*client.Client).DeleteFreeze))
}

// ofPlace is whose freezes a command is about: a repository's, or a house's.
type ofPlace struct {
	p     *program
	house string
}

func (o *ofPlace) options(c *cobra.Command) *cobra.Command {
	c.Flags().StringVar(&o.house, "house", "", "of all repositories of this house")
	return o.p.aboutRepo(c)
}

func (o *ofPlace) place(ctx context.Context, c *client.Client) (string, error) {
	if o.house != "" {
		return o.house, nil
	}
	h, err := o.p.here(ctx, c)
	return h.repo, err
}

// moments are the forms in which a time may be typed; those without a zone are meant where the client runs.
var moments = []string{time.RFC3339, "2006-01-02 15:04", "2006-01-02T15:04", time.DateOnly}

func moment(option, text string) (*time.Time, error) {
	for _, form := range moments {
		if at, err := time.ParseInLocation(form, text, time.Local); err == nil {
			return &at, nil
		}
	}
	return nil, misuse("--%s is a time such as \"2026-12-24 16:00\" or 2026-12-24T16:00:00+01:00, not %q", option, text)
}

func (p *program) freezePlan() *cobra.Command {
	of, n := &ofPlace{p: p}, wire.NewFreeze{}
	var from, until string
	var try bool
	c := answer(p, "plan NAME", "Plan one time at which nothing lands", cobra.ExactArgs(1),
		func(ctx context.Context, c *client.Client, args []string) (all []wire.Freeze, err error) {
			n.Name = args[0]
			if n.Of, err = of.place(ctx, c); err != nil {
				return nil, err
			}
			if n.Begins, err = moment("from", from); err != nil {
				return nil, err
			}
			if n.Ends, err = moment("until", until); err != nil {
				return nil, err
			}
			return p.planFreeze(ctx, c, n, try)
		}, printFreezes)
	f := c.Flags()
	tries(f, &try)
	f.StringVar(&from, "from", "", "when it begins, such as \"2026-12-24 16:00\" (needed)")
	f.StringVar(&until, "until", "", "when it ends (needed)")
	f.StringSliceVar(&n.Branches, "branch", nil, "glob; branches on which nothing lands; may be given several times (default: the default branch)")
	f.StringVar(&n.Reason, "reason", "", "why (needed)")
	return of.options(needs(c, "from", "until", "reason"))
}

func tries(f *pflag.FlagSet, try *bool) {
	f.BoolVar(try, "try", false, "plan nothing, and say what it would have changed in the last four weeks, moved back by whole weeks")
}

// planFreeze plans freezes; or, to try them, says what they would have changed.
func (p *program) planFreeze(ctx context.Context, c *client.Client, n wire.NewFreeze, try bool) ([]wire.Freeze, error) {
	if !try {
		return c.PlanFreeze(ctx, n)
	}
	if !strings.Contains(n.Of, "/") {
		return nil, misuse("what freezes would have changed is said of one repository: --repo %s/NAME", n.Of)
	}
	asked := wire.NewForecast{Days: 28, Freeze: &n}
	if len(n.Branches) == 1 && !strings.ContainsAny(n.Branches[0], "*?[{") {
		asked.Branch = n.Branches[0]
	}
	f, err := p.foresee(ctx, here{c, n.Of}, asked)
	if err == nil {
		err = p.print(f, func(w io.Writer) { showForecast(w, f) })
	}
	if err == nil {
		err = &exitError{status: 0} // nothing was planned
	}
	return nil, err
}

func (p *program) freezeImport() *cobra.Command {
	of, n := &ofPlace{p: p}, wire.NewFreeze{}
	var try bool
	c := answer(p, "import FILE", "Plan a freeze for each event of an iCalendar file, with its recurrence and time zones", cobra.ExactArgs(1),
		func(ctx context.Context, c *client.Client, args []string) (all []wire.Freeze, err error) {
			if n.Calendar, err = p.readFile(args[0]); err != nil {
				return nil, err
			}
			if n.Of, err = of.place(ctx, c); err != nil {
				return nil, err
			}
			return p.planFreeze(ctx, c, n, try)
		}, printFreezes)
	f := c.Flags()
	tries(f, &try)
	f.StringSliceVar(&n.Branches, "branch", nil, "glob; branches on which nothing lands; may be given several times (default: the default branch)")
	f.StringVar(&n.Zone, "zone", "", "where times are meant that name no time zone, such as Europe/Berlin (default: UTC)")
	f.StringVar(&n.Name, "name", "", "name of the freezes (default: as the calendar calls them)")
	f.StringVar(&n.Reason, "reason", "", "why (needed)")
	return of.options(needs(c, "reason"))
}

func (p *program) freezeList() *cobra.Command {
	of := &ofPlace{p: p}
	all := false
	c := answer(p, "list", "List the times at which nothing lands; calendar programs can subscribe to them", cobra.NoArgs,
		func(ctx context.Context, c *client.Client, _ []string) ([]wire.Freeze, error) {
			place, err := of.place(ctx, c)
			if err != nil {
				return nil, err
			}
			return c.Freezes(ctx, place, all)
		}, printFreezes)
	c.Flags().BoolVar(&all, "all", false, "those that are over, too")
	return of.options(c)
}

func printFreezes(w io.Writer, all []wire.Freeze) {
	row(w, "FREEZE", "OF", "NAME", "BRANCHES", "WHEN", "REASON")
	for _, f := range all {
		var when []string
		for n, t := range f.Times {
			if n == 2 && (f.Further > 0 || len(f.Times) > 3) {
				f.Further += len(f.Times) - n
				break
			}
			text := span(t.Begins.Local(), t.Ends.Local())
			if t.Now {
				text = "now, " + text
			}
			when = append(when, text)
		}
		if f.Further > 0 {
			when = append(when, fmt.Sprintf("and %d more", f.Further))
		}
		row(w, f.ID, f.Of, f.Name, list(f.Branches), cmp.Or(strings.Join(when, "; "), "no more"), fmt.Sprintf("%s (%s)", f.Reason, f.MadeBy))
	}
}

// span writes a time that begins and ends.
func span(begins, ends time.Time) string {
	const form = "Mon 2006-01-02 15:04"
	if begins.Format(time.DateOnly) == ends.Format(time.DateOnly) {
		return begins.Format(form) + " to " + ends.Format("15:04")
	}
	return begins.Format(form) + " to " + ends.Format(form)
}

func (p *program) freezeStop(use, short, done string, call func(*client.Client, context.Context, int64, string) (wire.Done, error)) *cobra.Command {
	reason := ""
	var id int64
	c := answer(p, use, short, cobra.ExactArgs(1), func(ctx context.Context, c *client.Client, args []string) (d wire.Done, err error) {
		if id, err = number(args[0], "a freeze; see tavrin freeze list"); err != nil {
			return d, err
		}
		return call(c, ctx, id, reason)
	}, func(w io.Writer, _ wire.Done) { row(w, fmt.Sprintf(done, id)) })
	c.Flags().StringVar(&reason, "reason", "", "why (needed)")
	return needs(c, "reason")
}

// queueHold holds a queue, or frees it.
func (p *program) queueHold(use, short, done string, call func(c *client.Client, ctx context.Context, repo, branch, reason string) (wire.Done, error)) *cobra.Command {
	var branch, reason string
	c := inRepo(p, use, short, cobra.NoArgs, func(ctx context.Context, h here, _ []string) (wire.Done, error) {
		return call(h.Client, ctx, h.repo, branch, reason)
	}, func(w io.Writer, _ wire.Done) { row(w, fmt.Sprintf(done, cmp.Or(branch, "the default branch"))) })
	c.Flags().StringVar(&branch, "branch", "", "target branch (default: the default branch)")
	c.Flags().StringVar(&reason, "reason", "", "why (needed)")
	return needs(c, "reason")
}
