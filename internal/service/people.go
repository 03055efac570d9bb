package service

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"gorm.io/gorm"

	"tavrin/internal/core/gate"
	"tavrin/internal/store"
	"tavrin/wire"
)

var (
	loginForm = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,38}$`)
	houseForm = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,38}$`)
	repoForm  = regexp.MustCompile(`^[a-z0-9][a-z0-9._-]{0,63}$`)
	emailForm = regexp.MustCompile(`^[^\s<>@]+@[^\s<>@]+$`)
	checkForm = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9 ._/:-]{0,99}$`)
)

// line checks a text of one line that people will read.
func line(field, text string, min, max int) error {
	switch n := utf8.RuneCountInString(text); {
	case !utf8.ValidString(text):
		return invalid(field, "%s is not valid UTF-8", field)
	case n < min:
		return invalid(field, "%s is empty", field)
	case n > max:
		return invalid(field, "%s has %d characters; at most %d", field, n, max)
	case strings.ContainsFunc(text, unicode.IsControl):
		return invalid(field, "%s holds control characters; one line of plain text is expected", field)
	}
	return nil
}

// prose checks a text of many lines.
func prose(field, text string, max int) error {
	if !utf8.ValidString(text) || strings.ContainsRune(text, 0) {
		return invalid(field, "%s is not valid UTF-8 text", field)
	}
	if len(text) > max {
		return invalid(field, "%s has %d bytes; at most %d", field, len(text), max)
	}
	return nil
}

// FirstStart makes the first administrator and returns a token for it; an empty token when there is one already.
func (s *Service) FirstStart(ctx context.Context) (string, error) {
	token := ""
	err := s.write(ctx, func(tx *tx) error {
		var n int64
		if err := tx.Model(&store.Account{}).Where("admin").Count(&n).Error; err != nil || n > 0 {
			return err
		}
		admin := store.Account{Login: "admin", Name: "Administrator", Email: "admin@tavrin.invalid", Admin: true, CreatedAt: s.now()}
		if err := tx.Create(&admin).Error; err != nil {
			return err
		}
		token = secret()
		expires := s.now().Add(24 * time.Hour)
		t := store.Token{AccountID: admin.ID, Name: "first start", Hash: digest(token), Scope: string(ScopeAll), ExpiresAt: &expires, CreatedAt: s.now()}
		if err := tx.Create(&t).Error; err != nil {
			return err
		}
		return tx.record(event{actor: itself, kind: "person.created", subject: "person/admin", text: "the service made its first administrator, admin"})
	})
	return token, err
}

// NewAccount is what a person or robot is made from.
type NewAccount struct {
	Login, Name, Email string
	Robot, Admin       bool
}

// CreateAccount makes a person or a robot.
func (s *Service) CreateAccount(ctx context.Context, a Actor, n NewAccount) (wire.Person, error) {
	kind := "person"
	if n.Robot {
		kind = "robot"
	}
	if err := a.mustAdminister("making people and robots"); err != nil {
		return wire.Person{}, err
	}
	if !loginForm.MatchString(n.Login) || n.Login == itself {
		return wire.Person{}, invalid("login", "%q is not a login: lower-case letters, digits and \"-\", at most 39, and not %q", n.Login, itself)
	}
	if n.Name == "" {
		n.Name = n.Login
	}
	if err := line("name", n.Name, 1, 100); err != nil {
		return wire.Person{}, err
	}
	if n.Email == "" {
		n.Email = n.Login + "@tavrin.invalid"
	}
	if !emailForm.MatchString(n.Email) || len(n.Email) > 200 {
		return wire.Person{}, invalid("email", "%q is not an e-mail address", n.Email)
	}
	if n.Robot && n.Admin {
		return wire.Person{}, invalid("admin", "a robot cannot be an administrator")
	}
	account := store.Account{Login: n.Login, Name: n.Name, Email: strings.ToLower(n.Email), Robot: n.Robot, Admin: n.Admin, CreatedAt: s.now()}
	err := s.write(ctx, func(tx *tx) error {
		if err := tx.Create(&account).Error; err != nil {
			return taken(err, "the login %s is taken", n.Login)
		}
		return tx.record(event{actor: a.Login(), kind: kind + ".created", subject: kind + "/" + n.Login,
			text: fmt.Sprintf("%s made the %s %s", a.Login(), kind, n.Login), data: map[string]any{"admin": n.Admin}})
	})
	return personView(account, nil), err
}

// taken turns "there is one already" into a conflict with these words.
func taken(err error, format string, args ...any) error {
	if errors.Is(err, store.ErrTaken) {
		return problem(Conflict, format, args...)
	}
	return err
}

func personView(a store.Account, teams []string) wire.Person {
	if teams == nil {
		teams = []string{}
	}
	return wire.Person{Login: a.Login, Name: a.Name, Email: a.Email, Robot: a.Robot, Admin: a.Admin, Disabled: a.Disabled, Teams: teams}
}

func accountByLogin(db *gorm.DB, login string) (store.Account, error) {
	var account store.Account
	err := db.Where("login = ?", login).First(&account).Error
	return account, orUnknown(err, "there is no person or robot %q", login)
}

// known are the accounts and teams that somebody knows of who administers nothing: who has a role where they have one, and the
// people of their own teams, of those that have a role there and of those that the rules there name; and administrators, whom
// everybody may have to ask.
const known = `WITH mine AS (SELECT team_id FROM team_members WHERE account_id = @me),
held AS (SELECT repository_id, house_id FROM grants WHERE account_id = @me OR team_id IN (SELECT team_id FROM mine)),
places AS (SELECT id, house_id FROM repositories WHERE id IN (SELECT repository_id FROM held) OR house_id IN (SELECT house_id FROM held)),
there AS (SELECT account_id, team_id FROM grants WHERE repository_id IN (SELECT id FROM places) OR house_id IN (SELECT house_id FROM places UNION SELECT house_id FROM held)),
named AS (SELECT id AS team_id FROM teams WHERE name IN @named),
teams_known AS (SELECT team_id FROM mine UNION SELECT team_id FROM named UNION SELECT team_id FROM team_keepers WHERE account_id = @me UNION SELECT team_id FROM there WHERE team_id IS NOT NULL),
people_known AS (SELECT @me AS account_id UNION SELECT account_id FROM there WHERE account_id IS NOT NULL
 UNION SELECT account_id FROM team_members WHERE team_id IN (SELECT team_id FROM teams_known) UNION SELECT account_id FROM team_keepers WHERE team_id IN (SELECT team_id FROM teams_known)
 UNION SELECT id FROM accounts WHERE admin)
