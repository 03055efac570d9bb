package client

import (
	"context"

	"tavrin/wire"
)

// repositories is the part of the client about houses, repositories, branches and files.
type repositories struct{ *connection }

// Houses lists houses.
func (c repositories) Houses(ctx context.Context) ([]wire.House, error) {
	return do(ctx, c.connection, wire.ListHouses, wire.Nothing{})
}

// CreateHouse makes a house.
func (c repositories) CreateHouse(ctx context.Context, name string) (wire.House, error) {
	return do(ctx, c.connection, wire.CreateHouse, just(wire.NewHouse{Name: name}))
}

// CreateRepository makes a repository.
func (c repositories) CreateRepository(ctx context.Context, r wire.NewRepository) (wire.Repository, error) {
	return do(ctx, c.connection, wire.CreateRepository, just(r))
}

// Repositories lists the repositories one may read.
func (c repositories) Repositories(ctx context.Context) ([]wire.Repository, error) {
	return do(ctx, c.connection, wire.ListRepositories, wire.Nothing{})
}

// Repository describes one repository.
func (c repositories) Repository(ctx context.Context, repo string) (wire.Repository, error) {
	return do(ctx, c.connection, wire.GetRepository, inRepo(repo))
}

// EditRepository changes something of a repository itself.
func (c repositories) EditRepository(ctx context.Context, repo string, e wire.RepositoryEdit) (wire.Repository, error) {
	return do(ctx, c.connection, wire.EditRepository, onRepo(repo, e))
}

// DeleteRepository deletes a repository; for a while it can be restored.
func (c repositories) DeleteRepository(ctx context.Context, repo, reason string) (wire.Deleted, error) {
	return do(ctx, c.connection, wire.DeleteRepository, onRepo(repo, wire.RepositoryDeletion{Confirm: repo, Reason: reason}))
}

// RestoreRepository brings a deleted repository back.
func (c repositories) RestoreRepository(ctx context.Context, repo string) (wire.Repository, error) {
	return do(ctx, c.connection, wire.RestoreRepository, inRepo(repo))
}

// DeletedRepositories lists deleted repositories that the caller may restore.
func (c repositories) DeletedRepositories(ctx context.Context) ([]wire.Deleted, error) {
	return do(ctx, c.connection, wire.ListDeleted, wire.Nothing{})
}

// ResumeRepository tries once more to resume a repository that was stopped; for administrators.
func (c repositories) ResumeRepository(ctx context.Context, repo string) (wire.Repository, error) {
	return do(ctx, c.connection, wire.ResumeRepository, inRepo(repo))
}

// Branches lists a repository's branches.
func (c repositories) Branches(ctx context.Context, repo string) ([]wire.Branch, error) {
	return do(ctx, c.connection, wire.ListBranches, inRepo(repo))
}

// History lists commits backwards from a branch, tag or commit.
func (c repositories) History(ctx context.Context, repo, at string, limit int) ([]wire.Commit, error) {
	return do(ctx, c.connection, wire.ListHistory, wire.HistoryQuery{InRepo: inRepo(repo), At: at, Limit: limit})
}

// Lines says which commit, and which change, each line of a file comes from.
func (c repositories) Lines(ctx context.Context, repo, at, path string) (wire.LineOrigins, error) {
	return do(ctx, c.connection, wire.GetLines, wire.LinesQuery{InRepo: inRepo(repo), At: at, Path: path})
}

// Tree shows a folder or file at a commit.
func (c repositories) Tree(ctx context.Context, repo, at, path string) (wire.Tree, error) {
	return do(ctx, c.connection, wire.GetTree, wire.TreeQuery{InRepo: inRepo(repo), At: at, Path: path})
}

// DeleteBranches deletes branches where they were seen; never one from which or to which a change is open.
func (c repositories) DeleteBranches(ctx context.Context, repo string, list []wire.BranchAt) ([]wire.BranchDeletion, error) {
	return do(ctx, c.connection, wire.DeleteBranches, wire.RepoBody[wire.BranchesToDelete]{InRepo: inRepo(repo), Body: wire.BranchesToDelete{Branches: list}})
}
