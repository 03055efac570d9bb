// Package standin plays the outside world for demonstrations and tests: a checks system that reports as a check robot.
//
// It goes through the same client and the same token scope as any real system would; nothing in the service knows
// of it.
package standin

import (
	"context"
	"fmt"
	"log/slog"
	"strconv"
	"strings"
	"time"

	"tavrin/client"
	"tavrin/internal/core/change"
	"tavrin/wire"
)

// Bench is a test bench for valve programs: it lets each run on a simulated pipe, which takes a while.
type Bench struct {
	Client *client.Client // with a check robot's token
	Repos  []string
	Check  string        // the name it reports under
	Takes  time.Duration // how long one run lasts
	Log    *slog.Logger
}

// longestWait is the longest time, in minutes, that the bench's pipe stands an open valve.
const longestWait = 60

// Run answers what is asked of the bench until the context ends.
func (b *Bench) Run(ctx context.Context) {
	for ctx.Err() == nil {
		for _, repo := range b.Repos {
			k, err := b.Client.ClaimCheck(ctx, repo, b.Check, 0)
			switch {
			case err != nil:
				b.Log.Debug("bench: nothing heard", "error", err)
			case k != nil:
				b.try(ctx, repo, *k)
			}
		}
		pause(ctx, 300*time.Millisecond)
	}
}

func pause(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

// try runs the programs of one commit and reports.
func (b *Bench) try(ctx context.Context, repo string, k wire.Check) {
	report := wire.NewReport{Commit: k.Commit, Name: k.Name, Attempt: k.Attempt, State: "running",
		Summary: "the bench fills the pipe"}
	if _, err := b.Client.ReportCheck(ctx, repo, report); err != nil {
		b.Log.Debug("bench: not taken", "error", err)
		return
	}
	pause(ctx, b.Takes)
	state, summary := b.judge(ctx, repo, k.Commit)
	report.State, report.Summary = change.CheckState(state), summary
	if _, err := b.Client.ReportCheck(ctx, repo, report); err != nil {
		b.Log.Debug("bench: not taken", "error", err)
	}
}

// judge reads the valve programs at a commit and says whether the pipe would stand them.
func (b *Bench) judge(ctx context.Context, repo, commit string) (state, summary string) {
	const folder = "firmware/valves"
	tree, err := b.Client.Tree(ctx, repo, commit, folder)
	if err != nil {
		return "errored", err.Error()
	}
	for _, e := range tree.Entries {
		file, err := b.Client.Tree(ctx, repo, commit, folder+"/"+e.Name)
		if err != nil {
			return "errored", err.Error()
		}
		for line := range strings.Lines(file.Text) {
			minutes, found := strings.CutPrefix(strings.TrimSpace(line), "wait ")
			if n, err := strconv.Atoi(minutes); found && (err != nil || n > longestWait) {
				return "failed", fmt.Sprintf("%s waits %s minutes with the valve open; the pipe stands %d", e.Name,
					minutes, longestWait)
			}
		}
	}
	return "passed", fmt.Sprintf("%d programs ran on the bench", len(tree.Entries))
}
