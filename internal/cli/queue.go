package cli

import (
	"context"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tavrin/client"
	"tavrin/internal/core/change"
	"tavrin/wire"
)

func (p *program) queue() *cobra.Command {
	var branch string
	var following bool
	show := inRepo(p, "show", "Show the queue of a branch: what is rehearsed, what stands on what, and when each is likely to land", cobra.NoArgs,
		func(ctx context.Context, h here, _ []string) (wire.Queue, error) {
			if following {
				return wire.Queue{}, p.followQueue(ctx, h, branch)
			}
			return h.Queue(ctx, h.repo, branch)
		}, showQueue)
	show.Flags().StringVar(&branch, "branch", "", "target branch (default: the default branch)")
	show.Flags().BoolVar(&following, "follow", false, "show it again whenever something happens, until Ctrl-C")
	return group("queue", "Land changes as soon as they may", p.join(), show, p.previewLanding(),
		p.queueHold("hold", "Have nothing land on a branch until somebody frees its queue; what is ready is rehearsed all the same",
			"the queue of %s is held: tavrin queue free has it go on", (*client.Client).HoldQueue),
		p.queueHold("free", "Have a held queue go on", "the queue of %s goes on", (*client.Client).FreeQueue),
		p.raise(), p.decisions(), p.numbers(), p.forecast(),
		onChange(p, "leave N", "Take a change out of the queue",
			func(ctx context.Context, h here, n int) (wire.Entry, error) {
				return h.Leave(ctx, h.repo, n)
			}, func(w io.Writer, e wire.Entry) {
				row(w, fmt.Sprintf("change %d is out of the queue of %s", e.Number, e.Target))
			}))
}

// showRehearsals shows what stands on what.
func showRehearsals(w io.Writer, q wire.Queue) {
	if len(q.Rehearsals) == 0 {
		return
	}
	fmt.Fprintln(w)
	row(w, "REHEARSAL", "STATE", "SINCE", "WHAT STANDS ON "+strings.ToUpper(q.Branch), "COMMIT", "WHY")
	for _, r := range q.Rehearsals {
		if r.Reruns > 0 {
			r.Why = strings.TrimPrefix(r.Why+fmt.Sprintf("; attempt %d", r.Reruns+1), "; ")
		}
		row(w, r.Number, state(r.State), ago(r.Since), stack(short(r.Base), r.Path), dash(short(r.Commit)), dash(r.Why))
	}
	fmt.Fprintln(w)
	row(w, q.Supposes.Words+".")
}

// stack writes changes in the order in which they stand on a commit.
func stack(base string, path []int) string {
	words := []string{base}
	for _, n := range path {
		words = append(words, strconv.Itoa(n))
	}
	return strings.Join(words, " < ")
}

// raise has a change go ahead of what waits.
func (p *program) raise() *cobra.Command {
	var reason string
	c := onChange(p, "raise N", "Have an urgent change go ahead of what waits in its queue; what is rehearsed already stays ahead",
		func(ctx context.Context, h here, n int) (wire.Entry, error) {
			if reason == "" {
				return wire.Entry{}, misuse("say why: --reason …")
			}
			return h.Raise(ctx, h.repo, n, reason)
		}, func(w io.Writer, e wire.Entry) {
			row(w, fmt.Sprintf("change %d goes ahead of what waits for %s: it is number %d in line", e.Number, e.Target, e.Position))
		})
	c.Flags().StringVar(&reason, "reason", "", "why it cannot wait; everybody sees it")
	return c
}

