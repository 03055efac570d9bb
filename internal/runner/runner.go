// Package runner runs checks that the rules define as commands.
//
// A runner is a program apart from the service, meant for another machine or another user, because what it runs comes
// from changes. It takes one job at a time: a commit, a command and a lease that opens that commit and that attempt and
// nothing else. The command runs in a clean checkout, in a process group of its own, with a time limit and an output
// limit, and without the runner's environment; it is kept from the runner's token and from other jobs (see apart.go),
// and whatever it leaves running is ended.
package runner

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"

	"tavrin/client"
	"tavrin/internal/core/change"
	"tavrin/wire"
)

const (
	// maxOutput ends a command that writes more, in bytes.
	maxOutput = 32 << 20
	// keptOutput is how much of the end of the output is sent, in bytes.
	keptOutput = 48 << 10
	// sign is how often a runner gives a sign of life.
	sign = 10 * time.Second
	// pause is how long a runner waits when there is nothing to do.
	pause = 500 * time.Millisecond
	// grace is how long a command may take to end when it is told to.
	grace = 3 * time.Second
)

// Options is what a runner is started with.
type Options struct {
	Client *client.Client
	Log    *slog.Logger
	// Dir is where checkouts are made; empty: the system's folder for temporary files.
	Dir string
	// BesideService lets the runner start where it can read the service's data. Only a demonstration wants that.
	BesideService bool
	// TokenFile is the file that the runner's token was read from. Jobs must not be able to read it.
	TokenFile string
	// BesideRunner lets jobs run as the runner's own user, where they can read its token. Only a demonstration wants
	// that.
	BesideRunner bool
	// FirstUser and LastUser are the users among which a runner that root has started gives jobs theirs; 0: the default
	// ones.
	FirstUser, LastUser int
	// Once makes the runner end when no job is waiting.
	Once bool
}

// ErrTooClose is returned when the runner could read the service's data.
var ErrTooClose = errors.New("this runner can read the service's data, and the checks it runs could too: " +
	"run it as another user or on another machine, or say --beside-service if you trust everybody who may push")

// Run takes jobs until the context ends.
func Run(ctx context.Context, o Options) error {
	if err := standApart(ctx, o); err != nil {
		return err
	}
	kept, err := keepApart(o)
	if err != nil {
		return err
	}
	if err := adoptOrphans(); err != nil {
		return fmt.Errorf("become responsible for what jobs leave behind: %w", err)
	}
	o.Log.Info("runner ready", "service", o.Client.URL())
	for ctx.Err() == nil {
		job, err := o.Client.Lease(ctx)
		switch {
		case err != nil && ctx.Err() == nil:
			var p *client.Problem
			if errors.As(err, &p) && (p.Status == 401 || p.Status == 403) {
				return err
			}
			o.Log.Warn("no job could be asked for", "error", err)
			wait(ctx, 4*pause)
		case job != nil:
			runOne(ctx, o, kept, *job)
		case o.Once:
			return nil
		default:
			wait(ctx, pause)
		}
	}
	return nil
}

