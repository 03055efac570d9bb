package cli

import (
	"context"
	"fmt"
	"io"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"tavrin/wire"
)

// thread holds discussions on lines, files, commits and changes.
func (p *program) thread() *cobra.Command {
	return group("thread", "Discuss lines, files, commits and changes",
		onChange(p, "list N", "Show the discussions of a change",
			func(ctx context.Context, h here, n int) ([]wire.Thread, error) {
				return h.Threads(ctx, h.repo, n)
			}, func(w io.Writer, threads []wire.Thread) {
				for _, t := range threads {
					p.printThread(w, t)
				}
			}), p.beginThread(), p.reply(), p.apply(), p.drafts(), p.deleteDraft(), p.resolve("resolve N THREAD", "Resolve a discussion, with what was decided", true), p.resolve("reopen N THREAD", "Reopen a resolved discussion", false), p.editComment())
}

func (p *program) printThread(w io.Writer, t wire.Thread) {
	state := "open"
	switch {
	case t.Resolved && t.Outcome != "":
		state = fmt.Sprintf("resolved by %s: %s", t.ResolvedBy, t.Outcome)
	case t.Resolved:
		state = "resolved by " + t.ResolvedBy
	case !t.NeedsAnswer:
		state = "needs no answer"
	}
	place := ""
	switch {
	case t.Gone:
		place = ", which is gone since"
	case t.Now != nil && (t.Now.First != t.FirstLine || t.Now.Path != t.Path):
		place = fmt.Sprintf(", now %s line %d", t.Now.Path, t.Now.First)
	}
	row(w, fmt.Sprintf("discussion %d on %s (revision %d)%s", t.ID, t.Where, t.Revision, place), state)
	for _, line := range strings.Split(t.Quoted, "\n") {
		if t.Quoted != "" {
			row(w, "  | "+line)
		}
	}
	for _, r := range t.Comments {
		edited := ""
		if r.EditedAt != nil {
			edited = ", altered"
		}
		row(w, fmt.Sprintf("  %s, %s%s (comment %d):", r.By, ago(r.CreatedAt), edited, r.ID))
		for line := range strings.SplitSeq(r.Text, "\n") {
			row(w, "    "+line)
		}
		printSuggestion(w, r)
	}
}

// printSuggestion shows what a comment suggests, and whether it was applied.
func printSuggestion(w io.Writer, r wire.Comment) {
	if r.Suggestion == nil {
		return
	}
	what := "suggests:"
	switch {
	case r.AppliedAs != "":
		what = fmt.Sprintf("suggested, and %s applied it as %s:", r.AppliedBy, short(r.AppliedAs))
	case *r.Suggestion == "":
		what = "suggests to take the lines out"
	}
	row(w, "    "+what)
	for line := range strings.SplitSeq(strings.TrimSuffix(*r.Suggestion, "\n"), "\n") {
		if *r.Suggestion != "" {
			row(w, "    + "+line)
		}
	}
}

// said is what a command about comments says afterwards: the discussion, or the draft.
type said struct {
	wire.Thread
	Draft *wire.DraftComment `json:"draft,omitempty"`
}

func (p *program) printSaid(w io.Writer, v said) {
	if v.Draft == nil {
		p.printThread(w, v.Thread)
		return
	}
	row(w, fmt.Sprintf("draft %d, on %s; it goes out with your review: tavrin review comment N --drafts", v.Draft.ID,
		v.Draft.Where))
}

// suggestFlags adds the flags of a command that may suggest and save a draft.
func suggestFlags(c *cobra.Command, n *wire.NewThread, suggest *string, draft *bool) {
	f := c.Flags()
	f.StringVar(&n.Text, "text", "", "the text, in Markdown (needed, but for a suggestion)")
	f.StringVar(suggest, "suggest", "", "what the lines should be; an empty text means that they should go")
	f.BoolVar(draft, "draft", false, "save it as a draft, and send it later with a review")
}

func (p *program) beginThread() *cobra.Command {
	n := wire.NewThread{}
	var lines, suggest string
	var draft bool
	var c *cobra.Command
	c = onChange(p, "begin N", "Begin a discussion on lines, a file, a commit or the change",
		func(ctx context.Context, h here, number int) (said, error) {
			if lines != "" {
				first, last, several := strings.Cut(lines, "-")
				var err, err2 error
				if n.First, err = strconv.Atoi(first); several {
					n.Last, err2 = strconv.Atoi(last)
				}
				if err != nil || err2 != nil {
					return said{}, misuse("%q are not lines: 12 or 12-15", lines)
				}
			}
			if c.Flags().Changed("suggest") {
				n.Suggestion = &suggest
			}
			if draft {
				g, err := h.SaveDraft(ctx, h.repo, number, 0, n)
				return said{Draft: &g}, err
			}
			t, err := h.BeginThread(ctx, h.repo, number, n)
			return said{Thread: t}, err
		}, p.printSaid)
	f := c.Flags()
	suggestFlags(c, &n, &suggest, &draft)
	f.StringVar(&n.Path, "path", "", "file it is about")
	f.StringVar(&lines, "lines", "", "lines of the file, such as 12 or 12-15")
	f.BoolVar(&n.Before, "before", false, "the lines are those of the file before the change")
	f.StringVar(&n.Commit, "commit", "", "commit of the change it is about")
	f.IntVar(&n.Revision, "revision", 0, "revision that you looked at (default: the newest)")
	f.BoolVar(&n.NoAnswer, "no-answer", false, "it needs no answer, and never blocks")
	c.MarkFlagsOneRequired("text", "suggest")
	return c
}

