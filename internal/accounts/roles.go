package accounts

import (
	"cmp"
	"errors"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"tavrin/internal/core/people"
	"tavrin/internal/problem"
	"tavrin/internal/records"
)

// Roles are what an account may do where: its own roles and its teams', in houses and in repositories.
type Roles struct {
	account    records.Account
	house      map[int64]people.Role
	repository map[int64]people.Role
}

// rolesKey names what was granted to an account and its teams.
type rolesKey int64

// RolesOf returns the roles of an account.
func RolesOf(db *gorm.DB, account records.Account) (Roles, error) {
	r := Roles{account, map[int64]people.Role{}, map[int64]people.Role{}}
	if account.ID == 0 || account.Disabled || account.Admin {
		return r, nil // whatever was granted to them makes no difference
	}
	grants, err := records.Known(db, records.Access, rolesKey(account.ID), func() (grants []records.Grant, err error) {
		err = db.Where("account_id = ? OR team_id IN (SELECT team_id FROM team_members WHERE account_id = ?)", account.ID, account.ID).Find(&grants).Error
		return grants, err
	})
	for _, g := range grants {
		at, id := r.house, g.HouseID
		if id == nil {
			at, id = r.repository, g.RepositoryID
		}
		if role := people.Role(g.Role); role.AtLeast(at[*id]) {
			at[*id] = role
		}
	}
	return r, err
}

// In returns the role in a repository: the strongest of those in it and in its house. Administrators are maintainers
// everywhere.
func (r Roles) In(repo *records.Repository) people.Role {
	switch {
	case r.account.Disabled:
		return people.NoRole
	case r.account.Admin:
		return people.Maintainer
	}
	best := people.NoRole
	if repo.Public {
		best = people.Reader
	}
	for _, role := range []people.Role{r.house[repo.HouseID], r.repository[repo.ID]} {
		if role.AtLeast(best) {
			best = role
		}
	}
	return best
}

// RoleIn returns an account's role in a repository.
func RoleIn(db *gorm.DB, account records.Account, repo *records.Repository) (people.Role, error) {
	r, err := RolesOf(db, account)
	return r.In(repo), err
}

// PeopleOf returns everybody with a role in a repository, with their teams. Those of its house are read once for all of its
// repositories, and both anew only when somebody's access has become another.
func PeopleOf(db *gorm.DB, repo *records.Repository) (people.Everyone, error) {
	house, err := records.Known(db, records.Access, crowdKey{house: repo.HouseID}, func() (*people.Crowd, error) {
		return crowd(db, repo.HouseID)
	})
	if err != nil {
		return people.Everyone{}, err
	}
	own, err := records.Known(db, records.Access, crowdKey{repo.ID, repo.HouseID}, func() (*people.Crowd, error) { return ownCrowd(db, repo, house) })
	return people.Layered(house, own), err
}

// PeopleAnew is PeopleOf, read anew whatever is known. Tests compare the two.
func PeopleAnew(db *gorm.DB, repo *records.Repository) (people.Everyone, error) {
	house, err := crowd(db, repo.HouseID)
	if err != nil {
		return people.Everyone{}, err
	}
	own, err := ownCrowd(db, repo, house)
	return people.Layered(house, own), err
}

// crowdKey names the people of a house, or those that a repository knows otherwise than its house.
type crowdKey struct{ repo, house int64 }

// crowd reads the people of a house.
func crowd(db *gorm.DB, house int64) (*people.Crowd, error) {
	var rows []granted
	err := db.Raw(grantedBy("house_id")+`
UNION ALL
SELECT login, robot, 'maintainer', TRUE FROM accounts WHERE admin AND NOT disabled`, map[string]any{"id": house}).Scan(&rows).Error
	if err != nil {
		return nil, err
	}
	return gathered(db, rows, people.Everyone{})
}

// ownCrowd reads the people who were given a role in a repository itself. They stand in for what they are in its house.
func ownCrowd(db *gorm.DB, repo *records.Repository, house *people.Crowd) (*people.Crowd, error) {
	var rows []granted
	if err := db.Raw(grantedBy("repository_id"), map[string]any{"id": repo.ID}).Scan(&rows).Error; err != nil {
		return nil, err
	}
	return gathered(db, rows, people.Layered(house, nil))
}

// granted is a role that somebody was given, themselves or in a team.
type granted struct {
	Login   string
	Robot   bool
	Role    string
	Standby bool
}

