package desk

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"slices"
	"time"

	"gorm.io/gorm"

	"tavrin/internal/accounts"
	"tavrin/internal/core/event"
	"tavrin/internal/core/people"
	"tavrin/internal/facts"
	"tavrin/internal/problem"
	"tavrin/internal/records"
	"tavrin/wire"
)

// Notifications are not kept: they are the lines of the journal about what somebody follows or has a part in, but for their
// own doing. So none is lost or doubled, and nobody hears of what they may not read.

const maxNotifications = 500

// NotificationQuery selects notifications.
type NotificationQuery struct {
	Since time.Time // zero: from the beginning
	Limit int
}

// Notifications lists what others did to what the actor follows or has a part in, newest first.
func (s *Notifications) Notifications(ctx context.Context, a accounts.Actor, q NotificationQuery) (wire.Notifications, error) {
	if !a.Known() {
		return wire.Notifications{}, problem.New(problem.SignInNeeded, "sign in to see your notifications")
	}
	snap := s.records.View(ctx)
	defer snap.Close()
	return notificationsOf(snap.DB, a, q)
}

// notificationsOf lists the notifications of an actor.
func notificationsOf(db *gorm.DB, a accounts.Actor, q NotificationQuery) (wire.Notifications, error) {
	out := wire.Notifications{Notifications: []wire.Notification{}}
	repos, err := accounts.Readable(db, a)
	if err != nil {
		return out, err
	}
	var seen int64
	if err := db.Raw("SELECT ifnull((SELECT seq FROM notifications_seen WHERE login = ?), 0)",
		a.Login()).Scan(&seen).Error; err != nil {
		return out, err
	}
	ids := make([]int64, len(repos))
	for i, r := range repos {
		ids[i] = r.ID
	}
	var rows []struct {
		records.JournalLine
		Number int
		Title  string
	}
	err = db.Raw(notificationsQuery, map[string]any{"login": a.Login(), "person": "person:" + a.Login(), "repos": ids,
		"kinds": event.Heard(event.Part), "wide": event.Heard(event.Followers),
		"since": q.Since.UTC().Format(time.RFC3339Nano), "limit": maxNotifications}).Scan(&rows).Error
	if err != nil {
		return out, err
	}
	limit := q.Limit
	if limit == 0 {
		limit = 50
	}
	for _, r := range rows {
		at, err := time.Parse(time.RFC3339Nano, r.At)
		if err != nil {
			return out, err
		}
		if r.Seq > seen {
			out.New++
		}
		if len(out.Notifications) < limit {
			out.Notifications = append(out.Notifications, wire.Notification{Seq: r.Seq, At: at, Repository: r.Repository,
				Number: r.Number, Title: r.Title, Kind: r.Kind, By: r.Actor, Text: r.Text, New: r.Seq > seen})
		}
	}
	return out, nil
}

// notificationsQuery finds the changes that somebody has a part in or follows, and the lines about them and about the
// repositories they follow.
const notificationsQuery = `
WITH mine (id) AS (
  SELECT id FROM changes WHERE opened_by = @login
  UNION SELECT change_id FROM revisions WHERE pushed_by = @login
  UNION SELECT change_id FROM reviews WHERE login = @login
  UNION SELECT t.change_id FROM comments r JOIN threads t ON t.id = r.thread_id WHERE r.login = @login
  UNION SELECT change_id FROM change_reviewers WHERE who = @person
     OR who IN (SELECT 'team:' || t.name FROM team_members m JOIN teams t ON t.id = m.team_id JOIN accounts a ON a.id = m.account_id WHERE a.login = @login)
  UNION SELECT change_id FROM follows WHERE login = @login AND change_id IS NOT NULL AND NOT muted
), muted (id) AS (SELECT change_id FROM follows WHERE login = @login AND muted AND change_id IS NOT NULL)
SELECT j.*, c.number, c.title FROM changes c JOIN journal_lines j ON j.repository_id = c.repository_id AND j.subject = 'change/' || c.number
 WHERE c.id IN (SELECT id FROM mine EXCEPT SELECT id FROM muted) AND c.repository_id IN @repos AND j.kind IN @kinds AND j.actor <> @login AND j.at >= @since
UNION
SELECT j.*, c.number, c.title FROM follows f JOIN journal_lines j ON j.repository_id = f.repository_id LEFT JOIN changes c ON c.repository_id = j.repository_id AND j.subject = 'change/' || c.number
 WHERE f.login = @login AND f.change_id IS NULL AND NOT f.muted AND f.repository_id IN @repos AND j.kind IN @wide AND j.actor <> @login AND j.at >= @since
   AND (c.id IS NULL OR c.id NOT IN (SELECT id FROM muted))
ORDER BY seq DESC LIMIT @limit`

// SeenNotifications remembers that the actor has seen their notifications up to a line of the journal. It never goes back.
func (s *Notifications) SeenNotifications(ctx context.Context, a accounts.Actor, seq int64) error {
	if !a.Known() {
		return problem.New(problem.SignInNeeded, "sign in to see your notifications")
	}
	return s.records.Note(ctx, func(tx *records.Tx) error {
		return tx.Exec("INSERT INTO notifications_seen (login, seq) VALUES (?, min(?, (SELECT ifnull(max(seq), 0) FROM "+
			"journal_lines))) ON CONFLICT (login) DO UPDATE SET seq = max(seq, excluded.seq)", a.Login(), seq).Error
	})
}

