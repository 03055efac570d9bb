package service

import (
	"errors"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"tavrin/internal/core/gate"
	"tavrin/internal/store"
)

// clock is a time that tests move on by hand.
type clock struct{ at time.Time }

func (c *clock) now() time.Time { return c.at }

// lab is a service with a clock of its own, an administrator, and a repository with a rules document whose check
// unit is a command.
type lab struct {
	*Service
	t     *testing.T
	clock *clock
	admin Actor
}

const house, name = "growers", "growers/irrigation"

func newLab(t *testing.T) *lab {
	t.Helper()
	c := &clock{time.Date(2026, 11, 1, 8, 0, 0, 0, time.UTC)}
	s, err := Open(t.Context(), Options{Dir: t.TempDir(), Log: slog.New(slog.DiscardHandler), Now: c.now})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	l := &lab{Service: s, t: t, clock: c}
	token, err := s.FirstStart(t.Context())
	l.ok(err)
	l.admin, err = s.Authenticate(t.Context(), token)
	l.ok(err)
	_, err = s.CreateHouse(t.Context(), l.admin, house)
	l.ok(err)
	_, err = s.CreateRepository(t.Context(), l.admin, NewRepository{Name: name})
	l.ok(err)
	return l
}

func (l *lab) ok(err error) {
	l.t.Helper()
	if err != nil {
		l.t.Fatal(err)
	}
}

// is fails the test unless the error is a problem of this kind with these words.
func (l *lab) is(err error, kind ProblemKind, words string) {
	l.t.Helper()
	var p *Problem
	if !errors.As(err, &p) || p.Kind != kind || !strings.Contains(p.Text, words) {
		l.t.Errorf("error is %v; want %s: %s", err, kind, words)
	}
}

// token makes a person or robot with a token.
func (l *lab) token(n NewToken, robot bool) string {
	l.t.Helper()
	_, err := l.CreateAccount(l.t.Context(), l.admin, NewAccount{Login: n.Login, Robot: robot})
	l.ok(err)
	t, err := l.CreateToken(l.t.Context(), l.admin, n)
	l.ok(err)
	return t.Secret
}

func TestTokensExpire(t *testing.T) {
	l := newLab(t)
	token := l.token(NewToken{Login: "ines", Lifetime: time.Hour}, false)
	l.clock.at = l.clock.at.Add(59 * time.Minute)
	_, err := l.Authenticate(t.Context(), token)
	l.ok(err)
	session, _, err := l.SignIn(t.Context(), token)
	l.ok(err)
	_, err = l.Session(t.Context(), session)
	l.ok(err)
	l.clock.at = l.clock.at.Add(2 * time.Minute)
	_, err = l.Authenticate(t.Context(), token)
	l.is(err, SignInNeeded, "has expired")
	_, err = l.Session(t.Context(), session)
	l.is(err, SignInNeeded, "session is over") // it does not outlive the token it was made with
}

func TestSessionsEnd(t *testing.T) {
	l := newLab(t)
	token := l.token(NewToken{Login: "ines"}, false)
	session, _, err := l.SignIn(t.Context(), token)
	l.ok(err)
	other, _, err := l.SignIn(t.Context(), token)
	l.ok(err)
	l.ok(l.SignOut(t.Context(), session))
	_, err = l.Session(t.Context(), session)
	l.is(err, SignInNeeded, "session is over")
	_, err = l.Session(t.Context(), other)
	l.ok(err)
	l.clock.at = l.clock.at.Add(sessionLength + time.Second)
	_, err = l.Session(t.Context(), other)
	l.is(err, SignInNeeded, "session is over")
	robot := l.token(NewToken{Login: "bench", Witness: []string{name + ":unit"}}, true)
	_, _, err = l.SignIn(t.Context(), robot)
	l.is(err, Forbidden, "for programs")
}

// A runner that falls silent loses its job to another, and its late answer is refused (P7, P9).
func TestP7SilentRunnerLosesItsJob(t *testing.T) {
	l := newLab(t)
	runner := l.token(NewToken{Login: "barn", RunnerFor: []string{name}}, true)
	a, err := l.Authenticate(t.Context(), runner)
	l.ok(err)
	repo, err := l.reach(l.store.Read(t.Context()), l.admin, name, gate.Maintainer)
	l.ok(err)
	l.ok(l.write(t.Context(), func(tx *tx) error {
		return tx.Create(&store.CheckRun{RepositoryID: repo.ID, CommitID: strings.Repeat("a", 40), Name: "unit", Attempt: 1, State: "waiting", Command: "true", LimitSeconds: 60, CreatedAt: l.now()}).Error
	}))
	first, err := l.Lease(t.Context(), a)
	l.ok(err)
	l.clock.at = l.clock.at.Add(leaseLength - time.Second)
	l.ok(l.JobAlive(t.Context(), first.ID, first.Lease))
	l.clock.at = l.clock.at.Add(leaseLength - time.Second)
	l.ok(l.dropSilentLeases(t.Context()))
	l.ok(l.JobAlive(t.Context(), first.ID, first.Lease)) // a sign of life in time keeps it
	l.clock.at = l.clock.at.Add(leaseLength + time.Second)
	l.ok(l.dropSilentLeases(t.Context()))
	second, err := l.Lease(t.Context(), a)
	l.ok(err)
	if second == nil || second.ID != first.ID || second.Lease == first.Lease {
		t.Fatalf("the job was given out as %+v, then as %+v", first, second)
	}
	l.is(l.FinishJob(t.Context(), first.ID, first.Lease, JobResult{State: gate.Passed}), Conflict, "lease is over")
	l.ok(l.FinishJob(t.Context(), second.ID, second.Lease, JobResult{State: gate.Failed, Summary: strings.Repeat("x", 900)}))
	checks, err := l.checkViews(l.store.Read(t.Context()), repo, strings.Repeat("a", 40))
	l.ok(err)
	if checks[0].State != "failed" || len(checks[0].Summary) != maxSummary {
		t.Errorf("check is %+v", checks[0])
	}
}

