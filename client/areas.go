package client

import (
	"context"

	"tavrin/wire"
)

// areas is the part of the client about areas and their owners.
type areas struct{ *connection }

// Areas lists the areas in force for a repository.
func (c areas) Areas(ctx context.Context, repo string) ([]wire.Area, error) {
	return do(ctx, c.connection, wire.ListAreas, inRepo(repo))
}

// WhoOwns says who owns a path, and why.
func (c areas) WhoOwns(ctx context.Context, repo, path string) (wire.PathOwners, error) {
	return do(ctx, c.connection, wire.GetPathOwners, wire.PathQuery{InRepo: inRepo(repo), Path: path})
}

// OwnershipGaps says what nobody owns, folders counted so deep, and which globs match nothing.
func (c areas) OwnershipGaps(ctx context.Context, repo string, depth int) (wire.OwnershipGaps, error) {
	return do(ctx, c.connection, wire.GetOwnershipGaps, wire.GapsQuery{InRepo: inRepo(repo), Depth: depth})
}

// ReviewLoads says how open reviews are spread over people.
func (c areas) ReviewLoads(ctx context.Context, repo string) ([]wire.ReviewLoad, error) {
	return do(ctx, c.connection, wire.ListReviewLoads, inRepo(repo))
}

// ChangeAreas says which areas a change touches, and whose approval would be enough.
func (c areas) ChangeAreas(ctx context.Context, repo string, number int) (wire.ChangeAreas, error) {
	return do(ctx, c.connection, wire.GetChangeAreas, inChange(repo, number))
}
