package process

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os/exec"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sync/semaphore"

	"tavrin/internal/bounds"
)

// Every git process of the service is started in this file, in a group of its own, and is ended with its children when
// it exceeds its time, its processor time, its memory or what is read of its answer. How many run at once is bounded
// too, in all and for each person.

// stopGrace is how long a git that was asked to end may take to clean up after itself.
const stopGrace = 3 * time.Second

// turnWait is how long somebody waits for their turn before they are told to come back.
const turnWait = 30 * time.Second

// transfers are the commands that take as long as somebody's line does.
var transfers = []string{"upload-pack", "index-pack", "fetch", "repack", "pack-objects"}

// turns hands out places among the processes that run at once. Its zero value hands out as many as the bounds say.
type turns struct {
	mu     sync.Mutex
	all    *semaphore.Weighted
	people map[string]*place
}

// place is what one person has of the turns.
type place struct {
	*semaphore.Weighted
	users int // who hold or await a turn: the last one out forgets it
}

type (
	personKey struct{}
	turnKey   struct{}
)

// For names the person or address that the git processes started under the context are for.
func For(ctx context.Context, person string) context.Context {
	return context.WithValue(ctx, personKey{}, person)
}

// Enter waits for a turn. Whatever runs under the context it returns has its turn already, so that an operation of
// several processes cannot stand in its own way.
func (p *Program) Enter(ctx context.Context) (context.Context, func(), error) {
	if ctx.Value(turnKey{}) != nil {
		return ctx, func() {}, nil
	}
	b := p.bounds()
	person, _ := ctx.Value(personKey{}).(string)
	t := &p.turns
	t.mu.Lock()
	if t.all == nil {
		t.all, t.people = semaphore.NewWeighted(b.GitProcesses), map[string]*place{}
	}
	mine := t.people[person]
	if mine == nil {
		mine = &place{Weighted: semaphore.NewWeighted(b.GitPersonProcesses)}
		if person == "" {
			mine.Weighted = semaphore.NewWeighted(b.GitProcesses) // the service's own
		}
		t.people[person] = mine
	}
	mine.users++
	t.mu.Unlock()
	forget := func() {
		t.mu.Lock()
		defer t.mu.Unlock()
		if mine.users--; mine.users == 0 {
			delete(t.people, person)
		}
	}
	waiting, cancel := context.WithTimeout(ctx, turnWait)
	defer cancel()
	if mine.Acquire(waiting, 1) != nil {
		forget()
		return ctx, nil, errors.Join(ctx.Err(), b.Reach("git.person-processes",
			"%s has as many git processes as one may", person))
	}
	// The service's own work waits for nobody: who holds a turn may be waiting for it.
	if person == "" {
		return context.WithValue(ctx, turnKey{}, true), sync.OnceFunc(func() { mine.Release(1); forget() }), nil
	}
	if t.all.Acquire(waiting, 1) != nil {
		mine.Release(1)
		forget()
		return ctx, nil, errors.Join(ctx.Err(), b.Reach("git.processes", "as many git processes run as may"))
	}
	return context.WithValue(ctx, turnKey{},
		true), sync.OnceFunc(func() { t.all.Release(1); mine.Release(1); forget() }), nil
}

// process is one running git.
type process struct {
	cmd    *exec.Cmd
	args   []string
	stderr *tail
	ctx    context.Context // ends when the process has to
	cancel context.CancelFunc
	leave  func()
	bound  *bounds.Reached // why it was ended, when a bound was reached
	late   *bounds.Reached // the bound on its time
	spent  *bounds.Reached // the one on its processor's time
	ended  sync.Once
	err    error // how it ended
}

// late is the bound on the time of a command.
func (at Place) late(args []string) *bounds.Reached {
	name := "git.seconds"
	if slices.Contains(transfers, command(args)) {
		name = "git.transfer-seconds"
	}
	return at.Bounds().Reach(name, "git %s took too long", command(args))
}

// Most is how long one piece of work may take.
func (at Place) Most() time.Duration { return at.most(nil) }

// most is how long a command may take.
func (at Place) most(args []string) time.Duration {
	b := at.Bounds()
	seconds := b.GitSeconds
	if slices.Contains(transfers, command(args)) {
		seconds = b.GitTransferSeconds
	}
	return time.Duration(seconds) * time.Second
}

// prepare makes a git process ready to be started, once it is its turn. It is ended when it takes longer than most; 0: it
// ends with the context alone.
func (at Place) prepare(ctx context.Context, most time.Duration, args ...string) (*process, error) {
	inside, leave, err := at.program.Enter(ctx)
	if err != nil {
		return nil, err
	}
	if at.program.Started != nil {
		at.program.Started(args)
	}
	p := &process{args: args, stderr: &tail{max: 8 << 10}, leave: leave, late: at.late(args),
		spent: at.Bounds().Reach("git.cpu-seconds", "git %s used up its processor time", command(args))}
	if p.ctx, p.cancel = context.WithCancel(inside); most > 0 {
		p.ctx, p.cancel = context.WithTimeoutCause(inside, most, p.late)
	}
	cmd := exec.CommandContext(p.ctx, "git", args...)
	cmd.Dir, cmd.Env, cmd.Stderr = cmp.Or(at.workTree, at.Dir), at.program.environment(at.env...), p.stderr
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGKILL}
	cmd.Cancel = func() error {
		time.AfterFunc(stopGrace, func() { syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) })
		return syscall.Kill(-cmd.Process.Pid, syscall.SIGTERM)
	}
	cmd.WaitDelay = stopGrace + time.Second
	p.cmd = cmd
	return p, nil
}

