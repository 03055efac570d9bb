package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"tavrin/wire"
)

// common makes a folder that jobs may use whoever they run as.
func (w *town) common() string {
	w.t.Helper()
	dir, err := os.MkdirTemp("", "tavrin-common-")
	w.ok(err)
	w.t.Cleanup(func() { os.RemoveAll(dir) })
	w.ok(os.Chmod(dir, 0o777))
	return dir
}

// processes lists those whose command line holds a text.
func processes(text string) []string {
	lines, _ := filepath.Glob("/proc/[0-9]*/cmdline")
	var out []string
	for _, path := range lines {
		if line, err := os.ReadFile(path); err == nil && strings.Contains(string(line), text) {
			out = append(out, filepath.Dir(path))
		}
	}
	return out
}

// search is a job that looks for tokens wherever it can read, and for the folders of other jobs.
const search = `found=0
note() { echo "found: $1"; found=1; }
for p in /proc/[0-9]*; do
  [ "$p" = "/proc/$$" ] && continue
  cat $p/environ $p/cmdline 2>/dev/null | tr '\\0' '\\n' | grep -a 'tvr_[A-Z2-7]\\{20\\}' >/dev/null 2>&1 && note "a token of process $p"
  [ -r "$p/mem" ] && head -c 1 $p/maps >/dev/null 2>&1 && [ "$(readlink $p/exe)" = "RUNNER" ] && note "the memory of the runner $p"
done
for f in TOKENFILE /tmp/tavrin-*/* /dev/shm/tavrin-*/* $HOME/../../tavrin-job-*/home/* ELSEWHERE/tavrin-job-*/home/*; do
  case "$f" in "$HOME"/*) continue;; esac
  grep -s 'tvr_\\|the secret of another job' "$f" >/dev/null 2>&1 && note "$f"
done
mkdir -p "$HOME/stuck/in" stuck/in && chmod 000 "$HOME/stuck" stuck
exit $found
`

