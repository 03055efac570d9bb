package accounts

import (
	"context"
	"slices"
	"strings"
	"time"

	"tavrin/internal/core/event"
	"tavrin/internal/core/people"
	"tavrin/internal/problem"
	"tavrin/internal/records"
	"tavrin/internal/typed"
	"tavrin/wire"
)

// NewToken is what a token is made from.
type NewToken struct {
	Login     string
	Name      string
	Lifetime  time.Duration // 0: 90 days
	ReadOnly  bool
	Checks    []string // HOUSE/NAME:CHECK
	RunnerFor []string // HOUSE/NAME
}

const (
	defaultLifetime = 90 * 24 * time.Hour
	longestLifetime = 2 * 365 * 24 * time.Hour
)

// CreateToken makes a token for oneself, or, as an administrator, for anybody. The answer holds the secret.
func (s *Access) CreateToken(ctx context.Context, a Actor, n NewToken) (wire.Token, error) {
	if a.scope != ScopeAll || (n.Login != a.Login() && !a.account.Admin) {
		return wire.Token{}, problem.New(problem.Forbidden, "a token is made by its owner or by a service "+
			"administrator, with a token of scope all")
	}
	scope, err := n.scope()
	if err != nil {
		return wire.Token{}, err
	}
	if n.Lifetime == 0 {
		n.Lifetime = defaultLifetime
	}
	if n.Lifetime < time.Second || n.Lifetime > longestLifetime {
		return wire.Token{}, problem.Wrong("expires", "a token lives from 1s to %s", longestLifetime)
	}
	if n.Name == "" {
		n.Name = "token"
	}
	if err := typed.Line("name", n.Name, 1, 100); err != nil {
		return wire.Token{}, err
	}
	expires := s.records.Now().Add(n.Lifetime)
	plain := Secret()
	t := records.Token{Name: n.Name, Hash: Digest(plain), Scope: string(scope), ExpiresAt: &expires,
		CreatedAt: s.records.Now()}
	bindings := append(slices.Clone(n.Checks), n.RunnerFor...)
	err = s.records.Write(ctx, func(tx *records.Tx) error {
		account, err := accountFor(tx.DB, a, n.Login)
		if err != nil {
			return err
		}
		if (scope == ScopeChecks || scope == ScopeRunner) && !account.Robot {
			return problem.Wrong("login", "%s is a person; only a robot reports or runs checks: tavrin robot "+
				"create LOGIN", n.Login)
		}
		return saveToken(tx, a, &t, account, bindings)
	})
	if bindings == nil {
		bindings = []string{}
	}
	return wire.Token{ID: t.ID, Login: n.Login, Name: n.Name, Scope: string(scope), Bindings: bindings,
		ExpiresAt: &expires, CreatedAt: t.CreatedAt, Secret: plain}, err
}

// saveToken puts a new token of an account on record, with what it is for.
func saveToken(tx *records.Tx, a Actor, t *records.Token, account records.Account, bindings []string) error {
	t.AccountID = account.ID
	if err := tx.Create(t).Error; err != nil {
		return err
	}
	for _, text := range bindings {
		if err := bind(tx, a, t.ID, text, Scope(t.Scope)); err != nil {
			return err
		}
	}
	return tx.Record(a.Login(), nil, event.TokenCreated{OfToken: event.OfToken{Token: t.ID}, Name: t.Name, Login: account.Login, Scope: t.Scope,
		Bindings: bindings, ExpiresAt: *t.ExpiresAt})
}

func (n NewToken) scope() (Scope, error) {
	kinds := 0
	scope := ScopeAll
	if n.ReadOnly {
		scope, kinds = ScopeRead, kinds+1
	}
	if len(n.Checks) > 0 {
		scope, kinds = ScopeChecks, kinds+1
	}
	if len(n.RunnerFor) > 0 {
		scope, kinds = ScopeRunner, kinds+1
	}
	if kinds > 1 {
		return "", problem.Wrong("checks", "a token has one purpose: reading, checks or runner")
	}
	return scope, nil
}

func bind(tx *records.Tx, a Actor, token int64, text string, scope Scope) error {
	name, check := text, ""
	if scope == ScopeChecks {
		var found bool
		name, check, found = strings.Cut(text, ":")
		if !found || !typed.CheckForm.MatchString(check) {
			return problem.Wrong("checks", "%q does not name a check of a repository: HOUSE/NAME:CHECK", text)
		}
	}
	repo, err := Reach(tx.DB, a, name, people.Maintainer)
	if err != nil {
		return err
	}
	return tx.Create(&records.TokenBinding{TokenID: token, RepositoryID: repo.ID, CheckName: check}).Error
}

// Tokens lists one's own tokens, or as an administrator everybody's, without the secrets.
func (s *Access) Tokens(ctx context.Context, a Actor) ([]wire.Token, error) {
	if !a.Known() {
		return nil, problem.New(problem.SignInNeeded, "sign in to see tokens")
	}
	snap := s.records.View(ctx)
	defer snap.Close()
	db := snap.DB
	var rows []struct {
		records.Token `gorm:"embedded"`
		Login         string
	}
	if err := db.Raw("SELECT t.*, a.login FROM tokens t JOIN accounts a ON a.id = t.account_id WHERE ? OR a.id = ? "+
		"ORDER BY t.id", a.account.Admin, a.account.ID).Scan(&rows).Error; err != nil {
		return nil, err
	}
	var bound []struct {
		TokenID int64
		What    string
	}
	if err := db.Raw("SELECT b.token_id, r.name || CASE b.check_name WHEN '' THEN '' ELSE ':' || b.check_name END "+
		"AS what FROM token_bindings b JOIN repositories r ON r.id = b.repository_id JOIN tokens t ON t.id = b.token_id "+
		"WHERE ? OR t.account_id = ? ORDER BY 2", a.account.Admin, a.account.ID).Scan(&bound).Error; err != nil {
		return nil, err
	}
	bindings := map[int64][]string{}
	for _, b := range bound {
		bindings[b.TokenID] = append(bindings[b.TokenID], b.What)
	}
	tokens := []wire.Token{}
	for _, t := range rows {
		tokens = append(tokens, wire.Token{ID: t.ID, Login: t.Login, Name: t.Name, Scope: t.Scope,
			Bindings:  append([]string{}, bindings[t.ID]...),
			ExpiresAt: t.ExpiresAt, RevokedAt: t.RevokedAt, LastUsedAt: t.LastUsedAt, CreatedAt: t.CreatedAt})
	}
	return tokens, nil
}

// RevokeToken ends a token at once: one's own, or as an administrator anybody's.
func (s *Access) RevokeToken(ctx context.Context, a Actor, id int64) error {
	if !a.Known() {
		return problem.New(problem.SignInNeeded, "sign in to revoke a token")
	}
	return s.records.Write(ctx, func(tx *records.Tx) error {
		var t records.Token
		if err := tx.First(&t, id).Error; err != nil || (t.AccountID != a.account.ID && !a.account.Admin) ||
			a.scope != ScopeAll {
			return problem.New(problem.Unknown, "there is no token %d that you may revoke: tavrin token list", id)
		}
		now := s.records.Now()
		if err := tx.Model(&t).Update("revoked_at", now).Error; err != nil {
			return err
		}
		if err := tx.Where("token_id = ?", t.ID).Delete(&records.Session{}).Error; err != nil {
			return err
		}
		if _, err := s.ended(tx, []int64{t.ID}); err != nil {
			return err
		}
		return tx.Record(a.Login(), nil, event.TokenRevoked{OfToken: event.OfToken{Token: id}, Name: t.Name})
	})
}
