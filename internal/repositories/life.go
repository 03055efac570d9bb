package repositories

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"

	"gorm.io/gorm"

	"tavrin/internal/accounts"
	"tavrin/internal/core/event"
	"tavrin/internal/core/people"
	"tavrin/internal/git"
	"tavrin/internal/problem"
	"tavrin/internal/records"
	"tavrin/internal/typed"
	"tavrin/wire"
)

// EditRepository changes something of a repository itself. Its maintainers may; its name and who may read it are for those
// who may make repositories in its house.
func (s *Repositories) EditRepository(ctx context.Context, a accounts.Actor, name string, e wire.RepositoryEdit) (wire.Repository, error) {
	repo, err := accounts.Reach(s.records.Read(ctx), a, name, people.Maintainer)
	if err != nil {
		return wire.Repository{}, err
	}
	if e == (wire.RepositoryEdit{}) {
		return wire.Repository{}, problem.New(problem.Invalid, "say what is to be changed: name, description, default_branch, public "+
			"or read_only")
	}
	release, err := s.still(ctx, repo)
	if err != nil {
		return wire.Repository{}, err
	}
	defer release()
	bare := s.disk.Bare(repo)
	if e.DefaultBranch != nil {
		if err := git.CheckBranch(*e.DefaultBranch); err != nil {
			return wire.Repository{}, problem.Wrong("default_branch", "%v", err)
		}
		heads, err := bare.Refs(ctx, "refs/heads/")
		if err != nil {
			return wire.Repository{}, err
		}
		if len(heads) > 0 && !bare.HasBranch(*e.DefaultBranch) {
			return wire.Repository{}, s.disk.NoBranch(ctx, repo, "default_branch", *e.DefaultBranch)
		}
	}
	err = s.records.Write(ctx, func(tx *records.Tx) error {
		repo, err := accounts.Reach(tx.DB, a, name, people.Maintainer)
		if err != nil {
			return err
		}
		if e.Name != nil || e.Public != nil {
			if err := s.mustBuildIn(tx.DB, a, repo); err != nil {
				return err
			}
		}
		was := *repo
		edits, err := edited(repo, e)
		if err != nil {
			return err
		}
		if len(edits) > 0 {
			if err := tx.Record(a.Login(), &was, event.RepositoryEdited{Name: was.Name, Edits: edits}); err != nil {
				return err
			}
		}
		if e.Name != nil && *e.Name != was.Name {
			if err := rename(tx, a, &was, *e.Name); err != nil {
				return err
			}
			repo.Name = *e.Name
		}
		return tx.Model(repo).Select("name", "description", "default_branch", "public", "read_only").Updates(repo).Error
	})
	if err != nil {
		return wire.Repository{}, err
	}
	if e.DefaultBranch != nil { // what a clone checks out; it follows the record, at the latest when things are tidied
		if err := bare.PointHead(ctx, *e.DefaultBranch); err != nil {
			s.log.Error("a repository's HEAD does not point at its default branch yet", "repository", name, "error", err)
		}
	}
	if e.Name != nil {
		name = *e.Name
	}
	return s.Repository(ctx, a, name)
}

// still holds a repository in which nothing is landing or pushed, with nothing left open: what was begun is on record under the
// name that it had, before it has another or nothing may be written. One that is stopped has what it has.
func (s *Repositories) still(ctx context.Context, repo *records.Repository) (release func(), err error) {
	release = s.moves.Hold(repo.ID)
	if repo.Trouble == "" {
		if err := s.moves.SettleOpen(context.WithoutCancel(ctx), repo); err != nil {
			release()
			return nil, fmt.Errorf("settle what is open in %s: %w", repo.Name, err)
		}
	}
	return release, nil
}

