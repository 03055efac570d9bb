package service

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"gorm.io/gorm"

	"tavrin/internal/core/gate"
	"tavrin/internal/store"
	"tavrin/wire"
)

// An intent that is open says that a ref was about to move and nobody wrote down what came of it: the process was killed,
// the disk was full, git was killed after it had moved the ref. The ref says what happened. Every writer of a repository
// settles what is open before it does anything else, and so does every round of its queue.

// writing takes the repository's lock for a writer, with nothing left open by the one before.
func (s *Service) writing(ctx context.Context, repo *store.Repository) (unlock func(), err error) {
	lock := s.repoLock(repo.ID)
	lock.Lock()
	if err := s.store.Read(ctx).First(repo, repo.ID).Error; err != nil {
		lock.Unlock()
		return nil, err
	}
	if repo.Trouble != "" {
		err = apart(repo)
	} else if err = s.settleOpen(context.WithoutCancel(ctx), repo); err != nil {
		s.log.Error("what is open could not be settled", "repository", repo.Name, "error", err)
		err = problem(Unavailable, "the service has trouble with %s: something was begun and could not be finished yet. It tries again by itself; try again in a minute", repo.Name)
	}
	if err != nil {
		lock.Unlock()
		return nil, err
	}
	return lock.Unlock, nil
}

// apart refuses what would write to a repository that is set apart.
func apart(repo *store.Repository) error {
	return problem(Unavailable, "%s is set apart and only to be read: %s. An administrator has to look: tavrin repo settle %s", repo.Name, repo.Trouble, repo.Name)
}

// settleOpen settles the open intents of a repository. Its lock is held.
func (s *Service) settleOpen(ctx context.Context, repo *store.Repository) error {
	var open []store.Intent
	if err := s.store.Read(ctx).Where("repository_id = ? AND outcome = ''", repo.ID).Order("id").Find(&open).Error; err != nil {
		return err
	}
	for i := range open {
		if err := s.settle(ctx, repo, &open[i]); err != nil {
			return fmt.Errorf("intent %d of %s: %w", open[i].ID, repo.Name, err)
		}
	}
	return nil
}

// hasMoved says whether a ref was moved as intended: it is there, or what it points at came after that.
func (s *Service) hasMoved(ctx context.Context, repo *store.Repository, ref, old, new string) (moved bool, at string, err error) {
	bare := s.bare(repo)
	if at, err = bare.At(ref); err != nil || at == new {
		return err == nil, at, err
	}
	if at == "" || new == "" || at == old || !strings.HasPrefix(ref, "refs/heads/") {
		return false, at, nil
	}
	moved, err = bare.IsAncestor(ctx, new, at)
	return moved, at, err
}

// settle settles one open intent: the ref says whether the move was made.
func (s *Service) settle(ctx context.Context, repo *store.Repository, i *store.Intent) error {
	made, tip, err := s.hasMoved(ctx, repo, i.Ref, i.Old, i.New)
	if err != nil {
		return err
	}
	s.log.Warn("an open intent was found", "repository", repo.Name, "ref", i.Ref, "kind", i.Kind, "made", made)
	switch {
	case i.Kind == "landing" && made:
		removal, err := s.finishLanding(ctx, repo, i)
		if err == nil && removal != nil {
			err = s.finishRemoval(ctx, repo, removal)
		}
		return err
	case i.Kind == "landing" && tip == i.Old:
		return s.dropLanding(ctx, repo, i, errors.New("it ended before the branch moved"))
	case i.Kind == "landing":
		return s.loseLanding(ctx, repo, i, tip)
	case made:
		_, err := s.finishPush(ctx, repo, i)
		return err
	case i.EntryID != nil:
		return s.finishRemoval(ctx, repo, i)
	default:
		return s.closeIntent(ctx, i, "dropped")
	}
}

// settleAll brings branches and records into agreement at the start, before anything else happens. A repository in which
// that does not work is set apart, loudly; everything else goes on.
func (s *Service) settleAll(ctx context.Context) error {
	left, err := filepath.Glob(filepath.Join(s.dir, "repositories", "new-*"))
	if err != nil {
		return err
	}
	for _, dir := range left {
		if err := os.RemoveAll(dir); err != nil {
			return err
		}
	}
	var repos []store.Repository
	if err := s.store.Read(ctx).Find(&repos).Error; err != nil {
		return err
	}
	for i := range repos {
		if err := s.settleOne(ctx, &repos[i]); err != nil {
			return err
		}
	}
	return nil
}

// settleOne tidies one repository and settles what is open in it, or sets it apart. The error is of the records alone.
func (s *Service) settleOne(ctx context.Context, repo *store.Repository) error {
	was := repo.Trouble
	repo.Trouble = ""
	trouble := s.bare(repo).Tidy()
	if trouble == nil {
		trouble = s.settleOpen(ctx, repo)
	}
	if trouble == nil && was == "" {
		return nil
	}
	return s.write(ctx, func(tx *tx) error {
		if trouble == nil {
			return s.joinAgain(tx, repo, itself)
		}
		s.log.Error("A REPOSITORY IS SET APART: it is only read until an administrator has looked", "repository", repo.Name, "error", trouble, "next", "tavrin repo settle "+repo.Name)
		now := s.now()
		repo.Trouble, repo.TroubleSince = shortened(trouble.Error()), &now
		if err := tx.Model(repo).Updates(map[string]any{"trouble": repo.Trouble, "trouble_since": now}).Error; err != nil || was == repo.Trouble {
			return err
		}
		return tx.record(event{actor: itself, kind: "repository.set-apart", repo: repo, subject: "repository/" + repo.Name,
			text: fmt.Sprintf("%s was set apart and is only to be read: %s", repo.Name, repo.Trouble)})
	})
}

