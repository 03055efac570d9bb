// Package lab is what tests of rooms stand on: the rooms of a service in a folder of the test's own, with a clock that
// tests move on by hand, an administrator, people, and a repository with a first commit. Nothing runs by itself: no
// server, no loops, no lock on the folder.
package lab

import (
	"errors"
	"fmt"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"tavrin/internal/accounts"
	"tavrin/internal/outbound"
	"tavrin/internal/problem"
	"tavrin/internal/records"
	"tavrin/internal/service"
	"tavrin/internal/signing"
	"tavrin/wire"
)

// The house and the repository of every lab.
const (
	House = "growers"
	Name  = "growers/irrigation"
)

// Lab is the rooms of a service, and what tests need of them.
type Lab struct {
	service.Rooms
	T     testing.TB
	Dir   string // the service's folder
	Key   *signing.Key
	Admin accounts.Actor
	Repo  *records.Repository

	mu    sync.Mutex
	clock time.Time
	step  func(string)
}

// New returns a lab whose clock stands at eight in the morning of a day in November. Whenever a remembered gate is used
// it is judged anew too, and the test fails where the two differ.
func New(t testing.TB) *Lab {
	t.Helper()
	return furnished(t, func(what string) { t.Error(what) }, outbound.Options{})
}

// Calling is a lab that may call what is outside.
func Calling(t testing.TB, outside outbound.Options) *Lab {
	t.Helper()
	return furnished(t, func(what string) { t.Error(what) }, outside)
}

// Trusting is a lab in which remembered gates are used as in service, without being judged anew.
func Trusting(t testing.TB) *Lab {
	t.Helper()
	return furnished(t, nil, outbound.Options{})
}

func furnished(t testing.TB, doubt func(what string), outside outbound.Options) *Lab {
	t.Helper()
	l := &Lab{T: t, Dir: t.TempDir(), clock: time.Date(2026, 11, 2, 8, 0, 0, 0, time.UTC)}
	repos, home := filepath.Join(l.Dir, "repositories"), filepath.Join(l.Dir, "home")
	for _, dir := range []string{repos, home} {
		l.Ok(os.Mkdir(dir, 0o700))
	}
	key, err := signing.Open(filepath.Join(l.Dir, "signing.key"))
	l.Ok(err)
	l.Key = key
	r, err := records.Open(t.Context(), filepath.Join(l.Dir, "records.sqlite"), l.Now)
	l.Ok(err)
	t.Cleanup(func() { r.Close() })
	l.Rooms = service.Furnish(r, key, l.Dir, repos, home, service.Options{Now: l.Now, At: func(step string) {
		if l.step != nil {
			l.step(step)
		}
	}, Doubt: doubt, Outside: outside, Address: "https://tavrin.example"})
	token, err := l.Access.FirstStart(t.Context())
	l.Ok(err)
	l.Admin, err = l.Access.Authenticate(t.Context(), token)
	l.Ok(err)
	_, err = l.Repositories.CreateHouse(t.Context(), l.Admin, House)
	l.Ok(err)
	_, err = l.Repositories.CreateRepository(t.Context(), l.Admin, wire.NewRepository{Name: Name})
	l.Ok(err)
	l.Repo = &records.Repository{}
	l.Ok(r.Read(t.Context()).Where("name = ?", Name).First(l.Repo).Error)
	return l
}

// Now is the lab's clock.
func (l *Lab) Now() time.Time {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.clock
}

// Wait moves the clock on.
func (l *Lab) Wait(d time.Duration) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.clock = l.clock.Add(d)
}

// AtSteps has a function called at every step of a landing or of a recorded push.
func (l *Lab) AtSteps(f func(step string)) { l.step = f }

// Ok ends the test on an error.
func (l *Lab) Ok(err error) {
	l.T.Helper()
	if err != nil {
		l.T.Fatal(err)
	}
}

// Is fails the test unless the error is a problem of this kind with these words.
func (l *Lab) Is(err error, kind problem.Kind, words string) {
	l.T.Helper()
	p, ok := errors.AsType[*problem.Problem](err)
	if !ok || p.Kind != kind || !strings.Contains(p.Text, words) {
		l.T.Errorf("error is %v; want %s: %s", err, kind, words)
	}
}

