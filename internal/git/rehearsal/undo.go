package rehearsal

import (
	"context"

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
func Undo(ctx context.Context, repo *git.Repo, p UndoPlan) (built Built, err error) {
	r := on(repo.Place())
	err = r.with(ctx, p.Onto, func(ctx context.Context, c *crew) error {
		built, err = c.undo(p)
		if err == nil {
			err = c.keep(ctx, r)
		}
		return err
	})
	if err != nil {
		return Built{}, err
	}
	return built, nil
}

func (c *crew) undo(p UndoPlan) (Built, error) {
	before, err := c.tree(p.Old)
	if err != nil {
		return Built{}, err
	}
	now, err := c.tree(p.Onto)
	if err != nil {
		return Built{}, err
	}
	back, err := c.commit(before, p.New)
	if err != nil {
		return Built{}, err
	}
	tree, err := c.judge(Shown{p.New, back}, p.Onto)
	switch {
	case err != nil:
		return Built{}, err
	case tree == now:
		return Built{}, NothingError{}
	}
	commit, err := c.write.write(git.CommitText(tree, []string{p.Onto}, p.Author, p.Author, p.Message))
	return Built{Commit: commit, Tree: tree}, err
}
