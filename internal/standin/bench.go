// Package standin plays the outside world for demonstrations and tests: a checks system that a webhook wakes, and a
// destination that verifies what comes.
//
// They go through the same client, webhooks and token scopes as any real system would; nothing in the service knows of them.
package standin

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"tavrin/client"
	"tavrin/internal/core/change"
	"tavrin/internal/core/journal"
	"tavrin/wire"
)

// Bench is a test bench for valve programs: it lets each run on a simulated pipe, which takes a while. It knows the token of
// its robot and the secret of the webhook that wakes it, and nothing else.
type Bench struct {
	Client *client.Client // with a check robot's token
	Token  string         // the same, for git
	Secret string         // of the webhook
	Check  string         // the name it reports under
	Takes  time.Duration  // how long one run lasts
	Log    *slog.Logger
	asked  chan job
}

// job is a check that was asked for.
type job struct {
	repo, git string
	wire.Check
}

// longestWait is the longest time, in minutes, that the bench's pipe stands an open valve.
const longestWait = 60

// Run answers what is asked of the bench until the context ends.
func (b *Bench) Run(ctx context.Context, listener net.Listener) error {
	b.asked = make(chan job, 1000)
	server := &http.Server{Handler: NewReceiver(b.Secret, b.hear), ReadHeaderTimeout: 5 * time.Second, ReadTimeout: 15 * time.Second}
	failed := make(chan error, 1)
	go func() { failed <- server.Serve(listener) }()
	for {
		select {
		case j := <-b.asked:
			b.try(ctx, j)
		case err := <-failed:
			return err
		case <-ctx.Done():
			return server.Close()
		}
	}
}

// hear takes note of what is asked of the bench.
func (b *Bench) hear(d *Received) {
	if j, is := askedFor(d, b.Check); is {
		select {
		case b.asked <- j:
		default: // it is asked for once more when nobody answers
		}
	}
}

// askedFor is what a delivery asks for of a check; it asks for nothing where its signature is not good, it is a test, or it
// came before.
func askedFor(d *Received, check string) (job, bool) {
	var e struct {
		Test bool
		Data struct {
			Repository string
			Details    wire.Check
			Links      journal.Links
		}
	}
	if d.Trouble != nil || d.Again || d.Kind != journal.TypePrefix+"check.asked" || json.Unmarshal(d.Body, &e) != nil || e.Test ||
		e.Data.Details.Name != check {
		return job{}, false
	}
	return job{e.Data.Repository, e.Data.Links.Git, e.Data.Details}, true
}

func pause(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

// try runs the programs of one commit and reports.
func (b *Bench) try(ctx context.Context, j job) {
	report := wire.NewReport{Commit: j.Commit, Name: j.Name, Attempt: j.Attempt, State: change.Running, Summary: "the bench fills the pipe"}
	if _, err := b.Client.ReportCheck(ctx, j.repo, report); err != nil {
		b.Log.Debug("bench: not taken", "error", err)
		return
	}
	dir, err := os.MkdirTemp("", "bench-")
	if err != nil {
		b.Log.Error("bench: no folder", "error", err)
		return
	}
	defer os.RemoveAll(dir)
	report.State, report.Summary = change.Errored, "the commit could not be fetched"
	if err := b.fetch(ctx, j, dir); err == nil {
		pause(ctx, b.Takes)
		b.judge(dir, &report)
	} else {
		b.Log.Debug("bench: not fetched", "error", err)
	}
	if _, err := b.Client.ReportCheck(ctx, j.repo, report); err != nil {
		b.Log.Debug("bench: not taken", "error", err)
	}
}

// fetch fetches the very commit.
func (b *Bench) fetch(ctx context.Context, j job, dir string) error {
	for _, args := range [][]string{{"init", "-q"}, {"fetch", "-q", "--depth=1", j.git, j.Commit}, {"checkout", "-q", "--detach", "FETCH_HEAD"}} {
		cmd := exec.CommandContext(ctx, "git", args...)
		cmd.Dir = dir
		// By the environment, so that no list of processes shows the token.
		cmd.Env = append(os.Environ(), "GIT_CONFIG_NOSYSTEM=1", "GIT_CONFIG_GLOBAL=/dev/null", "GIT_TERMINAL_PROMPT=0", "GIT_CONFIG_COUNT=1",
			"GIT_CONFIG_KEY_0=http.extraHeader", "GIT_CONFIG_VALUE_0=Authorization: Bearer "+b.Token)
		if out, err := cmd.CombinedOutput(); err != nil {
			return fmt.Errorf("git %s: %w: %s", args[0], err, out)
		}
	}
	return nil
}

// newSeal in a program has the bench fail the first time it tries a commit: what engineers know as a flaky check.
const newSeal = "# new seal"

// judge reads the valve programs and says whether the pipe would stand them.
func (b *Bench) judge(dir string, report *wire.NewReport) {
	programs, err := filepath.Glob(filepath.Join(dir, "firmware", "valves", "*"))
	if err != nil {
		report.Summary = err.Error()
		return
	}
	report.State, report.Summary = change.Passed, fmt.Sprintf("%d programs ran on the bench", len(programs))
	report.Numbers = map[string]float64{"programs": float64(len(programs))}
	settled := report.Attempt > 1 // what is wrong at the first try only
	for _, path := range programs {
		text, err := os.ReadFile(path)
		if err != nil {
			report.State, report.Summary = change.Errored, err.Error()
			return
		}
		if strings.Contains(string(text), newSeal) && !settled {
			report.State, report.Summary = change.Failed, fmt.Sprintf("the new seal of %s drips; it may settle", filepath.Base(path))
		}
		for i, line := range strings.Split(string(text), "\n") {
			minutes, found := strings.CutPrefix(strings.TrimSpace(line), "wait ")
			if n, err := strconv.Atoi(minutes); found && (err != nil || n > longestWait) {
				report.State = change.Failed
				report.Summary = fmt.Sprintf("%s waits %s minutes with the valve open; the pipe stands %d", filepath.Base(path), minutes, longestWait)
				report.Annotations = append(report.Annotations, wire.Annotation{Path: "firmware/valves/" + filepath.Base(path), Line: i + 1, Level: "error",
					Text: fmt.Sprintf("%s minutes with the valve open; the pipe stands %d", minutes, longestWait)})
			}
		}
	}
}
