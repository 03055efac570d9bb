package api

import (
	"context"

	"tavrin/internal/accounts"
	"tavrin/internal/core/change"
	"tavrin/internal/git/rehearsal"
	"tavrin/wire"
)

// changes: changes, their revisions and reviews, and the gate.
func (s *server) changes() {
	serve(s, wire.ListChanges, func(ctx context.Context, a accounts.Actor, q *wire.ChangeQuery) ([]wire.Change, error) {
		return s.Service.Changes.Changes(ctx, a, q.Repository(), q.ChangeFilter)
	})
	serve(s, wire.CreateChange, func(ctx context.Context, a accounts.Actor, q *wire.RepoBody[wire.NewChange]) (wire.Change, error) {
		return s.Service.Changes.OpenChange(ctx, a, q.Repository(), q.Body)
	})
	serve(s, wire.GetChange, func(ctx context.Context, a accounts.Actor, q *wire.InChange) (wire.Change, error) {
		return s.Service.Changes.Change(ctx, a, q.Repository(), q.Number)
	})
	serve(s, wire.EditChange, func(ctx context.Context, a accounts.Actor, q *wire.ChangeBody[wire.ChangeEdit]) (wire.Change, error) {
		return s.Service.Changes.EditChange(ctx, a, q.Repository(), q.Number, q.Body)
	})
	serve(s, wire.GetPreview, func(ctx context.Context, a accounts.Actor, q *wire.PreviewQuery) (wire.Preview, error) {
		return s.Service.Landing.Preview(ctx, a, q.Repository(),
			wire.NewChange{Source: q.Source, Target: q.Target, Title: q.Title})
	})
	serve(s, wire.DeleteBranches, func(ctx context.Context, a accounts.Actor, q *wire.RepoBody[wire.BranchesToDelete]) ([]wire.BranchDeletion, error) {
		return s.Service.Intake.DeleteBranches(ctx, a, q.Repository(), q.Body.Branches)
	})
	serve(s, wire.GetConflicts, func(ctx context.Context, a accounts.Actor, q *wire.InChange) (wire.Conflicts, error) {
		return s.Service.Conflicts.Of(ctx, a, q.Repository(), q.Number)
	})
	serve(s, wire.UndoLanding, func(ctx context.Context, a accounts.Actor, q *wire.ChangeBody[wire.Reasoned]) (wire.Change, error) {
		return s.Service.Intake.Undo(ctx, a, q.Repository(), q.Number, q.Body.Reason)
	})
	serve(s, wire.UpdateBranch, func(ctx context.Context, a accounts.Actor, q *wire.ChangeBody[wire.BranchUpdate]) (wire.Change, error) {
		return s.Service.Intake.UpdateBranch(ctx, a, q.Repository(), q.Number, rehearsal.Strategy(q.Body.Strategy))
	})
	serve(s, wire.CloseChange, func(ctx context.Context, a accounts.Actor, q *wire.InChange) (wire.Change, error) {
		return s.Service.Changes.CloseChange(ctx, a, q.Repository(), q.Number)
	})
	serve(s, wire.ReopenChange, func(ctx context.Context, a accounts.Actor, q *wire.InChange) (wire.Change, error) {
		return s.Service.Changes.ReopenChange(ctx, a, q.Repository(), q.Number)
	})
	serve(s, wire.GetGate, func(ctx context.Context, a accounts.Actor, q *wire.InChange) (wire.Report, error) {
		return s.Service.Facts.Gate(ctx, a, q.Repository(), q.Number)
	})
	serve(s, wire.GetLanding, func(ctx context.Context, a accounts.Actor, q *wire.InChange) (wire.Landing, error) {
		return s.Service.Facts.Landing(ctx, a, q.Repository(), q.Number)
	})
	serve(s, wire.ListRevisions, func(ctx context.Context, a accounts.Actor, q *wire.InChange) ([]wire.Revision, error) {
		return s.Service.Reading.Revisions(ctx, a, q.Repository(), q.Number)
	})
	serve(s, wire.ListReviews, func(ctx context.Context, a accounts.Actor, q *wire.InChange) ([]wire.Review, error) {
		return s.Service.Changes.Reviews(ctx, a, q.Repository(), q.Number)
	})
	serve(s, wire.CreateReview, func(ctx context.Context, a accounts.Actor, q *wire.ChangeBody[wire.NewReview]) (wire.Review, error) {
		return s.Service.Changes.Review(ctx, a, q.Repository(), q.Number,
			wire.NewReview{Verdict: change.Verdict(q.Body.Verdict), Revision: q.Body.Revision, Text: q.Body.Text,
				Drafts: q.Body.Drafts})
	})
	serve(s, wire.WithdrawReview, func(ctx context.Context, a accounts.Actor, q *wire.InChange) (wire.Review, error) {
		return s.Service.Changes.Withdraw(ctx, a, q.Repository(), q.Number)
	})
}
