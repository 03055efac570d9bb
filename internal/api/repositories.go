package api

import (
	"context"

	"tavrin/internal/accounts"
	"tavrin/wire"
)

// repositories: houses, repositories and what is in them.
func (s *server) repositories() {
	serve(s, wire.ListHouses, func(ctx context.Context, a accounts.Actor, _ *wire.Nothing) ([]wire.House, error) {
		return s.Service.Repositories.Houses(ctx, a)
	})
	serve(s, wire.CreateHouse, func(ctx context.Context, a accounts.Actor, q *wire.JustBody[wire.NewHouse]) (wire.House, error) {
		return s.Service.Repositories.CreateHouse(ctx, a, q.Body.Name)
	})
	serve(s, wire.ListRepositories, func(ctx context.Context, a accounts.Actor, _ *wire.Nothing) ([]wire.Repository, error) {
		return s.Service.Repositories.Repositories(ctx, a)
	})
	serve(s, wire.CreateRepository, func(ctx context.Context, a accounts.Actor, q *wire.JustBody[wire.NewRepository]) (wire.Repository, error) {
		return s.Service.Repositories.CreateRepository(ctx, a, q.Body)
	})
	serve(s, wire.GetRepository, func(ctx context.Context, a accounts.Actor, q *wire.InRepo) (wire.Repository, error) {
		return s.Service.Repositories.Repository(ctx, a, q.Repository())
	})
	serve(s, wire.EditRepository, func(ctx context.Context, a accounts.Actor, q *wire.RepoBody[wire.RepositoryEdit]) (wire.Repository, error) {
		return s.Service.Repositories.EditRepository(ctx, a, q.Repository(), q.Body)
	})
	serve(s, wire.DeleteRepository, func(ctx context.Context, a accounts.Actor, q *wire.RepoBody[wire.RepositoryDeletion]) (wire.Deleted, error) {
		return s.Service.Repositories.DeleteRepository(ctx, a, q.Repository(), q.Body)
	})
	serve(s, wire.RestoreRepository, func(ctx context.Context, a accounts.Actor, q *wire.InRepo) (wire.Repository, error) {
		return s.Service.Repositories.RestoreRepository(ctx, a, q.Repository())
	})
	serve(s, wire.ListDeleted, func(ctx context.Context, a accounts.Actor, _ *wire.Nothing) ([]wire.Deleted, error) {
		return s.Service.Repositories.Deleted(ctx, a)
	})
	serve(s, wire.ResumeRepository, func(ctx context.Context, a accounts.Actor, q *wire.InRepo) (wire.Repository, error) {
		return s.Service.Repositories.ResumeRepository(ctx, a, q.Repository())
	})
	serve(s, wire.ListBranches, func(ctx context.Context, a accounts.Actor, q *wire.InRepo) ([]wire.Branch, error) {
		return s.Service.Repositories.Branches(ctx, a, q.Repository())
	})
	serve(s, wire.ListHistory, func(ctx context.Context, a accounts.Actor, q *wire.HistoryQuery) ([]wire.Commit, error) {
		return s.Service.Repositories.History(ctx, a, q.Repository(), q.At, q.Skip, q.Limit)
	})
	serve(s, wire.GetLines, func(ctx context.Context, a accounts.Actor, q *wire.LinesQuery) (wire.LineOrigins, error) {
		return s.Service.Repositories.Lines(ctx, a, q.Repository(), q.At, q.Path)
	})
	serve(s, wire.GetTree, func(ctx context.Context, a accounts.Actor, q *wire.TreeQuery) (wire.Tree, error) {
		return s.Service.Repositories.Tree(ctx, a, q.Repository(), q.At, q.Path)
	})
}
