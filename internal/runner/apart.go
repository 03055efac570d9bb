package runner

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"math/rand/v2"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
)

// What a job runs comes from a change, so that it may look for the runner's token and for other jobs. It is kept from
// both in one of two ways: a runner that root has started gives each job a user of its own; another one puts it into a
// sandbox by bubblewrap (bwrap), where the system has it. A runner that can do neither does not start, unless it is
// told so.

// FirstJobUser and LastJobUser are the users among which jobs are given theirs, unless the runner is told others:
// numbers that no system hands out by itself.
const (
	FirstJobUser = 64100
	LastJobUser  = 64199
)

// ErrNotApart is returned when jobs can not be kept apart.
var ErrNotApart = errors.New("jobs could read this runner's token, and could reach each other: start the runner as " +
	"root, so that each job has a user of its own, " +
	"or install bubblewrap (bwrap), so that each has a sandbox; or say --beside-runner if you trust everybody who " +
	"may push")

// ErrTokenInReach is returned when a job could read the token's file although it is kept apart.
var ErrTokenInReach = errors.New("a job could read this file: let only its owner read it (chmod 600)")

// apart is how jobs are kept from the runner and from each other. The zero value keeps nothing apart.
type apart struct {
	users   bool   // each has a user of its own
	sandbox string // the program bwrap
	hidden  []string
	first   int
	last    int
}

// keepApart finds out how jobs can be kept apart here, and that they are.
func keepApart(o Options) (apart, error) {
	var err error
	if o.TokenFile, err = filepath.Abs(o.TokenFile); err != nil {
		return apart{}, err
	}
	if real, err := filepath.EvalSymlinks(o.TokenFile); err == nil {
		o.TokenFile = real // where it lies is what must not be reached
	}
	if o.BesideRunner {
		o.Log.Warn("jobs run as this runner's own user and can read its token; it was told that this is meant")
		return apart{}, nil
	}
	a := apart{first: o.FirstUser, last: o.LastUser}
	if a.first == 0 {
		a.first, a.last = FirstJobUser, LastJobUser
	}
	if program, err := exec.LookPath("bwrap"); os.Geteuid() == 0 {
		a.users = true
	} else if err == nil {
		a.sandbox, a.hidden = program, hidden(o)
	} else {
		return a, ErrNotApart
	}
	return a, a.probe(o)
}

// hidden lists the folders that a sandbox shows empty: where people and programs keep what is theirs.
func hidden(o Options) []string {
	all := []string{"/home", "/root", "/run", "/tmp", "/var/tmp", "/dev/shm", "/mnt", "/media", "/srv",
		filepath.Dir(o.TokenFile)}
	if home, err := os.UserHomeDir(); err == nil {
		all = append(all, home)
	}
	var out []string
	for _, dir := range all {
		dir, err := filepath.EvalSymlinks(dir)
		if info, statErr := os.Stat(dir); err == nil && statErr == nil && info.IsDir() && dir != "/" {
			out = append(out, dir)
		}
	}
	return out
}

// probe tries, as a job, to read what a job must not.
func (a apart) probe(o Options) error {
	p, err := a.take(o.Dir)
	if err != nil {
		return err
	}
	defer p.leave(o.Log)
	try := p.command(context.Background(), p.dir, []string{"PATH=" + os.Getenv("PATH")}, "sh", "-c",
		`cat -- "$0" >/dev/null 2>&1 && exit 3; exit 0`, o.TokenFile)
	out, err := try.CombinedOutput()
	var exit *exec.ExitError
	switch {
	case errors.As(err, &exit) && exit.ExitCode() == 3:
		return fmt.Errorf("%s: %w", o.TokenFile, ErrTokenInReach)
	case errors.Is(err, fs.ErrPermission):
		return fmt.Errorf("jobs cannot enter the folder for checkouts, %s: let everybody pass through it and what "+
			"it lies in (chmod a+x), or say another with --work-dir", filepath.Dir(p.dir))
	case err != nil:
		return fmt.Errorf("try how jobs are kept apart: %w: %s", err, strings.TrimSpace(string(out)))
	}
	return nil
}

// place is where one job runs, and as whom.
type place struct {
	apart
	dir  string   // of the job, with its checkout and its home
	user int      // 0: the runner's own
	lock *os.File // on the user, so that no other runner gives it to a job
}

