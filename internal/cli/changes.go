package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tavrin/client"
	"tavrin/internal/core/change"
	"tavrin/internal/core/require"
	"tavrin/wire"
)

func (p *program) change() *cobra.Command {
	said := func(format string) func(io.Writer, wire.Change) {
		return func(w io.Writer, k wire.Change) { row(w, fmt.Sprintf(format, k.Number, k.Revision)) }
	}
	return group("change", "Open changes, see what they still need, wait for them",
		p.preview(), p.openChange(), p.listChanges(), p.showChange(), p.editChange(), p.update(), p.label(), p.gate(), p.waitFor(), p.diff(), p.commits(), p.read(), p.fetch(), p.checkHere(), p.landing(), p.askReviewer(), p.changeTickets(), p.undo(), p.conflicts(),
		onChange(p, "close N", "Give a change up", func(ctx context.Context, h here, n int) (wire.Change, error) {
			return h.CloseChange(ctx, h.repo, n)
		}, said("change %d is closed, at revision %d")),
		onChange(p, "reopen N", "Reopen a closed change",
			func(ctx context.Context, h here, n int) (wire.Change, error) {
				return h.ReopenChange(ctx, h.repo, n)
			}, said("change %d is open again, at revision %d")))
}

// conflicts shows where a change and its target do not go together.
func (p *program) conflicts() *cobra.Command {
	return onChange(p, "conflicts N", "Show where a change and its target as it is now do not go together, with both sides", func(ctx context.Context, h here, n int) (wire.Conflicts, error) {
		return h.Conflicts(ctx, h.repo, n)
	}, func(w io.Writer, v wire.Conflicts) {
		if len(v.Files) == 0 {
			row(w, fmt.Sprintf("%s and %s at %s go together", v.Source, v.Target, short(v.Tip)))
			return
		}
		row(w, fmt.Sprintf("%s and %s at %s do not go together in %s:", v.Source, v.Target, short(v.Tip), files(len(v.Files))))
		for _, f := range v.Files {
			words := []string{f.Path}
			if f.What != "" {
				words = append(words, f.What)
			}
			for _, n := range f.With {
				words = append(words, fmt.Sprintf("touched by change %d since", n))
			}
			fmt.Fprintf(w, "\n%s\n", plain(strings.Join(words, ", ")))
			for _, place := range f.Places {
				fmt.Fprintln(w)
				for line := range strings.SplitSeq(place, "\n") {
					fmt.Fprintln(w, "    "+strings.TrimRight(block(line), "\n"))
				}
			}
			if f.More > 0 {
				fmt.Fprintf(w, "\n    and %d more\n", f.More)
			}
		}
		fmt.Fprintln(w, "\nResolve them in a clone:")
		for _, c := range v.Commands {
			fmt.Fprintln(w, "    "+c)
		}
	})
}

// conflictRow says where a change does not go together with its target, if it is known not to.
func conflictRow(w io.Writer, k wire.Change) {
	if len(k.Conflicts) > 0 {
		row(w, "conflicts", fmt.Sprintf("with %s in %s: tavrin change conflicts %d", k.Target, list(k.Conflicts), k.Number))
	}
}

// undo opens a change that takes back what another landed.
func (p *program) undo() *cobra.Command {
	reason := ""
	c := onChange(p, "undo N", "Open a change that takes back what a change landed; it goes through the same gate", func(ctx context.Context, h here, n int) (wire.Change, error) {
		return h.UndoLanding(ctx, h.repo, n, reason)
	}, func(w io.Writer, k wire.Change) {
		row(w, fmt.Sprintf("opened change %d from %s: %s", k.Number, k.Source, k.Title))
		row(w, k.Summary)
		row(w, fmt.Sprintf("land it: tavrin queue join %d", k.Number))
	})
	c.Flags().StringVar(&reason, "reason", "", "why (needed)")
	return needs(c, "reason")
}

