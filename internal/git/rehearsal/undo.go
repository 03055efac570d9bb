package rehearsal

import (
	"context"
	"fmt"
	"os"

	"tavrin/internal/git"
)

// UndoPlan is what is taken back, and where.
type UndoPlan struct {
	Old, New string // a branch moved from the one to the other
	Onto     string // where it stands now
	Message  string
	Author   git.Signature // and committer
}

// Undo makes one commit on Onto that takes back what a move of a branch brought: the three-way merge with New as base, Onto
// as ours, and what Old holds as theirs. Where later commits changed the same it returns a *ConflictError; where nothing is
// left of it to take back, a NothingError.
func Undo(ctx context.Context, repo *git.Repo, p UndoPlan) (Built, error) {
	r := on(repo.Place())
	ctx, leave, err := r.at.Enter(ctx)
	if err != nil {
		return Built{}, err
	}
	defer leave()
	at, dir, err := r.at.Scratch()
	if err != nil {
		return Built{}, err
	}
	defer os.RemoveAll(dir)
	view := on(at)
	before, err := view.TreeOf(ctx, p.Old)
	if err != nil {
		return Built{}, err
	}
	now, err := view.TreeOf(ctx, p.Onto)
	if err != nil {
		return Built{}, err
	}
	back, err := view.WriteCommit(ctx, standInText(before, p.New))
	if err != nil {
		return Built{}, err
	}
	tree, stages, err := view.judge(ctx, Shown{p.New, back}, p.Onto)
	switch {
	case err != nil:
		return Built{}, err
	case len(stages) > 0:
		return Built{}, conflictOf(stages)
	case tree == now:
		return Built{}, NothingError{}
	}
	commit, err := view.WriteCommit(ctx, git.CommitText(tree, []string{p.Onto}, p.Author, p.Author, p.Message))
	if err != nil {
		return Built{}, err
	}
	b := builder{repo: view, dir: dir, aside: map[string]bool{back: true}}
	if err := b.keep(ctx, r); err != nil {
		return Built{}, fmt.Errorf("store what is taken back: %w", err)
	}
	return Built{Commit: commit, Tree: tree}, nil
}
