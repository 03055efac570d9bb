package accounts

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"tavrin/internal/core/event"
	"tavrin/internal/problem"
	"tavrin/internal/records"
	"tavrin/internal/typed"
)

// Scope says what a token is good for.
type Scope string

// The scopes.
const (
	ScopeAll    Scope = "all"    // everything its owner may do
	ScopeRead   Scope = "read"   // reading what its owner may read
	ScopeChecks Scope = "checks" // reporting named checks
	ScopeRunner Scope = "runner" // taking command checks of named repositories
)

// callsOf lists, for each scope that is for one purpose, the calls of the API that its tokens open, by their names
// there. A token of such a scope opens nothing else, whatever its owner may do: it lies on machines that run what
// others wrote.
var callsOf = map[Scope][]string{
	ScopeChecks: {"get-me", "create-check-report", "create-check-reports", "list-wanted-checks", "claim-check", "list-checks", "get-tree", "git-fetch"},
	ScopeRunner: {"get-me", "get-runner-place", "lease-job"},
}

// purposes says in words what the scopes for one purpose are for.
var purposes = map[Scope]string{ScopeChecks: "reports the checks that it names, sees which of them are wanted, and " +
	"reads and fetches the commits they are wanted on", ScopeRunner: "takes jobs"}

// CallsOf returns the calls that tokens of a scope are confined to; nil: to none in particular.
func CallsOf(scope Scope) []string { return callsOf[scope] }

// confirmedCalls are the calls for which a console session has to have shown its token lately, besides those about
// rules: what gives access, and would outlast the session.
var confirmedCalls = []string{"create-token", "create-key", "create-person", "put-person-disabled", "create-team",
	"put-team", "put-grant", "connect-check"}

// MayCall refuses a call that the actor's token is not for, or that a session has to confirm.
func (s *Access) MayCall(a Actor, id string) error {
	calls, confined := callsOf[a.scope]
	switch {
	case confined && slices.Contains(calls, id):
		return nil
	case !confined && slices.Contains(confirmedCalls, id):
		return a.confirmed(s.records.Now(), "access")
	case !confined:
		return nil
	}
	return problem.New(problem.Forbidden, "this token %s, and does nothing else", purposes[a.scope])
}

// Secret makes a new token.
func Secret() string { return typed.TokenPrefix + rand.Text() }

// Digest is what is kept of a secret.
func Digest(secret string) string {
	sum := sha256.Sum256([]byte(secret))
	return hex.EncodeToString(sum[:])
}

// Authenticate finds out who a token belongs to.
func (s *Access) Authenticate(ctx context.Context, token string) (Actor, error) {
	bad := problem.New(problem.SignInNeeded, "this token is not known, has expired or was revoked: ask for a new "+
		"one, or see tavrin token list")
	if !strings.HasPrefix(token, typed.TokenPrefix) || len(token) > 100 {
		return Actor{}, bad
	}
	snap := s.records.View(ctx)
	defer snap.Close()
	db := snap.DB
	var t records.Token
	if err := db.Where("hash = ?", Digest(token)).First(&t).Error; err != nil {
		return Actor{}, records.OrElse(err, bad)
	}
	a, why, err := s.actorOf(ctx, db, t, bad)
	if why != "" {
		s.noteRefusal(ctx, t, a.account.Login, why)
		return Actor{}, err
	}
	return a, err
}

// actorOf is whose a token is, or bad and why it is good no more.
func (s *Access) actorOf(ctx context.Context, db *gorm.DB, t records.Token,
	bad error) (a Actor, why string, err error) {
	now := s.records.Now()
	a = Actor{scope: Scope(t.Scope), token: t.ID}
	if err := db.First(&a.account, t.AccountID).Error; err != nil {
		return Actor{}, "", err
	}
	switch {
	case a.account.Disabled:
		why = "the account is disabled"
	case t.RevokedAt != nil:
		why = "it was revoked on " + t.RevokedAt.UTC().Format("2006-01-02 15:04")
	case t.ExpiresAt != nil && now.After(*t.ExpiresAt):
		why = "it ran out on " + t.ExpiresAt.UTC().Format("2006-01-02 15:04")
	}
	if why != "" {
		return a, why, bad
	}
	if a.scope == ScopeChecks || a.scope == ScopeRunner {
		if err := db.Where("token_id = ?", t.ID).Find(&a.bindings).Error; err != nil {
			return Actor{}, "", err
		}
	}
	if t.LastUsedAt == nil || now.Sub(*t.LastUsedAt) > time.Minute {
		s.records.Note(ctx, func(tx *records.Tx) error { return tx.Model(&t).Update("last_used_at", now).Error })
	}
	return a, "", nil
}