func (p *program) preview() *cobra.Command {
	var source, target, title string
	var fromHere bool
	c := inRepo(p, "preview", "Say what a change would meet before it is opened", cobra.NoArgs,
		func(ctx context.Context, h here, _ []string) (wire.Preview, error) {
			if fromHere {
				var err error
				if source, err = p.pushPreview(ctx, h); err != nil {
					return wire.Preview{}, err
				}
			}
			return h.Preview(ctx, h.repo, source, target, title)
		}, func(w io.Writer, v wire.Preview) {
			row(w, fmt.Sprintf("%s to %s: %s, %s, +%d -%d lines", v.Source, v.Target, counted(v.Commits, "commit"),
				counted(v.Files, "file"), v.Added, v.Removed))
			if v.Conflict != "" {
				row(w, "it does not merge: "+v.Conflict)
			} else {
				row(w, "it merges")
			}
			if len(v.Areas.Enough) > 0 {
				row(w, "enough would be "+strings.Join(v.Areas.Enough, " and "))
			}
			for _, r := range v.Reviewers {
				row(w, either(r.Optional, "would be told: ", "would be asked: ")+r.Who)
			}
			row(w, v.Report.Summary)
			printGate(w, v.Report)
		})
	c.Flags().StringVar(&source, "source", "", "branch that brings the commits, or a name in your preview space "+
		"(refs/preview/LOGIN/NAME)")
	c.Flags().BoolVar(&fromHere, "here", false, "what this clone has checked out: it is pushed to your preview "+
		"space, and opens nothing")
	c.Flags().StringVar(&target, "target", "", "branch to bring them to (default: the default branch)")
	c.Flags().StringVar(&title, "title", "", "the title that it would have")
	c.MarkFlagsOneRequired("source", "here")
	c.MarkFlagsMutuallyExclusive("source", "here")
	return c
}

func (p *program) openChange() *cobra.Command {
	n := wire.NewChange{}
	var description string
	var c *cobra.Command
	c = inRepo(p, "open", "Propose to bring a branch into another", cobra.NoArgs,
		func(ctx context.Context, h here, _ []string) (wire.Change, error) {
			if c.Flags().Changed("description") {
				n.Description = &description
			}
			return h.OpenChange(ctx, h.repo, n)
		}, func(w io.Writer, k wire.Change) {
			row(w, fmt.Sprintf("opened change %d, %q, from %s to %s", k.Number, k.Title, k.Source, k.Target))
			conflictRow(w, k)
			row(w, k.Summary)
		})
	f := c.Flags()
	f.StringVar(&n.Source, "source", "", "branch that brings the commits (needed)")
	f.StringVar(&n.Target, "target", "", "branch to bring them to (default: the default branch)")
	f.StringVar(&n.Title, "title", "", "what it does, in a line (needed)")
	f.StringVar(&description, "description", "", "why, and what a reviewer should know (default: what the rules "+
		"have new changes begin with)")
	f.BoolVar(&n.Draft, "draft", false, "not finished yet")
	f.IntSliceVar(&n.DependsOn, "depends-on", nil, "number of a change that it waits for; may be given several times")
	return needs(c, "source", "title")
}

func (p *program) editChange() *cobra.Command {
	var title, description, target string
	var draft bool
	var dependsOn []int
	var c *cobra.Command
	c = onChange(p, "edit N", "Edit title, description, draft state, target, or what it depends on",
		func(ctx context.Context, h here, n int) (wire.Change, error) {
			e := wire.ChangeEdit{}
			if c.Flags().Changed("title") {
				e.Title = &title
			}
			if c.Flags().Changed("description") {
				e.Description = &description
			}
			if c.Flags().Changed("draft") {
				e.Draft = &draft
			}
			if c.Flags().Changed("target") {
				e.Target = &target
			}
			if c.Flags().Changed("depends-on") {
				dependsOn = slices.DeleteFunc(dependsOn, func(n int) bool { return n == 0 })
				e.DependsOn = &dependsOn
			}
			if e == (wire.ChangeEdit{}) {
				return wire.Change{}, misuse("say what to edit: --title, --description, --draft, --target or --depends-on")
			}
			return h.EditChange(ctx, h.repo, n, e)
		}, func(w io.Writer, k wire.Change) {
			row(w, fmt.Sprintf("change %d, %q, is %s, at revision %d for %s", k.Number, k.Title, k.State, k.Revision,
				k.Target))
		})
	c.Flags().StringVar(&title, "title", "", "new title")
	c.Flags().StringVar(&description, "description", "", "new description")
	c.Flags().BoolVar(&draft, "draft", false, "whether it is a draft")
	c.Flags().StringVar(&target, "target", "", "another branch to bring it to; it gets a new revision and leaves "+
		"the queue")
	c.Flags().IntSliceVar(&dependsOn, "depends-on", nil, "changes that it waits for, in place of those before; 0 "+
		"alone: none")
	return c
}

