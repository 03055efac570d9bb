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

// atBoth registers a call with a body about the rules of a repository and, under another id, of a house.
func atBoth[B, O any](s *server, method, tail, id, summary string,
	f func(ctx context.Context, a accounts.Actor, where string, body B) (O, error)) {
	call(s, method, repoPath+tail, id, summary, func(ctx context.Context, a accounts.Actor, q *struct {
		InRepo
		Body B
	}) (O, error) {
		return f(ctx, a, q.repository(), q.Body)
	})
	call(s, method, housePath+tail, id+"-of-house", summary+", of a house",
		func(ctx context.Context, a accounts.Actor, q *struct {
			InHouse
			Body B
		}) (O, error) {
			return f(ctx, a, q.House, q.Body)
		})
}

// readBoth is atBoth for a call without a body.
func readBoth[O any](s *server, tail, id, summary string, f func(ctx context.Context, a accounts.Actor, where string,
	q RulesQuery) (O, error)) {
	call(s, "GET", repoPath+tail, id, summary, func(ctx context.Context, a accounts.Actor, q *struct {
		InRepo
		RulesQuery
	}) (O, error) {
		return f(ctx, a, q.repository(), q.RulesQuery)
	})
	call(s, "GET", housePath+tail, id+"-of-house", summary+", of a house",
		func(ctx context.Context, a accounts.Actor, q *struct {
			InHouse
			RulesQuery
		}) (O, error) {
			return f(ctx, a, q.House, q.RulesQuery)
		})
}

// RulesQuery is what calls that read about rules may be asked with. It is exported because embedded fields have to be.
type RulesQuery struct {
	From int  `query:"from" minimum:"0" doc:"of differences: the earlier version; 0: the empty document"`
	To   int  `query:"to" minimum:"0" doc:"of differences: the later version"`
	All  bool `query:"all" doc:"of proposals: decided ones too"`
}

// RulesBody is a document to apply.
type RulesBody struct {
	Text    string `json:"text"`
	Because string `json:"because" doc:"why the rules change"`
}

type rulesAnswer struct {
	ETag string `header:"ETag" doc:"the version, in quotes"`
	Body wire.Rules
}

type rulesApplied struct {
	ETag string `header:"ETag" doc:"the version in force, in quotes"`
	Body wire.RulesApplied
}

// RulesMatch is the condition on which rules are applied.
type RulesMatch struct {
	IfMatch string `header:"If-Match" doc:"the version last read, in quotes, or * for whatever it is"`
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
	operation := func(method, path, id, summary string) huma.Operation {
		return huma.Operation{OperationID: id, Method: method, Path: path, Summary: summary, Tags: []string{"rules"},
			MaxBodyBytes: 3 << 20}
	}
	huma.Register(s.huma, operation("GET", repoPath+"/rules", "get-rules", "The rules document"),
		func(ctx context.Context, q *struct {
			InRepo
			Version int `query:"version" minimum:"0" doc:"absent: the newest"`
		}) (*rulesAnswer, error) {
			return get(ctx, q.repository(), q.Version)
		})
	huma.Register(s.huma, operation("GET", housePath+"/rules", "get-rules-of-house", "The rules document of a house"),
		func(ctx context.Context, q *struct {
			InHouse
			Version int `query:"version" minimum:"0" doc:"absent: the newest"`
		}) (*rulesAnswer, error) {
			return get(ctx, q.House, q.Version)
		})
	huma.Register(s.huma, operation("PUT", repoPath+"/rules", "put-rules", "Apply a rules document"),
		func(ctx context.Context, q *struct {
			InRepo
			RulesMatch
			Body RulesBody
		}) (*rulesApplied, error) {
			return apply(ctx, q.IfMatch, func(version int) (wire.RulesApplied, error) {
				return s.Service.Rulebook.ApplyRules(ctx, actor(ctx), q.repository(), q.Body.Text, q.Body.Because, version)
			})
		})
	huma.Register(s.huma, operation("PUT", housePath+"/rules", "put-rules-of-house",
		"Apply a rules document to a house"), func(ctx context.Context, q *struct {
		InHouse
		RulesMatch
		Body RulesBody
	}) (*rulesApplied, error) {
		return apply(ctx, q.IfMatch, func(version int) (wire.RulesApplied, error) {
			return s.Service.Rulebook.ApplyRules(ctx, actor(ctx), q.House, q.Body.Text, q.Body.Because, version)
		})
	})
	type rulesBack struct {
		Version int    `json:"version" minimum:"1" doc:"the version to return to"`
		Because string `json:"because" doc:"why"`
		If      *int   `json:"if_version,omitempty" doc:"do so only if this is the version in force"`
	}
	atBoth(s, "POST", "/rules/restore", "restore-rules", "Make an earlier version's document the next version",
		func(ctx context.Context, a accounts.Actor, where string, b rulesBack) (wire.RulesApplied, error) {
			version := -1
			if b.If != nil {
				version = *b.If
			}
			return s.Service.Rulebook.RestoreRules(ctx, a, where, b.Version, b.Because, version)
		})
}

