package facts

import (
	"slices"
	"strings"

	"gorm.io/gorm"

	"tavrin/internal/accounts"
	"tavrin/internal/core/change"
	"tavrin/internal/core/people"
	"tavrin/internal/git"
	"tavrin/internal/problem"
	"tavrin/internal/records"
)

func RevisionRow(db *gorm.DB, c records.Change) (records.Revision, error) {
	var r records.Revision
	err := db.Where("change_id = ? AND number = ?", c.ID, c.Revision).First(&r).Error
	return r, err
}

// ChangeRow finds a change for an actor who needs at least a role in its repository.
func ChangeRow(db *gorm.DB, a accounts.Actor, name string, number int,
	need people.Role) (*records.Repository, records.Change, error) {
	repo, err := accounts.Reach(db, a, name, need)
	if err != nil {
		return nil, records.Change{}, err
	}
	var c records.Change
	err = db.Where("repository_id = ? AND number = ?", repo.ID, number).First(&c).Error
	return repo, c, records.OrUnknown(err, "%s has no change %d", name, number)
}

// MayReview refuses verdicts of robots and of those without a role of their own: that a repository is readable by
// all lets nobody block it.
func MayReview(db *gorm.DB, a accounts.Actor, repo *records.Repository, v change.Verdict) error {
	private := *repo
	private.Public = false
	role, err := accounts.RoleIn(db, a.Account(), &private)
	switch {
	case err != nil:
		return err
	case !a.Known():
		return problem.New(problem.SignInNeeded, "sign in to review")
	case a.Account().Robot && v != change.Comment:
		return problem.New(problem.Forbidden, "%s is a robot, and robots do not approve or object", a.Login())
	case a.Scope() != accounts.ScopeAll:
		return problem.New(problem.Forbidden, "this token cannot review; it takes one of scope all")
	case v != change.Comment && !role.AtLeast(people.Reader):
		return problem.New(problem.Forbidden, "%s has no role in %s and may only comment: ask a maintainer for one",
			a.Login(), repo.Name)
	}
	return nil
}

func EntryAndChange(db *gorm.DB, entry int64) (records.Entry, records.Change, error) {
	var e records.Entry
	var c records.Change
	err := db.First(&e, entry).Error
	if err == nil {
		err = db.First(&c, e.ChangeID).Error
	}
	return e, c, err
}

// MayEdit refuses those who are neither authors of a change nor maintainers.
func MayEdit(db *gorm.DB, a accounts.Actor, repo *records.Repository, c records.Change, what string) error {
	role, err := accounts.RoleIn(db, a.Account(), repo)
	if err != nil || role.AtLeast(people.Maintainer) || c.OpenedBy == a.Login() {
		return err
	}
	r, err := RevisionRow(db, c)
	if err != nil || slices.Contains(r.Authors, a.Login()) {
		return err
	}
	return problem.New(problem.Forbidden, "%s change %d is for its authors (%s) and maintainers", what, c.Number,
		strings.Join(r.Authors, ", "))
}

func RevisionNumbered(db *gorm.DB, c records.Change, n int) (records.Revision, error) {
	if n == 0 {
		n = c.Revision
	}
	var r records.Revision
	err := db.Where("change_id = ? AND number = ?", c.ID, n).First(&r).Error
	return r, records.OrUnknown(err, "change %d has no revision %d; the newest is %d", c.Number, n, c.Revision)
}

// BroughtBy finds the commit of a revision that somebody named by its id, or by enough of the beginning.
func BroughtBy(c records.Change, r records.Revision, text string) (string, error) {
	if text = strings.ToLower(text); !git.MayNameCommit(text) {
		return "", problem.Wrong("commit", "%q is not a commit id: four to forty hexadecimal digits", text)
	}
	var found []string
	for _, k := range r.Commits {
		if strings.HasPrefix(k.ID, text) {
			found = append(found, k.ID)
		}
	}
	switch len(found) {
	case 1:
		return found[0], nil
	case 0:
		return "", problem.Wrong("commit", "revision %d of change %d does not bring a commit %q: tavrin change commits %d "+
			"lists them", r.Number, c.Number, text, c.Number)
	}
	return "", problem.Wrong("commit", "%d commits of revision %d begin with %s: give more of the id", len(found), r.Number, text)
}
