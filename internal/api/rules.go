package api

import (
	"context"
	"encoding/json"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tavrin/internal/accounts"
	"tavrin/internal/rulebook"
	"tavrin/wire"
)

// rules: the rules documents of repositories and houses, their versions, and what they mean.
func (s *server) rules() {
	s.rulesApply()
	s.rulesRead()
	s.rulesBeforehand()
	s.rulesLoosen()
}

// atBoth answers a call with a body about the rules of a repository or of a house.
func atBoth[B, O any](s *server, c wire.Both[B, O],
	f func(ctx context.Context, a accounts.Actor, where string, body B) (O, error)) {
	serve(s, c.OfRepository, func(ctx context.Context, a accounts.Actor, q *wire.RepoBody[B]) (O, error) {
		return f(ctx, a, q.Repository(), q.Body)
	})
	serve(s, c.OfHouse, func(ctx context.Context, a accounts.Actor, q *wire.HouseBody[B]) (O, error) {
		return f(ctx, a, q.House, q.Body)
	})
}

// readBoth is atBoth for a call without a body.
func readBoth[O any](s *server, c wire.BothRead[O],
	f func(ctx context.Context, a accounts.Actor, where string, q wire.RulesQuery) (O, error)) {
	serve(s, c.OfRepository, func(ctx context.Context, a accounts.Actor, q *wire.RepoRules) (O, error) {
		return f(ctx, a, q.Repository(), q.RulesQuery)
	})
	serve(s, c.OfHouse, func(ctx context.Context, a accounts.Actor, q *wire.HouseRules) (O, error) {
		return f(ctx, a, q.House, q.RulesQuery)
	})
}

type rulesAnswer struct {
	ETag string `header:"ETag" doc:"the version, in quotes"`
	Body wire.Rules
}

type rulesApplied struct {
	ETag string `header:"ETag" doc:"the version in force, in quotes"`
	Body wire.RulesApplied
}

// rulesApply: reading and applying a document, the one conditional on the other.
func (s *server) rulesApply() {
	get := func(ctx context.Context, where string, version int) (*rulesAnswer, error) {
		r, err := s.Service.Rulebook.Rules(ctx, actor(ctx), where, version)
		if err != nil {
			return nil, s.problemOf(ctx, err)
		}
		return &rulesAnswer{etag(r.Version), r}, nil
	}
	apply := func(ctx context.Context, match string, f func(version int) (wire.RulesApplied, error)) (*rulesApplied,
		error) {
		version, err := matched(match)
		if err != nil {
			return nil, err
		}
		r, failed := f(version)
		if failed != nil {
			return nil, s.problemOf(ctx, failed)
		}
		return &rulesApplied{etag(r.Version), r}, nil
	}
	huma.Register(s.huma, operation(wire.GetRules.Operation), func(ctx context.Context, q *wire.RepoRulesVersion) (*rulesAnswer, error) {
		return get(ctx, q.Repository(), q.Version)
	})
	huma.Register(s.huma, operation(wire.GetHouseRules.Operation), func(ctx context.Context, q *wire.HouseRulesVersion) (*rulesAnswer, error) {
		return get(ctx, q.House, q.Version)
	})
	huma.Register(s.huma, operation(wire.PutRules.Operation), func(ctx context.Context, q *wire.RepoRulesApplied) (*rulesApplied, error) {
		return apply(ctx, q.IfMatch, func(version int) (wire.RulesApplied, error) {
			return s.Service.Rulebook.ApplyRules(ctx, actor(ctx), q.Repository(), q.Body.Text, q.Body.Reason, version)
		})
	})
	huma.Register(s.huma, operation(wire.PutHouseRules.Operation), func(ctx context.Context, q *wire.HouseRulesApplied) (*rulesApplied, error) {
		return apply(ctx, q.IfMatch, func(version int) (wire.RulesApplied, error) {
			return s.Service.Rulebook.ApplyRules(ctx, actor(ctx), q.House, q.Body.Text, q.Body.Reason, version)
		})
	})
	atBoth(s, wire.RestoreRules, func(ctx context.Context, a accounts.Actor, where string, b wire.RulesReturn) (wire.RulesApplied, error) {
		version := -1
		if b.IfVersion != nil {
			version = *b.IfVersion
		}
		return s.Service.Rulebook.RestoreRules(ctx, a, where, b.Version, b.Reason, version)
	})
}

