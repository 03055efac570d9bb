// Package workshop helps tests: an ordinary clone beside a bare repository, to make history with and to compare results
// with what git itself does. Nothing but tests uses it.
package workshop

import (
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"tavrin/internal/git"
)

// Workshop is the clone and the bare repository.
type Workshop struct {
	testing.TB
	Dir  string // of the clone
	Bare string // of the bare repository
	Repo *git.Repo
	// Program is what runs git in the bare repository.
	Program *git.Program
	// Env is added to what git in the clone sees.
	Env  []string
	tick int
}

// New makes both, empty.
func New(t testing.TB) *Workshop {
	t.Helper()
	root := t.TempDir()
	bare := filepath.Join(root, "bare.git")
	program := &git.Program{Home: root}
	t.Cleanup(program.Close)
	repo, err := git.Create(t.Context(), program, bare, "main")
	if err != nil {
		t.Fatal(err)
	}
	w := &Workshop{TB: t, Dir: filepath.Join(root, "work"), Bare: bare, Repo: repo, Program: program}
	if err := os.Mkdir(w.Dir, 0o755); err != nil {
		t.Fatal(err)
	}
	w.Git("init", "-q", "-b", "main")
	w.Git("remote", "add", "origin", bare)
	return w
}

// Git runs git in the clone and returns what it says; the test ends when it fails.
func (w *Workshop) Git(args ...string) string {
	w.Helper()
	out, err := w.Try(args...)
	if err != nil {
		w.Fatalf("git %v: %v\n%s", args, err, out)
	}
	return strings.TrimSpace(out)
}

// Try runs git in the clone.
func (w *Workshop) Try(args ...string) (string, error) { return w.TryWith(nil, args...) }

// TryWith runs git in the clone with something to read. Each command has a time of its own, a second later.
func (w *Workshop) TryWith(stdin io.Reader, args ...string) (string, error) {
	w.tick++
	cmd := exec.Command("git", args...)
	cmd.Stdin = stdin
	cmd.Dir = w.Dir
	when := fmt.Sprintf("%d +0000", 1790000000+w.tick)
	const name, address = "Ines Varga", "ines@fennmoor.example"
	cmd.Env = append(os.Environ(), "GIT_CONFIG_GLOBAL=/dev/null", "GIT_CONFIG_NOSYSTEM=1", "GIT_AUTHOR_NAME="+name,
		"GIT_AUTHOR_EMAIL="+address, "GIT_COMMITTER_NAME="+name, "GIT_COMMITTER_EMAIL="+address,
		"GIT_AUTHOR_DATE="+when, "GIT_COMMITTER_DATE="+when)
	cmd.Env = append(cmd.Env, w.Env...)
	out, err := cmd.CombinedOutput()
	return string(out), err
}

// Write writes a file of the clone.
func (w *Workshop) Write(path, text string) {
	w.Helper()
	full := filepath.Join(w.Dir, path)
	if err := os.MkdirAll(filepath.Dir(full), 0o755); err != nil {
		w.Fatal(err)
	}
	if err := os.WriteFile(full, []byte(text), 0o644); err != nil {
		w.Fatal(err)
	}
}

// Commit commits everything and returns the commit.
func (w *Workshop) Commit(message string) string {
	w.Helper()
	w.Git("add", "-A")
	w.Git("commit", "-q", "--allow-empty", "-m", message)
	return w.Git("rev-parse", "HEAD")
}

// Push pushes all branches.
func (w *Workshop) Push() { w.Git("push", "-q", "--force", "origin", "--all") }

// Lines are n lines, of which some say something else.
func Lines(n int, change map[int]string) string {
	var b strings.Builder
	for i := range n {
		if text, ok := change[i]; ok {
			b.WriteString(text + "\n")
		} else {
			fmt.Fprintf(&b, "line %d\n", i)
		}
	}
	return b.String()
}
