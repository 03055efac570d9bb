package changes

import (
	"context"
	"errors"

	"gorm.io/gorm"

	"tavrin/internal/accounts"
	"tavrin/internal/core/change"
	"tavrin/internal/core/event"
	"tavrin/internal/core/people"
	"tavrin/internal/facts"
	"tavrin/internal/problem"
	"tavrin/internal/records"
	"tavrin/wire"
)

// maxGathered is how many remarks somebody may gather before sending them.
const maxGathered = 200

// Gather keeps a remark for a review that is not sent yet: one that begins a discussion, or a reply in one.
func (s *Threads) Gather(ctx context.Context, a accounts.Actor, name string, number int, thread int64,
	n NewThread) (wire.Gathered, error) {
	db := s.records.Read(ctx)
	repo, c, err := facts.ChangeRow(db, a, name, number, people.Reader)
	if err != nil {
		return wire.Gathered{}, err
	}
	row := records.GatheredRemark{ChangeID: c.ID, Login: a.Login(), Text: n.Text, Suggestion: n.Suggest,
		CreatedAt: s.records.Now()}
	if thread == 0 {
		row.Thread, err = s.newThread(ctx, db, a, repo, c, n)
	} else {
		row.ThreadID = &thread
		var t records.Thread
		err = errors.Join(saying(n.Text, n.Suggest), facts.MayReview(db, a, repo, change.Comment))
		if err == nil {
			err = records.OrUnknown(db.Where("id = ? AND change_id = ?", thread, c.ID).First(&t).Error,
				"change %d has no discussion %d: tavrin thread list %d", number, thread, number)
		}
		if err == nil {
			err = suggestible(t, n.Suggest)
		}
		err = problem.First(err)
	}
	if err != nil {
		return wire.Gathered{}, err
	}
	err = s.records.Note(ctx, func(tx *records.Tx) error {
		var many int64
		if err := tx.Model(&row).Where("change_id = ? AND login = ?", c.ID, a.Login()).Count(&many).Error; err != nil {
			return err
		}
		if many >= maxGathered {
			return problem.New(problem.Conflict, "you have gathered %d remarks on change %d: send them with a review",
				many, number)
		}
		return tx.Create(&row).Error
	})
	if err != nil {
		return wire.Gathered{}, err
	}
	return gatheredView(s.records.Read(ctx), row)
}

func gatheredView(db *gorm.DB, r records.GatheredRemark) (wire.Gathered, error) {
	v := wire.Gathered{ID: r.ID, Text: r.Text, Suggestion: r.Suggestion, CreatedAt: r.CreatedAt}
	t := r.Thread
	if r.ThreadID != nil {
		v.Thread = *r.ThreadID
		if err := db.First(&t, *r.ThreadID).Error; err != nil {
			return v, err
		}
	}
	v.Where, v.Revision, v.Path, v.FirstLine, v.LastLine, v.Before, v.NeedsAnswer = facts.Where(t), t.Revision, t.Path, t.FirstLine, t.LastLine, t.Before, t.NeedsAnswer
	return v, nil
}

// Gathered lists what the actor has gathered on a change and not sent, oldest first. Nobody else sees it.
func (s *Threads) Gathered(ctx context.Context, a accounts.Actor, name string, number int) ([]wire.Gathered, error) {
	snap := s.records.View(ctx)
	defer snap.Close()
	db := snap.DB
	_, c, err := facts.ChangeRow(db, a, name, number, people.Reader)
	if err != nil {
		return nil, err
	}
	rows, err := unsent(db, c, a)
	out := []wire.Gathered{}
	for _, r := range rows {
		v, err := gatheredView(db, r)
		if err != nil {
			return nil, err
		}
		out = append(out, v)
	}
	return out, err
}

func unsent(db *gorm.DB, c records.Change, a accounts.Actor) ([]records.GatheredRemark, error) {
	var rows []records.GatheredRemark
	err := db.Where("change_id = ? AND login = ? AND login <> ''", c.ID, a.Login()).Order("id").Find(&rows).Error
	return rows, err
}

// Ungather throws a gathered remark away.
func (s *Threads) Ungather(ctx context.Context, a accounts.Actor, name string, number int, id int64) error {
	return s.records.Note(ctx, func(tx *records.Tx) error {
		_, c, err := facts.ChangeRow(tx.DB, a, name, number, people.Reader)
		if err != nil {
			return err
		}
		done := tx.Where("id = ? AND change_id = ? AND login = ?", id, c.ID,
			a.Login()).Delete(&records.GatheredRemark{})
		if done.Error == nil && done.RowsAffected == 0 {
			return problem.New(problem.Unknown, "you have gathered no remark %d on change %d", id, number)
		}
		return done.Error
	})
}

// sendGathered records what the actor has gathered on a change, and says how many remarks that were.
func (s *Threads) sendGathered(tx *records.Tx, a accounts.Actor, repo *records.Repository,
	c records.Change) (int, error) {
	rows, err := unsent(tx.DB, c, a)
	if err != nil {
		return 0, err
	}
	for _, r := range rows {
		remark := records.Remark{Text: r.Text, Suggestion: r.Suggestion}
		if r.ThreadID == nil {
			r.Thread.BegunAt = s.records.Now()
			if err := s.saveThread(tx, a, repo, c, &r.Thread, remark); err != nil {
				return 0, err
			}
		} else {
			var t records.Thread
			if err := tx.First(&t, *r.ThreadID).Error; err != nil {
				return 0, err
			}
			if err := s.saveRemark(tx, a, t, remark); err != nil {
				return 0, err
			}
			if err := tx.Record(a.Login(), repo, event.ThreadReplied{OfThread: ofThread(c, t)}); err != nil {
				return 0, err
			}
		}
		if err := tx.Delete(&r).Error; err != nil {
			return 0, err
		}
	}
	return len(rows), nil
}
