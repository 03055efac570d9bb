package client

import (
	"context"

	"tavrin/wire"
)

// reviews is the part of the client about reviews and who is asked for one.
type reviews struct{ *connection }

// Reviews lists what reviewers said.
func (c reviews) Reviews(ctx context.Context, repo string, number int) ([]wire.Review, error) {
	return get[[]wire.Review](ctx, c, changePath(repo, number)+"/reviews")
}

// Review approves, objects or comments.
func (c reviews) Review(ctx context.Context, repo string, number int, verdict string, revision int,
	text string) (wire.Review, error) {
	return post[wire.Review](ctx, c, changePath(repo, number)+"/reviews",
		map[string]any{"verdict": verdict, "revision": revision, "text": text})
}

// ReviewWithDrafts is Review together with the caller's draft comments.
func (c reviews) ReviewWithDrafts(ctx context.Context, repo string, number int, verdict string, revision int,
	text string) (wire.Review, error) {
	return post[wire.Review](ctx, c, changePath(repo, number)+"/reviews",
		map[string]any{"verdict": verdict, "revision": revision, "text": text, "drafts": true})
}

// Withdraw takes back one's approval or objection.
func (c reviews) Withdraw(ctx context.Context, repo string, number int) (wire.Review, error) {
	return post[wire.Review](ctx, c, changePath(repo, number)+"/withdraw", nil)
}

// ReviewLoads says how open reviews are spread over people.
func (c reviews) ReviewLoads(ctx context.Context, repo string) ([]wire.ReviewLoad, error) {
	return get[[]wire.ReviewLoad](ctx, c, repoPath(repo)+"/areas/loads")
}

// AskReviewers asks people or teams for a review, or, when optional, tells them of the change.
func (c reviews) AskReviewers(ctx context.Context, repo string, number int, who []string,
	optional bool) (wire.Change, error) {
	return post[wire.Change](ctx, c, changePath(repo, number)+"/reviewers",
		map[string]any{"who": who, "optional": optional})
}