// joinAgain ends a repository's being set apart.
func (s *Service) joinAgain(tx *tx, repo *store.Repository, by string) error {
	repo.Trouble, repo.TroubleSince = "", nil
	if err := tx.Model(repo).Updates(map[string]any{"trouble": "", "trouble_since": nil}).Error; err != nil {
		return err
	}
	return tx.record(event{actor: by, kind: "repository.settled", repo: repo, subject: "repository/" + repo.Name, text: fmt.Sprintf("%s is settled and goes on", repo.Name)})
}

// shortened cuts a text to what fits into a sentence.
func shortened(text string) string {
	text = strings.Join(strings.Fields(strings.ToValidUTF8(text, "\uFFFD")), " ")
	if runes := []rune(text); len(runes) > 300 {
		return string(runes[:300]) + "…"
	}
	return text
}

// SettleRepository tries once more to settle a repository that was set apart.
func (s *Service) SettleRepository(ctx context.Context, a Actor, name string) (wire.Repository, error) {
	if err := a.mustAdminister("settling a repository"); err != nil {
		return wire.Repository{}, err
	}
	repo, err := s.reach(s.store.Read(ctx), a, name, gate.Reader)
	if err != nil {
		return wire.Repository{}, err
	}
	lock := s.repoLock(repo.ID)
	lock.Lock()
	defer lock.Unlock()
	if err := s.store.Read(ctx).First(repo, repo.ID).Error; err != nil {
		return wire.Repository{}, err
	}
	if repo.Trouble == "" {
		return wire.Repository{}, problem(Conflict, "%s is not set apart: there is nothing to settle", name)
	}
	if err := s.settleOne(context.WithoutCancel(ctx), repo); err != nil {
		return wire.Repository{}, err
	}
	if repo.Trouble != "" {
		return wire.Repository{}, problem(Conflict, "%s cannot be settled yet: %s. The service's log says more; see docs/guide/09-keep-the-service.md", name, repo.Trouble)
	}
	s.nudge()
	return s.repositoryView(ctx, a, repo)
}

// gateReviews gives the gate the standing reviews, each with whether the difference is still the one reviewed: as the newest
// revision was compared with the reviewed one and, where there is a rehearsal, as both were brought to its base.
func gateReviews(db *gorm.DB, c store.Change, newest store.Revision, rehearsal *store.Rehearsal) ([]gate.Review, error) {
	standing, err := standingReviews(db, c)
	if err != nil {
		return nil, err
	}
	if len(standing) == 0 {
		return []gate.Review{}, nil
	}
	var disabled []string
	if err := db.Model(&store.Account{}).Where("disabled AND login IN (SELECT login FROM reviews WHERE change_id = ?)", c.ID).Pluck("login", &disabled).Error; err != nil {
		return nil, err
	}
	out := []gate.Review{}
	for _, r := range standing {
		review := gate.Review{By: r.Login, Verdict: gate.Verdict(r.Verdict), Revision: r.Revision, Title: r.Title, Description: r.Description, Teams: r.Teams, Disabled: slices.Contains(disabled, r.Login),
			SameDifference: r.Revision == newest.Number || slices.Contains(newest.SameAs, r.Revision)}
		if rehearsal != nil && review.Verdict == gate.Approve && r.Revision != newest.Number { // an objection is not lost by this
			review.SameDifference = review.SameDifference && slices.Contains(rehearsal.SameAs, r.Revision)
		}
		if review.SameDifference && r.Revision != newest.Number && len(newest.History.Hidden) > 0 {
			var then store.Revision
			if err := db.Where("change_id = ? AND number = ?", c.ID, r.Revision).First(&then).Error; err != nil {
				return nil, err
			}
			for _, path := range newest.History.Hidden {
				if !slices.Contains(then.History.Hidden, path) && !slices.Contains(then.Paths, path) {
					review.Hidden = append(review.Hidden, path)
				}
			}
		}
		out = append(out, review)
	}
	return out, nil
}

// sameOn lists the earlier revisions with a standing review that bring the same to a commit as the newest does.
func (s *Service) sameOn(ctx context.Context, repo *store.Repository, g *gathered, base string) ([]int, error) {
	same := []int{}
	for _, r := range g.facts.Reviews {
		if r.Revision == g.revision.Number || slices.Contains(same, r.Revision) || !slices.Contains(g.revision.SameAs, r.Revision) {
			continue
		}
		var then store.Revision
		if err := s.store.Read(ctx).Where("change_id = ? AND number = ?", g.change.ID, r.Revision).First(&then).Error; err != nil {
			return nil, err
		}
		if ok, err := s.bare(repo).Same(ctx, shownBy(then), shownBy(g.revision), base); err != nil {
			return nil, err
		} else if ok {
			same = append(same, r.Revision)
		}
	}
	return same, nil
}
