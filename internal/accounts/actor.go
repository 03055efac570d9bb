package accounts

import (
	"fmt"
	"slices"
	"time"

	"tavrin/internal/problem"
	"tavrin/internal/records"
)

// Actor is who is asking, and with what right. The zero Actor is somebody who has not signed in.
type Actor struct {
	account  records.Account
	scope    Scope
	token    int64
	bindings []records.TokenBinding
	// session says that it is the console who asks; confirmedUntil, until when rules may be changed by it.
	session        bool
	sessionHash    string
	confirmedUntil *time.Time
}

// Login returns the actor's login; empty for somebody who has not signed in.
func (a Actor) Login() string { return a.account.Login }

// TokenKey names the token that the actor came with, or that their session was begun with.
func (a Actor) TokenKey() string { return fmt.Sprintf("token/%d", a.token) }

// Known says whether the actor has signed in.
func (a Actor) Known() bool { return a.account.ID != 0 }

// Account returns the account of the actor as it was when they asked.
func (a Actor) Account() records.Account { return a.account }

// Token returns the number of the token that the actor came with, or that their session was begun with.
func (a Actor) Token() int64 { return a.token }

// Bindings returns the repositories, and checks, that the actor's token is for.
func (a Actor) Bindings() []records.TokenBinding { return a.bindings }

// Names says whether the actor's token names a check of a repository.
func (a Actor) Names(repo int64, check string) bool {
	return slices.ContainsFunc(a.bindings, func(b records.TokenBinding) bool {
		return b.RepositoryID == repo &&
			b.CheckName == check
	})
}

// Reading is somebody who reads without having signed in: by the address of a feed that is theirs.
func Reading(account records.Account) Actor { return Actor{account: account, scope: ScopeRead} }

// Scope returns what the actor's token is good for.
func (a Actor) Scope() Scope { return a.scope }

// Who names the actor in sentences.
func (a Actor) Who() string {
	if !a.Known() {
		return "somebody who has not signed in"
	}
	return a.account.Login
}

// MustAdminister refuses everybody but service administrators with a full token.
func (a Actor) MustAdminister(what string) error {
	if !a.Known() {
		return problem.New(problem.SignInNeeded, "sign in first: set TAVRIN_TOKEN")
	}
	if !a.account.Admin || a.scope != ScopeAll {
		return problem.New(problem.Forbidden, "%s is for service administrators, and %s is not one", what, a.Who())
	}
	return nil
}

// MustWatch is MustAdminister for what only reads: a token of an administrator's that is for reading is enough.
func (a Actor) MustWatch(what string) error {
	if a.account.Admin && a.scope == ScopeRead {
		return nil
	}
	return a.MustAdminister(what)
}

// MayChangeRules refuses a console session that has not shown its token again lately.
func (a Actor) MayChangeRules(now time.Time) error { return a.confirmed(now, "rules") }

func (a Actor) confirmed(now time.Time, what string) error {
	if a.session && (a.confirmedUntil == nil || now.After(*a.confirmedUntil)) {
		return problem.New(problem.Forbidden, "confirm who you are: %s may be changed from the console only within "+
			"%s of showing the token again that you signed in with", what, confirmedFor)
	}
	return nil
}