// rulesRead: versions, differences, and what holds for a branch.
func (s *server) rulesRead() {
	readBoth(s, wire.ListRulesVersions, func(ctx context.Context, a accounts.Actor, where string, _ wire.RulesQuery) ([]wire.Rules, error) {
		return s.Service.Rulebook.RulesHistory(ctx, a, where)
	})
	readBoth(s, wire.ListRulesDifferences, func(ctx context.Context, a accounts.Actor, where string, q wire.RulesQuery) ([]wire.Difference, error) {
		return s.Service.Rulebook.RulesDifferences(ctx, a, where, q.From, q.To)
	})
	serve(s, wire.ExplainBranch, func(ctx context.Context, a accounts.Actor, q *wire.BranchQuery) (wire.BranchRules, error) {
		return s.Service.Rulebook.ExplainBranch(ctx, a, q.Repository(), q.Branch)
	})
	serve(s, wire.MatchBranches, func(ctx context.Context, a accounts.Actor, q *wire.PatternQuery) (wire.PatternMatches, error) {
		return s.Service.Rulebook.MatchBranches(ctx, a, q.Repository(), q.Pattern)
	})
	serve(s, wire.GetRulesSchema, func(_ context.Context, _ accounts.Actor, q *wire.SchemaQuery) (json.RawMessage, error) {
		return rulebook.RulesSchema(q.OfHouse)
	})
	serve(s, wire.ListRulesTemplates, func(_ context.Context, _ accounts.Actor, _ *wire.Nothing) ([]wire.Template, error) {
		return rulebook.RulesTemplates()
	})
}

// rulesBeforehand: reading, trying and testing a document without applying it.
func (s *server) rulesBeforehand() {
	serve(s, wire.CheckRules, func(ctx context.Context, a accounts.Actor, q *wire.RulesCheckQuery) (wire.RulesCheck, error) {
		return s.Service.Rulebook.CheckRules(ctx, a, "", q.Body.Text, q.OfHouse)
	})
	atBoth(s, wire.LintRules, func(ctx context.Context, a accounts.Actor, where string, b wire.RulesDraft) (wire.RulesCheck, error) {
		return s.Service.Rulebook.CheckRules(ctx, a, where, b.Text, false)
	})
	atBoth(s, wire.StartTrial, func(ctx context.Context, a accounts.Actor, where string, b wire.RulesTry) (wire.Task, error) {
		return s.Service.Tasks.Begin(ctx, a, s.Service.Trials.Trial(a, where, b.Text, b.Last))
	})
	atBoth(s, wire.TryRules, func(ctx context.Context, a accounts.Actor, where string, b wire.RulesTry) (wire.RulesTrial, error) {
		return s.Service.Trials.TryRules(ctx, a, where, b.Text, b.Last)
	})
	serve(s, wire.TestRules, func(ctx context.Context, a accounts.Actor, q *wire.RepoBody[wire.RulesTest]) (wire.ExampleResults, error) {
		return s.Service.Trials.TestRules(ctx, a, q.Repository(), q.Body.Text, q.Body.Examples)
	})
}

// rulesLoosen: what loosens for a time or needs a second person.
func (s *server) rulesLoosen() {
	readBoth(s, wire.ListProposals, func(ctx context.Context, a accounts.Actor, where string, q wire.RulesQuery) ([]wire.Proposal, error) {
		return s.Service.Rulebook.Proposals(ctx, a, where, q.All)
	})
	atBoth(s, wire.DecideProposal, func(ctx context.Context, a accounts.Actor, where string, b wire.Decision) (wire.Proposal, error) {
		return s.Service.Rulebook.DecideProposal(ctx, a, where, b.ID, b.Agree)
	})
	readBoth(s, wire.ListSuspensions, func(ctx context.Context, a accounts.Actor, where string, _ wire.RulesQuery) ([]wire.Suspension, error) {
		return s.Service.Rulebook.Suspensions(ctx, a, where)
	})
	atBoth(s, wire.SuspendProtection, func(ctx context.Context, a accounts.Actor,
		where string, b wire.NewSuspension) (wire.Suspended, error) {
		return s.Service.Rulebook.Suspend(ctx, a, where, b.Protection, time.Duration(b.ForSeconds)*time.Second,
			b.Reason)
	})
	atBoth(s, wire.ResumeProtection, func(ctx context.Context, a accounts.Actor, where string, b wire.Resumption) (wire.Done, error) {
		return wire.Done{Done: true}, s.Service.Rulebook.Resume(ctx, a, where, b.Protection)
	})
}
