package service

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"tavrin/internal/core/gate"
	"tavrin/internal/store"
)

// Scope says what a token is good for.
type Scope string

// The scopes.
const (
	ScopeAll     Scope = "all"     // everything its owner may do
	ScopeRead    Scope = "read"    // reading what its owner may read
	ScopeWitness Scope = "witness" // reporting named checks
	ScopeRunner  Scope = "runner"  // taking command checks of named repositories
)

// callsOf lists, for each scope that is for one purpose, the calls of the API that its tokens open, by their names there. A
// token of such a scope opens nothing else, whatever its owner may do: it lies on machines that run what others wrote.
var callsOf = map[Scope][]string{
	ScopeWitness: {"get-me", "create-check-report", "list-wanted-checks", "list-checks", "get-tree"},
	ScopeRunner:  {"get-me", "get-runner-place", "lease-job"},
}

// purposes says in words what the scopes for one purpose are for.
var purposes = map[Scope]string{ScopeWitness: "reports the checks that it names, sees which of them are wanted, and reads the commits they are wanted on", ScopeRunner: "takes jobs"}

// CallsOf returns the calls that tokens of a scope are confined to; nil: to none in particular.
func CallsOf(scope Scope) []string { return callsOf[scope] }

// confirmedCalls are the calls for which a console session has to have shown its token lately, besides those about rules: what
// gives access, and would outlast the session.
var confirmedCalls = []string{"create-token", "create-key", "create-person", "put-person-disabled", "create-team", "put-team", "put-grant"}

// MayCall refuses a call that the actor's token is not for, or that a session has to confirm.
func (s *Service) MayCall(a Actor, id string) error {
	calls, confined := callsOf[a.scope]
	switch {
	case confined && slices.Contains(calls, id):
		return nil
	case !confined && slices.Contains(confirmedCalls, id):
		return a.confirmed(s.now(), "access")
	case !confined:
		return nil
	}
	return problem(Forbidden, "this is a %s's token: it %s, and nothing else", a.scope, purposes[a.scope])
}

// wantsOf refuses a witness's token the content of a commit that none of the checks it names was ever asked for on.
func (s *Service) wantsOf(db *gorm.DB, a Actor, repo *store.Repository, commit string) error {
	if a.scope != ScopeWitness {
		return nil
	}
	var asked int64
	err := db.Model(&store.CheckRun{}).Where("repository_id = ? AND commit_id = ? AND asked_for <> '' AND name IN (SELECT check_name FROM token_bindings WHERE token_id = ? AND repository_id = ?)",
		repo.ID, commit, a.token, repo.ID).Count(&asked).Error
	if err == nil && asked == 0 {
		err = problem(Forbidden, "this is a witness's token: it reads the commits that its checks are wanted on, and %.10s is none", commit)
	}
	return err
}

// names says whether the actor's token names a check of a repository.
func (a Actor) names(repo int64, check string) bool {
	return slices.ContainsFunc(a.bindings, func(b store.TokenBinding) bool { return b.RepositoryID == repo && b.CheckName == check })
}

// TokenPrefix is how every token begins, so that it can be recognised and masked.
const TokenPrefix = "tvr_"

// secret makes a new token.
func secret() string { return TokenPrefix + rand.Text() }

// digest is what is kept of a secret.
func digest(secret string) string {
	sum := sha256.Sum256([]byte(secret))
	return hex.EncodeToString(sum[:])
}

