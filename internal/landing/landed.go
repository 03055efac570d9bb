package landing

import (
	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"tavrin/internal/records"
)

// saveLanded records which commits a landing brought.
func saveLanded(db *gorm.DB, l records.Landing, commits []string) error {
	rows := make([]records.LandedCommit, len(commits))
	for i, id := range commits {
		rows[i] = records.LandedCommit{RepositoryID: l.RepositoryID, CommitID: id, LandingID: l.ID}
	}
	if len(rows) == 0 {
		return nil
	}
	return db.Clauses(clause.OnConflict{DoNothing: true}).CreateInBatches(rows, 500).Error
}

// saveSources records the commits of a landed revision as they were before they landed: where another change brings
// them too, they are not replayed.
func saveSources(db *gorm.DB, l records.Landing, r records.Revision) error {
	rows := make([]records.LandedSource, len(r.Commits))
	for i, c := range r.Commits {
		rows[i] = records.LandedSource{RepositoryID: l.RepositoryID, CommitID: c.ID, LandingID: l.ID}
	}
	if len(rows) == 0 {
		return nil
	}
	return db.Clauses(clause.OnConflict{DoNothing: true}).CreateInBatches(rows, 500).Error
}