// Follow says whether the actor hears of a change, or, where number is 0, of a whole repository. Of a change that they
// have a part in they hear anyhow, until they say that they do not want to.
func (s *Notifications) Follow(ctx context.Context, a accounts.Actor, name string, number int,
	follow bool) (wire.Following, error) {
	if !a.Known() {
		return wire.Following{}, problem.New(problem.SignInNeeded, "sign in to follow something")
	}
	out := wire.Following{Repository: name, Number: number, Muted: !follow}
	err := s.records.Note(ctx, func(tx *records.Tx) error {
		repo, err := accounts.Reach(tx.DB, a, name, people.Reader)
		if err != nil {
			return err
		}
		row := records.Follow{Login: a.Login(), RepositoryID: repo.ID, Muted: !follow, CreatedAt: s.records.Now()}
		if number > 0 {
			_, c, err := facts.ChangeRow(tx.DB, a, name, number, people.Reader)
			if err != nil {
				return err
			}
			row.ChangeID = &c.ID
		}
		before := tx.Where("login = ? AND repository_id = ?", a.Login(), repo.ID)
		if row.ChangeID == nil {
			before = before.Where("change_id IS NULL")
		} else {
			before = before.Where("change_id = ?", *row.ChangeID)
		}
		if err := before.Delete(&records.Follow{}).Error; err != nil {
			return err
		}
		if number == 0 && !follow {
			return nil // there is nothing to be silent about
		}
		return tx.Create(&row).Error
	})
	return out, err
}

// Following lists what the actor follows, or does not want to hear of, by their own choice.
func (s *Notifications) Following(ctx context.Context, a accounts.Actor) ([]wire.Following, error) {
	if !a.Known() {
		return nil, problem.New(problem.SignInNeeded, "sign in to see what you follow")
	}
	out := []wire.Following{}
	snap := s.records.View(ctx)
	defer snap.Close()
	db := snap.DB
	err := db.Raw("SELECT r.name AS repository, ifnull(c.number, 0) AS number, f.muted FROM follows f JOIN "+
		"repositories r ON r.id = f.repository_id LEFT JOIN changes c ON c.id = f.change_id WHERE f.login = ? ORDER "+
		"BY r.name, c.number",
		a.Login()).Scan(&out).Error
	return slices.DeleteFunc(out, func(f wire.Following) bool {
		_, err := accounts.Reach(db, a, f.Repository, people.Reader)
		return err != nil
	}), err
}

// Digest says what waits for the actor and what happened since a time.
func (s *Notifications) Digest(ctx context.Context, a accounts.Actor, since time.Time) (wire.Digest, error) {
	desk, err := s.desk.Desk(ctx, a)
	if err != nil {
		return wire.Digest{}, err
	}
	n, err := s.Notifications(ctx, a, NotificationQuery{Since: since, Limit: maxNotifications})
	return wire.Digest{Since: since, Desk: desk, Notifications: n.Notifications}, err
}

// MakeFeed gives the actor's Atom feed a new private address. The one before is good for nothing from then on.
func (s *Notifications) MakeFeed(ctx context.Context, a accounts.Actor) (wire.Feed, error) {
	switch {
	case !a.Known():
		return wire.Feed{}, problem.New(problem.SignInNeeded, "sign in to have a feed")
	case a.Scope() != accounts.ScopeAll:
		return wire.Feed{}, problem.New(problem.Forbidden, "this token cannot make a feed; it takes one of scope all")
	}
	secret := rand.Text()
	row := records.Feed{AccountID: a.Account().ID, Hash: accounts.Digest(secret), CreatedAt: s.records.Now()}
	err := s.records.Write(ctx, func(tx *records.Tx) error {
		if err := s.revokeFeeds(tx, a); err != nil {
			return err
		}
		if err := tx.Create(&row).Error; err != nil {
			return err
		}
		return tx.Record(a.Login(), nil, event.FeedMade{Login: a.Login()})
	})
	return wire.Feed{Path: "/feeds/" + secret + ".atom", CreatedAt: row.CreatedAt}, err
}

// RevokeFeed makes the address of the actor's feed good for nothing.
func (s *Notifications) RevokeFeed(ctx context.Context, a accounts.Actor) error {
	if !a.Known() {
		return problem.New(problem.SignInNeeded, "sign in to revoke your feed")
	}
	return s.records.Write(ctx, func(tx *records.Tx) error {
		var n int64
		if err := tx.Model(&records.Feed{}).Where("account_id = ? AND revoked_at IS NULL",
			a.Account().ID).Count(&n).Error; err != nil {
			return err
		}
		if n == 0 {
			return problem.New(problem.Unknown, "you have no feed to revoke")
		}
		if err := s.revokeFeeds(tx, a); err != nil {
			return err
		}
		return tx.Record(a.Login(), nil, event.FeedRevoked{Login: a.Login()})
	})
}

func (s *Notifications) revokeFeeds(tx *records.Tx, a accounts.Actor) error {
	return tx.Model(&records.Feed{}).Where("account_id = ? AND revoked_at IS NULL", a.Account().ID).Update("revoked_at",
		s.records.Now()).Error
}

// Feed finds out whose feed an address is for, and gives their notifications.
func (s *Notifications) Feed(ctx context.Context, secret string) (login string, n wire.Notifications, err error) {
	unknown := problem.New(problem.Unknown, "there is no feed at this address: it was revoked, or is mistyped")
	var row records.Feed
	snap := s.records.View(ctx)
	defer snap.Close()
	db := snap.DB
	if err := db.Where("hash = ? AND revoked_at IS NULL", accounts.Digest(secret)).First(&row).Error; err != nil {
		if errors.Is(err, records.ErrNotFound) {
			err = unknown
		}
		return "", n, err
	}
	var account records.Account
	if err := db.First(&account, row.AccountID).Error; err != nil {
		return "", n, fmt.Errorf("account of feed %d: %w", row.ID, err)
	}
	if account.Disabled {
		return "", n, unknown
	}
	n, err = notificationsOf(db, accounts.Reading(account), NotificationQuery{})
	return account.Login, n, err
}