func wait(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

// standApart refuses to go on where the service's folder can be read.
func standApart(ctx context.Context, o Options) error {
	place, err := o.Client.RunnerPlace(ctx)
	if err != nil {
		return err
	}
	content, err := os.ReadFile(place.Path)
	if err != nil {
		return nil
	}
	if sum := sha256.Sum256(content); hex.EncodeToString(sum[:]) != place.SHA256 {
		return nil
	}
	if !o.BesideService {
		return ErrTooClose
	}
	o.Log.Warn("this runner can read the service's data; it was told that this is meant")
	return nil
}

// runOne runs one job and sends its answer.
func runOne(ctx context.Context, o Options, kept apart, job wire.Job) {
	log := o.Log.With("repository", job.Repository, "check", job.Check, "commit", job.Commit[:10], "attempt",
		job.Attempt)
	log.Info("job begins")
	running, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	var alive sync.WaitGroup
	alive.Go(func() { keepAlive(running, o.Client, job, cancel) })
	begin := time.Now()
	output := &tail{max: keptOutput}
	state, summary := execute(running, o, kept, job, output)
	cause := context.Cause(running)
	cancel(nil)
	alive.Wait()
	took := time.Since(begin).Round(10 * time.Millisecond)
	log.Info("job ended", "state", state, "took", took)
	if cause != nil {
		log.Warn("the job was given up", "why", cause)
		return
	}
	sending, done := context.WithTimeout(context.WithoutCancel(ctx), 20*time.Second)
	defer done()
	if err := o.Client.FinishJob(sending, job, wire.JobResult{State: change.CheckState(state), Summary: fmt.Sprintf("%s in %s", summary, took), Log: output.String()}); err != nil {
		log.Warn("the answer was not taken", "error", err)
	}
}

// keepAlive prolongs the lease until the job ends; a lease that is over ends the job.
func keepAlive(ctx context.Context, c *client.Client, job wire.Job, cancel context.CancelCauseFunc) {
	for {
		wait(ctx, sign)
		if ctx.Err() != nil {
			return
		}
		var p *client.Problem
		if err := c.JobAlive(ctx, job); errors.As(err, &p) && p.Status == 409 {
			cancel(err)
			return
		}
	}
}

// execute checks the commit out and runs the command. It returns the state of the check and a summary.
func execute(ctx context.Context, o Options, kept apart, job wire.Job, output *tail) (state, summary string) {
	p, err := kept.take(o.Dir)
	if err != nil {
		return "errored", "no place for the job: " + err.Error()
	}
	defer p.leave(o.Log)
	tree, err := p.mkdir("checkout")
	home, homeErr := p.mkdir("home")
	if err := errors.Join(err, homeErr); err != nil {
		return "errored", err.Error()
	}
	env := []string{"PATH=" + os.Getenv("PATH"), "HOME=" + home, "TMPDIR=" + home, "LANG=C.UTF-8", "CI=true",
		"GIT_CONFIG_NOSYSTEM=1",
		"TAVRIN_REPOSITORY=" + job.Repository, "TAVRIN_COMMIT=" + job.Commit, "TAVRIN_CHECK=" +
			job.Check, fmt.Sprintf("TAVRIN_ATTEMPT=%d", job.Attempt)}
	if err := checkout(ctx, o.Client, job, p, tree, env); err != nil {
		return "errored", "the checkout failed: " + err.Error()
	}
	limit := time.Duration(job.TimeoutSeconds) * time.Second
	limited, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	cmd := p.command(limited, tree, env, "sh", "-c", job.Command)
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGTERM) }
	cmd.WaitDelay = grace
	output.full = func() { cancel() }
	cmd.Stdout, cmd.Stderr = output, output
	err = cmd.Run()
	endLeftovers(cmd.Process)
	var exit *exec.ExitError
	switch {
	case output.total > maxOutput:
		return "errored", fmt.Sprintf("ended: it wrote more than %d MiB", maxOutput>>20)
	case errors.Is(limited.Err(), context.DeadlineExceeded) && ctx.Err() == nil:
		return "failed", fmt.Sprintf("ended: it took longer than its timeout of %s", limit)
	case ctx.Err() != nil:
		return "cancelled", "called off"
	case err == nil || errors.Is(err, exec.ErrWaitDelay):
		return "passed", "exit status 0"
	case errors.As(err, &exit):
		return "failed", exit.Error()
	}
	return "errored", "it could not be started: " + err.Error()
}

// checkout makes a clean work tree of the job's commit, with a Git repository of that one commit.
func checkout(ctx context.Context, c *client.Client, job wire.Job, p *place, tree string, env []string) error {
	pack, err := c.JobPack(ctx, job)
	if err != nil {
		return err
	}
	defer pack.Close()
	git := func(stdin io.Reader, args ...string) error {
		cmd := p.command(ctx, tree, env, "git", args...)
		cmd.Stdin = stdin
		if out, err := cmd.CombinedOutput(); err != nil {
			return fmt.Errorf("git %s: %w: %s", args[0], err, bytes.TrimSpace(out))
		}
		return nil
	}
	if err := git(nil, "init", "-q"); err != nil {
		return err
	}
	if err := git(pack, "index-pack", "--stdin"); err != nil {
		return err
	}
	shallow := filepath.Join(tree, ".git", "shallow")
	if err := errors.Join(os.WriteFile(shallow, []byte(job.Commit+"\n"), 0o600), p.own(shallow)); err != nil {
		return err
	}
	return git(nil, "-c", "advice.detachedHead=false", "checkout", "-q", job.Commit, "--")
}

// tail keeps the end of what is written to it, and calls full when there was too much.
type tail struct {
	mu    sync.Mutex
	max   int
	total int
	buf   []byte
	full  func()
}

func (t *tail) Write(p []byte) (int, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.total += len(p); t.total > maxOutput && t.full != nil {
		t.full()
	}
	t.buf = append(t.buf, p...)
	if extra := len(t.buf) - t.max; extra > 0 {
		t.buf = append(t.buf[:0], t.buf[extra:]...)
	}
	return len(p), nil
}

func (t *tail) String() string {
	t.mu.Lock()
	defer t.mu.Unlock()
	text := string(t.buf)
	if t.total > t.max {
		_, text, _ = strings.Cut(text, "\n")
		text = "… (the beginning was left out)\n" + text
	}
	return text
}