// grantedBy selects what was granted in a house or a repository, @id.
func grantedBy(where string) string {
	return "SELECT a.login, a.robot, g.role, FALSE AS standby FROM grants g JOIN accounts a ON a.id = g.account_id WHERE g." + where + " = @id AND NOT a.disabled " +
		"UNION ALL SELECT a.login, a.robot, g.role, FALSE FROM grants g JOIN team_members m ON m.team_id = g.team_id JOIN accounts a ON a.id = m.account_id " +
		"WHERE g." + where + " = @id AND NOT a.disabled"
}

// gathered puts together what people were given, on top of what they are already: of each the strongest role counts, and whoever has
// one of their own is not on standby.
func gathered(db *gorm.DB, rows []granted, already people.Everyone) (*people.Crowd, error) {
	known := map[string]people.Person{}
	var strangers []string
	for _, r := range rows {
		p, there := known[r.Login]
		if !there {
			if p, there = already.Of(r.Login); !there {
				p.Standby = r.Standby
				strangers = append(strangers, r.Login)
			}
		}
		p.Login, p.Robot, p.Standby = r.Login, r.Robot, p.Standby && r.Standby
		if role := people.Role(r.Role); role.AtLeast(p.Role) {
			p.Role = role
		}
		known[r.Login] = p
	}
	teams, err := TeamsOf(db, strangers)
	for login, of := range teams {
		p := known[login]
		p.Teams = of
		known[login] = p
	}
	return people.CrowdOf(known), err
}

// TeamsOf returns the teams of people, by login, whether or not they have any access.
func TeamsOf(db *gorm.DB, logins []string) (map[string][]string, error) {
	teams := map[string][]string{}
	for some := range slices.Chunk(logins, 5000) {
		var members []struct{ Login, Team string }
		err := db.Raw("SELECT a.login, t.name AS team FROM team_members m JOIN accounts a ON a.id = m.account_id JOIN "+
			"teams t ON t.id = m.team_id WHERE a.login IN ? ORDER BY t.name", some).
			Scan(&members).Error
		if err != nil {
			return nil, err
		}
		for _, m := range members {
			teams[m.Login] = append(teams[m.Login], m.Team)
		}
	}
	return teams, nil
}

// Grace is how long a deleted repository can be brought back.
const Grace = 30 * 24 * time.Hour

// movedTo answers for a name that no repository has: where the one went that had it, to those who may read that.
func movedTo(db *gorm.DB, a Actor, name string, otherwise func() error) error {
	var repo records.Repository
	err := db.Joins("JOIN former_names f ON f.repository_id = repositories.id").Where("f.name = ? AND deleted_at IS NULL", name).First(&repo).Error
	if errors.Is(err, records.ErrNotFound) {
		return otherwise()
	}
	if err != nil {
		return err
	}
	if role, err := RoleIn(db, a.account, &repo); err != nil || a.confined(role, &repo) == people.NoRole {
		return cmp.Or(err, otherwise())
	}
	return problem.New(problem.Unknown, "%s is called %s now; in a clone: git remote set-url origin .../git/%s.git", name, repo.Name,
		repo.Name)
}

// Reach finds a repository for an actor who needs at least a role in it. A repository that the actor may not
// read is as good as none (P11).
func Reach(db *gorm.DB, a Actor, name string, need people.Role) (*records.Repository, error) {
	var repo records.Repository
	missing := problem.New(problem.Unknown, "there is no repository %s, or you may not read it", name)
	if !a.Known() { // the same answer, whether it exists or not
		missing = problem.New(problem.SignInNeeded, "sign in to see %s: set TAVRIN_TOKEN, or give the token as the "+
			"Basic password", name)
	}
	refused := func() error {
		if p, ok := missing.(*problem.Problem); ok && a.Known() {
			p.Text += meantRepository(db, a, name)
		}
		return missing
	}
	if err := db.Where("name = ?", name).First(&repo).Error; errors.Is(err, records.ErrNotFound) {
		return nil, movedTo(db, a, name, refused)
	} else if err != nil {
		return nil, err
	}
	role, err := RoleIn(db, a.account, &repo)
	if err != nil {
		return nil, err
	}
	role = a.confined(role, &repo)
	if role == people.NoRole {
		if p, ok := missing.(*problem.Problem); ok {
			p.Rights = true
		}
		return nil, refused()
	}
	if repo.DeletedAt != nil {
		return nil, problem.New(problem.Unknown, "%s was deleted by %s on %s: tavrin repo restore %s brings it back until %s", repo.Name,
			repo.DeletedBy, repo.DeletedAt.Format(time.DateOnly), repo.Name, repo.DeletedAt.Add(Grace).Format(time.DateOnly))
	}
	if need.AtLeast(people.Writer) && a.scope == ScopeRead {
		return nil, problem.New(problem.Forbidden, "this token is for reading only; make one with scope all")
	}
	if !role.AtLeast(need) {
		return nil, problem.New(problem.Forbidden, "this needs the role %s in %s, and %s is %s there: ask a maintainer",
			need, name, a.Who(), role)
	}
	return &repo, nil
}