// edited puts an edit into a row, but for the name, and says in words what is another than it was.
func edited(repo *records.Repository, e wire.RepositoryEdit) (edits []string, err error) {
	if e.Description != nil && *e.Description != repo.Description {
		if err := typed.Line("description", *e.Description, 0, 300); err != nil {
			return nil, err
		}
		repo.Description = typed.Mask(*e.Description)
		edits = append(edits, "its description is another")
	}
	if e.DefaultBranch != nil && *e.DefaultBranch != repo.DefaultBranch {
		repo.DefaultBranch = *e.DefaultBranch
		edits = append(edits, "its default branch is "+repo.DefaultBranch)
	}
	if e.Public != nil && *e.Public != repo.Public {
		repo.Public = *e.Public
		edits = append(edits, map[bool]string{true: "everybody may read it", false: "only those with a role may read it"}[repo.Public])
	}
	if e.ReadOnly != nil && *e.ReadOnly != repo.ReadOnly {
		if err := typed.Line("read_only", *e.ReadOnly, 0, 300); err != nil {
			return nil, err
		}
		if repo.ReadOnly = typed.Mask(*e.ReadOnly); repo.ReadOnly == "" {
			edits = append(edits, "it may be written to again")
		} else {
			edits = append(edits, "it is read-only: "+repo.ReadOnly)
		}
	}
	return edits, nil
}

// rename gives a repository another name in its house. The one before goes on leading to it.
func rename(tx *records.Tx, a accounts.Actor, repo *records.Repository, name string) error {
	if err := validName(name); err != nil {
		return err
	}
	house, _, _ := strings.Cut(name, "/")
	if was, _, _ := strings.Cut(repo.Name, "/"); was != house {
		return problem.Wrong("name", "%s stays in its house, whose rules lie under its own: %s/NAME", repo.Name, was)
	}
	var taken int64
	if err := tx.Model(&records.Repository{}).Where("name = ?", name).Count(&taken).Error; err != nil {
		return err
	}
	if taken > 0 {
		return problem.New(problem.Conflict, "there is a repository %s already", name)
	}
	if err := tx.Where("name = ?", name).Delete(&records.FormerName{}).Error; err != nil {
		return err
	}
	if err := tx.Create(&records.FormerName{Name: repo.Name, RepositoryID: repo.ID}).Error; err != nil {
		return err
	}
	return tx.Record(a.Login(), repo, event.RepositoryRenamed{Was: repo.Name, Name: name})
}

func (s *Repositories) mustBuildIn(db *gorm.DB, a accounts.Actor, repo *records.Repository) error {
	var house records.House
	if err := db.First(&house, repo.HouseID).Error; err != nil {
		return err
	}
	return mustBuild(db, a, house)
}

// DeleteRepository takes a repository away: nobody sees it any more, and for a while it can be restored as it was.
func (s *Repositories) DeleteRepository(ctx context.Context, a accounts.Actor, name string, d wire.RepositoryDeletion) (wire.Deleted, error) {
	if d.Confirm != name {
		return wire.Deleted{}, problem.Wrong("confirm", "to delete %s, say its name once more: not %q", name, d.Confirm)
	}
	if err := typed.Line("reason", d.Reason, 3, 500); err != nil {
		return wire.Deleted{}, problem.Wrong("reason", "say why it is deleted, in one line of 3 to 500 characters")
	}
	repo, err := accounts.Reach(s.records.Read(ctx), a, name, people.Maintainer)
	if err != nil {
		return wire.Deleted{}, err
	}
	release, err := s.still(ctx, repo)
	if err != nil {
		return wire.Deleted{}, err
	}
	defer release()
	var out wire.Deleted
	err = s.records.Write(ctx, func(tx *records.Tx) error {
		repo, err := accounts.Reach(tx.DB, a, name, people.Maintainer)
		if err == nil {
			err = s.mustBuildIn(tx.DB, a, repo)
		}
		if err != nil {
			return err
		}
		now := s.records.Now()
		if err := tx.Record(a.Login(), repo, event.RepositoryDeleted{Name: repo.Name, Reason: d.Reason, Until: now.Add(accounts.Grace)}); err != nil {
			return err
		}
		repo.DeletedBy, repo.DeletedAt = a.Login(), &now
		if out, err = deletedView(tx.DB, *repo); err != nil {
			return err
		}
		return tx.Model(repo).Select("deleted_by", "deleted_at").Updates(repo).Error
	})
	return out, err
}