// rulesRead: versions, differences, and what holds for a branch.
func (s *server) rulesRead() {
	readBoth(s, "/rules/versions", "list-rules-versions", "Versions of the rules, newest first",
		func(ctx context.Context, a accounts.Actor, where string, _ RulesQuery) ([]wire.Rules, error) {
			return s.Service.Rulebook.RulesHistory(ctx, a, where)
		})
	readBoth(s, "/rules/differences", "list-rules-differences", "In what one version of the rules differs from another",
		func(ctx context.Context, a accounts.Actor, where string, q RulesQuery) ([]wire.Difference, error) {
			return s.Service.Rulebook.RulesDifferences(ctx, a, where, q.From, q.To)
		})
	call(s, "GET", repoPath+"/explain", "get-branch-rules", "What protects a branch, setting by setting, and where "+
		"each comes from", func(ctx context.Context, a accounts.Actor, q *struct {
		InRepo
		Branch string `query:"branch" required:"true"`
	}) (wire.BranchRules, error) {
		return s.Service.Rulebook.ExplainBranch(ctx, a, q.repository(), q.Branch)
	})
	call(s, "GET", repoPath+"/matching", "get-matching-branches", "Which branches a glob or a branch kind matches now",
		func(ctx context.Context, a accounts.Actor, q *struct {
			InRepo
			Pattern string `query:"pattern" required:"true" maxLength:"512"`
		}) (wire.PatternMatches, error) {
			return s.Service.Rulebook.MatchBranches(ctx, a, q.repository(), q.Pattern)
		})
	call(s, "GET", base+"/rules/schema", "get-rules-schema", "The JSON Schema of the rules document, for editors",
		func(_ context.Context, _ accounts.Actor, q *struct {
			House bool `query:"house" doc:"of a house's document"`
		}) (json.RawMessage, error) {
			return rulebook.RulesSchema(q.House)
		})
	call(s, "GET", base+"/rules/templates", "list-rules-templates", "Documents to start from",
		func(context.Context, accounts.Actor, *in) ([]wire.Template, error) {
			return rulebook.RulesTemplates()
		})
}

// rulesBeforehand: reading, trying and testing a document without applying it.
func (s *server) rulesBeforehand() {
	type rulesDraft struct {
		Text string `json:"text"`
	}
	call(s, "POST", base+"/rules/check", "check-rules", "Read a rules document without applying it",
		func(ctx context.Context, a accounts.Actor, q *struct {
			House bool `query:"house" doc:"read it as a house's document"`
			Body  rulesDraft
		}) (wire.RulesCheck, error) {
			return s.Service.Rulebook.CheckRules(ctx, a, "", q.Body.Text, q.House)
		})
	atBoth(s, "POST", "/rules/lint", "lint-rules", "Read a rules document as this one's and say what is wrong with it",
		func(ctx context.Context, a accounts.Actor, where string, b rulesDraft) (wire.RulesCheck, error) {
			return s.Service.Rulebook.CheckRules(ctx, a, where, b.Text, false)
		})
	type rulesTried struct {
		Text string `json:"text"`
		Last int    `json:"last,omitempty" minimum:"0" maximum:"500" doc:"how many of the last landings to judge again"`
	}
	atBoth(s, "POST", "/rules/try", "try-rules", "What a rules document would change if it were applied",
		func(ctx context.Context, a accounts.Actor, where string, b rulesTried) (wire.RulesTrial, error) {
			return s.Service.Trials.TryRules(ctx, a, where, b.Text, b.Last)
		})
	call(s, "POST", repoPath+"/rules/test", "test-rules", "Run examples against rules",
		func(ctx context.Context, a accounts.Actor, q *struct {
			InRepo
			Body struct {
				Text     string `json:"text,omitempty" doc:"the rules document; absent: the rules in force"`
				Examples string `json:"examples" doc:"the examples, as YAML"`
			}
		}) (wire.ExampleResults, error) {
			return s.Service.Trials.TestRules(ctx, a, q.repository(), q.Body.Text, q.Body.Examples)
		})
}

// rulesLoosen: what loosens for a time or needs a second person.
func (s *server) rulesLoosen() {
	readBoth(s, "/rules/proposals", "list-rules-proposals", "Loosenings that wait for a second person",
		func(ctx context.Context, a accounts.Actor, where string, q RulesQuery) ([]wire.Proposal, error) {
			return s.Service.Rulebook.Proposals(ctx, a, where, q.All)
		})
	type proposalDecision struct {
		ID    int64 `json:"id" minimum:"1"`
		Agree bool  `json:"agree" doc:"false: decline"`
	}
	atBoth(s, "POST", "/rules/decisions", "decide-rules-proposal", "Agree to a proposal, or decline it",
		func(ctx context.Context, a accounts.Actor, where string, b proposalDecision) (wire.Proposal, error) {
			return s.Service.Rulebook.DecideProposal(ctx, a, where, b.ID, b.Agree)
		})
	readBoth(s, "/rules/suspensions", "list-rules-suspensions", "Protections that are suspended now",
		func(ctx context.Context, a accounts.Actor, where string, _ RulesQuery) ([]wire.Suspension, error) {
			return s.Service.Rulebook.Suspensions(ctx, a, where)
		})
	type suspensionWish struct {
		Protection string `json:"protection"`
		ForSeconds int64  `json:"for_seconds" minimum:"60" maximum:"604800"`
		Because    string `json:"because"`
	}
	atBoth(s, "POST", "/rules/suspensions", "suspend-protection",
		"Suspend a protection for a time; it comes back by itself", func(ctx context.Context, a accounts.Actor,
			where string, b suspensionWish) (wire.Suspended, error) {
			return s.Service.Rulebook.Suspend(ctx, a, where, b.Protection, time.Duration(b.ForSeconds)*time.Second,
				b.Because)
		})
	type resumptionWish struct {
		Protection string `json:"protection"`
	}
	atBoth(s, "POST", "/rules/resumptions", "resume-protection", "End a suspension before its time",
		func(ctx context.Context, a accounts.Actor, where string, b resumptionWish) (done, error) {
			return done{true}, s.Service.Rulebook.Resume(ctx, a, where, b.Protection)
		})
}
