package accounts

import (
	"errors"
	"slices"

	"gorm.io/gorm"

	"tavrin/internal/core/near"
	"tavrin/internal/problem"
	"tavrin/internal/records"
)

// What somebody typed and there is not, is answered with the name that they may have meant: one of those that they know of
// anyway, so that nothing is told by it (P11).

// meantRepository says which of the repositories that an actor may read they may have meant.
func meantRepository(db *gorm.DB, a Actor, name string) string {
	repos, err := Readable(db, a)
	if err != nil {
		return "" // it only helps
	}
	var known []string
	for _, r := range repos {
		known = append(known, r.Name)
	}
	return near.Meant(name, known)
}

// accountFor is AccountByLogin for a login that an actor typed.
func accountFor(db *gorm.DB, a Actor, login string) (records.Account, error) {
	account, err := AccountByLogin(db, login)
	return account, a.meaning(db, err, "people", "accounts", "login", login)
}

// teamFor finds a team whose name an actor typed.
func teamFor(db *gorm.DB, a Actor, name string) (team records.Team, err error) {
	err = records.OrUnknown(db.Where("name = ?", name).First(&team).Error, "there is no team %q", name)
	return team, a.meaning(db, err, "teams", "teams", "name", name)
}

// meaning adds to the answer that there is no such account or team the one that may have been meant.
func (a Actor) meaning(db *gorm.DB, err error, what, table, column, typed string) error {
	p, unknown := errors.AsType[*problem.Problem](err)
	if !unknown {
		return err
	}
	ids, err := knows(db, a, what)
	if err != nil {
		return p
	}
	query := db.Table(table)
	if ids != nil {
		query = query.Where("id IN ?", ids)
	}
	var names []string
	if query.Order(column).Pluck(column, &names).Error != nil {
		return p
	}
	p.Text += near.Meant(typed, names)
	return p
}

// MeantHouse says which of the houses that an actor belongs to they may have meant.
func MeantHouse(db *gorm.DB, a Actor, name string) string {
	var houses []records.House
	if !a.Known() || db.Order("name").Find(&houses).Error != nil {
		return ""
	}
	houses = slices.DeleteFunc(houses, func(h records.House) bool {
		inside, err := Belongs(db, a, h)
		return err != nil || !inside
	})
	var known []string
	for _, h := range houses {
		known = append(known, h.Name)
	}
	return near.Meant(name, known)
}
