package intake

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"tavrin/internal/accounts"
	"tavrin/internal/changes"
	"tavrin/internal/core/change"
	"tavrin/internal/core/people"
	"tavrin/internal/facts"
	"tavrin/internal/git"
	"tavrin/internal/git/rehearsal"
	"tavrin/internal/git/transport"
	"tavrin/internal/problem"
	"tavrin/internal/records"
	"tavrin/wire"
)

// UpdateBranch updates a change's source branch to its target: by a rebase, or by a merge of the target. It is a push of
// the actor's, judged as one. Landing does not need it: the queue rehearses every change on the newest target.
func (s *Intake) UpdateBranch(ctx context.Context, a accounts.Actor, name string, number int,
	by rehearsal.Strategy) (wire.Change, error) {
	db := s.records.Read(ctx)
	repo, c, err := facts.ChangeRow(db, a, name, number, people.Writer)
	if err != nil {
		return wire.Change{}, err
	}
	if err := facts.MayEdit(db, a, repo, c, "updating"); err != nil {
		return wire.Change{}, err
	}
	if c.State != "draft" && c.State != "open" {
		return wire.Change{}, problem.New(problem.Conflict, "change %d is %s; only an open change is updated",
			number, c.State)
	}
	head, tip, err := s.changes.Ends(ctx, repo, wire.NewChange{Source: c.Source, Target: c.Target})
	if err != nil {
		return wire.Change{}, err
	}
	if up, err := s.disk.Bare(repo).IsAncestor(ctx, tip, head); err != nil || up {
		if err == nil {
			err = problem.New(problem.Conflict, "%s has everything of %s already", c.Source, c.Target)
		}
		return wire.Change{}, err
	}
	me := git.Signature{Name: a.Account().Name, Email: a.Account().Email, When: s.records.Now()}
	revision, err := facts.RevisionRow(db, c)
	if err != nil {
		return wire.Change{}, err
	}
	plan := rehearsal.Plan{Base: tip, Head: head, Strategy: rehearsal.Rebase, Author: me, Committer: me}
	if revision.Bases == 1 && revision.Head == head { // else Git's own merge says what it brings
		plan.Shown = revision.Base
	}
	if by == rehearsal.Merge {
		force, err := s.rulebook.RulesOf(db, repo)
		if err != nil {
			return wire.Change{}, err
		}
		if with := force.Now().For(c.Target).With; len(with) > 0 && !slices.ContainsFunc(with, func(s change.Strategy) bool { return !s.Replays() || !s.Linear() }) {
			return wire.Change{}, problem.New(problem.Conflict, "%s keeps a linear history: changes land on it by "+
				"rebase, which has no use for a merge. Bring %s up by rebase", c.Target, c.Source)
		}
		plan = rehearsal.Plan{Base: head, Head: tip, Strategy: rehearsal.Merge, Author: me, Committer: me,
			Message: fmt.Sprintf("Merge %s into %s\n", c.Target, c.Source)}
	}
	built, err := rehearsal.Build(ctx, s.disk.Bare(repo), plan)
	var conflict *rehearsal.ConflictError
	var nothing rehearsal.NothingError
	var different *rehearsal.DifferentError
	switch {
	case errors.As(err, &conflict):
		return wire.Change{}, problem.New(problem.Conflict, "%s and %s do not go together in %s: update it in a "+
			"clone and resolve the conflict there (git fetch origin && git rebase origin/%s)", c.Source, c.Target, strings.Join(conflict.Files, ", "), c.Target)
	case errors.As(err, &nothing):
		return wire.Change{}, problem.New(problem.Conflict,
			"%s has everything that %s brings already: close the change", c.Target, c.Source)
	case errors.As(err, &different):
		return wire.Change{}, problem.New(problem.Conflict, "%v: update it in a clone, where you see what is kept "+
			"(git fetch origin && git rebase origin/%s), or by a merge (--strategy merge)", err, c.Target)
	case err != nil:
		return wire.Change{}, err
	}
	if err := s.pushFor(ctx, a, repo, transport.Update{Ref: "refs/heads/" + c.Source, Old: head, New: built.Commit},
		nil); err != nil {
		return wire.Change{}, err
	}
	return s.changes.Change(ctx, a, name, number)
}

// pushFor moves a branch to a commit that the service built for the actor, as a push of theirs: judged by the same
// rules, on record in the same way, together with the comments whose suggestions it applies. The repository's lock must
// not be held.
func (s *Intake) pushFor(ctx context.Context, a accounts.Actor, repo *records.Repository, u transport.Update,
	takes []int64) error {
	if err := s.roomy(); err != nil {
		return err
	}
	p := push{s: s, a: a, repo: repo, bare: s.disk.Bare(repo), takes: takes}
	in, err := transport.Local(ctx, p.bare, u)
	if err != nil {
		return err
	}
	results, lines := p.decide(ctx, in)
	if why := results[0].Refused; why != "" {
		return problem.New(problem.Conflict, "%s was not moved: %s. %s", strings.TrimPrefix(u.Ref, "refs/heads/"), why,
			strings.Join(lines, " "))
	}
	return nil
}

// rewritten tells who rewrites a branch whose commits are gone from it by that; nothing when it was all their own.
func (s *Intake) rewritten(ctx context.Context, repo *records.Repository, i *records.Intent) ([]string, error) {
	if i.Old == "" || i.New == "" {
		return nil, nil
	}
	bare := s.disk.Bare(repo)
	forward, err := bare.IsAncestor(ctx, i.Old, i.New)
	if err != nil || forward {
		return nil, err
	}
	ids, err := bare.Between(ctx, i.Old, []string{i.New})
	if err != nil {
		return nil, err
	}
	owners, err := changes.OwnersOfCommits(s.records.Read(ctx), repo.ID, ids)
	if err != nil {
		return nil, err
	}
	owners = slices.DeleteFunc(slices.Compact(slices.Sorted(slices.Values(owners))),
		func(login string) bool { return login == i.Actor })
	if len(owners) == 0 {
		return nil, nil
	}
	branch := strings.TrimPrefix(i.Ref, "refs/heads/")
	return []string{
		fmt.Sprintf("You rewrote %s, which %s had pushed to as well: it stood at %.10s. Tell them; in their clones "+
			"they go on with:", branch, strings.Join(owners, " and "), i.Old),
		fmt.Sprintf("  git fetch origin && git switch %s && git reset --keep origin/%s", branch, branch),
		"If that was not meant, put it back:",
		fmt.Sprintf("  git push --force-with-lease origin %s:refs/heads/%s", i.Old, branch),
	}, nil
}
