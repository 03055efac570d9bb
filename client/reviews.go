package client

import (
	"context"

	"tavrin/wire"
)

// reviews is the part of the client about reviews and who is asked for one.
type reviews struct{ *connection }

// Reviews lists what reviewers said, oldest first.
func (c reviews) Reviews(ctx context.Context, repo string, number int) ([]wire.Review, error) {
	return do(ctx, c.connection, wire.ListReviews, inChange(repo, number))
}

// Review approves, objects or comments.
func (c reviews) Review(ctx context.Context, repo string, number int, n wire.NewReview) (wire.Review, error) {
	return do(ctx, c.connection, wire.CreateReview, onChange(repo, number, n))
}

// Withdraw takes back one's approval or objection.
func (c reviews) Withdraw(ctx context.Context, repo string, number int) (wire.Review, error) {
	return do(ctx, c.connection, wire.WithdrawReview, inChange(repo, number))
}

// AskReviewers asks people or teams for a review, or, when optional, tells them of the change.
func (c reviews) AskReviewers(ctx context.Context, repo string, number int, who []string,
	optional bool) (wire.Change, error) {
	return do(ctx, c.connection, wire.AskReviewers, onChange(repo, number, wire.AskedReviewers{Who: append([]string{}, who...), Optional: optional}))
}