// sessionLength is how long a browser stays signed in.
const sessionLength = 12 * time.Hour

// SignIn starts a browser session for the owner of a token and returns the session's secret.
func (s *Access) SignIn(ctx context.Context, token string) (string, Actor, error) {
	a, err := s.Authenticate(ctx, token)
	if err != nil {
		return "", Actor{}, err
	}
	if a.scope != ScopeAll && a.scope != ScopeRead {
		return "", Actor{}, problem.New(problem.Forbidden, "a %s token is for programs and does not sign in to the "+
			"console", a.scope)
	}
	session := rand.Text()
	err = s.records.Write(ctx, func(tx *records.Tx) error {
		if err := tx.Where("expires_at < ?", s.records.Now()).Delete(&records.Session{}).Error; err != nil {
			return err
		}
		if err := tx.Create(&records.Session{Hash: Digest(session), TokenID: a.token,
			ExpiresAt: s.records.Now().Add(sessionLength)}).Error; err != nil {
			return err
		}
		return tx.Record(a.Login(), nil, event.SessionBegun{OfToken: event.OfToken{Token: a.token}})
	})
	return session, a, err
}

// Session finds out whose browser session this is.
func (s *Access) Session(ctx context.Context, session string) (Actor, error) {
	over := problem.New(problem.SignInNeeded, "the session is over: sign in again")
	snap := s.records.View(ctx)
	defer snap.Close()
	db := snap.DB
	var row records.Session
	if err := db.Where("hash = ? AND expires_at > ?", Digest(session), s.records.Now()).First(&row).Error; err != nil {
		return Actor{}, records.OrElse(err, over)
	}
	var t records.Token
	if err := db.First(&t, row.TokenID).Error; err != nil {
		return Actor{}, err
	}
	a, _, err := s.actorOf(ctx, db, t, over)
	if err != nil {
		return Actor{}, err
	}
	a.session, a.sessionHash, a.confirmedUntil = true, row.Hash, row.ConfirmedUntil
	return a, err
}

// confirmedFor is how long a console session may change rules and access after its token was shown again.
const confirmedFor = 10 * time.Minute

// Confirm lets a console session change rules and access for a while, its owner having shown the token again that it
// was begun with: another one may have been made by whoever sits at the session.
func (s *Access) Confirm(ctx context.Context, session, token string) (time.Time, error) {
	here, err := s.Session(ctx, session)
	if err != nil {
		return time.Time{}, err
	}
	shown, err := s.Authenticate(ctx, token)
	if err != nil || shown.token != here.token || shown.scope != ScopeAll {
		return time.Time{}, problem.New(problem.Forbidden, "this is not the token of scope all that %s signed in with",
			here.Login())
	}
	until := s.records.Now().Add(confirmedFor)
	return until, s.records.Write(ctx, func(tx *records.Tx) error {
		if err := tx.Model(&records.Session{}).Where("hash = ?", Digest(session)).Update("confirmed_until",
			until).Error; err != nil {
			return err
		}
		return tx.Record(here.Login(), nil, event.SessionConfirmed{OfToken: event.OfToken{Token: here.token},
			Until: until})
	})
}

// SignOut ends a browser session.
func (s *Access) SignOut(ctx context.Context, session string) error {
	return s.records.Write(ctx, func(tx *records.Tx) error {
		tx.TouchesNothing()
		return tx.Where("hash = ?", Digest(session)).Delete(&records.Session{}).Error
	})
}
