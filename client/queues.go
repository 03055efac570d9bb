package client

import (
	"context"

	"tavrin/wire"
)

// queues is the part of the client about queues and landings.
type queues struct{ *connection }

// Landing says how a change landed.
func (c queues) Landing(ctx context.Context, repo string, number int) (wire.Landing, error) {
	return do(ctx, c.connection, wire.GetLanding, inChange(repo, number))
}

// Join puts a change into its target's queue.
func (c queues) Join(ctx context.Context, repo string, number int, e wire.NewEntry) (wire.Entry, error) {
	return do(ctx, c.connection, wire.JoinQueue, onChange(repo, number, e))
}

// Leave takes a change out of the queue.
func (c queues) Leave(ctx context.Context, repo string, number int) (wire.Entry, error) {
	return do(ctx, c.connection, wire.LeaveQueue, inChange(repo, number))
}

// Queue shows the line for a branch; empty: the default branch.
func (c queues) Queue(ctx context.Context, repo, branch string) (wire.Queue, error) {
	return do(ctx, c.connection, wire.GetQueue, wire.QueueQuery{InRepo: inRepo(repo), Branch: branch})
}
