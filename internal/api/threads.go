package api

import (
	"context"

	"tavrin/internal/accounts"
	"tavrin/wire"
)

// threads: discussions on lines, files, commits and changes.
func (s *server) threads() {
	serve(s, wire.ListThreads, func(ctx context.Context, a accounts.Actor, q *wire.InChange) ([]wire.Thread, error) {
		return s.Service.Threads.Threads(ctx, a, q.Repository(), q.Number)
	})
	serve(s, wire.CreateThread, func(ctx context.Context, a accounts.Actor, q *wire.ChangeBody[wire.NewThread]) (wire.Thread, error) {
		return s.Service.Threads.BeginThread(ctx, a, q.Repository(), q.Number, q.Body)
	})
	serve(s, wire.CreateComment, func(ctx context.Context, a accounts.Actor, q *wire.ThreadBody[wire.NewComment]) (wire.Thread, error) {
		return s.Service.Threads.Reply(ctx, a, q.Repository(), q.Number, q.Thread, q.Body.Text, q.Body.Suggestion)
	})
	serve(s, wire.ApplySuggestions, func(ctx context.Context, a accounts.Actor, q *wire.ChangeBody[wire.AppliedSuggestions]) (wire.Change, error) {
		return s.Service.Intake.ApplySuggestions(ctx, a, q.Repository(), q.Number, q.Body.Comments)
	})
	serve(s, wire.ListDrafts, func(ctx context.Context, a accounts.Actor, q *wire.InChange) ([]wire.DraftComment, error) {
		return s.Service.Threads.Drafts(ctx, a, q.Repository(), q.Number)
	})
	serve(s, wire.CreateDraft, func(ctx context.Context, a accounts.Actor, q *wire.DraftSaved) (wire.DraftComment, error) {
		return s.Service.Threads.SaveDraft(ctx, a, q.Repository(), q.Number, q.Thread, q.Body)
	})
	serve(s, wire.DeleteDraft, func(ctx context.Context, a accounts.Actor, q *wire.OneDraft) (wire.Done, error) {
		return wire.Done{Done: true}, s.Service.Threads.DropDraft(ctx, a, q.Repository(), q.Number, q.ID)
	})
	serve(s, wire.LayOut, func(_ context.Context, a accounts.Actor, q *wire.JustBody[wire.NewText]) (wire.Laid, error) {
		html, err := s.Service.Threads.LayOut(a, q.Body.Text)
		return wire.Laid{HTML: html}, err
	})
	serve(s, wire.PutComment, func(ctx context.Context, a accounts.Actor, q *wire.CommentEdited) (wire.Thread, error) {
		return s.Service.Threads.EditComment(ctx, a, q.Repository(), q.Number, q.Thread, q.Comment, q.Body.Text)
	})
	serve(s, wire.PutResolved, func(ctx context.Context, a accounts.Actor, q *wire.ThreadBody[wire.Resolution]) (wire.Thread, error) {
		return s.Service.Threads.Resolve(ctx, a, q.Repository(), q.Number, q.Thread, q.Body.Resolved, q.Body.Text)
	})
}