// decisions says what the planner of a queue decided, and why.
func (p *program) decisions() *cobra.Command {
	var q wire.DecisionQuery
	var since, until string
	c := inRepo(p, "decisions [N]", "Say what the queue decided, and why: about everything, one change, one rehearsal, or one night", cobra.MaximumNArgs(1),
		func(ctx context.Context, h here, args []string) ([]wire.QueueDecision, error) {
			if len(args) > 0 {
				n, err := strconv.Atoi(args[0])
				if err != nil || n < 1 {
					return nil, misuse("%q is not the number of a change", args[0])
				}
				q.Number = n
			}
			for _, x := range []struct {
				option, text string
				at           *time.Time
			}{{"since", since, &q.Since}, {"until", until, &q.Until}} {
				if x.text == "" {
					continue
				}
				at, err := moment(x.option, x.text)
				if err != nil {
					return nil, err
				}
				*x.at = *at
			}
			return h.Decisions(ctx, q, h.repo)
		}, func(w io.Writer, all []wire.QueueDecision) {
			row(w, "AT", "TOLD", "DECIDED", "CHANGE", "REHEARSAL", "WHY")
			for _, d := range all {
				with, number := "-", "-"
				if d.Rehearsal != 0 {
					with = fmt.Sprintf("%d: %s", d.Rehearsal, path(d.Path))
				}
				if d.Number != 0 {
					number = strconv.Itoa(d.Number)
				}
				row(w, d.At.Local().Format("01-02 15:04:05"), d.Told, d.Do, number, with, d.Why)
				if x := d.Weighed; x != nil {
					row(w, "", "", fmt.Sprintf("  %d of %d slots taken", x.Busy, x.Slots), "", "", "it takes "+fmt.Sprintf("%.2f", x.Least)+"; "+weighed(x.Options))
					row(w, "", "", "  thought good", "", "", thoughts(x.Thought))
				}
			}
		})
	f := c.Flags()
	f.StringVar(&q.Branch, "branch", "", "target branch (default: the default branch)")
	f.StringVar(&since, "since", "", "from when on, such as 2026-11-02T08:00")
	f.StringVar(&until, "until", "", "until when")
	f.Int64Var(&q.Rehearsal, "rehearsal", 0, "number of a rehearsal: what was decided about it")
	f.BoolVar(&q.Weighed, "weighed", false, "with what was thought of each change, and what the paths that could have been rehearsed were worth")
	f.IntVar(&q.Limit, "limit", 100, "the newest so many, at most 1000")
	return c
}

// path writes changes in the order in which they stand on one another.
func path(of []int) string { return strings.TrimPrefix(stack("", of), " < ") }

func weighed(all []wire.Option) string {
	words := make([]string, len(all))
	for i, o := range all {
		words[i] = fmt.Sprintf("%s is worth %.2f", path(o.Path), o.Worth)
	}
	return strings.Join(words, ", ")
}

func thoughts(all []wire.Thought) string {
	const most = 12
	words := []string{}
	for _, t := range all[:min(len(all), most)] {
		words = append(words, fmt.Sprintf("%d by %.0f %% (%s)", t.Number, 100*t.Good, t.Why))
	}
	if len(all) > most {
		words = append(words, fmt.Sprintf("and %d more", len(all)-most))
	}
	return strings.Join(words, ", ")
}

// previewLanding shows which commits a landing would bring.
func (p *program) previewLanding() *cobra.Command {
	var strategy, message string
	c := onChange(p, "preview N", "Show the commits that a landing would bring to the target as it is now",
		func(ctx context.Context, h here, n int) (wire.LandingPreview, error) {
			return h.PreviewLanding(ctx, h.repo, n, strategy, message)
		}, func(w io.Writer, v wire.LandingPreview) {
			if v.Obstacle != "" {
				row(w, fmt.Sprintf("by %s nothing would come to %s: %s", v.Strategy, v.Target, v.Obstacle))
				return
			}
			row(w, fmt.Sprintf("by %s, on %s at %s: %s", v.Strategy, v.Target, short(v.Base), counted(len(v.Commits), "commit")))
			fmt.Fprintln(w)
			row(w, "COMMIT", "AUTHOR", "SUBJECT")
			for _, k := range v.Commits {
				id := "new"
				if k.Kept {
					id = short(k.ID)
				}
				if k.Parents > 1 {
					id += ", a merge"
				}
				row(w, id, k.Author, k.Subject)
			}
			if v.Signatures != "" {
				fmt.Fprintf(w, "\n%s\n", v.Signatures)
			}
			if len(v.Commits) > 0 && !v.Commits[0].Kept && v.Strategy.Final() {
				fmt.Fprintf(w, "\nThe final message:\n\n%s\n\n%s\n", v.Commits[0].Subject, strings.TrimSpace(v.Commits[0].Body))
			}
		})
	c.Flags().StringVar(&strategy, "strategy", "", "one of "+strings.Join(texts(change.Strategies), ", ")+" (default: the entry's, or as the rules say)")
	c.Flags().StringVar(&message, "message", "", "message of a final commit (default: the entry's, or from title and description)")
	return c
}

