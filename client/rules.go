package client

import (
	"context"
	"encoding/json"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"tavrin/wire"
)

// rulesPath is where the rules of a repository, HOUSE/NAME, or of a house are.
func rulesPath(where string) string {
	if strings.Contains(where, "/") {
		return repoPath(where) + "/rules"
	}
	return "/houses/" + url.PathEscape(where) + "/rules"
}

// Rules returns a version of the rules of a repository or house; 0 asks for the newest.
func (c *Client) Rules(ctx context.Context, where string, version int) (wire.Rules, error) {
	return get[wire.Rules](ctx, c, rulesPath(where), "version", strconv.Itoa(version))
}

// RulesVersions lists the versions of the rules.
func (c *Client) RulesVersions(ctx context.Context, where string) ([]wire.Rules, error) {
	return get[[]wire.Rules](ctx, c, rulesPath(where)+"/versions")
}

// RulesDifferences says in what one version differs from another; version 0 is the empty document.
func (c *Client) RulesDifferences(ctx context.Context, where string, from, to int) ([]wire.Difference, error) {
	return get[[]wire.Difference](ctx, c, rulesPath(where)+"/differences", "from", strconv.Itoa(from), "to",
		strconv.Itoa(to))
}

// ApplyRules applies a document over the version given; below 0, over whatever there is. Where the rules in force ask
// for a second person, the answer holds a proposal instead.
func (c *Client) ApplyRules(ctx context.Context, where, text, because string,
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
func (c *Client) RestoreRules(ctx context.Context, where string, version int,
	because string) (wire.RulesApplied, error) {
	return post[wire.RulesApplied](ctx, c, rulesPath(where)+"/restore",
		map[string]any{"version": version, "because": because})
}

// CheckRules reads a document, as a house's or as a repository's, without applying it.
func (c *Client) CheckRules(ctx context.Context, text string, ofHouse bool) (wire.RulesCheck, error) {
	return post[wire.RulesCheck](ctx, c, "/rules/check?house="+strconv.FormatBool(ofHouse),
		map[string]string{"text": text})
}

// LintRules reads a document as that of a repository or house and says what is wrong with it.
func (c *Client) LintRules(ctx context.Context, where, text string) (wire.RulesCheck, error) {
	return post[wire.RulesCheck](ctx, c, rulesPath(where)+"/lint", map[string]string{"text": text})
}

// TryRules says what a document would change if it were applied, and what of the last landings it would have stopped.
func (c *Client) TryRules(ctx context.Context, where, text string, last int) (wire.RulesTrial, error) {
	return post[wire.RulesTrial](ctx, c, rulesPath(where)+"/try", map[string]any{"text": text, "last": last})
}

// TestRules runs examples against a document, or, when text is empty, against the rules in force.
func (c *Client) TestRules(ctx context.Context, repo, text, examples string) (wire.ExampleResults, error) {
	return post[wire.ExampleResults](ctx, c, rulesPath(repo)+"/test",
		map[string]string{"text": text, "examples": examples})
}

// RulesSchema returns the JSON Schema of the rules document.
func (c *Client) RulesSchema(ctx context.Context, ofHouse bool) (json.RawMessage, error) {
	return get[json.RawMessage](ctx, c, "/rules/schema", "house", strconv.FormatBool(ofHouse))
}

// RulesTemplates lists documents to start from.
func (c *Client) RulesTemplates(ctx context.Context) ([]wire.Template, error) {
	return get[[]wire.Template](ctx, c, "/rules/templates")
}

// ExplainBranch says what protects a branch.
func (c *Client) ExplainBranch(ctx context.Context, repo, branch string) (wire.BranchRules, error) {
	return get[wire.BranchRules](ctx, c, repoPath(repo)+"/explain", "branch", branch)
}

// MatchBranches says which branches a glob or a branch kind matches now.
func (c *Client) MatchBranches(ctx context.Context, repo, pattern string) (wire.PatternMatches, error) {
	return get[wire.PatternMatches](ctx, c, repoPath(repo)+"/matching", "pattern", pattern)
}

// Proposals lists loosenings that wait for a second person; with all, decided ones too.
func (c *Client) Proposals(ctx context.Context, where string, all bool) ([]wire.Proposal, error) {
	return get[[]wire.Proposal](ctx, c, rulesPath(where)+"/proposals", "all", strconv.FormatBool(all))
}

// DecideProposal agrees to a proposal, or declines it.
func (c *Client) DecideProposal(ctx context.Context, where string, id int64, agree bool) (wire.Proposal, error) {
	return post[wire.Proposal](ctx, c, rulesPath(where)+"/decisions", map[string]any{"id": id, "agree": agree})
}

// Suspensions lists the protections that are suspended now.
func (c *Client) Suspensions(ctx context.Context, where string) ([]wire.Suspension, error) {
	return get[[]wire.Suspension](ctx, c, rulesPath(where)+"/suspensions")
}

// Suspend sets a protection aside for a time; it comes back by itself.
func (c *Client) Suspend(ctx context.Context, where, protection string, length time.Duration,
	because string) (wire.Suspended, error) {
	return post[wire.Suspended](ctx, c, rulesPath(where)+"/suspensions",
		map[string]any{"protection": protection, "for_seconds": int64(length / time.Second), "because": because})
}

// Resume ends a suspension before its time.
func (c *Client) Resume(ctx context.Context, where, protection string) error {
	return c.Call(ctx, http.MethodPost, rulesPath(where)+"/resumptions", map[string]string{"protection": protection},
		nil)
}

// Areas lists the areas in force for a repository.
func (c *Client) Areas(ctx context.Context, repo string) ([]wire.Area, error) {
	return get[[]wire.Area](ctx, c, repoPath(repo)+"/areas")
}

// WhoOwns says who owns a path, and why.
func (c *Client) WhoOwns(ctx context.Context, repo, path string) (wire.PathOwners, error) {
	return get[wire.PathOwners](ctx, c, repoPath(repo)+"/areas/owners", "path", path)
}

// OwnershipGaps says what nobody owns, folders counted so deep, and which globs match nothing.
func (c *Client) OwnershipGaps(ctx context.Context, repo string, depth int) (wire.OwnershipGaps, error) {
	return get[wire.OwnershipGaps](ctx, c, repoPath(repo)+"/areas/gaps", "depth", strconv.Itoa(depth))
}

// ReviewLoads says how open reviews are spread over people.
func (c *Client) ReviewLoads(ctx context.Context, repo string) ([]wire.ReviewLoad, error) {
	return get[[]wire.ReviewLoad](ctx, c, repoPath(repo)+"/areas/loads")
}

// ChangeAreas says which areas a change touches, and whose approval would be enough.
func (c *Client) ChangeAreas(ctx context.Context, repo string, number int) (wire.ChangeAreas, error) {
	return get[wire.ChangeAreas](ctx, c, changePath(repo, number)+"/areas")
}

// SetLabels sets and removes labels of a change.
func (c *Client) SetLabels(ctx context.Context, repo string, number int, set, remove []string) (wire.Change, error) {
	var out wire.Change
	err := c.Call(ctx, http.MethodPut, changePath(repo, number)+"/labels",
		map[string]any{"set": append([]string{}, set...), "remove": append([]string{}, remove...)}, &out)
	return out, err
}

// AskReviewers asks people or teams for a review, or, when optional, tells them of the change.
func (c *Client) AskReviewers(ctx context.Context, repo string, number int, who []string,
	optional bool) (wire.Change, error) {
	return post[wire.Change](ctx, c, changePath(repo, number)+"/reviewers",
		map[string]any{"who": who, "optional": optional})
}

// Preview says what a change would meet that is not opened yet.
func (c *Client) Preview(ctx context.Context, repo, source, target, title string) (wire.Preview, error) {
	return get[wire.Preview](ctx, c, repoPath(repo)+"/preview", "source", source, "target", target, "title", title)
}
