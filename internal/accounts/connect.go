package accounts

import (
	"context"
	"errors"

	"tavrin/internal/core/event"
	"tavrin/internal/core/people"
	"tavrin/internal/problem"
	"tavrin/internal/records"
	"tavrin/internal/typed"
	"tavrin/wire"
)

// ConnectCheck gives a check robot a token for one check of a repository, and makes the robot where there is none of that
// login. It is for the repository's maintainers, with robots that they made themselves: as somebody else's they could report
// what the house's rules let only that one report (P7). Administrators may with any robot.
func (s *Access) ConnectCheck(ctx context.Context, a Actor, name, check, login string) (wire.Token, error) {
	if !typed.CheckForm.MatchString(check) {
		return wire.Token{}, problem.Wrong("check", "%q is not a name for a check: letters, digits, space and . _ / : -, at most 100", check)
	}
	if !typed.LoginForm.MatchString(login) || login == records.Itself {
		return wire.Token{}, problem.Wrong("robot", "%q is not a login: lower-case letters, digits and \"-\", at most 39", login)
	}
	expires, plain := s.records.Now().Add(defaultLifetime), Secret()
	t := records.Token{Name: "reports " + check, Hash: Digest(plain), Scope: string(ScopeChecks), ExpiresAt: &expires, CreatedAt: s.records.Now()}
	binding := name + ":" + check
	err := s.records.Write(ctx, func(tx *records.Tx) error {
		repo, err := Reach(tx.DB, a, name, people.Maintainer)
		if err != nil {
			return err
		}
		account, err := AccountByLogin(tx.DB, login)
		if p, is := errors.AsType[*problem.Problem](err); is && p.Kind == problem.Unknown {
			account = records.Account{Login: login, Name: "The robot that reports " + check, Email: login + "@tavrin.invalid", Robot: true, MadeFor: &repo.ID,
				CreatedAt: tx.Now()}
			if err = tx.Create(&account).Error; err == nil {
				err = tx.Record(a.Login(), nil, event.RobotCreated{Login: login})
			}
		}
		switch {
		case err != nil:
			return err
		case !account.Robot:
			return problem.Wrong("robot", "%s is a person; only a robot reports checks: choose another login", login)
		case !a.account.Admin && (account.MadeFor == nil || *account.MadeFor != repo.ID):
			return problem.New(problem.Forbidden, "the robot %s is not one that the maintainers of %s made: choose another login, or ask an "+
				"administrator for its token: tavrin token create %s --check %q", login, name, login, binding)
		}
		return saveToken(tx, a, &t, account, []string{binding})
	})
	return wire.Token{ID: t.ID, Login: login, Name: t.Name, Scope: t.Scope, Bindings: []string{binding}, ExpiresAt: &expires, CreatedAt: t.CreatedAt,
		Secret: plain}, err
}