func deletedView(db *gorm.DB, repo records.Repository) (wire.Deleted, error) {
	var open int64
	err := db.Model(&records.Change{}).Where("repository_id = ? AND state IN ('open', 'draft')", repo.ID).Count(&open).Error
	return wire.Deleted{Name: repo.Name, DeletedBy: repo.DeletedBy, DeletedAt: *repo.DeletedAt, Until: repo.DeletedAt.Add(accounts.Grace),
		OpenChanges: int(open)}, err
}

// Deleted lists the deleted repositories that the actor may restore.
func (s *Repositories) Deleted(ctx context.Context, a accounts.Actor) ([]wire.Deleted, error) {
	snap := s.records.View(ctx)
	defer snap.Close()
	if !a.Known() {
		return nil, problem.New(problem.SignInNeeded, "sign in to see what is deleted")
	}
	var rows []records.Repository
	if err := snap.Where("deleted_at IS NOT NULL AND NOT purged").Order("name").Find(&rows).Error; err != nil {
		return nil, err
	}
	out := []wire.Deleted{}
	for _, repo := range rows {
		err := s.mustBuildIn(snap.DB, a, &repo)
		if _, not := errors.AsType[*problem.Problem](err); not {
			continue
		}
		if err != nil {
			return nil, err
		}
		view, err := deletedView(snap.DB, repo)
		if err != nil {
			return nil, err
		}
		out = append(out, view)
	}
	return out, nil
}

// RestoreRepository brings a deleted repository back as it was.
func (s *Repositories) RestoreRepository(ctx context.Context, a accounts.Actor, name string) (wire.Repository, error) {
	err := s.records.Write(ctx, func(tx *records.Tx) error {
		unknown := problem.New(problem.Unknown, "there is no deleted repository %s that you may restore: tavrin repo deleted", name)
		if !a.Known() {
			return problem.New(problem.SignInNeeded, "sign in to restore a repository")
		}
		var repo records.Repository
		if err := tx.Where("name = ? AND deleted_at IS NOT NULL AND NOT purged", name).First(&repo).Error; err != nil {
			return records.OrElse(err, unknown)
		}
		err := s.mustBuildIn(tx.DB, a, &repo)
		if _, not := errors.AsType[*problem.Problem](err); not {
			return unknown
		}
		if err != nil {
			return err
		}
		if err := tx.Record(a.Login(), &repo, event.RepositoryRestored{Name: repo.Name}); err != nil {
			return err
		}
		return tx.Model(&repo).Updates(map[string]any{"deleted_by": "", "deleted_at": nil}).Error
	})
	if err != nil {
		return wire.Repository{}, err
	}
	s.moves.Nudge()
	return s.Repository(ctx, a, name)
}

// purge removes what Git has of repositories whose time to be restored is over. Their records stay, since the journal tells
// of them, under a name that nobody can give; the name that they had is free. It is on record first: a folder that a kill
// left is removed the next time.
func (s *Repositories) purge(ctx context.Context) error {
	var over []records.Repository
	if err := s.records.Read(ctx).Where("deleted_at < ? AND NOT purged", s.records.Now().Add(-accounts.Grace)).Find(&over).Error; err != nil {
		return err
	}
	for i := range over {
		repo := &over[i]
		house, _, _ := strings.Cut(repo.Name, "/")
		kept := fmt.Sprintf("%s/~%d", house, repo.ID)
		err := s.records.Write(ctx, func(tx *records.Tx) error {
			if err := tx.Record(records.Itself, repo, event.RepositoryPurged{Name: repo.Name, Kept: kept}); err != nil {
				return err
			}
			if err := tx.Where("repository_id = ?", repo.ID).Delete(&records.FormerName{}).Error; err != nil {
				return err
			}
			return tx.Model(repo).Updates(map[string]any{"name": kept, "purged": true}).Error
		})
		if err != nil {
			return err
		}
		s.log.Info("a deleted repository is gone for good", "repository", repo.Name, "kept_as", kept)
	}
	var gone []int64
	if err := s.records.Read(ctx).Model(&records.Repository{}).Where("purged").Pluck("id", &gone).Error; err != nil {
		return err
	}
	for _, id := range gone {
		if err := os.RemoveAll(s.disk.Path(id)); err != nil {
			return err
		}
	}
	return nil
}
