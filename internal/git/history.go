package git

import (
	"context"
	"fmt"
	"os"
	"slices"
	"strings"
)

// Brought is what the commits of a change bring one by one, which is what comes to a branch by a strategy that keeps
// them.
type Brought struct {
	// Paths are touched by some commit, renames at both ends. A merge commit touches what it changes beyond Git's own
	// merge of its parents.
	Paths []string
	// The largest commit: how many files, and lines, it alone changes.
	Files, Added, Removed int
}

// Brings finds out what commits bring one by one.
func (r *Repo) Brings(ctx context.Context, commits []Commit) (Brought, error) {
	ctx, leave, err := r.program.enter(ctx)
	if err != nil {
		return Brought{}, err
	}
	defer leave()
	var plain []string
	var out Brought
	paths := map[string]bool{}
	take := func(files []FileDiff) {
		added, removed := 0, 0
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
	each, err := r.diffEach(ctx, plain)
	for _, files := range each {
		take(files)
	}
	for p := range paths {
		out.Paths = append(out.Paths, p)
	}
	slices.Sort(out.Paths)
	if b := r.program.bounds(); err == nil && int64(len(out.Paths)) > b.ChangePaths {
		err = b.Reach("change.paths", "its commits touch %d files", len(out.Paths))
	}
	return out, err
}

// beyondMerge lists what a merge commit changes beyond what Git's own merge of its parents gives. Of parents that Git
// does not merge by itself, more than two or without a common history, it is everything that differs from the first.
func (r *Repo) beyondMerge(ctx context.Context, c Commit) ([]FileDiff, error) {
	if len(c.Parents) == 2 {
		if bases, err := r.MergeBases(ctx, c.Parents[0], c.Parents[1]); err != nil {
			return nil, err
		} else if len(bases) > 0 {
			view, dir, err := r.scratch()
			if err != nil {
				return nil, err
			}
			defer os.RemoveAll(dir)
			tree, _, err := view.mergeTree(ctx, c.Parents[0], c.Parents[1])
			if err != nil {
				return nil, err
			}
			return view.Diff(ctx, tree, c.Tree)
		}
	}
	return r.Diff(ctx, c.Parents[0], c.Tree)
}

// diffEach lists what each of the commits changes of its parent, through one process.
func (r *Repo) diffEach(ctx context.Context, ids []string) (map[string][]FileDiff, error) {
	if len(ids) == 0 {
		return nil, nil
	}
	out, err := r.run(ctx, strings.NewReader(strings.Join(ids, "\n")+"\n"),
		append([]string{"diff-tree", "--stdin", "--root"}, rawNumstat...)...)
	if err != nil {
		return nil, err
	}
	each := map[string][]FileDiff{}
	for rest := string(out); rest != ""; {
		id, more, ok := strings.Cut(rest, "\x00")
		if !ok || !IsID(id) {
			return nil, fmt.Errorf("git diff-tree: %.80q is not a commit", rest)
		}
		files, left, err := readRawNumstat(more)
		if err != nil {
			return nil, err
		}
		each[id], rest = files, left
	}
	for id, files := range each {
		if each[id], err = r.weighed(ctx, files); err != nil {
			return nil, err
		}
	}
	return each, nil
}