func (p *program) join() *cobra.Command {
	e := wire.NewEntry{}
	var remove bool
	var strategy string
	var c *cobra.Command
	c = onChange(p, "join N", "Land a change as soon as its gate is ready and its rehearsal passes",
		func(ctx context.Context, h here, n int) (wire.Entry, error) {
			if c.Flags().Changed("delete-source") {
				e.DeleteSource = &remove
			}
			e.Strategy = change.Strategy(strategy)
			return h.Join(ctx, h.repo, n, e)
		}, func(w io.Writer, e wire.Entry) {
			row(w, fmt.Sprintf("change %d is in the queue of %s at place %d, by %s; it lands by itself when everything holds",
				e.Number, e.Target, e.Position, e.Strategy))
			row(w, e.Reason)
		})
	f := c.Flags()
	f.StringVar(&strategy, "strategy", "", "one of "+strings.Join(texts(change.Strategies), ", ")+" (default: as the rules say)")
	f.StringVar(&e.Message, "message", "",
		"message of the squash or merge commit (default: from title and description)")
	f.BoolVar(&remove, "delete-source", false, "remove the source branch after landing (default: as the rules say)")
	return c
}

// showQueue shows a queue.
func showQueue(w io.Writer, q wire.Queue) {
	row(w, fmt.Sprintf("%s is at %s. %s", q.Branch, short(q.Tip), q.Caption))
	for _, r := range q.Red {
		row(w, fmt.Sprintf("RED  %s %s on the tip %s since %s: %s  %s", r.Check, r.State, short(r.Commit), ago(r.Since), dash(r.Summary), r.Link))
	}
	for _, c := range q.Silent {
		who := "Nobody answers for"
		if c.Runner {
			who = "No runner takes"
		}
		row(w, fmt.Sprintf("%s check %s on %s (%s, attempt %d), asked for %s.", who, c.Name, short(c.Commit), c.For,
			c.Attempt, ago(c.Since)))
	}
	for _, x := range q.Stops {
		row(w, x.Words+": "+x.Next)
	}
	if len(q.Entries)+len(q.Recent) == 0 {
		return
	}
	showRehearsals(w, q)
	if kept := keptWords(q.Kept); kept != "" {
		row(w, kept)
	}
	fmt.Fprintln(w)
	row(w, "PLACE", "CHANGE", "STATE", "LIKELY", "BY", "TITLE", "REASON")
	for _, e := range append(q.Entries, q.Recent...) {
		place := "-"
		if e.Position > 0 {
			place = strconv.Itoa(e.Position)
		}
		for _, x := range q.Stops { // said above, once
			e.Reason = strings.ReplaceAll(e.Reason, x.Words+": "+x.Next, x.Words)
		}
		row(w, place, e.Number, state(e.State), likely(e.Likely), e.Strategy, e.Title, e.Reason)
	}
}

// likely says from now on until when a change is likely to land: half of those like it, and nine of ten.
func likely(l *wire.Likely) string {
	if l == nil || l.Half == nil || l.Most == nil {
		return "-"
	}
	half, most := ahead(*l.Half), ahead(*l.Most)
	if half == most {
		return half
	}
	return half + " to " + most
}

// ahead is a time that is to come, seen from now.
func ahead(t time.Time) string {
	switch d := time.Until(t); {
	case d < 5*time.Second:
		return "now"
	case d < time.Minute:
		return fmt.Sprintf("%.0f s", d.Seconds())
	case d < 2*time.Hour:
		return fmt.Sprintf("%.0f min", d.Minutes())
	case d < 48*time.Hour:
		return fmt.Sprintf("%.0f h", d.Hours())
	default:
		return fmt.Sprintf("%.0f d", d.Hours()/24)
	}
}

// keptWords say how what was said about landings came out.
func keptWords(k wire.Kept) string {
	if k.Of < 10 { // too few to say how many of a hundred
		return ""
	}
	return fmt.Sprintf("Of the last %d that landed, %d %% did within the time that was said for half of them, and %d %% within that for nine of ten.",
		k.Of, 100*k.Half/k.Of, 100*k.Most/k.Of)
}

