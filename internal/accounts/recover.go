package accounts

import (
	"context"
	"errors"
	"time"

	"tavrin/internal/core/event"
	"tavrin/internal/problem"
	"tavrin/internal/records"
	"tavrin/internal/typed"
)

// FirstStart makes the first administrator and returns a token for it; an empty token when there is one already.
func (s *Access) FirstStart(ctx context.Context) (string, error) {
	token := ""
	err := s.records.Write(ctx, func(tx *records.Tx) error {
		var n int64
		if err := tx.Model(&records.Account{}).Where("admin").Count(&n).Error; err != nil || n > 0 {
			return err
		}
		admin := records.Account{Login: "admin", Name: "Administrator", Email: "admin@tavrin.invalid", Admin: true,
			CreatedAt: s.records.Now()}
		if err := tx.Create(&admin).Error; err != nil {
			return err
		}
		token = Secret()
		expires := s.records.Now().Add(24 * time.Hour)
		t := records.Token{AccountID: admin.ID, Name: "first start", Hash: Digest(token), Scope: string(ScopeAll),
			ExpiresAt: &expires, CreatedAt: s.records.Now()}
		if err := tx.Create(&t).Error; err != nil {
			return err
		}
		return tx.Record(records.Itself, nil, event.PersonCreated{Login: admin.Login, Admin: true, First: true})
	})
	return token, err
}

// What is done on the machine itself, where no service runs: whoever can write to the folder has it already, so that
// access to it is the proof. Each is put on record.

// recoveredToken is how long a token lives that was made on the machine.
const recoveredToken = 24 * time.Hour

// RecoverAdmin makes an administrator who can sign in: login is made one, taken back into use, or made where there is
// none. The answer is a new token of theirs.
func (s *Access) RecoverAdmin(ctx context.Context, login string) (string, error) {
	if !typed.LoginForm.MatchString(login) || login == records.Itself {
		return "", problem.Wrong("login", "%q is not a login: lower-case letters, digits and \"-\", at most 39, and "+
			"not %q", login, records.Itself)
	}
	token := Secret()
	return token, s.records.Write(ctx, func(tx *records.Tx) error {
		account, err := AccountByLogin(tx.DB, login)
		var p *problem.Problem
		switch {
		case errors.As(err, &p):
			account = records.Account{Login: login, Name: login, Email: login + "@tavrin.invalid",
				CreatedAt: s.records.Now()}
			err = tx.Create(&account).Error
		case err == nil && account.Robot:
			err = problem.New(problem.Invalid, "%s is a robot, and a robot cannot be an administrator", login)
		}
		if err != nil {
			return err
		}
		if err := tx.Model(&account).Updates(map[string]any{"admin": true, "disabled": false}).Error; err != nil {
			return err
		}
		expires := s.records.Now().Add(recoveredToken)
		t := records.Token{AccountID: account.ID, Name: "made on the machine", Hash: Digest(token),
			Scope: string(ScopeAll), ExpiresAt: &expires, CreatedAt: s.records.Now()}
		if err := tx.Create(&t).Error; err != nil {
			return err
		}
		return tx.Record(records.Itself, nil, event.AdminRecovered{Login: login, Token: t.ID})
	})
}
