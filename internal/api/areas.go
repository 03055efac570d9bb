package api

import (
	"context"

	"tavrin/internal/accounts"
	"tavrin/wire"
)

// areas: who owns what, what nobody owns, and on whose desk the reviews lie.
func (s *server) areas() {
	serve(s, wire.ListAreas, func(ctx context.Context, a accounts.Actor, q *wire.InRepo) ([]wire.Area, error) {
		return s.Service.Rulebook.Areas(ctx, a, q.Repository())
	})
	serve(s, wire.GetPathOwners, func(ctx context.Context, a accounts.Actor, q *wire.PathQuery) (wire.PathOwners, error) {
		return s.Service.Rulebook.WhoOwns(ctx, a, q.Repository(), q.Path)
	})
	serve(s, wire.GetOwnershipGaps, func(ctx context.Context, a accounts.Actor, q *wire.GapsQuery) (wire.OwnershipGaps, error) {
		return s.Service.Rulebook.OwnershipGaps(ctx, a, q.Repository(), q.Depth)
	})
	serve(s, wire.ListReviewLoads, func(ctx context.Context, a accounts.Actor, q *wire.InRepo) ([]wire.ReviewLoad, error) {
		return s.Service.Desk.ReviewLoads(ctx, a, q.Repository())
	})
	serve(s, wire.GetChangeAreas, func(ctx context.Context, a accounts.Actor, q *wire.InChange) (wire.ChangeAreas, error) {
		return s.Service.Facts.ChangeAreas(ctx, a, q.Repository(), q.Number)
	})
	serve(s, wire.AskReviewers, func(ctx context.Context, a accounts.Actor, q *wire.ChangeBody[wire.AskedReviewers]) (wire.Change, error) {
		return s.Service.Changes.AskForReview(ctx, a, q.Repository(), q.Number, q.Body.Who, q.Body.Optional)
	})
	serve(s, wire.PutLabels, func(ctx context.Context, a accounts.Actor, q *wire.ChangeBody[wire.LabelEdit]) (wire.Change, error) {
		return s.Service.Changes.SetLabels(ctx, a, q.Repository(), q.Number, q.Body.Set, q.Body.Remove)
	})
}