// followQueue shows a queue again and again, until nobody looks any more.
func (p *program) followQueue(ctx context.Context, h here, branch string) error {
	last, err := newestEvent(ctx, h)
	if err != nil {
		return err
	}
	again := func() error {
		q, err := h.Queue(ctx, h.repo, branch)
		if err != nil {
			return err
		}
		if p.format == "table" && toTerminal(p.out) {
			fmt.Fprint(p.out, "\x1b[H\x1b[2J") // ECMA-48: to the beginning, and erase all
		}
		return p.print(q, func(w io.Writer) {
			showQueue(w, q)
			fmt.Fprintln(w)
		})
	}
	for err = again(); err == nil && ctx.Err() == nil; {
		streamed := h.Events(ctx, h.repo, last, func(e client.Event) bool {
			last = e.ID
			err = again()
			return err == nil
		})
		if err == nil && streamed != nil && ctx.Err() == nil {
			err = streamed
		}
	}
	if ctx.Err() != nil {
		return &exitError{status: 0} // Ctrl-C is how it ends
	}
	return err
}

// numbers says how a queue has done.
func (p *program) numbers() *cobra.Command {
	var q wire.NumbersQuery
	c := inRepo(p, "numbers", "Say how the queue has done: times by stage, ejections, reruns and flakes, minutes of checks", cobra.NoArgs,
		func(ctx context.Context, h here, _ []string) (wire.QueueNumbers, error) {
			return h.QueueNumbers(ctx, q, h.repo)
		}, func(w io.Writer, n wire.QueueNumbers) {
			row(w, fmt.Sprintf("%s from %s to %s: %d landed, %d ejected, %d withdrawn.", n.Branch, n.Since.Local().Format("2006-01-02"), n.Until.Local().Format("2006-01-02"), n.Landed, n.Ejected, n.Withdrawn))
			if n.Landed+n.Ejected+n.Withdrawn == 0 {
				row(w, "Nothing has left the queue in that time.")
				return
			}
			row(w, fmt.Sprintf("Checks of rehearsals ran for %s, %s for each that landed; %d were called off.", took(60*n.CheckMinutes), took(60*n.MinutesEach), n.Cancelled))
			if kept := keptWords(n.Kept); kept != "" {
				row(w, kept)
			}
			fmt.Fprintln(w)
			row(w, "STAGE", "HALF WITHIN", "NINE OF TEN WITHIN", "WHAT IT IS")
			for _, s := range n.Stages {
				row(w, s.Stage, took(s.Half), took(s.Most), s.Means)
			}
			if len(n.Ejections) > 0 {
				fmt.Fprintln(w)
				row(w, "EJECTED FOR", "CHANGES")
			}
			for _, e := range n.Ejections {
				row(w, e.Cause, e.Count)
			}
			if len(n.Checks) > 0 {
				fmt.Fprintln(w)
				row(w, "CHECK", "RUNS", "MINUTES", "FAILED", "RUN AGAIN", "FLAKES", "CALLED OFF", "TAKEN FROM THE SAME TREE")
			}
			for _, k := range n.Checks {
				row(w, k.Name, k.Runs, fmt.Sprintf("%.1f", k.Minutes), k.Failed, k.Reruns, k.Flakes, k.Cancelled, k.Reused)
			}
			fmt.Fprintln(w)
			row(w, "FROM", "LANDED", "EJECTED", "HALF WITHIN", "NINE OF TEN WITHIN", "CHECK MINUTES")
			for _, t := range n.Times {
				row(w, t.From.Format("2006-01-02 15:04 MST"), t.Landed, t.Ejected, took(t.Half), took(t.Most), fmt.Sprintf("%.1f", t.CheckMinutes))
			}
		})
	c.Flags().StringVar(&q.Branch, "branch", "", "target branch (default: the default branch)")
	c.Flags().IntVar(&q.Days, "days", 14, "how many of the last days are counted, from 1 to 366")
	return c
}

// took writes seconds as people say them.
func took(seconds float64) string {
	switch {
	case seconds < 120:
		return fmt.Sprintf("%.0f s", seconds)
	case seconds < 120*60:
		return fmt.Sprintf("%.0f min", seconds/60)
	}
	return fmt.Sprintf("%.1f h", seconds/3600)
}
