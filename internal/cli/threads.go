package cli

import (
	"context"
	"fmt"
	"io"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"tavrin/client"
	"tavrin/wire"
)

// thread holds discussions on lines, files, commits and changes.
func (p *program) thread() *cobra.Command {
	return group("thread", "Discuss lines, files, commits and changes",
		onChange(p, "list N", "Show the discussions of a change", func(ctx context.Context, h here, n int) ([]wire.Thread, error) {
			return h.Threads(ctx, h.repo, n)
		}, func(w io.Writer, threads []wire.Thread) {
			for _, t := range threads {
				p.printThread(w, t)
			}
		}), p.beginThread(), p.reply(), p.settle("settle N THREAD", "Settle a discussion, with what came of it", true), p.settle("reopen N THREAD", "Open a settled discussion again", false), p.editRemark())
}

func (p *program) printThread(w io.Writer, t wire.Thread) {
	state := "open"
	switch {
	case t.Settled && t.Outcome != "":
		state = fmt.Sprintf("settled by %s: %s", t.SettledBy, t.Outcome)
	case t.Settled:
		state = "settled by " + t.SettledBy
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
	for _, r := range t.Remarks {
		edited := ""
		if r.EditedAt != nil {
			edited = ", altered"
		}
		row(w, fmt.Sprintf("  %s, %s%s (remark %d):", r.By, ago(r.CreatedAt), edited, r.ID))
		for line := range strings.SplitSeq(r.Text, "\n") {
			row(w, "    "+line)
		}
	}
}

func (p *program) beginThread() *cobra.Command {
	n := client.NewThread{}
	var lines string
	c := onChange(p, "begin N", "Begin a discussion on lines, a file, a commit or the change", func(ctx context.Context, h here, number int) (wire.Thread, error) {
		if lines != "" {
			first, last, several := strings.Cut(lines, "-")
			var err, err2 error
			if n.First, err = strconv.Atoi(first); several {
				n.Last, err2 = strconv.Atoi(last)
			}
			if err != nil || err2 != nil {
				return wire.Thread{}, misuse("%q are not lines: 12 or 12-15", lines)
			}
		}
		return h.BeginThread(ctx, h.repo, number, n)
	}, p.printThread)
	f := c.Flags()
	f.StringVar(&n.Text, "text", "", "what you have to say (needed)")
	f.StringVar(&n.Path, "path", "", "file it is about")
	f.StringVar(&lines, "lines", "", "lines of the file, such as 12 or 12-15")
	f.BoolVar(&n.Before, "before", false, "the lines are those of the file before the change")
	f.StringVar(&n.Commit, "commit", "", "commit of the change it is about")
	f.IntVar(&n.Revision, "revision", 0, "revision that you looked at (default: the newest)")
	f.BoolVar(&n.NoAnswer, "no-answer", false, "it needs no answer, and never blocks")
	return needs(c, "text")
}

// inThread is answer for a command about one discussion of a change.
func (p *program) inThread(use, short string, call func(ctx context.Context, h here, n int, thread int64) (wire.Thread, error)) *cobra.Command {
	return inRepo(p, use, short, cobra.ExactArgs(2), func(ctx context.Context, h here, args []string) (wire.Thread, error) {
		n, err := changeNumber(args[0])
		if err != nil {
			return wire.Thread{}, err
		}
		thread, err := number(args[1], "a discussion; see tavrin thread list")
		if err != nil {
			return wire.Thread{}, err
		}
		return call(ctx, h, n, thread)
	}, p.printThread)
}

func (p *program) reply() *cobra.Command {
	var text string
	c := p.inThread("reply N THREAD", "Say something in a discussion", func(ctx context.Context, h here, n int, thread int64) (wire.Thread, error) {
		return h.Reply(ctx, h.repo, n, thread, text)
	})
	c.Flags().StringVar(&text, "text", "", "what you have to say (needed)")
	return needs(c, "text")
}

func (p *program) settle(use, short string, settled bool) *cobra.Command {
	var outcome string
	c := p.inThread(use, short, func(ctx context.Context, h here, n int, thread int64) (wire.Thread, error) {
		return h.Settle(ctx, h.repo, n, thread, settled, outcome)
	})
	if settled {
		c.Flags().StringVar(&outcome, "outcome", "", "what came of it, or the ticket that takes it further")
	}
	return c
}

func (p *program) editRemark() *cobra.Command {
	var text string
	var remark int64
	c := p.inThread("edit N THREAD", "Alter your own remark; what it said before is kept and shown", func(ctx context.Context, h here, n int, thread int64) (wire.Thread, error) {
		return h.EditRemark(ctx, h.repo, n, thread, remark, text)
	})
	c.Flags().StringVar(&text, "text", "", "what it is to say (needed)")
	c.Flags().Int64Var(&remark, "remark", 0, "number of the remark (needed)")
	return needs(c, "text", "remark")
}
