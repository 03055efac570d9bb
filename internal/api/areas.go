package api

import (
	"context"

	"tavrin/internal/accounts"
	"tavrin/wire"
)

// areas: who owns what, what nobody owns, and on whose desk the reviews lie.
func (s *server) areas() {
	call(s, "GET", repoPath+"/areas", "list-areas", "The areas in force",
		func(ctx context.Context, a accounts.Actor, q *InRepo) ([]wire.Area, error) {
			return s.Service.Rulebook.Areas(ctx, a, q.repository())
		})
	call(s, "GET", repoPath+"/areas/owners", "get-path-owners", "Who owns a path, and why",
		func(ctx context.Context, a accounts.Actor, q *struct {
			InRepo
			Path string `query:"path" required:"true" maxLength:"4096"`
		}) (wire.PathOwners, error) {
			return s.Service.Rulebook.WhoOwns(ctx, a, q.repository(), q.Path)
		})
	call(s, "GET", repoPath+"/areas/gaps", "get-ownership-gaps", "What nobody owns, and which globs match nothing",
		func(ctx context.Context, a accounts.Actor, q *struct {
			InRepo
			Depth int `query:"depth" minimum:"1" maximum:"10" default:"2" doc:"how deep folders are counted"`
		}) (wire.OwnershipGaps, error) {
			return s.Service.Rulebook.OwnershipGaps(ctx, a, q.repository(), q.Depth)
		})
	call(s, "GET", repoPath+"/areas/loads", "list-review-loads", "How open reviews are spread over people",
		func(ctx context.Context, a accounts.Actor, q *InRepo) ([]wire.ReviewLoad, error) {
			return s.Service.Desk.ReviewLoads(ctx, a, q.repository())
		})
	call(s, "GET", changePath+"/areas", "get-change-areas", "Which areas a change touches, and whose approval would "+
		"be enough", func(ctx context.Context, a accounts.Actor, q *InChange) (wire.ChangeAreas, error) {
		return s.Service.Facts.ChangeAreas(ctx, a, q.repository(), q.Number)
	})
	call(s, "POST", changePath+"/reviewers", "ask-reviewers", "Ask people or teams for a review, or tell them of "+
		"the change", func(ctx context.Context, a accounts.Actor, q *struct {
		InChange
		Body struct {
			Who      []string `json:"who" minItems:"1" maxItems:"20" doc:"person:LOGIN or team:NAME"`
			Optional bool     `json:"optional,omitempty" doc:"tell them, without asking"`
		}
	}) (wire.Change, error) {
		return s.Service.Changes.AskForReview(ctx, a, q.repository(), q.Number, q.Body.Who, q.Body.Optional)
	})
	call(s, "PUT", changePath+"/labels", "put-labels", "Set and remove labels of a change",
		func(ctx context.Context, a accounts.Actor, q *struct {
			InChange
			Body struct {
				Set    []string `json:"set,omitempty"`
				Remove []string `json:"remove,omitempty"`
			}
		}) (wire.Change, error) {
			return s.Service.Changes.SetLabels(ctx, a, q.repository(), q.Number, q.Body.Set, q.Body.Remove)
		})
}
