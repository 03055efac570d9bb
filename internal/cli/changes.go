package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/spf13/cobra"

	"tavrin/client"
	"tavrin/wire"
)

// numbered makes a command about one change of the repository at hand.
func (p *program) numbered(use, short string, f func(ctx context.Context, c *client.Client, repo string, n int) error) *cobra.Command {
	return &cobra.Command{Use: use, Short: short, Args: cobra.ExactArgs(1), RunE: func(cmd *cobra.Command, args []string) error {
		return p.withChange(cmd.Context(), args[0], f)
	}}
}

func (p *program) withChange(ctx context.Context, arg string, f func(ctx context.Context, c *client.Client, repo string, n int) error) error {
	n, err := strconv.Atoi(arg)
	if err != nil || n < 1 {
		return misuse("%q is not the number of a change; see tavrin change list", arg)
	}
	c, repo, err := p.here()
	if err != nil {
		return err
	}
	return f(ctx, c, repo, n)
}

func (p *program) change() *cobra.Command {
	c := &cobra.Command{Use: "change", Short: "Open changes, see what they still need, wait for them"}
	c.AddCommand(p.openChange(), p.listChanges(), p.editChange(), p.gate(), p.waitFor(), p.diff(),
		p.numbered("show N", "Describe a change and what it still needs", p.showChange),
		p.numbered("close N", "Give a change up", func(ctx context.Context, c *client.Client, repo string, n int) error {
			k, err := c.CloseChange(ctx, repo, n)
			if err != nil {
				return err
			}
			return p.print(k, func(w io.Writer) { row(w, fmt.Sprintf("change %d is closed", n)) })
		}),
		p.numbered("reopen N", "Take a closed change up again", func(ctx context.Context, c *client.Client, repo string, n int) error {
			k, err := c.ReopenChange(ctx, repo, n)
			if err != nil {
				return err
			}
			return p.print(k, func(w io.Writer) { row(w, fmt.Sprintf("change %d is open again, at revision %d", n, k.Revision)) })
		}),
		p.numbered("landing N", "Show how a change landed, with the signed evidence", func(ctx context.Context, c *client.Client, repo string, n int) error {
			l, err := c.Landing(ctx, repo, n)
			if err != nil {
				return err
			}
			return p.print(l, func(w io.Writer) {
				row(w, "change", l.Number)
				row(w, "target", l.Target)
				row(w, "moved", short(l.Old)+" to "+l.New)
				row(w, "by", fmt.Sprintf("%s, asked by %s, %s", l.Strategy, l.LandedBy, ago(l.LandedAt)))
				row(w, "judged under", fmt.Sprintf("rules version %d", l.RulesVersion))
				printRequirements(w, l.Report)
			})
		}),
	)
	return c
}

func (p *program) openChange() *cobra.Command {
	n := client.NewChange{}
	c := &cobra.Command{Use: "open", Short: "Propose to bring a branch into another", Args: cobra.NoArgs, RunE: func(cmd *cobra.Command, _ []string) error {
		c, repo, err := p.here()
		if err != nil {
			return err
		}
		k, err := c.OpenChange(cmd.Context(), repo, n)
		if err != nil {
			return err
		}
		return p.print(k, func(w io.Writer) {
			row(w, fmt.Sprintf("opened change %d, %q, from %s to %s", k.Number, k.Title, k.Source, k.Target))
			row(w, k.Summary)
		})
	}}
	f := c.Flags()
	f.StringVar(&n.Source, "source", "", "branch that brings the commits (needed)")
	f.StringVar(&n.Target, "target", "", "branch to bring them to (default: the default branch)")
	f.StringVar(&n.Title, "title", "", "what it does, in a line (needed)")
	f.StringVar(&n.Description, "description", "", "why, and what a reviewer should know")
	f.BoolVar(&n.Draft, "draft", false, "not finished yet")
	for _, needed := range []string{"source", "title"} {
		if err := c.MarkFlagRequired(needed); err != nil {
			panic(err)
		}
	}
	return c
}

