package rehearsal

import (
	"context"
	"slices"

	"tavrin/internal/core/change"
	"tavrin/internal/git"
)

// Brought is what the commits of a change bring one by one, which is what comes to a branch by a strategy that keeps
// them.
type Brought struct {
	// Paths are touched by some commit, renames at both ends. A merge commit touches what it changes beyond Git's own
	// merge of its parents.
	Paths []string
	// The largest commit: how many files, and lines, it alone changes.
	Files, Added, Removed int
	// Ways are those of the paths that some commit adds, removes or renames.
	Ways change.Ways
}

// Brings finds out what commits bring one by one.
func Brings(ctx context.Context, repo *git.Repo, commits []git.Commit) (Brought, error) {
	r := on(repo.Place())
	ctx, leave, err := r.at.Enter(ctx)
	if err != nil {
		return Brought{}, err
	}
	defer leave()
	var plain []string
	var out Brought
	paths := map[string]bool{}
	take := func(files []git.FileDiff) {
		added, removed := 0, 0
		git.Ways(files, &out.Ways)
		for _, f := range files {
			paths[f.Path] = true
			if f.OldPath != "" {
				paths[f.OldPath] = true
			}
			added, removed = added+f.Added, removed+f.Removed
		}
		out.Files, out.Added, out.Removed = max(out.Files, len(files)), max(out.Added, added), max(out.Removed, removed)
	}
	for _, c := range commits {
		if len(c.Parents) < 2 {
			plain = append(plain, c.ID)
			continue
		}
		files, err := r.beyondMerge(ctx, c)
		if err != nil {
			return out, err
		}
		take(files)
	}
	each, err := r.DiffEach(ctx, plain)
	for _, files := range each {
		take(files)
	}
	for p := range paths {
		out.Paths = append(out.Paths, p)
	}
	for _, way := range []*[]string{&out.Paths, &out.Ways.Added, &out.Ways.Removed, &out.Ways.Renamed} {
		slices.Sort(*way)
		*way = slices.Compact(*way)
	}
	if b := r.at.Bounds(); err == nil && int64(len(out.Paths)) > b.ChangePaths {
		err = b.Reach("change.paths", "its commits touch %d files", len(out.Paths))
	}
	return out, err
}

// beyondMerge lists what a merge commit changes beyond what Git's own merge of its parents gives. Of parents that Git
// does not merge by itself, more than two or without a common history, it is everything that differs from the first.
func (r ground) beyondMerge(ctx context.Context, c git.Commit) ([]git.FileDiff, error) {
	if len(c.Parents) == 2 {
		if bases, err := r.MergeBases(ctx, c.Parents[0], c.Parents[1]); err != nil {
			return nil, err
		} else if len(bases) > 0 {
			view, drop, err := r.scratch()
			if err != nil {
				return nil, err
			}
			defer drop()
			tree, _, err := view.mergeTree(ctx, c.Parents[0], c.Parents[1])
			if err != nil {
				return nil, err
			}
			return view.Diff(ctx, tree, c.Tree)
		}
	}
	return r.Diff(ctx, c.Parents[0], c.Tree)
}
