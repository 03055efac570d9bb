package accounts

import (
	"context"
	"database/sql"
	"regexp"
	"slices"
	"strings"

	"gorm.io/gorm"

	"tavrin/internal/core/event"
	"tavrin/internal/core/people"
	"tavrin/internal/problem"
	"tavrin/internal/records"
	"tavrin/internal/typed"
	"tavrin/wire"
)

// CreateAccount makes a person or a robot.
func (s *People) CreateAccount(ctx context.Context, a Actor, n wire.NewPerson) (wire.Person, error) {
	if err := a.MustAdminister("making people and robots"); err != nil {
		return wire.Person{}, err
	}
	if !typed.LoginForm.MatchString(n.Login) || n.Login == records.Itself {
		return wire.Person{}, problem.Wrong("login", "%q is not a login: lower-case letters, digits and \"-\", at "+
			"most 39, and not %q", n.Login, records.Itself)
	}
	if n.Name == "" {
		n.Name = n.Login
	}
	if err := typed.Line("name", n.Name, 1, 100); err != nil {
		return wire.Person{}, err
	}
	if n.Email == "" {
		n.Email = n.Login + "@tavrin.invalid"
	}
	if !typed.EmailForm.MatchString(n.Email) || len(n.Email) > 200 {
		return wire.Person{}, problem.Wrong("email", "%q is not an e-mail address", n.Email)
	}
	if n.Robot && n.Admin {
		return wire.Person{}, problem.Wrong("admin", "a robot cannot be an administrator")
	}
	account := records.Account{Login: n.Login, Name: n.Name, Email: strings.ToLower(n.Email), Robot: n.Robot,
		Admin: n.Admin, CreatedAt: s.records.Now()}
	err := s.records.Write(ctx, func(tx *records.Tx) error {
		if err := tx.Create(&account).Error; err != nil {
			return records.OrTaken(err, "the login %s is taken", n.Login)
		}
		if n.Robot {
			return tx.Record(a.Login(), nil, event.RobotCreated{Login: n.Login})
		}
		return tx.Record(a.Login(), nil, event.PersonCreated{Login: n.Login, Admin: n.Admin})
	})
	return personView(account, nil), err
}

func personView(a records.Account, teams []string) wire.Person {
	if teams == nil {
		teams = []string{}
	}
	return wire.Person{Login: a.Login, Name: a.Name, Email: a.Email, Robot: a.Robot, Admin: a.Admin,
		Disabled: a.Disabled, Teams: teams}
}

func AccountByLogin(db *gorm.DB, login string) (records.Account, error) {
	var account records.Account
	err := db.Where("login = ?", login).First(&account).Error
	return account, records.OrUnknown(err, "there is no person or robot %q", login)
}

// known are the accounts and teams that somebody knows of who administers nothing: who has a role where they have one,
// and the people of their own teams, of those that have a role there and of those that the rules there name; and
// administrators, whom everybody may have to ask.
const known = `WITH mine AS (SELECT team_id FROM team_members WHERE account_id = @me),
held AS (SELECT repository_id, house_id FROM grants WHERE account_id = @me OR team_id IN (SELECT team_id FROM mine)),
places AS (SELECT id, house_id FROM repositories WHERE id IN (SELECT repository_id FROM held) OR house_id IN (SELECT house_id FROM held)),
there AS (SELECT account_id, team_id FROM grants WHERE repository_id IN (SELECT id FROM places) OR house_id IN (SELECT house_id FROM places UNION SELECT house_id FROM held)),
named AS (SELECT id AS team_id FROM teams WHERE name IN @named),
teams_known AS (SELECT team_id FROM mine UNION SELECT team_id FROM named UNION SELECT team_id FROM team_managers WHERE account_id = @me UNION SELECT team_id FROM there WHERE team_id IS NOT NULL),
people_known AS (SELECT @me AS account_id UNION SELECT account_id FROM there WHERE account_id IS NOT NULL
 UNION SELECT account_id FROM team_members WHERE team_id IN (SELECT team_id FROM teams_known) UNION SELECT account_id FROM team_managers WHERE team_id IN (SELECT team_id FROM teams_known)
 UNION SELECT id FROM accounts WHERE admin)
`