// Actor is who is asking, and with what right. The zero Actor is somebody who has not signed in.
type Actor struct {
	account  store.Account
	scope    Scope
	token    int64
	bindings []store.TokenBinding
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

// Scope returns what the actor's token is good for.
func (a Actor) Scope() Scope { return a.scope }

// Authenticate finds out who a token belongs to.
func (s *Service) Authenticate(ctx context.Context, token string) (Actor, error) {
	bad := problem(SignInNeeded, "this token is not known, has expired or was revoked: ask for a new one, or see tavrin token list")
	if !strings.HasPrefix(token, TokenPrefix) || len(token) > 100 {
		return Actor{}, bad
	}
	db := s.store.Read(ctx)
	var t store.Token
	if err := db.Where("hash = ?", digest(token)).First(&t).Error; err != nil {
		return Actor{}, orUnknownIs(err, bad)
	}
	a, why, err := s.actorOf(ctx, db, t, bad)
	if why != "" {
		s.noteRefusal(ctx, t, a.account.Login, why)
		return Actor{}, err
	}
	return a, err
}

func orUnknownIs(err, instead error) error {
	if orUnknown(err, "") != err {
		return instead
	}
	return err
}

// actorOf is whose a token is, or bad and why it is good no more.
func (s *Service) actorOf(ctx context.Context, db *gorm.DB, t store.Token, bad error) (a Actor, why string, err error) {
	now := s.now()
	a = Actor{scope: Scope(t.Scope), token: t.ID}
	if err := db.First(&a.account, t.AccountID).Error; err != nil {
		return Actor{}, "", err
	}
	switch {
	case a.account.Disabled:
		why = "the account is out of use"
	case t.RevokedAt != nil:
		why = "it was revoked on " + t.RevokedAt.UTC().Format("2006-01-02 15:04")
	case t.ExpiresAt != nil && now.After(*t.ExpiresAt):
		why = "it ran out on " + t.ExpiresAt.UTC().Format("2006-01-02 15:04")
	}
	if why != "" {
		return a, why, bad
	}
	if a.scope == ScopeWitness || a.scope == ScopeRunner {
		if err := db.Where("token_id = ?", t.ID).Find(&a.bindings).Error; err != nil {
			return Actor{}, "", err
		}
	}
	if t.LastUsedAt == nil || now.Sub(*t.LastUsedAt) > time.Minute {
		s.store.Write(ctx, func(tx *gorm.DB) error { return tx.Model(&t).Update("last_used_at", now).Error })
	}
	return a, "", nil
}

// sessionLength is how long a browser stays signed in.
const sessionLength = 12 * time.Hour

// SignIn starts a browser session for the owner of a token and returns the session's secret.
func (s *Service) SignIn(ctx context.Context, token string) (string, Actor, error) {
	a, err := s.Authenticate(ctx, token)
	if err != nil {
		return "", Actor{}, err
	}
	if a.scope != ScopeAll && a.scope != ScopeRead {
		return "", Actor{}, problem(Forbidden, "a %s token is for programs and does not sign in to the console", a.scope)
	}
	session := rand.Text()
	err = s.write(ctx, func(tx *tx) error {
		if err := tx.Where("expires_at < ?", s.now()).Delete(&store.Session{}).Error; err != nil {
			return err
		}
		if err := tx.Create(&store.Session{Hash: digest(session), TokenID: a.token, ExpiresAt: s.now().Add(sessionLength)}).Error; err != nil {
			return err
		}
		return tx.record(event{actor: a.Login(), kind: "session.begun", subject: a.TokenKey(), text: fmt.Sprintf("%s signed in to the console with token %d", a.Login(), a.token)})
	})
	return session, a, err
}

// Session finds out whose browser session this is.
func (s *Service) Session(ctx context.Context, session string) (Actor, error) {
	over := problem(SignInNeeded, "the session is over: sign in again")
	db := s.store.Read(ctx)
	var row store.Session
	if err := db.Where("hash = ? AND expires_at > ?", digest(session), s.now()).First(&row).Error; err != nil {
		return Actor{}, orUnknownIs(err, over)
	}
	var t store.Token
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

// Confirm lets a console session change rules and access for a while, its owner having shown the token again that it was begun
// with: another one may have been made by whoever sits at the session.
func (s *Service) Confirm(ctx context.Context, session, token string) (time.Time, error) {
	here, err := s.Session(ctx, session)
	if err != nil {
		return time.Time{}, err
	}
	shown, err := s.Authenticate(ctx, token)
	if err != nil || shown.token != here.token || shown.scope != ScopeAll {
		return time.Time{}, problem(Forbidden, "this is not the token of scope all that %s signed in with", here.Login())
	}
	until := s.now().Add(confirmedFor)
	return until, s.write(ctx, func(tx *tx) error {
		if err := tx.Model(&store.Session{}).Where("hash = ?", digest(session)).Update("confirmed_until", until).Error; err != nil {
			return err
		}
		return tx.record(event{actor: here.Login(), kind: "session.confirmed", subject: here.TokenKey(), text: fmt.Sprintf("%s confirmed who they are, until %s", here.Login(), until.Format("15:04"))})
	})
}

// SignOut ends a browser session.
func (s *Service) SignOut(ctx context.Context, session string) error {
	return s.store.Write(ctx, func(tx *gorm.DB) error {
		return tx.Where("hash = ?", digest(session)).Delete(&store.Session{}).Error
	})
}

// roleKeeper is the house role above maintainer.
const roleKeeper = "keeper"

// roleIn returns an account's role in a repository: the strongest of its own and its teams' grants, in the
// repository and in its house. Administrators are maintainers everywhere.
func roleIn(db *gorm.DB, account store.Account, repo *store.Repository) (gate.Role, error) {
	if account.Disabled {
		return gate.NoRole, nil
	}
	if account.Admin {
		return gate.Maintainer, nil
	}
	best := gate.NoRole
	if repo.Public {
		best = gate.Reader
	}
	if account.ID == 0 {
		return best, nil
	}
	var roles []string
	err := db.Model(&store.Grant{}).Where("(repository_id = ? OR house_id = ?) AND (account_id = ? OR team_id IN (SELECT team_id FROM team_members WHERE account_id = ?))",
		repo.ID, repo.HouseID, account.ID, account.ID).Pluck("role", &roles).Error
	for _, r := range roles {
		if role := plainRole(r); role.AtLeast(best) {
			best = role
		}
	}
	return best, err
}

func plainRole(role string) gate.Role {
	if role == roleKeeper {
		return gate.Maintainer
	}
	return gate.Role(role)
}

// peopleOf returns everybody with a role in a repository, by login, with their teams.
func peopleOf(db *gorm.DB, repo *store.Repository) (map[string]gate.Person, error) {
	var rows []struct {
		Login   string
		Robot   bool
		Role    string
		Standby bool
	}
	err := db.Raw(`
SELECT a.login, a.robot, g.role, FALSE AS standby FROM grants g JOIN accounts a ON a.id = g.account_id
 WHERE NOT a.disabled AND (g.repository_id = @repo OR g.house_id = @house)
UNION ALL
SELECT a.login, a.robot, g.role, FALSE FROM grants g JOIN team_members m ON m.team_id = g.team_id JOIN accounts a ON a.id = m.account_id
 WHERE NOT a.disabled AND (g.repository_id = @repo OR g.house_id = @house)
UNION ALL
SELECT login, robot, 'maintainer', TRUE FROM accounts WHERE admin AND NOT disabled`,
		map[string]any{"repo": repo.ID, "house": repo.HouseID}).Scan(&rows).Error
	if err != nil {
		return nil, err
	}
	people := map[string]gate.Person{}
	for _, r := range rows {
		p, known := people[r.Login]
		p.Login, p.Robot, p.Standby = r.Login, r.Robot, r.Standby && (!known || p.Standby)
		if role := plainRole(r.Role); role.AtLeast(p.Role) {
			p.Role = role
		}
		people[r.Login] = p
	}
	var members []struct{ Login, Team string }
	err = db.Raw("SELECT a.login, t.name AS team FROM team_members m JOIN accounts a ON a.id = m.account_id JOIN teams t ON t.id = m.team_id ORDER BY t.name").
		Scan(&members).Error
	for _, m := range members {
		if p, ok := people[m.Login]; ok {
			p.Teams = append(p.Teams, m.Team)
			people[m.Login] = p
		}
	}
	return people, err
}

// teamsOf returns the teams of people, by login, whether or not they have any access.
func teamsOf(db *gorm.DB, logins []string) (map[string][]string, error) {
	var members []struct{ Login, Team string }
	err := db.Raw("SELECT a.login, t.name AS team FROM team_members m JOIN accounts a ON a.id = m.account_id JOIN teams t ON t.id = m.team_id WHERE a.login IN ? ORDER BY t.name", logins).
		Scan(&members).Error
	teams := map[string][]string{}
	for _, m := range members {
		teams[m.Login] = append(teams[m.Login], m.Team)
	}
	return teams, err
}

// reach finds a repository for an actor who needs at least a role in it. A repository that the actor may not
// read is as good as none (P11).
func (s *Service) reach(db *gorm.DB, a Actor, name string, need gate.Role) (*store.Repository, error) {
	var repo store.Repository
	missing := problem(Unknown, "there is no repository %s, or you may not read it", name)
	if !a.Known() { // the same answer, whether it exists or not
		missing = problem(SignInNeeded, "sign in to see %s: set TAVRIN_TOKEN, or give the token as the Basic password", name)
	}
	if err := db.Where("name = ?", name).First(&repo).Error; err != nil {
		return nil, orUnknownIs(err, missing)
	}
	bound := slices.ContainsFunc(a.bindings, func(b store.TokenBinding) bool { return b.RepositoryID == repo.ID })
	role, err := roleIn(db, a.account, &repo)
	if err != nil {
		return nil, err
	}
	if _, confined := callsOf[a.scope]; confined { // it reads what its few calls need, where it is bound
		role = gate.NoRole
		if bound {
			role = gate.Reader
		}
	}
	if role == gate.NoRole {
		if p, ok := missing.(*Problem); ok {
			p.Rights = true
		}
		return nil, missing
	}
	if need.AtLeast(gate.Writer) && a.scope == ScopeRead {
		return nil, problem(Forbidden, "this token is for reading only; make one with scope all")
	}
	if !role.AtLeast(need) {
		return nil, problem(Forbidden, "this needs the role %s in %s, and %s is %s there: ask a maintainer", need, name, a.who(), role)
	}
	return &repo, nil
}

// who names the actor in sentences.
func (a Actor) who() string {
	if !a.Known() {
		return "somebody who has not signed in"
	}
	return a.account.Login
}

// mustAdminister refuses everybody but service administrators with a full token.
func (a Actor) mustAdminister(what string) error {
	if !a.Known() {
		return problem(SignInNeeded, "sign in first: set TAVRIN_TOKEN")
	}
	if !a.account.Admin || a.scope != ScopeAll {
		return problem(Forbidden, "%s is for service administrators, and %s is not one", what, a.who())
	}
	return nil
}

// mustKeep refuses everybody but keepers of a house and administrators.
func (s *Service) mustKeep(db *gorm.DB, a Actor, house store.House, what string) error {
	if a.scope != ScopeAll {
		return a.mustAdminister(what)
	}
	if a.account.Admin {
		return nil
	}
	role, err := houseRole(db, a.account, house.ID)
	if err != nil || role == roleKeeper {
		return err
	}
	return problem(Forbidden, "%s is for keepers of house %s, and %s is not one", what, house.Name, a.who())
}

func houseRole(db *gorm.DB, account store.Account, house int64) (string, error) {
	var roles []string
	err := db.Model(&store.Grant{}).Where("house_id = ? AND (account_id = ? OR team_id IN (SELECT team_id FROM team_members WHERE account_id = ?))",
		house, account.ID, account.ID).Pluck("role", &roles).Error
	best := ""
	for _, r := range []string{"reader", "writer", "maintainer", roleKeeper} {
		if slices.Contains(roles, r) {
			best = r
		}
	}
	return best, err
}
