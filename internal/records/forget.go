package records

import (
	"context"
	"time"
)

// forgottenAtOnce is how many rows are gone through in one transaction: others wait for none of it for long.
const forgottenAtOnce = 500

// Forget goes through the rows of a table that came before a time, in the order of their numbers, once each: name says how far it has come.
// The table has the columns id and created_at, which go up together. f does with them what is to be done.
func (r *Records) Forget(ctx context.Context, name, table string, before time.Time, f func(tx *Tx, ids []int64) error) error {
	for ctx.Err() == nil {
		var at Cursor
		if err := r.Read(ctx).Where("name = ?", name).Limit(1).Find(&at).Error; err != nil {
			return err
		}
		var rows []struct {
			ID        int64
			CreatedAt time.Time
		}
		if err := r.Read(ctx).Table(table).Select("id", "created_at").Where("id > ?", at.Seq).Order("id").Limit(forgottenAtOnce).Find(&rows).Error; err != nil {
			return err
		}
		var ids []int64
		for _, row := range rows {
			if !row.CreatedAt.Before(before) {
				break
			}
			ids = append(ids, row.ID)
		}
		if len(ids) == 0 {
			return nil
		}
		err := r.Note(ctx, func(tx *Tx) error {
			if err := f(tx, ids); err != nil {
				return err
			}
			return tx.Save(&Cursor{Name: name, Seq: ids[len(ids)-1]}).Error
		})
		if err != nil || len(ids) < forgottenAtOnce {
			return err
		}
	}
	return ctx.Err()
}
