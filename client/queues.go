package client

import (
	"context"
	"net/http"

	"tavrin/wire"
)

// queues is the part of the client about queues and landings.
type queues struct{ *connection }

// Landing says how a change landed.
func (c queues) Landing(ctx context.Context, repo string, number int) (wire.Landing, error) {
	return get[wire.Landing](ctx, c, changePath(repo, number)+"/landing")
}

// NewEntry is how a change is to land.
type NewEntry struct {
	Strategy     string `json:"strategy,omitempty"`
	Message      string `json:"message,omitempty"`
	DeleteSource *bool  `json:"delete_source,omitempty"`
}

// Join puts a change into its target's queue.
func (c queues) Join(ctx context.Context, repo string, number int, e NewEntry) (wire.Entry, error) {
	return post[wire.Entry](ctx, c, changePath(repo, number)+"/queue", e)
}

// Leave takes a change out of the queue.
func (c queues) Leave(ctx context.Context, repo string, number int) (wire.Entry, error) {
	var out wire.Entry
	return out, c.Call(ctx, http.MethodDelete, changePath(repo, number)+"/queue", nil, &out)
}

// Queue shows the line for a branch; empty: the default branch.
func (c queues) Queue(ctx context.Context, repo, branch string) (wire.Queue, error) {
	return get[wire.Queue](ctx, c, repoPath(repo)+"/queue", "branch", branch)
}
