package accounts_test

import (
	"testing"
	"time"

	"tavrin/internal/accounts"
	"tavrin/internal/core/people"
	"tavrin/internal/lab"
	"tavrin/internal/problem"
	"tavrin/internal/records"
)

func TestTokensExpire(t *testing.T) {
	l := lab.New(t)
	token := l.Token(accounts.NewToken{Login: "ines", Lifetime: time.Hour}, false)
	l.Wait(59 * time.Minute)
	_, err := l.Access.Authenticate(t.Context(), token)
	l.Ok(err)
	session, _, err := l.Access.SignIn(t.Context(), token)
	l.Ok(err)
	_, err = l.Access.Session(t.Context(), session)
	l.Ok(err)
	l.Wait(2 * time.Minute)
	_, err = l.Access.Authenticate(t.Context(), token)
	l.Is(err, problem.SignInNeeded, "has expired")
	_, err = l.Access.Session(t.Context(), session)
	l.Is(err, problem.SignInNeeded, "session is over") // it does not outlive the token it was made with
	if got := l.Kinds(1); got != "token.refused" {
		t.Errorf("the journal ends with %s", got)
	}
}

func TestSessionsEnd(t *testing.T) {
	l := lab.New(t)
	token := l.Token(accounts.NewToken{Login: "ines"}, false)
	session, _, err := l.Access.SignIn(t.Context(), token)
	l.Ok(err)
	other, _, err := l.Access.SignIn(t.Context(), token)
	l.Ok(err)
	l.Ok(l.Access.SignOut(t.Context(), session))
	_, err = l.Access.Session(t.Context(), session)
	l.Is(err, problem.SignInNeeded, "session is over")
	_, err = l.Access.Session(t.Context(), other)
	l.Ok(err)
	l.Wait(12*time.Hour + time.Second)
	_, err = l.Access.Session(t.Context(), other)
	l.Is(err, problem.SignInNeeded, "session is over")
	robot := l.Token(accounts.NewToken{Login: "bench", Checks: []string{lab.Name + ":unit"}}, true)
	_, _, err = l.Access.SignIn(t.Context(), robot)
	l.Is(err, problem.Forbidden, "for programs")
}

func TestRolesComeFromHouseTeamAndRepository(t *testing.T) {
	l := lab.New(t)
	ctx := t.Context()
	role := func(login string) people.Role {
		t.Helper()
		db := l.Records.Read(ctx)
		account, err := accounts.AccountByLogin(db, login)
		l.Ok(err)
		r, err := accounts.RoleIn(db, account, l.Repo)
		l.Ok(err)
		people, err := accounts.PeopleOf(db, l.Repo)
		l.Ok(err)
		if people.Named(login).Role != r {
			t.Errorf("%s is %q by one count and %q by the other", login, r, people.Named(login).Role)
		}
		return r
	}
	for _, login := range []string{"ines", "odo", "wren"} {
		l.Token(accounts.NewToken{Login: login}, false)
	}
	_, err := l.People.CreateTeam(ctx, l.Admin, "hydraulics", []string{"odo"}, nil)
	l.Ok(err)
	if r := role("odo"); r != people.NoRole {
		t.Errorf("without a grant, odo is %q", r)
	}
	steps := []struct {
		where, who, role string
		want             map[string]people.Role
	}{
		{lab.House, "team:hydraulics", "reader", map[string]people.Role{"odo": people.Reader, "ines": people.NoRole}},
		{lab.Name, "odo", "writer", map[string]people.Role{"odo": people.Writer}},
		{lab.House, "odo", "maintainer", map[string]people.Role{"odo": people.Maintainer}},
		{lab.House, "odo", "none", map[string]people.Role{"odo": people.Writer}},
		{lab.Name, "odo", "none", map[string]people.Role{"odo": people.Reader}},
		{lab.House, "ines", "maintainer", map[string]people.Role{"ines": people.Maintainer}},
		{lab.House, "team:hydraulics", "none", map[string]people.Role{"odo": people.NoRole}},
	}
	for _, s := range steps {
		l.Ok(l.People.Grant(ctx, l.Admin, s.where, s.who, s.role))
		for login, want := range s.want {
			if got := role(login); got != want {
				t.Errorf("after %s %s %s, %s is %q, not %q", s.where, s.who, s.role, login, got, want)
			}
		}
	}
	l.Is(l.People.Grant(ctx, l.Admin, lab.Name, "ines", "chief"), problem.Invalid, "not a role here")
	l.Is(l.People.Grant(ctx, l.Admin, lab.Name, "team:none", "reader"), problem.Unknown, "no team")
	_, err = l.People.SetDisabled(ctx, l.Admin, "ines", true)
	l.Ok(err)
	if r := role("ines"); r != people.NoRole {
		t.Errorf("disabled, ines is %q", r)
	}
	_, err = l.People.SetDisabled(ctx, l.Admin, "admin", true)
	l.Is(err, problem.Invalid, "yourself")
}

