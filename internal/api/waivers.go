package api

import (
	"context"
	"time"

	"tavrin/internal/accounts"
	"tavrin/internal/waivers"
	"tavrin/wire"
)

// waivers: waiving requirements, in the open, and acknowledging it afterwards.
func (s *server) waivers() {
	serve(s, wire.ListWaivers, func(ctx context.Context, a accounts.Actor, q *wire.WaiverQuery) ([]wire.Waiver, error) {
		return s.Service.Waivers.Waivers(ctx, a, q.Repository(), q.Open)
	})
	serve(s, wire.PlanWaiver, func(ctx context.Context, a accounts.Actor, q *wire.ChangeBody[wire.WaiverWish]) (wire.WaiverPlan, error) {
		return s.Service.Waivers.PlanWaiver(ctx, a, q.Repository(), q.Number, q.Body.Requirements)
	})
	serve(s, wire.CreateWaiver, func(ctx context.Context, a accounts.Actor, q *wire.ChangeBody[wire.NewWaiver]) (wire.Waiver, error) {
		return s.Service.Waivers.Waive(ctx, a, q.Repository(), q.Number,
			waivers.NewWaiver{Keys: q.Body.Requirements, Reason: q.Body.Reason,
				Length: time.Duration(q.Body.ForSeconds) * time.Second, Confirm: q.Body.Confirm})
	})
	serve(s, wire.PlanPushWaiver, func(ctx context.Context, a accounts.Actor, q *wire.RepoBody[wire.PushWish]) (wire.WaiverPlan, error) {
		return s.Service.Waivers.PlanPushWaiver(ctx, a, q.Repository(), q.Body.Branch, q.Body.Commit)
	})
	serve(s, wire.CreatePushWaiver, func(ctx context.Context, a accounts.Actor, q *wire.RepoBody[wire.NewPushWaiver]) (wire.Waiver, error) {
		return s.Service.Waivers.WaivePush(ctx, a, q.Repository(),
			waivers.PushWaiver{Branch: q.Body.Branch, Commit: q.Body.Commit,
				NewWaiver: waivers.NewWaiver{Reason: q.Body.Reason,
					Length: time.Duration(q.Body.ForSeconds) * time.Second, Confirm: q.Body.Confirm}})
	})
	serve(s, wire.AcknowledgeWaiver, func(ctx context.Context, a accounts.Actor, q *wire.WaiverAcknowledged) (wire.Waiver, error) {
		return s.Service.Waivers.Acknowledge(ctx, a, q.Repository(), q.Waiver, q.Body.Text)
	})
}