func (p *program) editChange() *cobra.Command {
	var title, description string
	var draft bool
	c := p.numbered("edit N", "Alter title, description or draft state", nil)
	c.RunE = func(cmd *cobra.Command, args []string) error {
		return p.withChange(cmd.Context(), args[0], func(ctx context.Context, c *client.Client, repo string, n int) error {
			e := client.ChangeEdit{}
			if cmd.Flags().Changed("title") {
				e.Title = &title
			}
			if cmd.Flags().Changed("description") {
				e.Description = &description
			}
			if cmd.Flags().Changed("draft") {
				e.Draft = &draft
			}
			if e == (client.ChangeEdit{}) {
				return misuse("say what to alter: --title, --description or --draft")
			}
			k, err := c.EditChange(ctx, repo, n, e)
			if err != nil {
				return err
			}
			return p.print(k, func(w io.Writer) { row(w, fmt.Sprintf("change %d, %q, is %s", n, k.Title, k.State)) })
		})
	}
	c.Flags().StringVar(&title, "title", "", "new title")
	c.Flags().StringVar(&description, "description", "", "new description")
	c.Flags().BoolVar(&draft, "draft", false, "whether it is a draft")
	return c
}

func (p *program) listChanges() *cobra.Command {
	var state string
	var limit int
	c := &cobra.Command{Use: "list", Short: "List changes", Args: cobra.NoArgs, RunE: func(cmd *cobra.Command, _ []string) error {
		c, repo, err := p.here()
		if err != nil {
			return err
		}
		changes, err := c.Changes(cmd.Context(), repo, state, limit)
		if err != nil {
			return err
		}
		return p.print(changes, func(w io.Writer) {
			row(w, "N", "STATE", "READY", "QUEUE", "FROM", "TO", "TITLE")
			for _, k := range changes {
				queue := "-"
				if k.Entry != nil {
					queue = k.Entry.State
				}
				row(w, k.Number, k.State, yesNo(k.Ready), queue, k.Source, k.Target, k.Title)
			}
		})
	}}
	c.Flags().StringVar(&state, "state", "", "draft, open, landed, closed or all (default: draft and open)")
	c.Flags().IntVar(&limit, "limit", 50, "how many")
	return c
}

func (p *program) showChange(ctx context.Context, c *client.Client, repo string, n int) error {
	k, err := c.Change(ctx, repo, n)
	if err != nil {
		return err
	}
	report, err := c.Gate(ctx, repo, n)
	if err != nil {
		return err
	}
	return p.print(k, func(w io.Writer) {
		row(w, fmt.Sprintf("change %d", k.Number), k.Title)
		row(w, "state", k.State)
		row(w, "from", k.Source+" to "+k.Target)
		row(w, "revision", fmt.Sprintf("%d, %s; %s, +%d -%d lines", k.Revision, k.Head, files(k.Files), k.Added, k.Removed))
		row(w, "authors", list(k.Authors))
		if k.Entry != nil {
			row(w, "queue", fmt.Sprintf("%s, by %s: %s", k.Entry.State, k.Entry.Strategy, k.Entry.Reason))
		}
		row(w, "gate", k.Summary)
		printRequirements(w, report)
	})
}

// marks show a requirement's state by shape, so that it can be read without colour.
var marks = map[string]string{"met": "[x]", "unmet": "[ ]", "pending": "[~]", "not-applicable": "[-]"}

// printRequirements lines up what is had, needed and asked; the next step stands below each that does not hold.
func printRequirements(w io.Writer, r wire.Report) {
	width := 0
	titles := make([]string, len(r.Requirements))
	for i, q := range r.Requirements {
		titles[i] = plain(q.Title)
		if q.Level == "advisory" {
			titles[i] += " (advisory)"
		}
		width = max(width, utf8.RuneCountInString(titles[i]))
	}
	fmt.Fprintln(w)
	for i, q := range r.Requirements {
		fmt.Fprintf(w, "%s %-14s %d of %d  %-*s  %s\n", marks[string(q.State)], q.State, q.Have, q.Need, width, titles[i], plain(q.Because))
		if q.Next != "" && q.State != "met" {
			fmt.Fprintf(w, "                           %s\n", plain(q.Next))
		}
	}
}

func (p *program) gate() *cobra.Command {
	return p.numbered("gate N", "Say what still stands between a change and its target; exit 0 ready, 3 not ready", func(ctx context.Context, c *client.Client, repo string, n int) error {
		r, err := c.Gate(ctx, repo, n)
		if err != nil {
			return err
		}
		err = p.print(r, func(w io.Writer) { row(w, r.Summary); printRequirements(w, r) })
		if err == nil && !r.Ready {
			return &exitError{status: statusNotYet}
		}
		return err
	})
}

