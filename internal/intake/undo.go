package intake

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"tavrin/internal/accounts"
	"tavrin/internal/core/people"
	"tavrin/internal/facts"
	"tavrin/internal/git"
	"tavrin/internal/git/rehearsal"
	"tavrin/internal/git/transport"
	"tavrin/internal/problem"
	"tavrin/internal/records"
	"tavrin/internal/typed"
	"tavrin/wire"
)

// mostUndone is how many branches to undo one landing there may be.
const mostUndone = 20

// Undo prepares a change that takes back what another landed: a branch of the actor's with one commit on the target as it is
// now, and a change from it, which goes through the same gate as every other.
func (s *Intake) Undo(ctx context.Context, a accounts.Actor, name string, number int, reason string) (wire.Change, error) {
	if err := typed.Line("reason", reason, 1, typed.MaxTitle); err != nil {
		return wire.Change{}, err
	}
	db := s.records.Read(ctx)
	repo, c, err := facts.ChangeRow(db, a, name, number, people.Writer)
	if err != nil {
		return wire.Change{}, err
	}
	if c.State != "landed" {
		return wire.Change{}, problem.New(problem.Conflict, "change %d is %s, so there is nothing to undo: tavrin change close %d gives it up", number, c.State, number)
	}
	var landing records.Landing
	if err := s.records.Read(ctx).Where("change_id = ?", c.ID).Order("id DESC").First(&landing).Error; err != nil {
		return wire.Change{}, err
	}
	bare := s.disk.Bare(repo)
	tip, err := bare.At("refs/heads/" + c.Target)
	if err != nil {
		return wire.Change{}, err
	}
	if tip == "" {
		return wire.Change{}, problem.New(problem.Conflict, "the branch %s is gone", c.Target)
	}
	branch, err := s.undoBranch(bare, number)
	if err != nil {
		return wire.Change{}, err
	}
	title := fmt.Sprintf("Undo change %d: %s", number, c.Title)
	if r := []rune(title); len(r) > typed.MaxTitle {
		title = string(r[:typed.MaxTitle-1]) + "…"
	}
	why := fmt.Sprintf("This takes back what change %d landed on %s as %.10s: %s", number, c.Target, landing.New, reason)
	me := git.Signature{Name: a.Account().Name, Email: a.Account().Email, When: s.records.Now()}
	built, err := rehearsal.Undo(ctx, bare, rehearsal.UndoPlan{Old: landing.Old, New: landing.New, Onto: tip, Author: me, Message: title + "\n\n" + why + "\n"})
	var conflict *rehearsal.ConflictError
	switch {
	case errors.As(err, &conflict):
		return wire.Change{}, problem.New(problem.Conflict, "what change %d landed was changed since in %s: take it back in a clone, and propose that (git revert -n %.10s..%.10s)",
			number, strings.Join(conflict.Files, ", "), landing.Old, landing.New)
	case errors.As(err, new(rehearsal.NothingError)):
		return wire.Change{}, problem.New(problem.Conflict, "nothing is left on %s of what change %d landed", c.Target, number)
	case err != nil:
		return wire.Change{}, err
	}
	if err := s.pushFor(ctx, a, repo, transport.Update{Ref: "refs/heads/" + branch, New: built.Commit}, nil); err != nil {
		return wire.Change{}, err
	}
	return s.changes.OpenUndo(ctx, a, name, wire.NewChange{Source: branch, Target: c.Target, Title: title, Description: &why}, number, built.Commit)
}

// undoBranch is a name that is free.
func (s *Intake) undoBranch(bare *git.Repo, number int) (string, error) {
	for n := range mostUndone {
		branch := fmt.Sprintf("undo-%d", number)
		if n > 0 {
			branch += fmt.Sprintf("-%d", n+1)
		}
		if at, err := bare.At("refs/heads/" + branch); err != nil || at == "" {
			return branch, err
		}
	}
	return "", problem.New(problem.Conflict, "there are %d branches to undo change %d already: delete those that are of no use", mostUndone, number)
}