// A job reaches neither the token of its runner nor another job: it has a user of its own, or a sandbox. It does reach them where
// the runner was told that this is meant, so that the search can find (P7, P11).
func TestP7JobsAreKeptApart(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root can give jobs users of their own, and start a runner as somebody else")
	}
	w := newTown(t)
	w.begin(strings.Replace(commands, "timeout: 5s", "timeout: 60s", 1))
	w.runner()
	ctx := t.Context()
	program := filepath.Join(w.common(), "tavrin")
	w.ok(exec.Command("cp", binary, program).Run())
	w.ok(os.Chmod(program, 0o755))
	_, sandboxed := exec.LookPath("bwrap")
	if sandboxed != nil {
		t.Log("bubblewrap is not here: the sandbox is not tried")
	}
	nobody := &syscall.Credential{Uid: 65534, Gid: 65534, Groups: []uint32{}}
	for i, c := range []struct {
		name   string
		as     *syscall.Credential
		more   []string
		passes bool
		wants  error
	}{
		{"users of their own", nil, nil, true, nil},
		{"sandboxes", nobody, nil, true, sandboxed},
		{"beside the runner", nil, []string{"--beside-runner"}, false, nil},
		{"beside the runner, as nobody", nobody, []string{"--beside-runner"}, false, nil},
	} {
		if c.wants != nil {
			continue
		}
		work, keep := w.common(), w.common()
		token := filepath.Join(keep, "token")
		w.ok(os.WriteFile(token, []byte(w.tokens["barn"]), 0o600))
		run := func(more ...string) (string, error) {
			cmd := exec.Command(program, append([]string{"runner", "--token-file", token, "--once", "--beside-service", "--work-dir", work, "--url", w.url}, append(more, c.more...)...)...)
			cmd.Env, cmd.Dir = []string{"PATH=" + os.Getenv("PATH"), "HOME=" + keep}, "/"
			cmd.SysProcAttr = &syscall.SysProcAttr{Credential: c.as}
			out, err := cmd.CombinedOutput()
			return string(out), err
		}
		// Another job is under way, with a secret of its own at home.
		other := filepath.Join(work, "tavrin-job-of-another")
		w.ok(os.MkdirAll(filepath.Join(other, "home"), 0o700))
		w.ok(os.WriteFile(filepath.Join(other, "home", "x"), []byte("the secret of another job\n"), 0o600))
		if c.as != nil { // by a link to where it lies
			w.ok(os.Mkdir(filepath.Join(keep, "real"), 0o700))
			w.ok(os.Rename(token, filepath.Join(keep, "real", "token")))
			w.ok(os.Symlink(filepath.Join("real", "token"), token))
			w.ok(exec.Command("chown", "-R", "65534:65534", token, keep, other).Run())
		}
		branch := string(rune('a' + i))
		script := strings.NewReplacer("TOKENFILE", token+" "+filepath.Join(keep, "real", "token"), "ELSEWHERE", work, "RUNNER", program).Replace(search)
		k := w.propose("tamsin", branch, "unit.sh", script)
		if i > 0 { // it is another text of the same file
			dir := w.clone("tamsin")
			w.must("tamsin", dir, "checkout", "-q", branch)
			w.must("tamsin", dir, "reset", "-q", "--hard", "origin/main")
			w.commit("tamsin", dir, "unit.sh", script+"# "+branch+"\n", branch)
			w.must("tamsin", dir, "push", "-q", "--force", "origin", branch)
		}
		w.join("tamsin", k, "")
		commit := w.rehearsed(k)
		if out, err := run(); err != nil {
			t.Fatalf("%s: %v\n%s", c.name, err, out)
		}
		checks, err := w.as("ines").Checks(ctx, repo, commit)
		w.ok(err)
		if got := checks[0]; (got.State == "passed") != c.passes || c.passes == strings.Contains(got.Log, "found: ") {
			t.Errorf("%s: the search %s (%s):\n%s", c.name, got.State, got.Summary, got.Log)
		}
		w.until(k, "over", func(k wire.Change) bool {
			return k.State == "landed" || k.Entry != nil && k.Entry.State == "ejected"
		})
		if left, _ := filepath.Glob(filepath.Join(work, "tavrin-job-[0-9]*")); len(left) > 0 {
			t.Errorf("%s: jobs left %v", c.name, left)
		}
	}
	// A token that everybody may read, and a runner that can keep nothing apart, are refused.
	open := filepath.Join(w.common(), "token")
	w.ok(os.WriteFile(open, []byte(w.tokens["barn"]), 0o644))
	w.says("admin", 1, "chmod 600", "runner", "--token-file", open, "--once", "--beside-service", "--work-dir", w.common())
	cmd := exec.Command(program, "runner", "--token-file", open, "--once", "--beside-service", "--url", w.url)
	cmd.Env, cmd.Dir = []string{"PATH=/nowhere"}, "/"
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: nobody}
	out, err := cmd.CombinedOutput()
	if err == nil {
		t.Errorf("it starts: %s", out)
	}
	has(t, string(out), "as root", "bubblewrap", "--beside-runner")
}

// What a job leaves in folders that everybody may write to, and what it leaves running there, is gone after it.
func TestJobsLeaveNothing(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root can give jobs users of their own")
	}
	w := newTown(t)
	w.begin(commands)
	w.runner()
	token := filepath.Join(w.dir, "token")
	w.ok(os.WriteFile(token, []byte(w.tokens["barn"]), 0o600))
	k := w.propose("tamsin", "topic", "unit.sh", "mkdir /tmp/tavrin-test-left && echo x > /tmp/tavrin-test-left/x && echo x > /dev/shm/tavrin-test-left && ln -s /etc/passwd /tmp/tavrin-test-link\n"+
		"(setsid nohup sleep 987 >/dev/null 2>&1 &)\nid -u\n")
	w.join("tamsin", k, "")
	w.rehearsed(k)
	w.says("admin", 0, "state=passed", "runner", "--token-file", token, "--once", "--beside-service", "--work-dir", w.common(), "--job-users", "64300-64300")
	for _, path := range []string{"/tmp/tavrin-test-left", "/dev/shm/tavrin-test-left", "/tmp/tavrin-test-link"} {
		if _, err := os.Lstat(path); err == nil {
			t.Errorf("%s is still there", path)
		}
	}
	if left := processes("sleep\x00987"); len(left) > 0 {
		t.Errorf("still running: %v", left)
	}
	if _, err := os.Stat("/etc/passwd"); err != nil {
		t.Error(err)
	}
	w.says("admin", 2, "FIRST-LAST", "runner", "--token-file", token, "--job-users", "9")
}