func (p *program) diff() *cobra.Command {
	var revision int
	var stat bool
	c := p.numbered("diff N", "Show what a change brings", func(ctx context.Context, c *client.Client, repo string, n int) error {
		d, err := c.Diff(ctx, repo, n, revision)
		if err != nil {
			return err
		}
		return p.print(d, func(w io.Writer) {
			if !stat {
				fmt.Fprint(p.out, block(d.Patch))
				if d.Partial {
					fmt.Fprintln(p.err, "tavrin: the difference is longer than what is shown; fetch the branch to see all of it")
				}
				return
			}
			for _, f := range d.Files {
				row(w, f.Status, f.Path, fmt.Sprintf("+%d -%d", f.Added, f.Removed))
			}
		})
	})
	c.Flags().IntVar(&revision, "revision", 0, "an earlier revision")
	c.Flags().BoolVar(&stat, "stat", false, "only the files and counts")
	return c
}

func (p *program) waitFor() *cobra.Command {
	var until string
	var timeout time.Duration
	c := p.numbered("wait N", "Wait for a change; exit 0 reached, 3 not in time, 4 never", nil)
	c.RunE = func(cmd *cobra.Command, args []string) error {
		if until != "ready" && until != "landed" {
			return misuse("--until is ready or landed, not %q", until)
		}
		return p.withChange(cmd.Context(), args[0], func(ctx context.Context, c *client.Client, repo string, n int) error {
			return p.wait(ctx, c, repo, n, until, timeout)
		})
	}
	c.Flags().StringVar(&until, "until", "landed", "what to wait for: ready or landed")
	c.Flags().DurationVar(&timeout, "timeout", time.Minute, "how long to wait at most")
	return c
}

// wait follows the event stream, and looks at the change whenever something happened to it.
func (p *program) wait(ctx context.Context, c *client.Client, repo string, n int, until string, timeout time.Duration) error {
	ctx, cancel := context.WithTimeout(ctx, timeout)
	defer cancel()
	last, err := newestEvent(ctx, c, repo)
	if err != nil {
		return err
	}
	for {
		k, over, err := p.reached(ctx, c, repo, n, until)
		if over || (err != nil && ctx.Err() == nil) {
			return err
		}
		if ctx.Err() == nil {
			var answer error
			streamed := c.Events(ctx, repo, last, func(e client.Event) bool {
				last = e.ID
				k, over, answer = p.reached(ctx, c, repo, n, until)
				return !over && answer == nil
			})
			if over {
				return answer
			}
			if err := errors.Join(answer, streamed); err != nil && ctx.Err() == nil {
				return err
			}
		}
		if ctx.Err() != nil {
			if context.Cause(ctx) != context.DeadlineExceeded {
				return ctx.Err()
			}
			return &exitError{statusNotYet, fmt.Errorf("not %s within %s: %s", until, timeout, notYet(k, n))}
		}
		time.Sleep(200 * time.Millisecond) // the stream ended: begin another
	}
}

// newestEvent returns the id of the newest event, from which to follow, so that nothing that happens between the
// first look and the stream is missed.
func newestEvent(ctx context.Context, c *client.Client, repo string) (string, error) {
	lines, err := c.Journal(ctx, repo, 1)
	if err != nil || len(lines) == 0 {
		return "", err
	}
	return strconv.FormatInt(lines[0].Seq, 10), nil
}

func notYet(k wire.Change, n int) string {
	switch {
	case k.Number == 0:
		return fmt.Sprintf("change %d could not be looked at", n)
	case k.Entry != nil:
		return fmt.Sprintf("in the queue as %s: %s", k.Entry.State, k.Entry.Reason)
	}
	return k.Summary
}

// reached looks whether the wait is over: with a nil error because what was waited for is here, with an error
// because it can come no more.
func (p *program) reached(ctx context.Context, c *client.Client, repo string, n int, until string) (wire.Change, bool, error) {
	k, err := c.Change(ctx, repo, n)
	if err != nil {
		return k, false, err
	}
	never := func(why string) (wire.Change, bool, error) {
		return k, true, &exitError{statusNever, fmt.Errorf("change %d will not be %s: %s", n, until, why)}
	}
	switch {
	case k.State == "landed" && until == "landed":
		return k, true, p.print(k, func(w io.Writer) { row(w, fmt.Sprintf("change %d landed on %s as %s", n, k.Target, k.LandedCommit)) })
	case k.State == "landed":
		return never("it has landed already")
	case k.State == "closed":
		return never("it is closed")
	case until == "ready" && k.Ready:
		return k, true, p.print(k, func(w io.Writer) { row(w, k.Summary) })
	case until == "landed" && k.Entry != nil && (k.Entry.State == "ejected" || k.Entry.State == "withdrawn"):
		return never(k.Entry.State + ": " + k.Entry.Reason)
	}
	return k, false, nil
}