func (p *program) update() *cobra.Command {
	var strategy string
	c := onChange(p, "update N", "Update the source branch to its target; landing does not need it",
		func(ctx context.Context, h here, n int) (wire.Change, error) {
			return h.UpdateBranch(ctx, h.repo, n, strategy)
		}, func(w io.Writer, k wire.Change) {
			row(w, fmt.Sprintf("%s has everything of %s now; change %d is at revision %d", k.Source, k.Target, k.Number,
				k.Revision))
			row(w, "in your clone: git fetch origin && git reset --keep origin/"+k.Source)
		})
	c.Flags().StringVar(&strategy, "strategy", "rebase", "rebase it, or merge the target into it")
	return c
}

func (p *program) listChanges() *cobra.Command {
	var q wire.ChangeFilter
	c := inRepo(p, "list", "List changes", cobra.NoArgs, func(ctx context.Context, h here, _ []string) ([]wire.Change,
		error) {
		return h.Changes(ctx, h.repo, q)
	}, func(w io.Writer, changes []wire.Change) {
		row(w, "N", "STATE", "READY", "QUEUE", "FROM", "TO", "TITLE")
		for _, k := range changes {
			ready, queue := "-", "-"
			if k.State == "open" || k.State == "draft" {
				ready = yesNo(k.Ready)
			}
			if k.Entry != nil {
				if queue = k.Entry.State; queue == "ejected" {
					ready = "-" // what it was when it joined says less than why it came back
				}
			}
			title := k.Title
			if len(k.Conflicts) > 0 {
				title += fmt.Sprintf(" (conflicts with %s)", k.Target)
			}
			row(w, k.Number, state(k.State), state(ready), state(queue), k.Source, k.Target, title)
		}
	})
	f := c.Flags()
	f.StringVar(&q.State, "state", "", "draft, open, landed, closed or all (default: draft and open)")
	f.StringVar(&q.Target, "target", "", "only those for that branch")
	f.StringVar(&q.By, "by", "", "only those opened by that person")
	f.StringVar(&q.Label, "label", "", "only those with that label")
	f.StringVar(&q.Search, "search", "", "only those with that in the title or the source branch")
	f.IntVar(&q.Before, "before", 0, "only those with a lower number, for the next page")
	f.IntVar(&q.Limit, "limit", 50, "how many")
	return c
}

func (p *program) showChange() *cobra.Command {
	var report wire.Report
	var revisions []wire.Revision
	return onChange(p, "show N", "Show a change, its revisions and what it still needs",
		func(ctx context.Context, h here, n int) (k wire.Change, err error) {
			if report, err = h.Gate(ctx, h.repo, n); err != nil {
				return k, err
			}
			if revisions, err = h.Revisions(ctx, h.repo, n); err != nil {
				return k, err
			}
			return h.Change(ctx, h.repo, n)
		}, func(w io.Writer, k wire.Change) {
			row(w, fmt.Sprintf("change %d", k.Number), k.Title)
			row(w, "state", state(k.State))
			row(w, "from", k.Source+" to "+k.Target)
			printRevisions(w, revisions)
			if k.Ahead+k.Behind > 0 {
				row(w, "against its target", fmt.Sprintf("%d ahead, %d behind; the queue brings them together", k.Ahead,
					k.Behind))
			}
			if k.SourceGone {
				row(w, "source branch", "gone; the change stays at its newest revision, and goes on when the branch is "+
					"pushed again")
			}
			if len(k.Hidden) > 0 {
				row(w, "besides", fmt.Sprintf("its commits touch %s, which its difference does not show (tavrin change "+
					"commits %d)", strings.Join(k.Hidden[:min(len(k.Hidden), 10)], ", "), k.Number))
			}
			row(w, "authors", list(k.Authors))
			if k.Entry != nil {
				row(w, "queue", fmt.Sprintf("%s, by %s: %s", k.Entry.State, k.Entry.Strategy, k.Entry.Reason))
				if len(k.Entry.Ahead) > 0 {
					row(w, "ahead of it", "change "+numbered(k.Entry.Ahead))
				}
				if l := k.Entry.Likely; l != nil && l.Half != nil {
					row(w, "likely to land", fmt.Sprintf("%s: half like it do until %s, nine of ten until %s; %s", likely(l), l.Half.Local().Format("15:04"), l.Most.Local().Format("15:04"), l.Words))
				} else if l != nil && k.Entry.State != "waiting" {
					row(w, "likely to land", l.Words)
				}
				failing(w, k.Entry)
			}
			if len(k.Labels) > 0 {
				row(w, "labels", list(k.Labels))
			}
			if len(k.Tickets) > 0 {
				row(w, "tickets", list(k.Tickets))
			}
			for _, n := range k.DependsOn {
				row(w, "waits for", fmt.Sprintf("change %d", n))
			}
			for _, r := range k.Reviewers {
				asked := "asked to review"
				if r.Optional {
					asked = "told of it"
				}
				row(w, asked, r.Who, r.Reason)
			}
			for _, o := range k.Waivers {
				row(w, fmt.Sprintf("waiver %d", o.ID), fmt.Sprintf("%s, by %s: %s", waiverState(o), o.By,
					o.Reason))
			}
			conflictRow(w, k)
			row(w, "gate", k.Summary)
			printReport(w, report)
		})
}