// A repository that somebody may not read is to them as one that is not there, whoever they are (P11).
func TestP11ReachAndReadableAgree(t *testing.T) {
	l := lab.New(t)
	l.Ok(l.Records.Write(t.Context(), func(tx *records.Tx) error {
		return tx.Create(&records.Repository{HouseID: l.Repo.HouseID, Name: "growers/open", DefaultBranch: "main", Public: true, CreatedAt: tx.Now()}).Error
	}))
	reader := l.Person("ines", "reader")
	stranger, err := l.Access.Authenticate(t.Context(), l.Token(accounts.NewToken{Login: "odo"}, false))
	l.Ok(err)
	bench := l.Robot(accounts.NewToken{Login: "bench", Checks: []string{lab.Name + ":unit"}})
	db := l.Records.Read(t.Context())
	for who, want := range map[string]struct {
		actor accounts.Actor
		sees  map[string]bool
	}{
		"the administrator":  {l.Admin, map[string]bool{lab.Name: true, "growers/open": true}},
		"a reader":           {reader, map[string]bool{lab.Name: true, "growers/open": true}},
		"a stranger":         {stranger, map[string]bool{lab.Name: false, "growers/open": true}},
		"nobody":             {accounts.Actor{}, map[string]bool{lab.Name: false, "growers/open": true}},
		"a robot, confined":  {bench, map[string]bool{lab.Name: true, "growers/open": false}},
		"a reader of a feed": {accounts.Reading(reader.Account()), map[string]bool{lab.Name: true, "growers/open": true}},
	} {
		rows, err := accounts.Readable(db, want.actor)
		l.Ok(err)
		listed := map[string]bool{}
		for _, r := range rows {
			listed[r.Name] = true
		}
		for name, sees := range want.sees {
			_, err := accounts.Reach(db, want.actor, name, people.Reader)
			if (err == nil) != sees || listed[name] != sees {
				t.Errorf("%s: %s is listed %v and reached with %v; want %v", who, name, listed[name], err, sees)
			}
			_, other := accounts.Reach(db, want.actor, "growers/none", people.Reader)
			if err != nil && problemKind(err) != problemKind(other) {
				t.Errorf("%s can tell %s from one that is not there: %v, %v", who, name, err, other)
			}
		}
	}
}

func problemKind(err error) problem.Kind {
	p, _ := err.(*problem.Problem)
	return p.Kind
}

// Whatever was begun with an account's tokens ends with it, and whoever leases jobs is told.
func TestDisablingEndsEverything(t *testing.T) {
	l := lab.New(t)
	token := l.Token(accounts.NewToken{Login: "ines"}, false)
	a, err := l.Access.Authenticate(t.Context(), token)
	l.Ok(err)
	session, _, err := l.Access.SignIn(t.Context(), token)
	l.Ok(err)
	var told []int64
	l.Access.OnEnd(func(_ *records.Tx, tokens []int64) (int, error) { told = append(told, tokens...); return 3, nil })
	out, err := l.People.SetDisabled(t.Context(), l.Admin, "ines", true)
	l.Ok(err)
	if out.Tokens != 1 || out.Sessions != 1 || out.Leases != 3 || len(told) != 1 || told[0] != a.Token() {
		t.Errorf("what ended is %+v; told of %v", out, told)
	}
	l.Is(l.Access.Still(t.Context(), a), problem.SignInNeeded, "was disabled")
	_, err = l.Access.Session(t.Context(), session)
	l.Is(err, problem.SignInNeeded, "session is over")
}

func TestFirstStartMakesOneAdministrator(t *testing.T) {
	l := lab.New(t)
	token, err := l.Access.FirstStart(t.Context())
	if err != nil || token != "" {
		t.Errorf("a second first start gives %q, %v", token, err)
	}
	var n int64
	l.Records.Read(t.Context()).Model(&records.Account{}).Where("admin").Count(&n)
	if n != 1 {
		t.Errorf("%d administrators", n)
	}
}
