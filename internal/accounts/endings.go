package accounts

import (
	"cmp"
	"context"
	"database/sql"
	"time"

	"gorm.io/gorm"

	"tavrin/internal/core/event"
	"tavrin/internal/problem"
	"tavrin/internal/records"
)

// What ends when a token is revoked or runs out, or an account is disabled: everything that was begun with it.
// Calls find that out by themselves, since each asks anew who it is; what lasts longer than a call asks again: streams
// and pushes by Still, leases whenever they are used and in every round of the queue.

// Still refuses an actor whose token, session or account is no good any more.
func (s *Access) Still(ctx context.Context, a Actor) error {
	if !a.Known() {
		return nil
	}
	var over error = problem.New(problem.SignInNeeded, "your token has ended, or your account was disabled")
	db, now := s.records.Read(ctx), s.records.Now()
	// Event streams ask this of themselves all the time: it is read anew only when something of it was written.
	token, err := records.Known(db, records.SignIns, tokenKey(a.token), func() (t records.Token, err error) {
		return t, db.Limit(1).Find(&t, a.token).Error
	})
	if err != nil || token.ID == 0 || token.RevokedAt != nil || token.ExpiresAt != nil && token.ExpiresAt.Before(now) {
		return cmp.Or(err, over)
	}
	account, err := records.Known(db, records.Access, accountKey(token.AccountID), func() (x records.Account, err error) {
		return x, db.Limit(1).Find(&x, token.AccountID).Error
	})
	if err != nil || account.ID == 0 || account.Disabled {
		return cmp.Or(err, over)
	}
	if a.sessionHash == "" {
		return nil
	}
	session, err := records.Known(db, records.SignIns, sessionKey(a.sessionHash), func() (x records.Session, err error) {
		return x, db.Where("hash = ?", a.sessionHash).Limit(1).Find(&x).Error
	})
	if err != nil || session.Hash == "" || !session.ExpiresAt.After(now) {
		return cmp.Or(err, over)
	}
	return nil
}

// What is known of who signed in is named by these.
type (
	tokenKey   int64
	accountKey int64
	sessionKey string
)

// GoodTokens selects the tokens that may be used at a time, @now.
const GoodTokens = "SELECT t.id FROM tokens t JOIN accounts a ON a.id = t.account_id WHERE t.revoked_at IS NULL AND " +
	"(t.expires_at IS NULL OR t.expires_at >= @now) AND NOT a.disabled"

// GoodToken says whether a token may be used at a time.
func GoodToken(db *gorm.DB, id int64, now time.Time) (bool, error) {
	var n int64
	err := db.Raw("SELECT count(*) FROM ("+GoodTokens+" AND t.id = @id)", sql.Named("now", now),
		sql.Named("id", id)).Scan(&n).Error
	return n > 0, err
}

// noteRefusal puts on record that a token was shown that is good no more: somebody has kept it. Once an hour is enough
// to know.
func (s *Access) noteRefusal(ctx context.Context, t records.Token, login, why string) {
	if t.RefusedAt != nil && s.records.Now().Sub(*t.RefusedAt) < time.Hour {
		return
	}
	err := s.records.Write(ctx, func(tx *records.Tx) error {
		changed := tx.Model(&records.Token{}).Where("id = ? AND (refused_at IS NULL OR refused_at < ?)", t.ID,
			s.records.Now().Add(-time.Hour)).Update("refused_at", s.records.Now())
		if changed.Error != nil || changed.RowsAffected == 0 {
			return changed.Error
		}
		return tx.Record(records.Itself, nil, event.TokenRefused{OfToken: event.OfToken{Token: t.ID}, Name: t.Name,
			Login: login, Why: why})
	})
	if err != nil {
		s.log.Warn("a refused token could not be put on record", "token", t.ID, "error", err)
	}
}

// NoteShutOut puts on record that too many sign-ins failed from one address.
func (s *Access) NoteShutOut(ctx context.Context, address string) error {
	return s.records.Write(ctx, func(tx *records.Tx) error {
		return tx.Record(records.Itself, nil, event.SigninShutOut{Address: address})
	})
}