// revisionKinds say what a revision did to the one before.
var revisionKinds = map[string]string{"first": "the first", "added": "adds commits", "rebased": "rebased: the same difference as before",
	"folded": "folds fixups, and nothing else", "rewritten": "rewritten", "retargeted": "goes to another branch"}

// printRevisions lists the revisions of a change, the newest first.
func printRevisions(w io.Writer, all []wire.Revision) {
	const most = 10
	for i, r := range slices.Backward(all) {
		if len(all)-i > most {
			row(w, "", fmt.Sprintf("and %s before", counted(i+1, "revision")))
			return
		}
		words := fmt.Sprintf("%s by %s, %s; %s, +%d -%d lines", short(r.Head), r.PushedBy, ago(r.CreatedAt), files(r.Files), r.Added, r.Removed)
		if did := revisionKinds[r.Kind]; did != "" {
			words += "; " + did
		}
		row(w, fmt.Sprintf("revision %d", r.Number), words)
	}
}

func (p *program) landing() *cobra.Command {
	return onChange(p, "landing N", "Show how a change landed, with the signed statement",
		func(ctx context.Context, h here, n int) (wire.Landing, error) {
			return h.Landing(ctx, h.repo, n)
		}, func(w io.Writer, l wire.Landing) {
			row(w, "change", fmt.Sprint(l.Number))
			row(w, "target", l.Target)
			row(w, "moved", short(l.Old)+" to "+l.New)
			row(w, "by", fmt.Sprintf("%s, asked by %s, %s", l.Strategy, l.LandedBy, ago(l.LandedAt)))
			row(w, "judged under", fmt.Sprintf("rules version %d", l.RulesVersion))
			printReport(w, l.Report)
		})
}

// printReport prints a gate whole: what is asked, and what each review that stands does to it.
func printReport(w io.Writer, r wire.Report) {
	printGate(w, r)
	for i, review := range r.Reviews {
		if i == 0 {
			fmt.Fprintln(w)
		}
		said := "approved"
		if review.Verdict == change.Object {
			said = "objected to"
		}
		fmt.Fprintf(w, "%s %s revision %d: %s\n", plain(review.By), said, review.Revision, plain(weighedWords(review)))
	}
}

// weighedWords says what a review does to a gate.
func weighedWords(review require.Weighed) string {
	var words []string
	switch {
	case len(review.For) > 0 && review.Verdict == change.Object:
		words = append(words, "it blocks the change until it is withdrawn")
	case len(review.For) > 0:
		words = append(words, "counts for "+strings.Join(review.For, " and "))
	case review.Verdict == change.Approve && !strings.Contains(strings.Join(review.Not, ""), "does not count"):
		words = append(words, "does not count")
	}
	return strings.Join(slices.Concat(words, review.Not, review.Since), "; ")
}

func (p *program) gate() *cobra.Command {
	var ready bool
	c := onChange(p, "gate N", "Say what still stands between a change and its target; exit 0 ready, 3 not ready",
		func(ctx context.Context, h here, n int) (wire.Report, error) {
			r, err := h.Gate(ctx, h.repo, n)
			ready = r.Ready
			return r, err
		}, func(w io.Writer, r wire.Report) { row(w, r.Summary); printReport(w, r) })
	show := c.RunE
	c.RunE = func(cmd *cobra.Command, args []string) error {
		if err := show(cmd, args); err != nil || ready {
			return err
		}
		return &exitError{status: statusNotYet}
	}
	return c
}

