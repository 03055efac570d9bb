package api

import (
	"context"

	"tavrin/internal/accounts"
	"tavrin/internal/core/change"
	"tavrin/wire"
)

// queue: joining, leaving and looking.
func (s *server) queue() {
	serve(s, wire.GetQueue, func(ctx context.Context, a accounts.Actor, q *wire.QueueQuery) (wire.Queue, error) {
		return s.Service.Queues.Queue(ctx, a, q.Repository(), q.Branch)
	})
	serve(s, wire.JoinQueue, func(ctx context.Context, a accounts.Actor, q *wire.ChangeBody[wire.NewEntry]) (wire.Entry, error) {
		return s.Service.Queues.Join(ctx, a, q.Repository(), q.Number,
			wire.NewEntry{Strategy: change.Strategy(q.Body.Strategy), Message: q.Body.Message,
				DeleteSource: q.Body.DeleteSource})
	})
	serve(s, wire.LeaveQueue, func(ctx context.Context, a accounts.Actor, q *wire.InChange) (wire.Entry, error) {
		return s.Service.Queues.Leave(ctx, a, q.Repository(), q.Number)
	})
}
