package intake

import (
	"context"
	"fmt"

	"tavrin/internal/accounts"
	"tavrin/internal/core/people"
	"tavrin/internal/git"
	"tavrin/internal/git/transport"
	"tavrin/internal/problem"
	"tavrin/internal/records"
	"tavrin/wire"
)

// maxDeleted is how many branches are deleted at once.
const maxDeleted = 100

// DeleteBranches deletes branches where they were seen, each as by a push of the actor's and judged as one. One from which or
// to which a change is open stays.
func (s *Intake) DeleteBranches(ctx context.Context, a accounts.Actor, name string, list []wire.BranchAt) ([]wire.BranchDeletion, error) {
	repo, err := accounts.Reach(s.records.Read(ctx), a, name, people.Writer)
	if err != nil {
		return nil, err
	}
	if len(list) == 0 || len(list) > maxDeleted {
		return nil, problem.Wrong("branches", "name the branches to delete, at most %d", maxDeleted)
	}
	out := []wire.BranchDeletion{}
	for _, b := range list {
		if err := git.CheckBranch(b.Name); err != nil {
			return nil, problem.Wrong("branches", "%v", err)
		}
		if !git.IsID(b.Commit) {
			return nil, problem.Wrong("branches", "%s: %q is no commit's id", b.Name, b.Commit)
		}
	}
	for _, b := range list {
		why, err := s.deleteBranch(ctx, a, repo, b)
		if err != nil {
			return out, err
		}
		out = append(out, wire.BranchDeletion{Name: b.Name, Deleted: why == "", Why: why})
	}
	return out, nil
}

// deleteBranch deletes one, or says why not.
func (s *Intake) deleteBranch(ctx context.Context, a accounts.Actor, repo *records.Repository, b wire.BranchAt) (why string, err error) {
	at, err := s.disk.Bare(repo).At("refs/heads/" + b.Name)
	switch {
	case err != nil:
		return "", err
	case at == "":
		return "there is no such branch", nil
	case at != b.Commit:
		return fmt.Sprintf("it stands at %.10s by now", at), nil
	}
	var open []int
	err = s.records.Read(ctx).Model(&records.Change{}).Where("repository_id = ? AND state IN ('draft', 'open') AND (source = ? OR target = ?)", repo.ID, b.Name, b.Name).
		Order("number").Limit(1).Pluck("number", &open).Error
	if err != nil {
		return "", err
	}
	if len(open) > 0 {
		return fmt.Sprintf("change %d is open", open[0]), nil
	}
	err = s.pushFor(ctx, a, repo, transport.Update{Ref: "refs/heads/" + b.Name, Old: at}, nil)
	if p, is := err.(*problem.Problem); is && p.Kind == problem.Conflict {
		return p.Text, nil
	}
	return "", err
}