// command returns the name of a git command among its arguments.
func command(args []string) string {
	for i := 0; i < len(args); i++ {
		switch {
		case args[i] == "-c":
			i++
		case !strings.HasPrefix(args[i], "-"):
			return args[i]
		}
	}
	return ""
}

// start starts it, bounded.
func (p *process) start(b *bounds.Bounds) error {
	if err := p.cmd.Start(); err != nil {
		return errors.Join(fmt.Errorf("start git %s: %w", command(p.args), err), p.giveUp())
	}
	restrict(p.cmd.Process.Pid, b.GitMemory, b.GitCPUSeconds)
	return nil
}

// giveUp gives back the turn of a process that is not started after all.
func (p *process) giveUp() error {
	p.cancel()
	p.leave()
	return nil
}

// Wait waits for its end, ends what it may have left, and says what went wrong. Who is told that it broke and who
// closes it both wait: the second gets the same answer.
func (p *process) Wait() error {
	p.ended.Do(func() { p.err = p.end() })
	return p.err
}

func (p *process) end() error {
	err := p.cmd.Wait()
	syscall.Kill(-p.cmd.Process.Pid, syscall.SIGKILL) // children that outlive their parent
	late := context.Cause(p.ctx) == error(p.late)
	p.cancel()
	p.leave()
	switch {
	case err == nil:
		return nil
	case p.bound != nil:
		return p.bound
	case late:
		return p.late
	}
	failed := &CommandError{Args: p.args, Code: -1, Stderr: p.stderr.String(), Err: err}
	if exit := (*exec.ExitError)(nil); errors.As(err, &exit) {
		failed.Code = exit.ExitCode()
		if status, ok := exit.Sys().(syscall.WaitStatus); ok && status.Signaled() {
			failed.Killed = true
			if status.Signal() == syscall.SIGXCPU {
				return p.spent
			}
		}
	}
	return failed
}

// CommandError is a git command that failed.
type CommandError struct {
	Args   []string
	Code   int    // exit status; -1 when it did not run or was killed
	Killed bool   // it did not end by itself
	Stderr string // what git said
	Err    error
}

// Error names the command and what git said.
func (e *CommandError) Error() string {
	said := strings.TrimSpace(e.Stderr)
	if said == "" {
		said = e.Err.Error()
	}
	return fmt.Sprintf("git %s: %s", command(e.Args), said)
}

// Unwrap returns the error of running the command.
func (e *CommandError) Unwrap() error { return e.Err }

// ExitCode returns the exit status behind an error of Run, or -1.
func ExitCode(err error) int {
	var e *CommandError
	if errors.As(err, &e) && !e.Killed {
		return e.Code
	}
	return -1
}

// Run runs git and returns its standard output.
func (at Place) Run(ctx context.Context, stdin io.Reader, args ...string) ([]byte, error) {
	var out bytes.Buffer
	b := at.Bounds()
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	w := &limit{w: &out, left: b.GitOutput, full: cancel}
	err := at.Stream(ctx, stdin, w, args...)
	if w.over {
		return nil, b.Reach("git.output-bytes", "git %s has too much to say", command(args))
	}
	return out.Bytes(), err
}

// Stream runs git with its standard output going to w.
func (at Place) Stream(ctx context.Context, stdin io.Reader, w io.Writer, args ...string) error {
	p, err := at.prepare(ctx, at.most(args), args...)
	if err != nil {
		return err
	}
	p.cmd.Stdin, p.cmd.Stdout = stdin, w
	if err := p.start(at.Bounds()); err != nil {
		return err
	}
	return p.Wait()
}

// Limited returns at most max bytes of a command's output, and whether there is more.
func (at Place) Limited(ctx context.Context, max int, args ...string) (string, bool, error) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	var out bytes.Buffer
	w := &limit{w: &out, left: int64(max), full: cancel}
	err := at.Stream(ctx, nil, w, args...)
	if w.over {
		err = nil
	}
	return out.String(), w.over, err
}

// limit passes on so many bytes, and then calls for the end.
type limit struct {
	w    io.Writer
	left int64
	over bool
	full func()
}

func (l *limit) Write(p []byte) (int, error) {
	if int64(len(p)) > l.left {
		l.w.Write(p[:l.left]) // that the rest is missing is the error to tell
		l.left, l.over = 0, true
		l.full()
		return 0, io.ErrShortWrite
	}
	l.left -= int64(len(p))
	return l.w.Write(p)
}

// tail keeps the last bytes written to it.
type tail struct {
	max int
	buf []byte
}

func (t *tail) Write(p []byte) (int, error) {
	t.buf = append(t.buf, p...)
	if extra := len(t.buf) - t.max; extra > 0 {
		t.buf = t.buf[extra:]
	}
	return len(p), nil
}

func (t *tail) String() string { return string(t.buf) }