// Reads says whether an actor may read a repository that is at hand, by the roles of this moment.
func Reads(db *gorm.DB, a Actor, repo *records.Repository) (bool, error) {
	role, err := RoleIn(db, a.account, repo)
	return err == nil && repo.DeletedAt == nil && a.confined(role, repo) != people.NoRole, err
}

// MustMaintainHouse refuses everybody but the maintainers of a house and administrators.
func MustMaintainHouse(db *gorm.DB, a Actor, house records.House, what string) error {
	if a.scope != ScopeAll {
		return a.MustAdminister(what)
	}
	if a.account.Admin {
		return nil
	}
	role, err := HouseRole(db, a.account, house.ID)
	if err != nil || role == string(people.Maintainer) {
		return err
	}
	return problem.New(problem.Forbidden, "%s is for maintainers of house %s, and %s is not one", what, house.Name, a.Who())
}

func HouseRole(db *gorm.DB, account records.Account, house int64) (string, error) {
	var roles []string
	err := db.Model(&records.Grant{}).Where("house_id = ? AND (account_id = ? OR team_id IN (SELECT team_id FROM "+
		"team_members WHERE account_id = ?))",
		house, account.ID, account.ID).Pluck("role", &roles).Error
	best := ""
	for _, r := range []string{"reader", "writer", "maintainer"} {
		if slices.Contains(roles, r) {
			best = r
		}
	}
	return best, err
}

// MembersOf lists the people with access who are meant by principals, by login.
func MembersOf(all people.Everyone, who []people.Principal) []string {
	out := []string{}
	for _, p := range all.Among(who) {
		if !p.Robot {
			out = append(out, p.Login)
		}
	}
	return out
}

func PrincipalTexts(who []people.Principal) []string {
	out := []string{}
	for _, p := range who {
		out = append(out, p.String())
	}
	return out
}

// PrincipalNamed reads a principal that was kept as text.
func PrincipalNamed(text string) people.Principal {
	kind, name, _ := strings.Cut(text, ":")
	return people.Principal{Kind: people.Kind(kind), Name: name}
}

// HouseByName finds a house that an actor named.
func HouseByName(db *gorm.DB, a Actor, name string) (records.House, error) {
	var h records.House
	err := db.Where("name = ?", name).First(&h).Error
	if errors.Is(err, records.ErrNotFound) {
		err = problem.New(problem.Unknown, "there is no house %q: tavrin house create %s%s", name, name, MeantHouse(db, a, name))
	}
	return h, err
}

// confined is the role of an actor whose account has some role in a repository: a token for one purpose reads what its
// few calls need, where it is bound.
func (a Actor) confined(role people.Role, repo *records.Repository) people.Role {
	if _, confined := callsOf[a.scope]; !confined {
		return role
	}
	if slices.ContainsFunc(a.bindings, func(b records.TokenBinding) bool { return b.RepositoryID == repo.ID }) {
		return people.Reader
	}
	return people.NoRole
}

// Readable returns the repositories that the actor may read, by name.
func Readable(db *gorm.DB, a Actor) ([]records.Repository, error) {
	var rows []records.Repository
	if err := db.Where("deleted_at IS NULL").Order("name").Find(&rows).Error; err != nil {
		return nil, err
	}
	roles, err := RolesOf(db, a.account)
	if err != nil {
		return nil, err
	}
	return slices.DeleteFunc(rows, func(r records.Repository) bool {
		return a.confined(roles.In(&r),
			&r) == people.NoRole
	}), nil
}

// Belongs says whether an actor has a role in a house or in one of its repositories. That a repository is readable by
// all is not enough to read what its house says of others (P11).
func Belongs(db *gorm.DB, a Actor, house records.House) (bool, error) {
	if a.account.Admin {
		return true, nil
	}
	if role, err := HouseRole(db, a.account, house.ID); err != nil || role != "" {
		return role != "", err
	}
	repos, err := RepositoriesOf(db, house)
	if err != nil {
		return false, err
	}
	roles, err := RolesOf(db, a.account)
	return slices.ContainsFunc(repos, func(r records.Repository) bool {
		r.Public = false
		return roles.In(&r) != people.NoRole
	}), err
}

func RepositoriesOf(db *gorm.DB, house records.House) ([]records.Repository, error) {
	var repos []records.Repository
	err := db.Where("house_id = ? AND deleted_at IS NULL", house.ID).Order("name").Find(&repos).Error
	return repos, err
}