// Token makes a person or a robot, with a token.
func (l *Lab) Token(n accounts.NewToken, robot bool) string {
	l.T.Helper()
	_, err := l.People.CreateAccount(l.T.Context(), l.Admin, wire.NewPerson{Login: n.Login, Robot: robot})
	l.Ok(err)
	t, err := l.Access.CreateToken(l.T.Context(), l.Admin, n)
	l.Ok(err)
	return t.Secret
}

// AnotherToken makes one more token of somebody, of scope all.
func (l *Lab) AnotherToken(login string) string {
	l.T.Helper()
	t, err := l.Access.CreateToken(l.T.Context(), l.Admin, accounts.NewToken{Login: login})
	l.Ok(err)
	return t.Secret
}

// Quiet is a log that nobody reads.
var Quiet = slog.New(slog.DiscardHandler)

// Person makes a person with a role in the repository, signed in.
func (l *Lab) Person(login, role string) accounts.Actor {
	l.T.Helper()
	a, err := l.Access.Authenticate(l.T.Context(), l.Token(accounts.NewToken{Login: login}, false))
	l.Ok(err)
	l.Ok(l.People.Grant(l.T.Context(), l.Admin, Name, login, role))
	return a
}

// Robot makes a robot with a token for one purpose, signed in.
func (l *Lab) Robot(n accounts.NewToken) accounts.Actor {
	l.T.Helper()
	a, err := l.Access.Authenticate(l.T.Context(), l.Token(n, true))
	l.Ok(err)
	return a
}

// Rules puts a document in force for the repository.
func (l *Lab) Rules(text string) {
	l.T.Helper()
	_, err := l.Rulebook.ApplyRules(l.T.Context(), l.Admin, Name, text, "for the test", -1)
	l.Ok(err)
}

// Commit makes a commit with some files, PATH=TEXT each, on top of a branch or from nothing, moves a branch there as
// the service would not, and returns its id.
func (l *Lab) Commit(branch, from string, files ...string) string {
	l.T.Helper()
	var in strings.Builder
	fmt.Fprintf(&in, "commit refs/heads/%s\ncommitter Wren <wren@fennmoor.invalid> %d +0000\ndata <<END\nchange "+
		"%s\nEND\n", branch, l.Now().Unix(), branch)
	if from != "" {
		fmt.Fprintf(&in, "from %s\n", l.Tip(from))
	}
	for _, f := range files {
		path, text, _ := strings.Cut(f, "=")
		fmt.Fprintf(&in, "M 100644 inline %s\ndata %d\n%s\n", path, len(text), text)
	}
	cmd := exec.Command("git", "--git-dir", l.Disk.Path(l.Repo.ID), "fast-import", "--quiet", "--force")
	cmd.Stdin = strings.NewReader(in.String())
	if out, err := cmd.CombinedOutput(); err != nil {
		l.T.Fatalf("%v: %s", err, out)
	}
	return l.Tip(branch)
}

// Files lists the files of a commit.
func (l *Lab) Files(commit string) []string {
	l.T.Helper()
	out, err := exec.Command("git", "--git-dir", l.Disk.Path(l.Repo.ID), "ls-tree", "-r", "--name-only", commit).Output()
	l.Ok(err)
	return strings.Fields(string(out))
}

// Tip is where a branch stands.
func (l *Lab) Tip(branch string) string {
	l.T.Helper()
	id, err := l.Disk.Bare(l.Repo).At("refs/heads/" + branch)
	l.Ok(err)
	return id
}

// Open opens a change from a branch to main.
func (l *Lab) Open(by accounts.Actor, source string) wire.Change {
	l.T.Helper()
	c, err := l.Changes.OpenChange(l.T.Context(), by, Name, wire.NewChange{Source: source, Title: "Bring " + source})
	l.Ok(err)
	return c
}

// Row is the record of a change.
func (l *Lab) Row(number int) records.Change {
	l.T.Helper()
	var c records.Change
	l.Ok(l.Records.Read(l.T.Context()).Where("repository_id = ? AND number = ?", l.Repo.ID, number).First(&c).Error)
	return c
}

// Kinds lists the kinds of the newest lines of the journal, the newest last.
func (l *Lab) Kinds(n int) string {
	l.T.Helper()
	var kinds []string
	l.Ok(l.Records.Read(l.T.Context()).Raw("SELECT kind FROM (SELECT seq, kind FROM journal_lines ORDER BY seq DESC "+
		"LIMIT ?) ORDER BY seq", n).Scan(&kinds).Error)
	return strings.Join(kinds, " ")
}
