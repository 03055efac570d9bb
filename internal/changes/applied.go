package changes

import (
	"fmt"

	"tavrin/internal/core/event"
	"tavrin/internal/records"
)

// RecordTaken records that a push took suggestions in, and resolves their discussions.
func (s *Threads) RecordTaken(tx *records.Tx, repo *records.Repository, i *records.Intent) error {
	for _, id := range i.Takes {
		var r records.Comment
		var t records.Thread
		var c records.Change
		err := tx.First(&r, id).Error
		if err == nil {
			err = tx.First(&t, r.ThreadID).Error
		}
		if err == nil {
			err = tx.First(&c, t.ChangeID).Error
		}
		if err == nil {
			err = tx.Model(&r).Updates(map[string]any{"applied_as": i.New, "applied_by": i.Actor}).Error
		}
		if err != nil {
			return err
		}
		if t.ResolvedBy != "" {
			continue
		}
		now := s.records.Now()
		t.ResolvedBy, t.ResolvedAt, t.Outcome = i.Actor, &now, fmt.Sprintf("applied as %.10s", i.New)
		if err := tx.Save(&t).Error; err != nil {
			return err
		}
		if err := tx.Record(i.Actor, repo, event.ThreadResolved{OfThread: ofThread(c, t),
			Outcome: t.Outcome}); err != nil {
			return err
		}
	}
	return nil
}