func (p *program) askReviewer() *cobra.Command {
	var who []string
	var optional bool
	c := onChange(p, "ask N", "Ask people or teams for a review, or tell them of the change",
		func(ctx context.Context, h here, n int) (wire.Change, error) {
			return h.AskReviewers(ctx, h.repo, n, who, optional)
		}, func(w io.Writer, k wire.Change) {
			for _, r := range k.Reviewers {
				row(w, either(r.Optional, "told of it", "asked to review"), r.Who, r.Reason)
			}
		})
	c.Flags().StringSliceVar(&who, "who", nil, "person:LOGIN or team:NAME; may be given several times (needed)")
	c.Flags().BoolVar(&optional, "optional", false, "tell them, without asking")
	return needs(c, "who")
}

func (p *program) waitFor() *cobra.Command {
	var until string
	var timeout time.Duration
	c := onChange(p, "wait N", "Wait for a change; exit 0 reached, 3 not in time, 4 never",
		func(ctx context.Context, h here, n int) (wire.Change, error) {
			if until != "ready" && until != "landed" {
				return wire.Change{}, misuse("--until is ready or landed, not %q", until)
			}
			return wait(ctx, h, n, until, timeout)
		}, func(w io.Writer, k wire.Change) {
			if until == "landed" {
				row(w, fmt.Sprintf("change %d landed on %s as %s", k.Number, k.Target, k.LandedCommit))
				return
			}
			row(w, k.Summary)
		})
	c.Flags().StringVar(&until, "until", "landed", "what to wait for: ready or landed")
	c.Flags().DurationVar(&timeout, "timeout", time.Minute, "how long to wait at most")
	return c
}

// wait follows the event stream, and looks at the change whenever something happened in the repository.
func wait(ctx context.Context, h here, n int, until string, timeout time.Duration) (wire.Change, error) {
	ctx, cancel := context.WithTimeout(ctx, timeout)
	defer cancel()
	last, err := newestEvent(ctx, h)
	if err != nil {
		return wire.Change{}, err
	}
	k, over, err := reached(ctx, h, n, until)
	for !over && err == nil {
		streamed := h.Events(ctx, h.repo, last, func(e client.Event) bool {
			last = e.ID
			k, over, err = reached(ctx, h, n, until)
			return !over && err == nil
		})
		if err == nil && !over {
			err = streamed // nil when the stream only came to its end: begin another
		}
		if errors.Is(ctx.Err(), context.DeadlineExceeded) && !over {
			return k, &exitError{statusNotYet, fmt.Errorf("not %s within %s: %s", until, timeout, notYet(k, n))}
		}
	}
	return k, err
}

// numbered lists numbers of changes.
func numbered(of []int) string {
	words := make([]string, len(of))
	for i, n := range of {
		words[i] = strconv.Itoa(n)
	}
	return strings.Join(words, ", ")
}

// failing shows what an entry that was ejected did not pass, with the last lines of each log.
func failing(w io.Writer, e *wire.Entry) {
	if e.State != "ejected" || e.Rehearsal == nil {
		return
	}
	for _, k := range e.Rehearsal.Checks {
		if k.State != string(change.Failed) && k.State != string(change.Errored) {
			continue
		}
		row(w, k.Name+" "+k.State, fmt.Sprintf("on %s, attempt %d", short(k.Commit), k.Attempt))
		for line := range strings.Lines(k.Log) {
			row(w, "", "| "+strings.TrimSuffix(line, "\n"))
		}
	}
}

