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

// maxDrafts is how many draft comments somebody may have on a change.
const maxDrafts = 200

// SaveDraft keeps a comment for a review that is not sent yet: one that begins a discussion, or a reply in one.
func (s *Threads) SaveDraft(ctx context.Context, a accounts.Actor, name string, number int, thread int64,
	n wire.NewThread) (wire.DraftComment, error) {
	db := s.records.Read(ctx)
	repo, c, err := facts.ChangeRow(db, a, name, number, people.Reader)
	if err != nil {
		return wire.DraftComment{}, err
	}
	row := records.DraftComment{ChangeID: c.ID, Login: a.Login(), Text: n.Text, Suggestion: n.Suggestion,
		CreatedAt: s.records.Now()}
	if thread == 0 {
		row.Thread, err = s.newThread(ctx, db, a, repo, c, n)
	} else {
		row.ThreadID = &thread
		var t records.Thread
		err = errors.Join(saying(n.Text, n.Suggestion), facts.MayReview(db, a, repo, change.Comment))
		if err == nil {
			err = records.OrUnknown(db.Where("id = ? AND change_id = ?", thread, c.ID).First(&t).Error,
				"change %d has no discussion %d: tavrin thread list %d", number, thread, number)
		}
		if err == nil {
			err = suggestible(t, n.Suggestion)
		}
		err = problem.First(err)
	}
	if err != nil {
		return wire.DraftComment{}, err
	}
	err = s.records.Note(ctx, func(tx *records.Tx) error {
		var many int64
		if err := tx.Model(&row).Where("change_id = ? AND login = ?", c.ID, a.Login()).Count(&many).Error; err != nil {
			return err
		}
		if many >= maxDrafts {
			return problem.New(problem.Conflict, "you have %d draft comments on change %d: send them with a review",
				many, number)
		}
		return tx.Create(&row).Error
	})
	if err != nil {
		return wire.DraftComment{}, err
	}
	return draftView(s.records.Read(ctx), row)
}

func draftView(db *gorm.DB, r records.DraftComment) (wire.DraftComment, error) {
	v := wire.DraftComment{ID: r.ID, Text: r.Text, Suggestion: r.Suggestion, CreatedAt: r.CreatedAt}
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

// Drafts lists the actor's draft comments on a change, oldest first. Nobody else sees it.
func (s *Threads) Drafts(ctx context.Context, a accounts.Actor, name string, number int) ([]wire.DraftComment, error) {
	snap := s.records.View(ctx)
	defer snap.Close()
	db := snap.DB
	_, c, err := facts.ChangeRow(db, a, name, number, people.Reader)
	if err != nil {
		return nil, err
	}
	rows, err := unsent(db, c, a)
	out := []wire.DraftComment{}
	for _, r := range rows {
		v, err := draftView(db, r)
		if err != nil {
			return nil, err
		}
		out = append(out, v)
	}
	return out, err
}

func unsent(db *gorm.DB, c records.Change, a accounts.Actor) ([]records.DraftComment, error) {
	var rows []records.DraftComment
	err := db.Where("change_id = ? AND login = ? AND login <> ''", c.ID, a.Login()).Order("id").Find(&rows).Error
	return rows, err
}

// DropDraft deletes a draft comment.
func (s *Threads) DropDraft(ctx context.Context, a accounts.Actor, name string, number int, id int64) error {
	return s.records.Note(ctx, func(tx *records.Tx) error {
		_, c, err := facts.ChangeRow(tx.DB, a, name, number, people.Reader)
		if err != nil {
			return err
		}
		done := tx.Where("id = ? AND change_id = ? AND login = ?", id, c.ID,
			a.Login()).Delete(&records.DraftComment{})
		if done.Error == nil && done.RowsAffected == 0 {
			return problem.New(problem.Unknown, "you have no draft comment %d on change %d", id, number)
		}
		return done.Error
	})
}

// sendDrafts records the actor's draft comments on a change, and says how many comments that were.
func (s *Threads) sendDrafts(tx *records.Tx, a accounts.Actor, repo *records.Repository,
	c records.Change) (int, error) {
	rows, err := unsent(tx.DB, c, a)
	if err != nil {
		return 0, err
	}
	for _, r := range rows {
		comment := records.Comment{Text: r.Text, Suggestion: r.Suggestion}
		if r.ThreadID == nil {
			r.Thread.BegunAt = s.records.Now()
			if err := s.saveThread(tx, a, repo, c, &r.Thread, comment); err != nil {
				return 0, err
			}
		} else {
			var t records.Thread
			if err := tx.First(&t, *r.ThreadID).Error; err != nil {
				return 0, err
			}
			if err := s.saveComment(tx, a, t, comment); err != nil {
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