// knows lists the ids of accounts, or of teams, that an actor knows of; nil: all.
func knows(db *gorm.DB, a Actor, what string) ([]int64, error) {
	if a.account.Admin {
		return nil, nil
	}
	named, err := teamsInRules(db, a)
	if err != nil {
		return nil, err
	}
	ids := []int64{}
	query := map[string]string{"people": "SELECT account_id FROM people_known",
		"teams": "SELECT team_id FROM teams_known"}[what]
	return ids, db.Raw(known+query, sql.Named("me", a.account.ID), sql.Named("named", named)).Scan(&ids).Error
}

var teamInRules = regexp.MustCompile(`team:([a-z0-9][a-z0-9-]*)`)

// teamsInRules lists the teams that the rules in force name of what an actor may read.
func teamsInRules(db *gorm.DB, a Actor) ([]string, error) {
	repos, err := Readable(db, a)
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

// People lists people and robots by login, with their teams: all of them for administrators, for others those they know
// of.
func (s *People) People(ctx context.Context, a Actor) ([]wire.Person, error) {
	if !a.Known() || a.account.Robot && a.scope != ScopeAll {
		return nil, problem.New(problem.SignInNeeded, "sign in to see people")
	}
	snap := s.records.View(ctx)
	defer snap.Close()
	db := snap.DB
	ids, err := knows(db, a, "people")
	if err != nil {
		return nil, err
	}
	query := db.Order("login")
	if ids != nil {
		query = query.Where("id IN ?", ids)
	}
	var accounts []records.Account
	if err := query.Find(&accounts).Error; err != nil {
		return nil, err
	}
	teams, err := teamsKnown(db, a)
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
func (s *People) Me(ctx context.Context, a Actor) (wire.Me, error) {
	if !a.Known() {
		return wire.Me{}, problem.New(problem.SignInNeeded, "you have not signed in: set TAVRIN_TOKEN")
	}
	var teams []string
	err := s.records.Read(ctx).Raw("SELECT t.name FROM teams t JOIN team_members m ON m.team_id = t.id WHERE "+
		"m.account_id = ? ORDER BY t.name", a.account.ID).
		Scan(&teams).Error
	return wire.Me{Person: personView(a.account, teams), Scope: string(a.scope), Confirmed: a.confirmedUntil}, err
}

// CreateTeam makes a team. Its managers may change it, besides administrators.
func (s *People) CreateTeam(ctx context.Context, a Actor, name string, members, managers []string) (wire.Team, error) {
	if err := a.MustAdminister("making teams"); err != nil {
		return wire.Team{}, err
	}
	if !typed.LoginForm.MatchString(name) {
		return wire.Team{}, problem.Wrong("name", "%q is not a name for a team: lower-case letters, digits and "+
			"\"-\", at most 39", name)
	}
	err := s.records.Write(ctx, func(tx *records.Tx) error {
		team := records.Team{Name: name, CreatedAt: s.records.Now()}
		if err := tx.Create(&team).Error; err != nil {
			return records.OrTaken(err, "there is a team %s already", name)
		}
		if err := setMembers(tx.DB, a, team, members); err != nil {
			return err
		}
		if err := setManagers(tx.DB, a, team, managers); err != nil {
			return err
		}
		return tx.Record(a.Login(), nil, event.TeamCreated{Team: name, Members: members, Managers: managers})
	})
	if members == nil {
		members = []string{}
	}
	if managers == nil {
		managers = []string{}
	}
	return wire.Team{Name: name, Members: members, Managers: managers}, err
}

// setMembers and setManagers replace the people of a team.
func setMembers(db *gorm.DB, a Actor, team records.Team, logins []string) error {
	return setPeople(db, a, team, logins, "members", &records.TeamMember{},
		func(id int64) any { return &records.TeamMember{TeamID: team.ID, AccountID: id} })
}

func setManagers(db *gorm.DB, a Actor, team records.Team, logins []string) error {
	return setPeople(db, a, team, logins, "managers", &records.TeamManager{},
		func(id int64) any { return &records.TeamManager{TeamID: team.ID, AccountID: id} })
}

// setPeople replaces the rows of a kind that a team has by one for each login. Robots are in no team and keep none.
func setPeople(db *gorm.DB, a Actor, team records.Team, logins []string, field string, kind any,
	row func(account int64) any) error {
	if err := db.Where("team_id = ?", team.ID).Delete(kind).Error; err != nil {
		return err
	}
	for _, login := range slices.Compact(slices.Sorted(slices.Values(logins))) {
		account, err := accountFor(db, a, login)
		if err != nil {
			return err
		}
		if account.Robot {
			return problem.Wrong(field, "%s is a robot, and teams are of people and managed by people", login)
		}
		if err := db.Create(row(account.ID)).Error; err != nil {
			return err
		}
	}
	return nil
}

// SetTeam replaces a team's members, its managers, or both. Its managers and administrators may set members; who keeps
// it is for administrators. Each edit is on record, and what is open is judged by it at once.
func (s *People) SetTeam(ctx context.Context, a Actor, name string, edit wire.TeamEdit) error {
	if !a.Known() {
		return a.MustAdminister("changing teams")
	}
	return s.records.Write(ctx, func(tx *records.Tx) error {
		team, err := teamFor(tx.DB, a, name)
		if err != nil {
			return err
		}
		var keeps int64
		if err := tx.Model(&records.TeamManager{}).Where("team_id = ? AND account_id = ?", team.ID,
			a.account.ID).Count(&keeps).Error; err != nil {
			return err
		}
		if keeps == 0 || a.scope != ScopeAll || edit.Managers != nil {
			if err := a.MustAdminister("changing a team that one does not manage"); err != nil {
				return err
			}
		}
		var before []string
		err = tx.Raw("SELECT a.login FROM team_members m JOIN accounts a ON a.id = m.account_id WHERE m.team_id = "+
			"? ORDER BY a.login", team.ID).Scan(&before).Error
		if err != nil {
			return err
		}
		if edit.Members != nil {
			if err := setMembers(tx.DB, a, team, *edit.Members); err != nil {
				return err
			}
		}
		if edit.Managers != nil {
			if err := setManagers(tx.DB, a, team, *edit.Managers); err != nil {
				return err
			}
		}
		return tx.Record(a.Login(), nil, event.TeamChanged{Team: name, Was: before, Members: edit.Members,
			Managers: edit.Managers})
	})
}

// Teams lists the teams with their members and managers: all of them for administrators, for others those they know of.
func (s *People) Teams(ctx context.Context, a Actor) ([]wire.Team, error) {
	if !a.Known() {
		return nil, problem.New(problem.SignInNeeded, "sign in to see teams")
	}
	snap := s.records.View(ctx)
	defer snap.Close()
	return teamsKnown(snap.DB, a)
}

// teamsKnown lists the teams that an actor knows of.
func teamsKnown(db *gorm.DB, a Actor) ([]wire.Team, error) {
	ids, err := knows(db, a, "teams")
	if err != nil {
		return nil, err
	}
	query := db.Order("name")
	if ids != nil {
		query = query.Where("id IN ?", ids)
	}
	var rows []records.Team
	if err := query.Find(&rows).Error; err != nil {
		return nil, err
	}
	var members, managers []struct {
		TeamID int64
		Login  string
	}
	if err := db.Raw("SELECT m.team_id, a.login FROM team_members m JOIN accounts a ON a.id = m.account_id ORDER BY " +
		"a.login").Scan(&members).Error; err != nil {
		return nil, err
	}
	if err := db.Raw("SELECT k.team_id, a.login FROM team_managers k JOIN accounts a ON a.id = k.account_id ORDER BY " +
		"a.login").Scan(&managers).Error; err != nil {
		return nil, err
	}
	teams := []wire.Team{}
	for _, row := range rows {
		t := wire.Team{Name: row.Name, Members: []string{}, Managers: []string{}}
		for _, m := range members {
			if m.TeamID == row.ID {
				t.Members = append(t.Members, m.Login)
			}
		}
		for _, k := range managers {
			if k.TeamID == row.ID {
				t.Managers = append(t.Managers, k.Login)
			}
		}
		teams = append(teams, t)
	}
	return teams, nil
}

// Grants lists who has which role in a house or a repository, by name; of a repository, those in its house come after its
// own. It is for those who have a role there themselves (P11).
func (s *People) Grants(ctx context.Context, a Actor, where string) ([]wire.Grant, error) {
	snap := s.records.View(ctx)
	defer snap.Close()
	db := snap.DB
	if !a.Known() {
		return nil, problem.New(problem.SignInNeeded, "sign in to see roles")
	}
	var repository, house int64
	if strings.Contains(where, "/") {
		repo, err := Reach(db, a, where, people.Reader)
		if err != nil {
			return nil, err
		}
		there, err := PeopleOf(db, repo)
		if err != nil {
			return nil, err
		}
		if _, belongs := there.Of(a.Login()); !belongs && !a.account.Admin {
			return nil, problem.New(problem.Forbidden, "who has which role in %s is for those who have one there", where)
		}
		repository, house = repo.ID, repo.HouseID
	} else {
		h, err := HouseByName(db, a, where)
		if err != nil {
			return nil, err
		}
		role, err := HouseRole(db, a.account, h.ID)
		if err != nil {
			return nil, err
		}
		if role == "" && !a.account.Admin { // the same, whether there is such a house or not
			return nil, problem.New(problem.Unknown, "there is no house %q: tavrin house create %s%s", where, where, MeantHouse(db, a, where))
		}
		house = h.ID
	}
	out := []wire.Grant{}
	return out, db.Raw(`SELECT coalesce(a.login, 'team:' || t.name) AS who, coalesce(r.name, h.name) AS "where", g.role
FROM grants g LEFT JOIN accounts a ON a.id = g.account_id LEFT JOIN teams t ON t.id = g.team_id
LEFT JOIN repositories r ON r.id = g.repository_id LEFT JOIN houses h ON h.id = g.house_id
WHERE g.repository_id = ? OR g.house_id = ? ORDER BY g.repository_id IS NULL, who`, repository, house).Scan(&out).Error
}

// Grant gives somebody a role in a house or a repository; the role "none" takes it away.
func (s *People) Grant(ctx context.Context, a Actor, where, who, role string) error {
	allowed := []string{"reader", "writer", "maintainer", "none"}
	if !slices.Contains(allowed, role) {
		return problem.Wrong("role", "%q is not a role here: one of %s", role, strings.Join(allowed, ", "))
	}
	return s.records.Write(ctx, func(tx *records.Tx) error {
		g, repo, err := grantPlace(tx, a, where)
		if err != nil {
			return err
		}
		if err := grantSubject(tx.DB, a, &g, who); err != nil {
			return err
		}
		if err := tx.Where(map[string]any{"account_id": g.AccountID, "team_id": g.TeamID, "house_id": g.HouseID,
			"repository_id": g.RepositoryID}).
			Delete(&records.Grant{}).Error; err != nil {
			return err
		}
		g.Role = role
		if role != "none" {
			if err := tx.Create(&g).Error; err != nil {
				return err
			}
		}
		return tx.Record(a.Login(), repo, event.RoleGranted{Who: who, Where: where, Role: role})
	})
}

// grantPlace finds where a role is to be given, for somebody who may: a house, or the repository returned.
func grantPlace(tx *records.Tx, a Actor, where string) (records.Grant, *records.Repository, error) {
	if !strings.Contains(where, "/") {
		house, err := HouseByName(tx.DB, a, where)
		if err != nil {
			return records.Grant{}, nil, err
		}
		return records.Grant{HouseID: &house.ID}, nil, MustMaintainHouse(tx.DB, a, house, "giving roles in a house")
	}
	repo, err := Reach(tx.DB, a, where, people.Maintainer)
	if err != nil {
		return records.Grant{}, nil, err
	}
	return records.Grant{RepositoryID: &repo.ID}, repo, nil
}

func grantSubject(db *gorm.DB, a Actor, g *records.Grant, who string) error {
	if name, isTeam := strings.CutPrefix(who, "team:"); isTeam {
		team, err := teamFor(db, a, name)
		if err != nil {
			return err
		}
		g.TeamID = &team.ID
		return nil
	}
	account, err := accountFor(db, a, who)
	g.AccountID = &account.ID
	return err
}
