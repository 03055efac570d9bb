package api

import (
	"context"

	"tavrin/internal/accounts"
	"tavrin/internal/core/change"
	"tavrin/internal/queues"
	"tavrin/wire"
)

// queue: joining, leaving and looking.
func (s *server) queue() {
	call(s, "GET", repoPath+"/queue", "get-queue", "The line for a target branch",
		func(ctx context.Context, a accounts.Actor, q *struct {
			InRepo
			Branch string `query:"branch" doc:"absent: the default branch"`
		}) (wire.Queue, error) {
			return s.Service.Queues.Queue(ctx, a, q.repository(), q.Branch)
		})
	call(s, "POST", changePath+"/queue", "join-queue", "Land a change as soon as it may",
		func(ctx context.Context, a accounts.Actor, q *struct {
			InChange
			Body struct {
				Strategy     string `json:"strategy,omitempty" doc:"absent: the rules' default"`
				Message      string `json:"message,omitempty"`
				DeleteSource *bool  `json:"delete_source,omitempty" doc:"absent: as the rules say"`
			}
		}) (wire.Entry, error) {
			return s.Service.Queues.Join(ctx, a, q.repository(), q.Number,
				queues.NewEntry{Strategy: change.Strategy(q.Body.Strategy), Message: q.Body.Message,
					DeleteSource: q.Body.DeleteSource})
		})
	call(s, "DELETE", changePath+"/queue", "leave-queue", "Take a change out of the queue",
		func(ctx context.Context, a accounts.Actor, q *InChange) (wire.Entry, error) {
			return s.Service.Queues.Leave(ctx, a, q.repository(), q.Number)
		})
}
