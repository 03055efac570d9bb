package client

import (
	"context"
	"time"

	"tavrin/wire"
)

// desk is the part of the client about what waits for one, and what one hears of.
type desk struct{ *connection }

// Desk lists what waits for whoever asks, in every repository.
func (c desk) Desk(ctx context.Context) ([]wire.DeskItem, error) {
	return do(ctx, c.connection, wire.ListDesk, wire.Nothing{})
}

// Notifications lists what others did to what the caller follows or has a part in, newest first; limit 0: fifty.
func (c desk) Notifications(ctx context.Context, limit int) (wire.Notifications, error) {
	return do(ctx, c.connection, wire.ListNotifications, wire.NotificationQuery{Limit: limit})
}

// SeenNotifications remembers up to which line of the journal the caller has seen their notifications.
func (c desk) SeenNotifications(ctx context.Context, seq int64) error {
	return none(do(ctx, c.connection, wire.PutNotificationsSeen, just(wire.Seen{Seq: seq})))
}

// Digest says what waits for the caller, and what happened since a time.
func (c desk) Digest(ctx context.Context, since time.Time) (wire.Digest, error) {
	return do(ctx, c.connection, wire.GetDigest, wire.DigestQuery{Since: since})
}

// Following lists what the caller follows by their own choice.
func (c desk) Following(ctx context.Context) ([]wire.Following, error) {
	return do(ctx, c.connection, wire.ListFollowing, wire.Nothing{})
}

// Follow says whether the caller hears of a change, or, where number is 0, of a whole repository.
func (c desk) Follow(ctx context.Context, repo string, number int, follow bool) (wire.Following, error) {
	choice := wire.FollowChoice{Follow: follow}
	if number > 0 {
		return do(ctx, c.connection, wire.FollowChange, onChange(repo, number, choice))
	}
	return do(ctx, c.connection, wire.FollowRepository, onRepo(repo, choice))
}

// MakeFeed gives the caller's Atom feed a new private address.
func (c desk) MakeFeed(ctx context.Context) (wire.Feed, error) {
	return do(ctx, c.connection, wire.CreateFeed, wire.Nothing{})
}

// RevokeFeed makes the address of the caller's Atom feed good for nothing.
func (c desk) RevokeFeed(ctx context.Context) error {
	return none(do(ctx, c.connection, wire.DeleteFeed, wire.Nothing{}))
}

// MailChoice says how often whoever asks is sent a digest by mail.
func (c desk) MailChoice(ctx context.Context) (wire.MailChoice, error) {
	return do(ctx, c.connection, wire.GetMailChoice, wire.Nothing{})
}

// ChooseMail has a digest sent every day, every week, or never.
func (c desk) ChooseMail(ctx context.Context, every string) (wire.MailChoice, error) {
	return do(ctx, c.connection, wire.PutMailChoice, wire.JustBody[wire.NewMailChoice]{Body: wire.NewMailChoice{Every: every}})
}