func TestRolesComeFromHouseTeamAndRepository(t *testing.T) {
	l := newLab(t)
	ctx := t.Context()
	role := func(login string) gate.Role {
		t.Helper()
		db := l.store.Read(ctx)
		account, err := accountByLogin(db, login)
		l.ok(err)
		var repo store.Repository
		l.ok(db.Where("name = ?", name).First(&repo).Error)
		r, err := roleIn(db, account, &repo)
		l.ok(err)
		people, err := peopleOf(db, &repo)
		l.ok(err)
		if people[login].Role != r {
			t.Errorf("%s is %q by one count and %q by the other", login, r, people[login].Role)
		}
		return r
	}
	for _, login := range []string{"ines", "odo", "wren"} {
		l.token(NewToken{Login: login}, false)
	}
	_, err := l.CreateTeam(ctx, l.admin, "hydraulics", []string{"odo"}, nil)
	l.ok(err)
	if r := role("odo"); r != gate.NoRole {
		t.Errorf("without a grant, odo is %q", r)
	}
	steps := []struct {
		where, who, role string
		want             map[string]gate.Role
	}{
		{house, "team:hydraulics", "reader", map[string]gate.Role{"odo": gate.Reader, "ines": gate.NoRole}},
		{name, "odo", "writer", map[string]gate.Role{"odo": gate.Writer}},
		{house, "odo", "maintainer", map[string]gate.Role{"odo": gate.Maintainer}},
		{house, "odo", "none", map[string]gate.Role{"odo": gate.Writer}},
		{name, "odo", "none", map[string]gate.Role{"odo": gate.Reader}},
		{house, "ines", "keeper", map[string]gate.Role{"ines": gate.Maintainer}},
		{house, "team:hydraulics", "none", map[string]gate.Role{"odo": gate.NoRole}},
	}
	for _, s := range steps {
		l.ok(l.Grant(ctx, l.admin, s.where, s.who, s.role))
		for login, want := range s.want {
			if got := role(login); got != want {
				t.Errorf("after %s %s %s, %s is %q, not %q", s.where, s.who, s.role, login, got, want)
			}
		}
	}
	l.is(l.Grant(ctx, l.admin, name, "ines", "keeper"), Invalid, "not a role here")
	l.is(l.Grant(ctx, l.admin, name, "team:none", "reader"), Unknown, "no team")
	_, err = l.SetDisabled(ctx, l.admin, "ines", true)
	l.ok(err)
	if r := role("ines"); r != gate.NoRole {
		t.Errorf("disabled, ines is %q", r)
	}
	_, err = l.SetDisabled(ctx, l.admin, "admin", true)
	l.is(err, Invalid, "yourself")
}

func TestFirstStartMakesOneAdministrator(t *testing.T) {
	l := newLab(t)
	token, err := l.FirstStart(t.Context())
	if err != nil || token != "" {
		t.Errorf("a second first start gives %q, %v", token, err)
	}
	var n int64
	l.store.Read(t.Context()).Model(&store.Account{}).Where("admin").Count(&n)
	if n != 1 {
		t.Errorf("%d administrators", n)
	}
}

func TestFolderIsKeptByOneService(t *testing.T) {
	l := newLab(t)
	if _, err := Open(t.Context(), Options{Dir: l.dir}); !errors.Is(err, ErrInUse) {
		t.Errorf("a second service on the folder: %v", err)
	}
	dir := t.TempDir()
	l.ok(os.WriteFile(filepath.Join(dir, "signing.key"), []byte("short"), 0o600))
	if _, err := Open(t.Context(), Options{Dir: dir}); err == nil || !strings.Contains(err.Error(), "has 5 bytes") {
		t.Errorf("a broken key: %v", err)
	}
}

func TestMask(t *testing.T) {
	token := secret()
	for text, want := range map[string]string{
		"x " + token + " y": "x tvr_… y", "url=" + token + "\n": "url=tvr_…\n", "tvr_short": "tvr_short", "nothing": "nothing", token + token: "tvr_…tvr_…",
	} {
		if got := Mask(text); got != want {
			t.Errorf("%q is masked as %q", text, got)
		}
	}
}

func TestTextIsChecked(t *testing.T) {
	for text, ok := range map[string]bool{"fine": true, "": false, "a\nb": false, "a\x00b": false, "a\x1b[31m": false, "\xff": false, strings.Repeat("ü", 10): true, strings.Repeat("ü", 11): false} {
		if err := line("title", text, 1, 10); (err == nil) != ok {
			t.Errorf("%q: %v", text, err)
		}
	}
	for text, ok := range map[string]bool{"": true, "a\nb\tc": true, "\x00": false, "\xff": false, strings.Repeat("x", 21): false} {
		if err := prose("description", text, 20); (err == nil) != ok {
			t.Errorf("%q: %v", text, err)
		}
	}
}