// newestEvent returns the id of the newest event, from which to follow, so that nothing that happens between the
// first look and the stream is missed.
func newestEvent(ctx context.Context, h here) (string, error) {
	lines, err := h.Journal(ctx, h.repo, 1)
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
func reached(ctx context.Context, h here, n int, until string) (wire.Change, bool, error) {
	k, err := h.Change(ctx, h.repo, n)
	if err != nil {
		return k, false, err
	}
	never := func(why string) (wire.Change, bool, error) {
		return k, true, &exitError{statusNever, fmt.Errorf("change %d will not be %s: %s", n, until, why)}
	}
	switch {
	case k.State == "landed" && until == "landed", until == "ready" && k.Ready:
		return k, true, nil
	case k.State == "landed":
		return never("it has landed already")
	case k.State == "closed":
		return never("it is closed")
	case until == "landed" && k.Entry != nil && (k.Entry.State == "ejected" || k.Entry.State == "withdrawn"):
		return never(k.Entry.State + ": " + k.Entry.Reason)
	}
	return k, false, nil
}

func (p *program) review() *cobra.Command {
	return group("review", "Approve, object, comment, withdraw",
		p.verdict(change.Approve, "Approve a revision", false),
		p.verdict(change.Object, "Object to a revision; it blocks until withdrawn", true), p.comment(),
		onChange(p, "withdraw N", "Take back your approval or objection",
			func(ctx context.Context, h here, n int) (wire.Review, error) {
				return h.Withdraw(ctx, h.repo, n)
			}, func(w io.Writer, r wire.Review) { row(w, fmt.Sprintf("your %s is withdrawn", noun[r.Verdict])) }),
		onChange(p, "list N", "List what reviewers said", func(ctx context.Context, h here, n int) ([]wire.Review,
			error) {
			return h.Reviews(ctx, h.repo, n)
		}, func(w io.Writer, reviews []wire.Review) {
			row(w, "BY", "VERDICT", "REVISION", "STANDS", "WHEN", "TEXT")
			for _, r := range reviews {
				stands := "-"
				if r.Verdict != "comment" {
					stands = yesNo(r.Standing)
				}
				row(w, r.By, r.Verdict, r.Revision, stands, ago(r.CreatedAt),
					strings.Join(append([]string{r.Text}, r.Altered...), "; "))
			}
		}))
}

// noun names a verdict in sentences.
var noun = map[string]string{"approve": "approval", "object": "objection", "comment": "comment"}

func recorded(w io.Writer, r wire.Review) {
	row(w, fmt.Sprintf("%s: %s of revision %d is on record", r.By, noun[r.Verdict], r.Revision))
	if r.Weighed != nil {
		row(w, weighedWords(*r.Weighed))
	}
}

func (p *program) verdict(verdict change.Verdict, short string, needsWhy bool) *cobra.Command {
	var revision int
	var text string
	var drafts bool
	c := onChange(p, string(verdict)+" N", short, func(ctx context.Context, h here, n int) (wire.Review, error) {
		if needsWhy && text == "" {
			return wire.Review{}, misuse("say why: --text …")
		}
		if revision == 0 {
			var err error
			if revision, err = p.askRevision(ctx, h, n, verdict); err != nil {
				return wire.Review{}, err
			}
		}
		return h.Review(ctx, h.repo, n, wire.NewReview{Verdict: verdict, Revision: revision, Text: text, Drafts: drafts})
	}, recorded)
	c.Flags().BoolVar(&drafts, "drafts", false, "send your draft comments with it, in one go")
	c.Flags().IntVar(&revision, "revision", 0, "the revision that was read (asked for on a terminal)")
	c.Flags().StringVar(&text, "text", "", "the text of the review")
	return c
}

// askRevision shows the newest revision on a terminal and asks whether that one is meant.
func (p *program) askRevision(ctx context.Context, h here, n int, verdict change.Verdict) (int, error) {
	if !p.interactive {
		return 0, misuse("say which revision you have read: --revision R")
	}
	k, err := h.Change(ctx, h.repo, n)
	if err != nil {
		return 0, err
	}
	if !p.agreed("The newest revision of change %d, %q, is %d (%s): %s, +%d -%d lines.\n%s it?",
		n, plain(k.Title), k.Revision, short(k.Head), files(k.Files), k.Added, k.Removed, strings.ToUpper(string(verdict[:1]))+string(verdict[1:])) {
		return 0, errors.New("nothing was done")
	}
	return k.Revision, nil
}

// agreed asks a question on the terminal; only a plain yes is one.
func (p *program) agreed(format string, args ...any) bool {
	fmt.Fprintf(p.err, format+" [y/N] ", args...)
	answer, _ := bufio.NewReader(p.in).ReadString('\n') // an end without an answer is a no
	answer = strings.ToLower(strings.TrimSpace(answer))
	return answer == "y" || answer == "yes"
}

func (p *program) comment() *cobra.Command {
	var drafts bool
	var text string
	c := onChange(p, "comment N", "Comment on a revision, without a verdict",
		func(ctx context.Context, h here, n int) (wire.Review, error) {
			if text == "" && !drafts {
				return wire.Review{}, misuse("say something: --text …, or --drafts to send your draft comments")
			}
			return h.Review(ctx, h.repo, n, wire.NewReview{Verdict: change.Comment, Text: text, Drafts: drafts})
		}, recorded)
	c.Flags().StringVar(&text, "text", "", "the text of the comment")
	c.Flags().BoolVar(&drafts, "drafts", false, "send your draft comments with it, in one go")
	return c
}

func files(n int) string {
	if n == 1 {
		return "1 file"
	}
	return fmt.Sprintf("%d files", n)
}
