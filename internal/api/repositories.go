package api

import (
	"context"

	"tavrin/internal/accounts"
	"tavrin/internal/repositories"
	"tavrin/wire"
)

// repositories: houses, repositories and what is in them.
func (s *server) repositories() {
	call(s, "GET", base+"/houses", "list-houses", "Houses", func(ctx context.Context, a accounts.Actor,
		_ *in) ([]wire.House, error) {
		return s.Service.Repositories.Houses(ctx, a)
	})
	call(s, "POST", base+"/houses", "create-house", "Make a house",
		func(ctx context.Context, a accounts.Actor, q *struct {
			Body struct {
				Name string `json:"name"`
			}
		}) (wire.House, error) {
			return s.Service.Repositories.CreateHouse(ctx, a, q.Body.Name)
		})
	call(s, "GET", base+"/repositories", "list-repositories", "Repositories that you may read",
		func(ctx context.Context, a accounts.Actor, _ *in) ([]wire.Repository, error) {
			return s.Service.Repositories.Repositories(ctx, a)
		})
	call(s, "POST", base+"/repositories", "create-repository", "Make a repository, empty or imported",
		func(ctx context.Context, a accounts.Actor, q *struct {
			Body struct {
				Name          string `json:"name" doc:"HOUSE/NAME"`
				DefaultBranch string `json:"default_branch,omitempty" doc:"absent: main"`
				Public        bool   `json:"public,omitempty" doc:"readable without signing in"`
				ImportURL     string `json:"import_url,omitempty"`
			}
		}) (wire.Repository, error) {
			return s.Service.Repositories.CreateRepository(ctx, a, repositories.NewRepository(q.Body))
		})
	call(s, "GET", repoPath, "get-repository", "One repository",
		func(ctx context.Context, a accounts.Actor, q *InRepo) (wire.Repository, error) {
			return s.Service.Repositories.Repository(ctx, a, q.repository())
		})
	call(s, "POST", repoPath+"/resume", "resume-repository", "Try once more to resume a repository that was set apart",
		func(ctx context.Context, a accounts.Actor, q *InRepo) (wire.Repository, error) {
			return s.Service.Repositories.ResumeRepository(ctx, a, q.repository())
		})
	call(s, "GET", repoPath+"/branches", "list-branches", "Branches with what protects them",
		func(ctx context.Context, a accounts.Actor, q *InRepo) ([]wire.Branch, error) {
			return s.Service.Repositories.Branches(ctx, a, q.repository())
		})
	call(s, "GET", repoPath+"/history", "list-history", "Commits with their checks, newest first",
		func(ctx context.Context, a accounts.Actor, q *struct {
			InRepo
			At    string `query:"at" doc:"branch, tag or commit; absent: the default branch"`
			Skip  int    `query:"skip" minimum:"0"`
			Limit int    `query:"limit" minimum:"0" maximum:"200"`
		}) ([]wire.Commit, error) {
			return s.Service.Repositories.History(ctx, a, q.repository(), q.At, q.Skip, q.Limit)
		})
	call(s, "GET", repoPath+"/lines", "get-lines", "Which commit, and which change, each line of a file comes from",
		func(ctx context.Context, a accounts.Actor, q *struct {
			InRepo
			At   string `query:"at" doc:"branch, tag or commit; absent: the default branch"`
			Path string `query:"path" required:"true"`
		}) (wire.LineOrigins, error) {
			return s.Service.Repositories.Lines(ctx, a, q.repository(), q.At, q.Path)
		})
	call(s, "GET", repoPath+"/tree", "get-tree", "A folder or a file at a commit",
		func(ctx context.Context, a accounts.Actor, q *struct {
			InRepo
			At   string `query:"at" doc:"branch, tag or commit; absent: the default branch"`
			Path string `query:"path" doc:"absent: the root"`
		}) (wire.Tree, error) {
			return s.Service.Repositories.Tree(ctx, a, q.repository(), q.At, q.Path)
		})
}
