package rulebook

import (
	"context"
	"errors"
	"time"

	"gorm.io/gorm"

	"tavrin/internal/accounts"
	"tavrin/internal/records"
)

// What other rules mean for thousands of open changes is found out after they are in force, a few changes at a time, so that nobody
// waits for it who writes something else: which checks they ask for, which tickets. It is on record what is still to be done, and
// goes on after a kill. Nothing lands by the rules before: a landing is judged by those that are in force in its own transaction.

const (
	// dueAtOnce is how many changes are looked at in one transaction.
	dueAtOnce = 20
	// dueInline is for how long whoever applies rules waits for that. With few open changes, all of it is done when they have their
	// answer.
	dueInline = 150 * time.Millisecond
	// dueRest is how long it is waited after trouble.
	dueRest = 5 * time.Second
)

// judgeAgain puts on record that the open changes of a repository, or of every repository of a house, are to be looked at under other
// rules.
func (s *Rulebook) judgeAgain(tx *records.Tx, h shelf) error {
	repos := []records.Repository{}
	if h.repo != nil {
		repos = append(repos, *h.repo)
	} else {
		var err error
		if repos, err = accounts.RepositoriesOf(tx.DB, *h.house); err != nil {
			return err
		}
	}
	ids := make([]int64, len(repos))
	for i, r := range repos {
		ids[i] = r.ID
	}
	return tx.Exec("INSERT INTO rules_due (repository_id, after, since) SELECT repository_id, 0, ? FROM changes "+
		"WHERE repository_id IN ? AND state IN ('draft', 'open') GROUP BY repository_id "+
		"ON CONFLICT (repository_id) DO UPDATE SET after = 0, since = excluded.since", s.records.Now(), ids).Error
}

// JudgeDue looks at open changes under rules that came into force, until the context ends.
func (s *Rulebook) JudgeDue(ctx context.Context) {
	for ctx.Err() == nil {
		rest := time.Hour
		for more := true; more && ctx.Err() == nil; {
			var err error
			if more, err = s.judgeSome(ctx); err != nil && ctx.Err() == nil {
				s.log.Error("open changes could not be looked at under other rules", "error", err)
				rest, more = dueRest, false
			}
		}
		select {
		case <-ctx.Done():
		case <-s.due:
		case <-time.After(rest):
		}
	}
}

// judgeNow does what is due for a short while, and leaves the rest to JudgeDue. Its trouble is not that of whoever applied rules: they
// are in force.
func (s *Rulebook) judgeNow(ctx context.Context) {
	for begun, more := time.Now(), true; more && time.Since(begun) < dueInline; {
		var err error
		if more, err = s.judgeSome(ctx); err != nil {
			break // it is told of where it is tried again
		}
	}
	select {
	case s.due <- struct{}{}:
	default:
	}
}

// judgeSome looks at some changes, and says whether there are more.
func (s *Rulebook) judgeSome(ctx context.Context) (more bool, err error) {
	var row records.RulesDue
	if err := s.records.Read(ctx).Order("since, repository_id").Limit(1).Find(&row).Error; err != nil || row.RepositoryID == 0 {
		return false, err
	}
	return true, s.records.Write(ctx, func(tx *records.Tx) error {
		var row records.RulesDue // another may have been at it
		if err := tx.Order("since, repository_id").Limit(1).Find(&row).Error; err != nil || row.RepositoryID == 0 {
			return err
		}
		var repo records.Repository
		err := tx.First(&repo, row.RepositoryID).Error
		if errors.Is(err, records.ErrNotFound) || repo.DeletedAt != nil {
			tx.TouchesNothing()
			return tx.Delete(&row).Error
		}
		if err != nil {
			return err
		}
		tx.Concerns(&repo)
		var changes []records.Change
		if err := tx.Where("repository_id = ? AND state IN ('draft', 'open') AND number > ?", repo.ID, row.After).Order("number").
			Limit(dueAtOnce).Find(&changes).Error; err != nil {
			return err
		}
		if len(changes) > 0 {
			if err := s.changed(tx, &repo, changes); err != nil {
				return err
			}
		}
		if len(changes) < dueAtOnce {
			return tx.Delete(&row).Error
		}
		return tx.Model(&row).Update("after", changes[len(changes)-1].Number).Error
	})
}

// toJudge counts the open changes of a repository, or of a house, that are still to be looked at under other rules.
func toJudge(db *gorm.DB, h shelf) (int, error) {
	var n int64
	query := db.Table("rules_due d").Joins("JOIN changes c ON c.repository_id = d.repository_id AND c.state IN ('draft', 'open') AND c.number > d.after")
	if h.repo != nil {
		query = query.Where("d.repository_id = ?", h.repo.ID)
	} else {
		query = query.Joins("JOIN repositories r ON r.id = d.repository_id").Where("r.house_id = ?", h.house.ID)
	}
	return int(n), query.Count(&n).Error
}