`

// knows lists the ids of accounts, or of teams, that an actor knows of; nil: all.
func (s *Service) knows(db *gorm.DB, a Actor, what string) ([]int64, error) {
	if a.account.Admin {
		return nil, nil
	}
	named, err := s.teamsInRules(db, a)
	if err != nil {
		return nil, err
	}
	ids := []int64{}
	query := map[string]string{"people": "SELECT account_id FROM people_known", "teams": "SELECT team_id FROM teams_known"}[what]
	return ids, db.Raw(known+query, sql.Named("me", a.account.ID), sql.Named("named", named)).Scan(&ids).Error
}

var teamInRules = regexp.MustCompile(`team:([a-z0-9][a-z0-9-]*)`)

// teamsInRules lists the teams that the rules in force name of what an actor may read.
func (s *Service) teamsInRules(db *gorm.DB, a Actor) ([]string, error) {
	repos, err := s.readable(db, a)
	if err != nil {
		return nil, err
	}
	var ids, houses []int64
	for _, r := range repos {
		ids, houses = append(ids, r.ID), append(houses, r.HouseID)
	}
	var texts []string
	err = db.Raw(`SELECT v.text FROM rules_versions v WHERE (v.repository_id IN ? OR v.house_id IN ?)
AND v.version = (SELECT max(version) FROM rules_versions o WHERE o.repository_id IS v.repository_id AND o.house_id IS v.house_id)`, ids, houses).Scan(&texts).Error
	names := []string{}
	for _, text := range texts {
		for _, m := range teamInRules.FindAllStringSubmatch(text, -1) {
			names = append(names, m[1])
		}
	}
	slices.Sort(names)
	return slices.Compact(names), err
}

// People lists people and robots by login, with their teams: all of them for administrators, for others those they know of.
func (s *Service) People(ctx context.Context, a Actor) ([]wire.Person, error) {
	if !a.Known() || a.account.Robot && a.scope != ScopeAll {
		return nil, problem(SignInNeeded, "sign in to see people")
	}
	db := s.store.Read(ctx)
	ids, err := s.knows(db, a, "people")
	if err != nil {
		return nil, err
	}
	query := db.Order("login")
	if ids != nil {
		query = query.Where("id IN ?", ids)
	}
	var accounts []store.Account
	if err := query.Find(&accounts).Error; err != nil {
		return nil, err
	}
	teams, err := s.Teams(ctx, a)
	if err != nil {
		return nil, err
	}
	people := []wire.Person{}
	for _, account := range accounts {
		var in []string
		for _, t := range teams {
			if slices.Contains(t.Members, account.Login) {
				in = append(in, t.Name)
			}
		}
		p := personView(account, in)
		if !a.account.Admin && a.account.ID != account.ID {
			p.Email = ""
		}
		people = append(people, p)
	}
	return people, nil
}

// Me says who the actor is.
func (s *Service) Me(ctx context.Context, a Actor) (wire.Me, error) {
	if !a.Known() {
		return wire.Me{}, problem(SignInNeeded, "you have not signed in: set TAVRIN_TOKEN")
	}
	var teams []string
	err := s.store.Read(ctx).Raw("SELECT t.name FROM teams t JOIN team_members m ON m.team_id = t.id WHERE m.account_id = ? ORDER BY t.name", a.account.ID).
		Scan(&teams).Error
	return wire.Me{Person: personView(a.account, teams), Scope: string(a.scope), Confirmed: a.confirmedUntil}, err
}

// CreateTeam makes a team. Its keepers may change it, besides administrators.
func (s *Service) CreateTeam(ctx context.Context, a Actor, name string, members, keepers []string) (wire.Team, error) {
	if err := a.mustAdminister("making teams"); err != nil {
		return wire.Team{}, err
	}
	if !loginForm.MatchString(name) {
		return wire.Team{}, invalid("name", "%q is not a name for a team: lower-case letters, digits and \"-\", at most 39", name)
	}
	err := s.write(ctx, func(tx *tx) error {
		team := store.Team{Name: name, CreatedAt: s.now()}
		if err := tx.Create(&team).Error; err != nil {
			return taken(err, "there is a team %s already", name)
		}
		if err := setMembers(tx.DB, team, members); err != nil {
			return err
		}
		if err := setKeepers(tx.DB, team, keepers); err != nil {
			return err
		}
		return tx.record(event{actor: a.Login(), kind: "team.created", subject: "team/" + name,
			text: fmt.Sprintf("%s made team %s with %s, kept by %s", a.Login(), name, orNobody(members), orNobody(keepers)), data: map[string]any{"members": members, "keepers": keepers}})
	})
	if members == nil {
		members = []string{}
	}
	if keepers == nil {
		keepers = []string{}
	}
	return wire.Team{Name: name, Members: members, Keepers: keepers}, err
}

func orNobody(logins []string) string {
	if len(logins) == 0 {
		return "nobody"
	}
	return strings.Join(logins, ", ")
}

// setMembers and setKeepers replace the people of a team.
func setMembers(db *gorm.DB, team store.Team, logins []string) error {
	return setPeople(db, team, logins, "members", &store.TeamMember{}, func(id int64) any { return &store.TeamMember{TeamID: team.ID, AccountID: id} })
}

func setKeepers(db *gorm.DB, team store.Team, logins []string) error {
	return setPeople(db, team, logins, "keepers", &store.TeamKeeper{}, func(id int64) any { return &store.TeamKeeper{TeamID: team.ID, AccountID: id} })
}

// setPeople replaces the rows of a kind that a team has by one for each login. Robots are in no team and keep none.
func setPeople(db *gorm.DB, team store.Team, logins []string, field string, kind any, row func(account int64) any) error {
	if err := db.Where("team_id = ?", team.ID).Delete(kind).Error; err != nil {
		return err
	}
	for _, login := range slices.Compact(slices.Sorted(slices.Values(logins))) {
		account, err := accountByLogin(db, login)
		if err != nil {
			return err
		}
		if account.Robot {
			return invalid(field, "%s is a robot, and teams are of people and kept by people", login)
		}
		if err := db.Create(row(account.ID)).Error; err != nil {
			return err
		}
	}
	return nil
}

// TeamEdit is what to change of a team; nil leaves it.
type TeamEdit struct {
	Members *[]string
	Keepers *[]string
}

// SetTeam replaces a team's members, its keepers, or both. Its keepers and administrators may set members; who keeps
// it is for administrators. Each edit is on record, and what is open is judged by it at once.
func (s *Service) SetTeam(ctx context.Context, a Actor, name string, edit TeamEdit) error {
	if !a.Known() {
		return a.mustAdminister("changing teams")
	}
	return s.write(ctx, func(tx *tx) error {
		var team store.Team
		if err := tx.Where("name = ?", name).First(&team).Error; err != nil {
			return orUnknown(err, "there is no team %q", name)
		}
		var keeps int64
		if err := tx.Model(&store.TeamKeeper{}).Where("team_id = ? AND account_id = ?", team.ID, a.account.ID).Count(&keeps).Error; err != nil {
			return err
		}
		if keeps == 0 || a.scope != ScopeAll || edit.Keepers != nil {
			if err := a.mustAdminister("changing teams that one does not keep"); err != nil {
				return err
			}
		}
		var before []string
		err := tx.Raw("SELECT a.login FROM team_members m JOIN accounts a ON a.id = m.account_id WHERE m.team_id = ? ORDER BY a.login", team.ID).Scan(&before).Error
		if err != nil {
			return err
		}
		data := map[string]any{"was": before}
		text := fmt.Sprintf("%s changed team %s", a.Login(), name)
		if edit.Members != nil {
			if err := setMembers(tx.DB, team, *edit.Members); err != nil {
				return err
			}
			data["members"] = *edit.Members
			text = fmt.Sprintf("%s set the members of team %s to %s", a.Login(), name, orNobody(*edit.Members))
		}
		if edit.Keepers != nil {
			if err := setKeepers(tx.DB, team, *edit.Keepers); err != nil {
				return err
			}
			data["keepers"] = *edit.Keepers
			text += fmt.Sprintf(", kept by %s", orNobody(*edit.Keepers))
		}
		return tx.record(event{actor: a.Login(), kind: "team.changed", subject: "team/" + name, text: text, data: data})
	})
}

// Teams lists the teams with their members and keepers: all of them for administrators, for others those they know of.
func (s *Service) Teams(ctx context.Context, a Actor) ([]wire.Team, error) {
	if !a.Known() {
		return nil, problem(SignInNeeded, "sign in to see teams")
	}
	db := s.store.Read(ctx)
	ids, err := s.knows(db, a, "teams")
	if err != nil {
		return nil, err
	}
	query := db.Order("name")
	if ids != nil {
		query = query.Where("id IN ?", ids)
	}
	var rows []store.Team
	if err := query.Find(&rows).Error; err != nil {
		return nil, err
	}
	var members, keepers []struct {
		TeamID int64
		Login  string
	}
	if err := db.Raw("SELECT m.team_id, a.login FROM team_members m JOIN accounts a ON a.id = m.account_id ORDER BY a.login").Scan(&members).Error; err != nil {
		return nil, err
	}
	if err := db.Raw("SELECT k.team_id, a.login FROM team_keepers k JOIN accounts a ON a.id = k.account_id ORDER BY a.login").Scan(&keepers).Error; err != nil {
		return nil, err
	}
	teams := []wire.Team{}
	for _, row := range rows {
		t := wire.Team{Name: row.Name, Members: []string{}, Keepers: []string{}}
		for _, m := range members {
			if m.TeamID == row.ID {
				t.Members = append(t.Members, m.Login)
			}
		}
		for _, k := range keepers {
			if k.TeamID == row.ID {
				t.Keepers = append(t.Keepers, k.Login)
			}
		}
		teams = append(teams, t)
	}
	return teams, nil
}

// Grant gives somebody a role in a house or a repository; the role "none" takes it away.
func (s *Service) Grant(ctx context.Context, a Actor, where, who, role string) error {
	atHouse := !strings.Contains(where, "/")
	allowed := []string{"reader", "writer", "maintainer", "none"}
	if atHouse {
		allowed = append(allowed, roleKeeper)
	}
	if !slices.Contains(allowed, role) {
		return invalid("role", "%q is not a role here: one of %s", role, strings.Join(allowed, ", "))
	}
	return s.write(ctx, func(tx *tx) error {
		g, e, err := s.grantPlace(tx, a, where)
		if err != nil {
			return err
		}
		if err := grantSubject(tx.DB, &g, who); err != nil {
			return err
		}
		if err := tx.Where(map[string]any{"account_id": g.AccountID, "team_id": g.TeamID, "house_id": g.HouseID, "repository_id": g.RepositoryID}).
			Delete(&store.Grant{}).Error; err != nil {
			return err
		}
		g.Role = role
		if role != "none" {
			if err := tx.Create(&g).Error; err != nil {
				return err
			}
		}
		e.actor, e.kind, e.subject = a.Login(), "role.granted", "grant/"+where+"/"+who
		e.text = fmt.Sprintf("%s gave %s the role %s in %s", a.Login(), who, role, where)
		e.data = map[string]any{"who": who, "where": where, "role": role}
		return tx.record(e)
	})
}

func (s *Service) grantPlace(tx *tx, a Actor, where string) (store.Grant, event, error) {
	if !strings.Contains(where, "/") {
		house, err := houseByName(tx.DB, where)
		if err != nil {
			return store.Grant{}, event{}, err
		}
		return store.Grant{HouseID: &house.ID}, event{}, s.mustKeep(tx.DB, a, house, "giving roles in a house")
	}
	repo, err := s.reach(tx.DB, a, where, gate.Maintainer)
	if err != nil {
		return store.Grant{}, event{}, err
	}
	return store.Grant{RepositoryID: &repo.ID}, event{repo: repo}, nil
}

func grantSubject(db *gorm.DB, g *store.Grant, who string) error {
	if name, isTeam := strings.CutPrefix(who, "team:"); isTeam {
		var team store.Team
		if err := db.Where("name = ?", name).First(&team).Error; err != nil {
			return orUnknown(err, "there is no team %q", name)
		}
		g.TeamID = &team.ID
		return nil
	}
	account, err := accountByLogin(db, who)
	g.AccountID = &account.ID
	return err
}

// NewToken is what a token is made from.
type NewToken struct {
	Login     string
	Name      string
	Lifetime  time.Duration // 0: 90 days
	ReadOnly  bool
	Witness   []string // HOUSE/NAME:CHECK
	RunnerFor []string // HOUSE/NAME
}

const (
	defaultLifetime = 90 * 24 * time.Hour
	longestLifetime = 2 * 365 * 24 * time.Hour
)

// CreateToken makes a token for oneself, or, as an administrator, for anybody. The answer holds the secret.
func (s *Service) CreateToken(ctx context.Context, a Actor, n NewToken) (wire.Token, error) {
	if a.scope != ScopeAll || (n.Login != a.Login() && !a.account.Admin) {
		return wire.Token{}, problem(Forbidden, "a token is made by its owner or by a service administrator, with a token of scope all")
	}
	scope, err := n.scope()
	if err != nil {
		return wire.Token{}, err
	}
	if n.Lifetime == 0 {
		n.Lifetime = defaultLifetime
	}
	if n.Lifetime < time.Second || n.Lifetime > longestLifetime {
		return wire.Token{}, invalid("expires", "a token lives from 1s to %s", longestLifetime)
	}
	if n.Name == "" {
		n.Name = "token"
	}
	if err := line("name", n.Name, 1, 100); err != nil {
		return wire.Token{}, err
	}
	expires := s.now().Add(n.Lifetime)
	plain := secret()
	t := store.Token{Name: n.Name, Hash: digest(plain), Scope: string(scope), ExpiresAt: &expires, CreatedAt: s.now()}
	bindings := append(slices.Clone(n.Witness), n.RunnerFor...)
	err = s.write(ctx, func(tx *tx) error {
		account, err := accountByLogin(tx.DB, n.Login)
		if err != nil {
			return err
		}
		if (scope == ScopeWitness || scope == ScopeRunner) && !account.Robot {
			return invalid("login", "%s is a person; only a robot can be a witness or a runner: tavrin robot create LOGIN", n.Login)
		}
		t.AccountID = account.ID
		if err := tx.Create(&t).Error; err != nil {
			return err
		}
		for _, text := range bindings {
			if err := s.bind(tx, a, t.ID, text, scope); err != nil {
				return err
			}
		}
		return tx.record(event{actor: a.Login(), kind: "token.created", subject: fmt.Sprintf("token/%d", t.ID),
			text: fmt.Sprintf("%s made the %s token %q for %s", a.Login(), scope, n.Name, n.Login),
			data: map[string]any{"scope": scope, "bindings": bindings, "expires_at": expires}})
	})
	if bindings == nil {
		bindings = []string{}
	}
	return wire.Token{ID: t.ID, Login: n.Login, Name: n.Name, Scope: string(scope), Bindings: bindings, ExpiresAt: &expires, CreatedAt: t.CreatedAt, Secret: plain}, err
}

func (n NewToken) scope() (Scope, error) {
	kinds := 0
	scope := ScopeAll
	if n.ReadOnly {
		scope, kinds = ScopeRead, kinds+1
	}
	if len(n.Witness) > 0 {
		scope, kinds = ScopeWitness, kinds+1
	}
	if len(n.RunnerFor) > 0 {
		scope, kinds = ScopeRunner, kinds+1
	}
	if kinds > 1 {
		return "", invalid("witness", "a token has one purpose: reading, witness or runner")
	}
	return scope, nil
}

func (s *Service) bind(tx *tx, a Actor, token int64, text string, scope Scope) error {
	name, check := text, ""
	if scope == ScopeWitness {
		var found bool
		name, check, found = strings.Cut(text, ":")
		if !found || !checkForm.MatchString(check) {
			return invalid("witness", "%q does not name a check of a repository: HOUSE/NAME:CHECK", text)
		}
	}
	repo, err := s.reach(tx.DB, a, name, gate.Maintainer)
	if err != nil {
		return err
	}
	return tx.Create(&store.TokenBinding{TokenID: token, RepositoryID: repo.ID, CheckName: check}).Error
}

// Tokens lists one's own tokens, or as an administrator everybody's, without the secrets.
func (s *Service) Tokens(ctx context.Context, a Actor) ([]wire.Token, error) {
	if !a.Known() {
		return nil, problem(SignInNeeded, "sign in to see tokens")
	}
	db := s.store.Read(ctx)
	query := db.Order("id")
	if !a.account.Admin {
		query = query.Where("account_id = ?", a.account.ID)
	}
	var rows []store.Token
	if err := query.Find(&rows).Error; err != nil {
		return nil, err
	}
	tokens := []wire.Token{}
	for _, t := range rows {
		var account store.Account
		if err := db.First(&account, t.AccountID).Error; err != nil {
			return nil, err
		}
		bindings := []string{}
		err := db.Raw("SELECT r.name || CASE b.check_name WHEN '' THEN '' ELSE ':' || b.check_name END FROM token_bindings b JOIN repositories r ON r.id = b.repository_id WHERE b.token_id = ? ORDER BY 1", t.ID).
			Scan(&bindings).Error
		if err != nil {
			return nil, err
		}
		tokens = append(tokens, wire.Token{ID: t.ID, Login: account.Login, Name: t.Name, Scope: t.Scope, Bindings: bindings,
			ExpiresAt: t.ExpiresAt, RevokedAt: t.RevokedAt, LastUsedAt: t.LastUsedAt, CreatedAt: t.CreatedAt})
	}
	return tokens, nil
}

// RevokeToken ends a token at once: one's own, or as an administrator anybody's.
func (s *Service) RevokeToken(ctx context.Context, a Actor, id int64) error {
	if !a.Known() {
		return problem(SignInNeeded, "sign in to revoke a token")
	}
	return s.write(ctx, func(tx *tx) error {
		var t store.Token
		if err := tx.First(&t, id).Error; err != nil || (t.AccountID != a.account.ID && !a.account.Admin) || a.scope != ScopeAll {
			return problem(Unknown, "there is no token %d that you may revoke: tavrin token list", id)
		}
		now := s.now()
		if err := tx.Model(&t).Update("revoked_at", now).Error; err != nil {
			return err
		}
		if err := tx.Where("token_id = ?", t.ID).Delete(&store.Session{}).Error; err != nil {
			return err
		}
		if _, err := s.endLeases(tx, []int64{t.ID}); err != nil {
			return err
		}
		return tx.record(event{actor: a.Login(), kind: "token.revoked", subject: fmt.Sprintf("token/%d", id), text: fmt.Sprintf("%s revoked token %d, %q", a.Login(), id, t.Name)})
	})
}
