package client

import (
	"context"
	"strconv"

	"tavrin/wire"
)

// areas is the part of the client about areas and their owners.
type areas struct{ *connection }

// Areas lists the areas in force for a repository.
func (c areas) Areas(ctx context.Context, repo string) ([]wire.Area, error) {
	return get[[]wire.Area](ctx, c, repoPath(repo)+"/areas")
}

// WhoOwns says who owns a path, and why.
func (c areas) WhoOwns(ctx context.Context, repo, path string) (wire.PathOwners, error) {
	return get[wire.PathOwners](ctx, c, repoPath(repo)+"/areas/owners", "path", path)
}

// OwnershipGaps says what nobody owns, folders counted so deep, and which globs match nothing.
func (c areas) OwnershipGaps(ctx context.Context, repo string, depth int) (wire.OwnershipGaps, error) {
	return get[wire.OwnershipGaps](ctx, c, repoPath(repo)+"/areas/gaps", "depth", strconv.Itoa(depth))
}
