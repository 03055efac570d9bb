package api

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"tavrin/internal/service"
	"tavrin/wire"
)

// rules: the rules document, its versions, and what it means for a branch.
func (s *server) rules() {
	type answer struct {
		ETag string `header:"ETag" doc:"the version, in quotes"`
		Body wire.Rules
	}
	huma.Register(s.huma, huma.Operation{OperationID: "get-rules", Method: "GET", Path: repoPath + "/rules", Summary: "The rules document", Tags: []string{"rules"}},
		func(ctx context.Context, q *struct {
			InRepo
			Version int `query:"version" minimum:"0" doc:"absent: the newest"`
		}) (*answer, error) {
			r, err := s.Service.Rules(ctx, actor(ctx), q.repository(), q.Version)
			if err != nil {
				return nil, s.problemOf(ctx, err)
			}
			return &answer{etag(r.Version), r}, nil
		})
	huma.Register(s.huma, huma.Operation{OperationID: "put-rules", Method: "PUT", Path: repoPath + "/rules", Summary: "Apply a rules document", Tags: []string{"rules"}, MaxBodyBytes: 3 << 20},
		func(ctx context.Context, q *struct {
			InRepo
			IfMatch string `header:"If-Match" doc:"the version last read, in quotes, or * for whatever it is"`
			Body    struct {
				Text    string `json:"text"`
				Because string `json:"because"`
			}
		}) (*answer, error) {
			version, err := matched(q.IfMatch)
			if err != nil {
				return nil, err
			}
			r, failed := s.Service.ApplyRules(ctx, actor(ctx), q.repository(), q.Body.Text, q.Body.Because, version)
			if failed != nil {
				return nil, s.problemOf(ctx, failed)
			}
			return &answer{etag(r.Version), r}, nil
		})
	call(s, "GET", repoPath+"/rules/versions", "list-rules-versions", "Versions of the rules, newest first", func(ctx context.Context, a service.Actor, q *InRepo) ([]wire.Rules, error) {
		return s.Service.RulesHistory(ctx, a, q.repository())
	})
	call(s, "POST", base+"/rules/check", "check-rules", "Read a rules document without applying it", func(ctx context.Context, _ service.Actor, q *struct {
		Body struct {
			Text string `json:"text"`
		}
	}) (wire.RulesCheck, error) {
		return s.Service.CheckRules(ctx, q.Body.Text), nil
	})
	call(s, "GET", repoPath+"/explain", "get-branch-rules", "What protects a branch", func(ctx context.Context, a service.Actor, q *struct {
		InRepo
		Branch string `query:"branch" required:"true"`
	}) (wire.BranchRules, error) {
		return s.Service.ExplainBranch(ctx, a, q.repository(), q.Branch)
	})
}
