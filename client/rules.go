package client

import (
	"context"
	"encoding/json"
	"net/http"
	"strconv"
	"time"

	"tavrin/wire"
)

// rules is the part of the client about rules documents and what they mean.
type rules struct{ *connection }

// Rules returns a version of the rules of a repository or house; 0 asks for the newest.
func (c rules) Rules(ctx context.Context, where string, version int) (wire.Rules, error) {
	return get[wire.Rules](ctx, c, rulesPath(where), "version", strconv.Itoa(version))
}

// RulesVersions lists the versions of the rules.
func (c rules) RulesVersions(ctx context.Context, where string) ([]wire.Rules, error) {
	return get[[]wire.Rules](ctx, c, rulesPath(where)+"/versions")
}

// RulesDifferences says in what one version differs from another; version 0 is the empty document.
func (c rules) RulesDifferences(ctx context.Context, where string, from, to int) ([]wire.Difference, error) {
	return get[[]wire.Difference](ctx, c, rulesPath(where)+"/differences", "from", strconv.Itoa(from), "to",
		strconv.Itoa(to))
}

// ApplyRules applies a document over the version given; below 0, over whatever there is. Where the rules in force ask
// for a second person, the answer holds a proposal instead.
func (c rules) ApplyRules(ctx context.Context, where, text, because string,
	ifVersion int) (wire.RulesApplied, error) {
	match := "*"
	if ifVersion >= 0 {
		match = strconv.Quote(strconv.Itoa(ifVersion))
	}
	var out wire.RulesApplied
	err := c.call(ctx, http.MethodPut, rulesPath(where), http.Header{"If-Match": {match}},
		map[string]string{"text": text, "because": because}, &out)
	return out, err
}

// RestoreRules makes an earlier version's document the next version.
func (c rules) RestoreRules(ctx context.Context, where string, version int,
	because string) (wire.RulesApplied, error) {
	return post[wire.RulesApplied](ctx, c, rulesPath(where)+"/restore",
		map[string]any{"version": version, "because": because})
}

// CheckRules reads a document, as a house's or as a repository's, without applying it.
func (c rules) CheckRules(ctx context.Context, text string, ofHouse bool) (wire.RulesCheck, error) {
	return post[wire.RulesCheck](ctx, c, "/rules/check?house="+strconv.FormatBool(ofHouse),
		map[string]string{"text": text})
}

// LintRules reads a document as that of a repository or house and says what is wrong with it.
func (c rules) LintRules(ctx context.Context, where, text string) (wire.RulesCheck, error) {
	return post[wire.RulesCheck](ctx, c, rulesPath(where)+"/lint", map[string]string{"text": text})
}

// TryRules says what a document would change if it were applied, and what of the last landings it would have stopped.
func (c rules) TryRules(ctx context.Context, where, text string, last int) (wire.RulesTrial, error) {
	return post[wire.RulesTrial](ctx, c, rulesPath(where)+"/try", map[string]any{"text": text, "last": last})
}

// TestRules runs examples against a document, or, when text is empty, against the rules in force.
func (c rules) TestRules(ctx context.Context, repo, text, examples string) (wire.ExampleResults, error) {
	return post[wire.ExampleResults](ctx, c, rulesPath(repo)+"/test",
		map[string]string{"text": text, "examples": examples})
}

// RulesSchema returns the JSON Schema of the rules document.
func (c rules) RulesSchema(ctx context.Context, ofHouse bool) (json.RawMessage, error) {
	return get[json.RawMessage](ctx, c, "/rules/schema", "house", strconv.FormatBool(ofHouse))
}

// RulesTemplates lists documents to start from.
func (c rules) RulesTemplates(ctx context.Context) ([]wire.Template, error) {
	return get[[]wire.Template](ctx, c, "/rules/templates")
}

// ExplainBranch says what protects a branch.
func (c rules) ExplainBranch(ctx context.Context, repo, branch string) (wire.BranchRules, error) {
	return get[wire.BranchRules](ctx, c, repoPath(repo)+"/explain", "branch", branch)
}

// MatchBranches says which branches a glob or a branch kind matches now.
func (c rules) MatchBranches(ctx context.Context, repo, pattern string) (wire.PatternMatches, error) {
	return get[wire.PatternMatches](ctx, c, repoPath(repo)+"/matching", "pattern", pattern)
}

// Proposals lists loosenings that wait for a second person; with all, decided ones too.
func (c rules) Proposals(ctx context.Context, where string, all bool) ([]wire.Proposal, error) {
	return get[[]wire.Proposal](ctx, c, rulesPath(where)+"/proposals", "all", strconv.FormatBool(all))
}

// DecideProposal agrees to a proposal, or declines it.
func (c rules) DecideProposal(ctx context.Context, where string, id int64, agree bool) (wire.Proposal, error) {
	return post[wire.Proposal](ctx, c, rulesPath(where)+"/decisions", map[string]any{"id": id, "agree": agree})
}

// Suspensions lists the protections that are suspended now.
func (c rules) Suspensions(ctx context.Context, where string) ([]wire.Suspension, error) {
	return get[[]wire.Suspension](ctx, c, rulesPath(where)+"/suspensions")
}

// Suspend puts a protection out of force for a time; it comes back by itself.
func (c rules) Suspend(ctx context.Context, where, protection string, length time.Duration,
	because string) (wire.Suspended, error) {
	return post[wire.Suspended](ctx, c, rulesPath(where)+"/suspensions",
		map[string]any{"protection": protection, "for_seconds": int64(length / time.Second), "because": because})
}

// Resume ends a suspension before its time.
func (c rules) Resume(ctx context.Context, where, protection string) error {
	return c.Call(ctx, http.MethodPost, rulesPath(where)+"/resumptions", map[string]string{"protection": protection},
		nil)
}