// take makes a place for a job below a folder; empty: the system's for temporary files.
func (a apart) take(below string) (*place, error) {
	p := &place{apart: a}
	var err error
	if p.dir, err = os.MkdirTemp(below, "tavrin-job-"); err != nil {
		return nil, err
	}
	if a.users {
		if err = p.takeUser(); err == nil {
			err = os.Chown(p.dir, p.user, p.user)
		}
	}
	if err != nil {
		return nil, errors.Join(err, os.RemoveAll(p.dir), p.unlock())
	}
	return p, nil
}

// locks is where a runner that root has started notes which users are taken. Nobody else can write there.
const locks = "/run/tavrin-job-users"

// takeUser takes the first user of the range who is nobody's, runs nothing, and is taken by no other runner.
func (p *place) takeUser() error {
	if err := os.MkdirAll(locks, 0o700); err != nil {
		return fmt.Errorf("note which users jobs have: %w", err)
	}
	running, err := usersRunning()
	if err != nil {
		return err
	}
	n := p.last - p.first + 1
	begin := rand.IntN(n) // not the user of the job before
	for i := range n {
		id := p.first + (begin+i)%n
		if _, err := user.LookupId(strconv.Itoa(id)); err == nil || running[id] {
			continue
		}
		f, err := os.OpenFile(filepath.Join(locks, strconv.Itoa(id)), os.O_CREATE|os.O_RDWR, 0o600)
		if err != nil {
			return fmt.Errorf("note which users jobs have: %w", err)
		}
		if syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB) == nil {
			p.user, p.lock = id, f
			return nil
		}
		f.Close()
	}
	return fmt.Errorf("no user is left for a job: those from %d to %d are taken; say others with --job-users FIRST-LAST", p.first, p.last)
}

func (p *place) unlock() error {
	if p.lock == nil {
		return nil
	}
	return p.lock.Close()
}

// mkdir makes a folder of the job's own.
func (p *place) mkdir(name string) (string, error) {
	dir := filepath.Join(p.dir, name)
	if err := os.Mkdir(dir, 0o700); err != nil {
		return "", err
	}
	return dir, p.own(dir)
}

// own gives a file to the job.
func (p *place) own(path string) error {
	if p.user == 0 {
		return nil
	}
	return os.Lchown(path, p.user, p.user)
}

// command is a program that runs as the job, in a folder of its own.
func (p *place) command(ctx context.Context, dir string, env []string, name string, args ...string) *exec.Cmd {
	if p.sandbox != "" {
		words := []string{"--die-with-parent", "--new-session", "--unshare-all", "--share-net", "--ro-bind", "/", "/",
			"--dev", "/dev", "--proc", "/proc"}
		for _, h := range p.hidden {
			words = append(words, "--tmpfs", h)
		}
		words = append(words, "--bind", p.dir, p.dir, "--chdir", dir, "--", name)
		name, args = p.sandbox, append(words, args...)
	}
	cmd := exec.CommandContext(ctx, name, args...)
	cmd.Dir, cmd.Env = dir, env
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if p.user != 0 {
		cmd.SysProcAttr.Credential = &syscall.Credential{Uid: uint32(p.user), Gid: uint32(p.user), Groups: []uint32{}}
	}
	return cmd
}

// leave ends whatever the job's user still runs, removes what it has left anywhere, and gives the user back.
func (p *place) leave(log *slog.Logger) {
	if p.user != 0 {
		p.endUser()
		// memory that processes of one user share by number outlives them
		if remove, err := exec.LookPath("ipcrm"); err == nil {
			p.command(context.Background(), "/", nil, remove, "--all").Run()
		}
		for _, dir := range []string{"/tmp", "/var/tmp", "/dev/shm"} {
			p.sweep(dir)
		}
	}
	// what the job has closed cannot be removed
	filepath.WalkDir(p.dir, func(path string, d fs.DirEntry, err error) error {
		if err == nil && d.IsDir() {
			os.Chmod(path, 0o700)
		}
		return nil
	})
	if err := errors.Join(os.RemoveAll(p.dir), p.unlock()); err != nil {
		log.Warn("a job's folder was not removed", "folder", p.dir, "error", err)
	}
}

// sweep removes what is the job's user's below a folder that everybody may write to.
func (p *place) sweep(dir string) {
	filepath.WalkDir(dir, func(path string, _ fs.DirEntry, err error) error {
		info, statErr := os.Lstat(path)
		if err != nil || statErr != nil {
			return nil // gone, or not to be looked into: not the job's
		}
		if stat, ok := info.Sys().(*syscall.Stat_t); ok && int(stat.Uid) == p.user && path != dir {
			os.RemoveAll(path) // what cannot be removed belongs to nobody who runs a job here
			if info.IsDir() {
				return fs.SkipDir
			}
		}
		return nil
	})
}
