package client

import (
	"context"
	"encoding/json"
	"strconv"
	"strings"
	"time"

	"tavrin/wire"
)

// rules is the part of the client about rules documents and what they mean. Where a call says "where", it is about the
// rules of a repository, HOUSE/NAME, or of a house.
type rules struct{ *connection }

// Rules returns a version of the rules; 0 asks for the newest.
func (c rules) Rules(ctx context.Context, where string, version int) (wire.Rules, error) {
	if strings.Contains(where, "/") {
		return do(ctx, c.connection, wire.GetRules, wire.RepoRulesVersion{InRepo: inRepo(where), Version: version})
	}
	return do(ctx, c.connection, wire.GetHouseRules, wire.HouseRulesVersion{InHouse: wire.InHouse{House: where},
		Version: version})
}

// RulesVersions lists the versions of the rules, newest first.
func (c rules) RulesVersions(ctx context.Context, where string) ([]wire.Rules, error) {
	return readRules(ctx, c.connection, wire.ListRulesVersions, where, wire.RulesQuery{})
}

// RulesDifferences says in what one version differs from another; version 0 is the empty document.
func (c rules) RulesDifferences(ctx context.Context, where string, from, to int) ([]wire.Difference, error) {
	return readRules(ctx, c.connection, wire.ListRulesDifferences, where, wire.RulesQuery{From: from, To: to})
}

// ApplyRules applies a document over the version given; below 0, over whatever there is. Where the rules in force ask
// for a second person, the answer holds a proposal instead.
func (c rules) ApplyRules(ctx context.Context, where string, n wire.NewRules, ifVersion int) (wire.RulesApplied, error) {
	match := wire.RulesMatch{IfMatch: "*"}
	if ifVersion >= 0 {
		match.IfMatch = strconv.Quote(strconv.Itoa(ifVersion))
	}
	if strings.Contains(where, "/") {
		return do(ctx, c.connection, wire.PutRules, wire.RepoRulesApplied{InRepo: inRepo(where), RulesMatch: match, Body: n})
	}
	return do(ctx, c.connection, wire.PutHouseRules, wire.HouseRulesApplied{InHouse: wire.InHouse{House: where},
		RulesMatch: match, Body: n})
}

// RestoreRules makes an earlier version's document the next version.
func (c rules) RestoreRules(ctx context.Context, where string, version int, reason string) (wire.RulesApplied, error) {
	return ofRules(ctx, c.connection, wire.RestoreRules, where, wire.RulesReturn{Version: version, Reason: reason})
}

// CheckRules reads a document, as a house's or as a repository's, without applying it.
func (c rules) CheckRules(ctx context.Context, text string, ofHouse bool) (wire.RulesCheck, error) {
	return do(ctx, c.connection, wire.CheckRules, wire.RulesCheckQuery{OfHouse: ofHouse, Body: wire.RulesDraft{Text: text}})
}

// LintRules reads a document as that of a repository or house and says what it means and what is wrong with it.
func (c rules) LintRules(ctx context.Context, where, text string) (wire.RulesCheck, error) {
	return ofRules(ctx, c.connection, wire.LintRules, where, wire.RulesDraft{Text: text})
}

// TryHouseRules is TryRules for the rules of a house, whose repositories may be many: it is worked out in the background. progress is
// told how far it is; nil: nobody is.
func (c rules) TryHouseRules(ctx context.Context, house, text string, last int, progress func(wire.Task)) (wire.RulesTrial, error) {
	begun, err := ofRules(ctx, c.connection, wire.StartTrial, house, wire.RulesTry{Text: text, Last: last})
	t, err := finished(ctx, c.connection, begun, err, progress)
	if err != nil || t.Trial == nil {
		return wire.RulesTrial{}, err
	}
	return *t.Trial, nil
}

// TryRules says what a document would change if it were applied, and what of the last landings it would have stopped.
func (c rules) TryRules(ctx context.Context, where, text string, last int) (wire.RulesTrial, error) {
	return ofRules(ctx, c.connection, wire.TryRules, where, wire.RulesTry{Text: text, Last: last})
}

// TestRules runs examples against a document, or, when text is empty, against the rules in force.
func (c rules) TestRules(ctx context.Context, repo, text, examples string) (wire.ExampleResults, error) {
	return do(ctx, c.connection, wire.TestRules, onRepo(repo, wire.RulesTest{Text: text, Examples: examples}))
}

// RulesSchema returns the JSON Schema of the rules document.
func (c rules) RulesSchema(ctx context.Context, ofHouse bool) (json.RawMessage, error) {
	return do(ctx, c.connection, wire.GetRulesSchema, wire.SchemaQuery{OfHouse: ofHouse})
}

// RulesTemplates lists documents to start from.
func (c rules) RulesTemplates(ctx context.Context) ([]wire.Template, error) {
	return do(ctx, c.connection, wire.ListRulesTemplates, wire.Nothing{})
}

// ExplainBranch says what protects a branch.
func (c rules) ExplainBranch(ctx context.Context, repo, branch string) (wire.BranchRules, error) {
	return do(ctx, c.connection, wire.ExplainBranch, wire.BranchQuery{InRepo: inRepo(repo), Branch: branch})
}

// MatchBranches says which branches a glob or a branch kind matches now.
func (c rules) MatchBranches(ctx context.Context, repo, pattern string) (wire.PatternMatches, error) {
	return do(ctx, c.connection, wire.MatchBranches, wire.PatternQuery{InRepo: inRepo(repo), Pattern: pattern})
}

// Proposals lists loosenings that wait for a second person; with all, decided ones too.
func (c rules) Proposals(ctx context.Context, where string, all bool) ([]wire.Proposal, error) {
	return readRules(ctx, c.connection, wire.ListProposals, where, wire.RulesQuery{All: all})
}

// DecideProposal agrees to a proposal, or declines it.
func (c rules) DecideProposal(ctx context.Context, where string, id int64, agree bool) (wire.Proposal, error) {
	return ofRules(ctx, c.connection, wire.DecideProposal, where, wire.Decision{ID: id, Agree: agree})
}

// Suspensions lists the protections that are suspended now.
func (c rules) Suspensions(ctx context.Context, where string) ([]wire.Suspension, error) {
	return readRules(ctx, c.connection, wire.ListSuspensions, where, wire.RulesQuery{})
}

// Suspend puts a protection out of force for a time; it comes back by itself.
func (c rules) Suspend(ctx context.Context, where, protection string, length time.Duration,
	reason string) (wire.Suspended, error) {
	return ofRules(ctx, c.connection, wire.SuspendProtection, where, wire.NewSuspension{Protection: protection,
		ForSeconds: int64(length / time.Second), Reason: reason})
}

// Resume ends a suspension before its time.
func (c rules) Resume(ctx context.Context, where, protection string) error {
	return none(ofRules(ctx, c.connection, wire.ResumeProtection, where, wire.Resumption{Protection: protection}))
}