func (p *program) review() *cobra.Command {
	c := &cobra.Command{Use: "review", Short: "Approve, object, comment, withdraw"}
	c.AddCommand(p.verdict("approve", "Approve a revision", false), p.verdict("object", "Object to a revision; it blocks until withdrawn", true), p.comment(),
		p.numbered("withdraw N", "Take back your approval or objection", func(ctx context.Context, c *client.Client, repo string, n int) error {
			r, err := c.Withdraw(ctx, repo, n)
			if err != nil {
				return err
			}
			noun := map[string]string{"approve": "approval", "object": "objection"}[r.Verdict]
			return p.print(r, func(w io.Writer) { row(w, fmt.Sprintf("your %s of change %d is withdrawn", noun, n)) })
		}),
		p.numbered("list N", "List what reviewers said", func(ctx context.Context, c *client.Client, repo string, n int) error {
			reviews, err := c.Reviews(ctx, repo, n)
			if err != nil {
				return err
			}
			return p.print(reviews, func(w io.Writer) {
				row(w, "BY", "VERDICT", "REVISION", "STANDS", "WHEN", "TEXT")
				for _, r := range reviews {
					stands := "-"
					if r.Verdict != "comment" {
						stands = yesNo(r.Standing)
					}
					row(w, r.By, r.Verdict, r.Revision, stands, ago(r.CreatedAt), r.Text)
				}
			})
		}))
	return c
}

func (p *program) verdict(verdict, short string, needsWhy bool) *cobra.Command {
	var revision int
	var because string
	c := p.numbered(verdict+" N", short, func(ctx context.Context, c *client.Client, repo string, n int) error {
		if needsWhy && because == "" {
			return misuse("say why: --because TEXT")
		}
		if revision == 0 {
			var err error
			if revision, err = p.askRevision(ctx, c, repo, n, verdict); err != nil {
				return err
			}
		}
		r, err := c.Review(ctx, repo, n, verdict, revision, because)
		if err != nil {
			return err
		}
		return p.print(r, func(w io.Writer) {
			row(w, fmt.Sprintf("%s: %s of revision %d of change %d is on record", r.By, map[string]string{"approve": "approval", "object": "objection"}[verdict], r.Revision, n))
		})
	})
	c.Flags().IntVar(&revision, "revision", 0, "the revision that was read (asked for on a terminal)")
	c.Flags().StringVar(&because, "because", "", "what you have to say about it")
	return c
}

// askRevision shows the newest revision on a terminal and asks whether that one is meant.
func (p *program) askRevision(ctx context.Context, c *client.Client, repo string, n int, verdict string) (int, error) {
	if !p.interactive {
		return 0, misuse("say which revision you have read: --revision R")
	}
	k, err := c.Change(ctx, repo, n)
	if err != nil {
		return 0, err
	}
	fmt.Fprintf(p.err, "The newest revision of change %d, %q, is %d (%s): %s, +%d -%d lines.\n%s it? [y/N] ",
		n, plain(k.Title), k.Revision, short(k.Head), files(k.Files), k.Added, k.Removed, strings.ToUpper(verdict[:1])+verdict[1:])
	answer, _ := bufio.NewReader(p.in).ReadString('\n')
	if a := strings.ToLower(strings.TrimSpace(answer)); a != "y" && a != "yes" {
		return 0, fmt.Errorf("nothing was done")
	}
	return k.Revision, nil
}

func (p *program) comment() *cobra.Command {
	return &cobra.Command{Use: "comment N TEXT", Short: "Say something without a verdict", Args: cobra.ExactArgs(2), RunE: func(cmd *cobra.Command, args []string) error {
		return p.withChange(cmd.Context(), args[0], func(ctx context.Context, c *client.Client, repo string, n int) error {
			r, err := c.Review(ctx, repo, n, "comment", 0, args[1])
			if err != nil {
				return err
			}
			return p.print(r, func(w io.Writer) {
				row(w, fmt.Sprintf("your comment on revision %d of change %d is on record", r.Revision, n))
			})
		})
	}}
}

