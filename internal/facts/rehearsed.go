package facts

import (
	"gorm.io/gorm"

	"tavrin/internal/core/change"
	"tavrin/internal/records"
)

// Rehearsed is rehearsals of one queue as they are on record.
type Rehearsed struct {
	parts  map[int64][]records.Rehearsal // by number, in the order of the path
	checks map[string][]change.Check     // by the commit that was tested
}

// RehearsedIn reads rehearsals of a queue, by their numbers.
func RehearsedIn(db *gorm.DB, repo *records.Repository, queue int64, numbers ...int64) (Rehearsed, error) {
	r := Rehearsed{parts: map[int64][]records.Rehearsal{}}
	if len(numbers) == 0 {
		return r, nil
	}
	var rows []records.Rehearsal
	err := db.Where("queue_id = ? AND number IN ? AND ended = ''", queue, numbers).Order("number, position").Find(&rows).Error
	if err != nil {
		return r, err
	}
	var commits []string
	for _, x := range rows {
		r.parts[x.Number] = append(r.parts[x.Number], x)
		if x.Tested != "" {
			commits = append(commits, x.Tested)
		}
	}
	r.checks, err = gateChecks(db, repo.ID, commits)
	return r, err
}

// Parts are the parts of a rehearsal, in the order of its path as it was begun.
func (r Rehearsed) Parts(number int64) []records.Rehearsal { return r.parts[number] }

// Of is an entry's part of a rehearsal; nil: there is none, or it is not built.
func (r Rehearsed) Of(number, entry int64) *records.Rehearsal {
	for i := range r.parts[number] {
		if x := &r.parts[number][i]; x.EntryID == entry && x.Tested != "" {
			return x
		}
	}
	return nil
}

// Judged is what was gathered about a change as it is to be judged for its entry's part of a rehearsal.
func (r Rehearsed) Judged(g Gathered, part records.Rehearsal) Gathered {
	return g.On(part, r.checks[part.Tested])
}
