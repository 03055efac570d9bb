package client

import (
	"context"
	"net/http"
	"strconv"
	"time"

	"tavrin/wire"
)

// desk is the part of the client about what waits for one, and what one hears of.
type desk struct{ *connection }

// Desk lists what waits for whoever asks, in every repository.
func (c desk) Desk(ctx context.Context) ([]wire.DeskItem, error) {
	return get[[]wire.DeskItem](ctx, c, "/desk")
}

// Notifications lists what others did to what the caller follows or has a part in, newest first; limit 0: fifty.
func (c desk) Notifications(ctx context.Context, limit int) (wire.Notifications, error) {
	return get[wire.Notifications](ctx, c, "/notifications", "limit", strconv.Itoa(limit))
}

// SeenNotifications remembers up to which line of the journal the caller has seen their notifications.
func (c desk) SeenNotifications(ctx context.Context, seq int64) error {
	return c.Call(ctx, http.MethodPut, "/notifications/seen", map[string]int64{"seq": seq}, nil)
}

// Digest says what waits for the caller, and what happened since a time.
func (c desk) Digest(ctx context.Context, since time.Time) (wire.Digest, error) {
	return get[wire.Digest](ctx, c, "/digest", "since", since.UTC().Format(time.RFC3339Nano))
}

// Following lists what the caller follows by their own choice.
func (c desk) Following(ctx context.Context) ([]wire.Following, error) {
	return get[[]wire.Following](ctx, c, "/following")
}

// Follow says whether the caller hears of a change, or, where number is 0, of a whole repository.
func (c desk) Follow(ctx context.Context, repo string, number int, follow bool) (wire.Following, error) {
	path := repoPath(repo)
	if number > 0 {
		path = changePath(repo, number)
	}
	var out wire.Following
	return out, c.Call(ctx, http.MethodPut, path+"/follow", map[string]bool{"follow": follow}, &out)
}

// MakeFeed gives the caller's Atom feed a new private address.
func (c desk) MakeFeed(ctx context.Context) (wire.Feed, error) {
	return post[wire.Feed](ctx, c, "/me/feed", nil)
}

// RevokeFeed makes the address of the caller's Atom feed good for nothing.
func (c desk) RevokeFeed(ctx context.Context) error {
	return c.Call(ctx, http.MethodDelete, "/me/feed", nil, nil)
}
