package client

import (
	"context"
	"strconv"

	"tavrin/wire"
)

// repositories is the part of the client about houses, repositories, branches and files.
type repositories struct{ *connection }

// Houses lists houses.
func (c repositories) Houses(ctx context.Context) ([]wire.House, error) {
	return get[[]wire.House](ctx, c, "/houses")
}

// CreateHouse makes a house.
func (c repositories) CreateHouse(ctx context.Context, name string) (wire.House, error) {
	return post[wire.House](ctx, c, "/houses", map[string]string{"name": name})
}

// NewRepository is what a repository is made from.
type NewRepository struct {
	Name          string `json:"name"`
	DefaultBranch string `json:"default_branch,omitempty"`
	Public        bool   `json:"public,omitempty"`
	ImportURL     string `json:"import_url,omitempty"`
}

// CreateRepository makes a repository.
func (c repositories) CreateRepository(ctx context.Context, r NewRepository) (wire.Repository, error) {
	return post[wire.Repository](ctx, c, "/repositories", r)
}

// Repositories lists the repositories one may read.
func (c repositories) Repositories(ctx context.Context) ([]wire.Repository, error) {
	return get[[]wire.Repository](ctx, c, "/repositories")
}

// Repository describes one repository.
func (c repositories) Repository(ctx context.Context, repo string) (wire.Repository, error) {
	return get[wire.Repository](ctx, c, repoPath(repo))
}

// ResumeRepository tries once more to resume a repository that was set apart; for administrators.
func (c repositories) ResumeRepository(ctx context.Context, repo string) (wire.Repository, error) {
	return post[wire.Repository](ctx, c, repoPath(repo)+"/resume", nil)
}

// Branches lists a repository's branches.
func (c repositories) Branches(ctx context.Context, repo string) ([]wire.Branch, error) {
	return get[[]wire.Branch](ctx, c, repoPath(repo)+"/branches")
}

// History lists commits backwards from a branch, tag or commit.
func (c repositories) History(ctx context.Context, repo, at string, limit int) ([]wire.Commit, error) {
	return get[[]wire.Commit](ctx, c, repoPath(repo)+"/history", "at", at, "limit", strconv.Itoa(limit))
}

// Lines says which commit, and which change, each line of a file comes from.
func (c repositories) Lines(ctx context.Context, repo, at, path string) (wire.LineOrigins, error) {
	return get[wire.LineOrigins](ctx, c, repoPath(repo)+"/lines", "at", at, "path", path)
}

// Tree shows a folder or file at a commit.
func (c repositories) Tree(ctx context.Context, repo, at, path string) (wire.Tree, error) {
	return get[wire.Tree](ctx, c, repoPath(repo)+"/tree", "at", at, "path", path)
}