// apply applies suggestions.
func (p *program) apply() *cobra.Command {
	return inRepo(p, "apply N COMMENT...", "Apply suggestions, as one commit of yours on the source branch",
		cobra.MinimumNArgs(2), func(ctx context.Context, h here, args []string) (wire.Change, error) {
			n, err := changeNumber(args[0])
			if err != nil {
				return wire.Change{}, err
			}
			var comments []int64
			for _, arg := range args[1:] {
				id, err := number(arg, "a comment; see tavrin thread list")
				if err != nil {
					return wire.Change{}, err
				}
				comments = append(comments, id)
			}
			return h.ApplySuggestions(ctx, h.repo, n, comments)
		}, func(w io.Writer, k wire.Change) {
			row(w, fmt.Sprintf("applied as %s; change %d is at revision %d", short(k.Head), k.Number, k.Revision))
			row(w, "in your clone: git fetch origin && git merge --ff-only origin/"+k.Source)
		})
}

// drafts lists the draft comments of whoever asks.
func (p *program) drafts() *cobra.Command {
	return onChange(p, "drafts N", "List your draft comments, which nobody else sees",
		func(ctx context.Context, h here, n int) ([]wire.DraftComment, error) {
			return h.Drafts(ctx, h.repo, n)
		}, func(w io.Writer, all []wire.DraftComment) {
			for _, g := range all {
				row(w, g.ID, g.Where, ago(g.CreatedAt), g.Text)
			}
		})
}

func (p *program) deleteDraft() *cobra.Command {
	return inRepo(p, "delete-draft N ID", "Delete a draft comment", cobra.ExactArgs(2),
		func(ctx context.Context, h here, args []string) (nothing, error) {
			n, err := changeNumber(args[0])
			if err != nil {
				return nothing{}, err
			}
			id, err := number(args[1], "a draft comment; see tavrin thread drafts")
			if err != nil {
				return nothing{}, err
			}
			return nothing{}, h.DeleteDraft(ctx, h.repo, n, id)
		}, silent)
}

// threadArgs reads the numbers of a change and of one of its discussions.
func threadArgs(args []string) (change int, thread int64, err error) {
	if change, err = changeNumber(args[0]); err != nil {
		return 0, 0, err
	}
	thread, err = number(args[1], "a discussion; see tavrin thread list")
	return change, thread, err
}

// inThread is answer for a command about one discussion of a change.
func (p *program) inThread(use, short string, call func(ctx context.Context, h here, n int, thread int64) (wire.Thread,
	error)) *cobra.Command {
	return inRepo(p, use, short, cobra.ExactArgs(2), func(ctx context.Context, h here, args []string) (wire.Thread,
		error) {
		n, thread, err := threadArgs(args)
		if err != nil {
			return wire.Thread{}, err
		}
		return call(ctx, h, n, thread)
	}, p.printThread)
}

func (p *program) reply() *cobra.Command {
	n := wire.NewThread{}
	var suggest string
	var draft bool
	var c *cobra.Command
	c = inRepo(p, "reply N THREAD", "Reply in a discussion", cobra.ExactArgs(2),
		func(ctx context.Context, h here, args []string) (said, error) {
			number, thread, err := threadArgs(args)
			if err != nil {
				return said{}, err
			}
			if c.Flags().Changed("suggest") {
				n.Suggestion = &suggest
			}
			if draft {
				g, err := h.SaveDraft(ctx, h.repo, number, thread, n)
				return said{Draft: &g}, err
			}
			t, err := h.Reply(ctx, h.repo, number, thread, wire.NewComment{Text: n.Text, Suggestion: n.Suggestion})
			return said{Thread: t}, err
		}, p.printSaid)
	suggestFlags(c, &n, &suggest, &draft)
	c.MarkFlagsOneRequired("text", "suggest")
	return c
}

func (p *program) resolve(use, short string, resolved bool) *cobra.Command {
	var text string
	c := p.inThread(use, short, func(ctx context.Context, h here, n int, thread int64) (wire.Thread, error) {
		return h.Resolve(ctx, h.repo, n, thread, resolved, text)
	})
	if resolved {
		c.Flags().StringVar(&text, "text", "", "what was decided, or the ticket that continues it")
	}
	return c
}

func (p *program) editComment() *cobra.Command {
	var text string
	var comment int64
	c := p.inThread("edit N THREAD", "Edit your own comment; what it said before is kept and shown",
		func(ctx context.Context, h here, n int, thread int64) (wire.Thread, error) {
			return h.EditComment(ctx, h.repo, n, thread, comment, text)
		})
	c.Flags().StringVar(&text, "text", "", "the new text (needed)")
	c.Flags().Int64Var(&comment, "comment", 0, "number of the comment (needed)")
	return needs(c, "text", "comment")
}