func (p *program) queue() *cobra.Command {
	c := &cobra.Command{Use: "queue", Short: "Land changes as soon as they may"}
	var branch string
	show := &cobra.Command{Use: "show", Short: "Show the line for a branch", Args: cobra.NoArgs, RunE: func(cmd *cobra.Command, _ []string) error {
		c, repo, err := p.here()
		if err != nil {
			return err
		}
		q, err := c.Queue(cmd.Context(), repo, branch)
		if err != nil {
			return err
		}
		return p.print(q, func(w io.Writer) {
			row(w, fmt.Sprintf("%s is at %s. %s", q.Branch, short(q.Tip), q.Caption))
			if len(q.Entries)+len(q.Recent) == 0 {
				return
			}
			fmt.Fprintln(w)
			row(w, "PLACE", "CHANGE", "STATE", "BY", "TITLE", "REASON")
			for _, e := range append(q.Entries, q.Recent...) {
				place := "-"
				if e.Position > 0 {
					place = strconv.Itoa(e.Position)
				}
				row(w, place, e.Number, e.State, e.Strategy, e.Title, e.Reason)
			}
		})
	}}
	show.Flags().StringVar(&branch, "branch", "", "target branch (default: the default branch)")
	c.AddCommand(p.join(), show, p.numbered("leave N", "Take a change out of the queue", func(ctx context.Context, c *client.Client, repo string, n int) error {
		e, err := c.Leave(ctx, repo, n)
		if err != nil {
			return err
		}
		return p.print(e, func(w io.Writer) { row(w, fmt.Sprintf("change %d is out of the queue of %s", n, e.Target)) })
	}))
	return c
}

func (p *program) join() *cobra.Command {
	e := client.NewEntry{}
	var remove bool
	c := p.numbered("join N", "Land a change as soon as its gate is ready and its rehearsal passes", nil)
	c.RunE = func(cmd *cobra.Command, args []string) error {
		return p.withChange(cmd.Context(), args[0], func(ctx context.Context, c *client.Client, repo string, n int) error {
			if cmd.Flags().Changed("remove-source") {
				e.RemoveSource = &remove
			}
			entry, err := c.Join(ctx, repo, n, e)
			if err != nil {
				return err
			}
			return p.print(entry, func(w io.Writer) {
				row(w, fmt.Sprintf("change %d is in the queue of %s at place %d, by %s; nobody has to come back for it", n, entry.Target, entry.Position, entry.Strategy))
			})
		})
	}
	f := c.Flags()
	f.StringVar(&e.Strategy, "strategy", "", "rebase, squash or merge (default: as the rules say)")
	f.StringVar(&e.Message, "message", "", "message of the squash or merge commit (default: from title and description)")
	f.BoolVar(&remove, "remove-source", false, "remove the source branch after landing (default: as the rules say)")
	return c
}

func (p *program) journal() *cobra.Command {
	c := &cobra.Command{Use: "journal", Short: "Read and verify the record of everything that was decided or done"}
	var limit int
	var all bool
	list := &cobra.Command{Use: "list", Short: "List lines, newest first", Args: cobra.NoArgs, RunE: func(cmd *cobra.Command, _ []string) error {
		c, repo, err := p.here()
		if err != nil || all {
			if c, err = p.client(); err != nil {
				return err
			}
			repo = ""
		}
		lines, err := c.Journal(cmd.Context(), repo, limit)
		if err != nil {
			return err
		}
		return p.print(lines, func(w io.Writer) {
			row(w, "LINE", "WHEN", "KIND", "WHERE", "WHAT")
			for _, l := range lines {
				row(w, l.Seq, ago(l.At), l.Kind, dash(l.Repository), l.Text)
			}
		})
	}}
	list.Flags().IntVar(&limit, "limit", 50, "how many")
	list.Flags().BoolVar(&all, "all", false, "of every repository you may read, even in a clone of one")
	c.AddCommand(list, &cobra.Command{Use: "verify", Short: "Check that no line was altered, and print the signed head", Args: cobra.NoArgs, RunE: func(cmd *cobra.Command, _ []string) error {
		c, err := p.client()
		if err != nil {
			return err
		}
		head, err := c.VerifyJournal(cmd.Context())
		if err != nil {
			return err
		}
		return p.print(head, func(w io.Writer) {
			row(w, "the journal is unbroken and tells the same story as the records")
			row(w, "lines", head.Seq)
			row(w, "head", head.Hash)
			row(w, "key", head.PublicKey)
			row(w, "signature", head.Signature)
		})
	}})
	return c
}

func files(n int) string {
	if n == 1 {
		return "1 file"
	}
	return fmt.Sprintf("%d files", n)
}
