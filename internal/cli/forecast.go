package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tavrin/wire"
)

// forecast says how a queue would do otherwise.
func (p *program) forecast() *cobra.Command {
	n, work, freeze := wire.NewForecast{}, wire.NewWork{}, wire.NewFreeze{}
	var reruns int
	var begins, ends, calendar string
	var c *cobra.Command
	c = inRepo(p, "forecast", "Say how the queue would have done with other settings, more changes, or freezes", cobra.NoArgs,
		func(ctx context.Context, h here, _ []string) (wire.Forecast, error) {
			changed := c.Flags().Changed
			if changed("reruns") {
				n.Settings.Reruns = &reruns
			}
			if changed("per-hour") || changed("check-minutes") {
				n.Work = &work
			}
			for _, x := range []struct {
				option, text string
				at           **time.Time
			}{{"freeze-from", begins, &freeze.Begins}, {"freeze-until", ends, &freeze.Ends}} {
				if x.text == "" {
					continue
				}
				at, err := moment(x.option, x.text)
				if err != nil {
					return wire.Forecast{}, err
				}
				*x.at = at
			}
			if calendar != "" {
				text, err := os.ReadFile(calendar)
				if err != nil {
					return wire.Forecast{}, err
				}
				freeze.Calendar = string(text)
			}
			if freeze.Begins != nil || freeze.Ends != nil || calendar != "" {
				n.Freeze = &freeze
			}
			return p.foresee(ctx, h, n)
		}, showForecast)
	f := c.Flags()
	f.StringVar(&n.Branch, "branch", "", "target branch (default: the default branch)")
	f.IntVar(&n.Days, "days", 14, "how many of the last days are gone through again, from 1 to 90")
	f.IntVar(&n.Settings.Slots, "slots", 0, "with so many slots")
	f.IntVar(&reruns, "reruns", 0, "with so many reruns of what is red")
	f.StringVar(&n.Settings.Tests, "tests", "", "tested strict, or by_area")
	f.StringVar(&n.Settings.Planner, "planner", "", "by the planner adaptive, or one-at-a-time")
	f.Float64Var(&n.Arrivals, "arrivals", 0, "with so many times as many changes, such as 2 or 0.5")
	f.StringVar(&begins, "freeze-from", "", "with a freeze from then on, such as 2026-11-06T16:00; moved back by whole weeks")
	f.StringVar(&ends, "freeze-until", "", "until then")
	f.StringVar(&calendar, "freeze-calendar", "", "with the freezes of an iCalendar file")
	f.StringVar(&freeze.Zone, "zone", "", "where the calendar's times are meant that name no time zone")
	f.Float64Var(&work.PerHour, "per-hour", 0, "not from history, but with so many changes an hour")
	f.Float64Var(&work.Minutes, "check-minutes", 0, "whose checks take so many minutes")
	f.Float64Var(&work.Red, "red", 10, "of which so many of 100 are red")
	f.Float64Var(&work.Flaky, "flaky", 0, "so many of 100 runs by nobody's fault")
	f.Float64Var(&work.Conflicting, "conflicting", 0, "so many of 100 pairs that touch the same do not go together")
	f.IntVar(&work.Areas, "areas", 1, "which touch so many areas")
	return c
}

// foresee has a forecast worked out, and shows how far it is. Whoever does not wait for it has it given up.
func (p *program) foresee(ctx context.Context, h here, n wire.NewForecast) (wire.Forecast, error) {
	f, err := h.StartForecast(ctx, h.repo, n)
	for err == nil && f.State == "running" {
		if toTerminal(p.err) {
			fmt.Fprintf(p.err, "\r%s %3.0f %%", bar(f.Done, 40), 100*f.Done)
		}
		select {
		case <-ctx.Done():
			giving, end := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
			defer end()
			_, _ = h.StopForecast(giving, f.ID) // if it is not heard, the service forgets it by itself
			return f, ctx.Err()
		case <-time.After(150 * time.Millisecond):
		}
		f, err = h.GetForecast(ctx, f.ID)
	}
	if toTerminal(p.err) {
		fmt.Fprint(p.err, "\r", strings.Repeat(" ", 50), "\r")
	}
	if err == nil && f.State != "ready" {
		err = fmt.Errorf("the forecast is %s", f.State)
	}
	return f, err
}

// progress shows on a terminal how far a task is.
func (p *program) progress() func(wire.Task) {
	if !toTerminal(p.err) {
		return nil
	}
	return func(t wire.Task) {
		fmt.Fprintf(p.err, "\r%s %3.0f %%  %-50s\r", bar(t.Done, 30), 100*t.Done, t.Words)
	}
}

// bar draws a share of a width.
func bar(share float64, width int) string {
	n := min(max(0, int(share*float64(width)+.5)), width)
	return strings.Repeat("█", n) + strings.Repeat("░", width-n)
}

// showForecast shows the columns of a forecast beside one another, and how long changes take in each.
func showForecast(w io.Writer, f wire.Forecast) {
	row(w, fmt.Sprintf("How the queue of %s would have done, from %s.", f.Branch, f.Of))
	for _, c := range f.Columns {
		if c.Words != "" {
			row(w, fmt.Sprintf("With %s %s.", c.Name, c.Words))
		}
	}
	fmt.Fprintln(w)
	type way struct {
		name string
		of   wire.ForecastFigures
	}
	var ways []way
	if f.AsItWas != nil {
		ways = append(ways, way{"in truth", *f.AsItWas})
	}
	for _, c := range f.Columns {
		ways = append(ways, way{c.Name, c.Figures})
	}
	for _, c := range f.Columns {
		ways = append(ways, way{"an oracle, " + c.Name, c.Oracle})
	}
	row(w, "", "HALF", "NINE OF TEN", "19 OF 20", "LANDED", "EJECTED", "INNOCENT", "CHECK MIN EACH")
	longest := 0.0
	for _, x := range ways {
		if x.of.Overrun {
			row(w, x.name, fmt.Sprintf("does not keep up: day %d", x.of.OverrunDay))
			continue
		}
		longest = max(longest, x.of.Late)
		row(w, x.name, took(60*x.of.Half), took(60*x.of.Most), took(60*x.of.Late), fmt.Sprintf("%.0f", x.of.Landed), fmt.Sprintf("%.0f", x.of.Ejected),
			fmt.Sprintf("%.1f", x.of.Wrongly), fmt.Sprintf("%.1f", x.of.MinutesEach))
	}
	const width = 60
	fmt.Fprintln(w)
	row(w, "From ready to landed: █ half, ▓ nine of ten, ░ nineteen of twenty; the line is "+took(60*longest)+".")
	for _, x := range ways {
		if longest == 0 || x.of.Overrun {
			continue
		}
		at := func(minutes float64) int { return int(minutes/longest*width + .5) }
		row(w, x.name, strings.Repeat("█", at(x.of.Half))+strings.Repeat("▓", max(0, at(x.of.Most)-at(x.of.Half)))+strings.Repeat("░", max(0, at(x.of.Late)-at(x.of.Most))))
	}
}
