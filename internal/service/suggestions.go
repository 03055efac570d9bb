package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"gorm.io/gorm"

	"tavrin/internal/core/carry"
	"tavrin/internal/core/gate"
	"tavrin/internal/git"
	"tavrin/internal/store"
	"tavrin/wire"
)

// maxTaken is how many suggestions are taken in at once.
const maxTaken = 50

// suggestion is one that is about to be taken in: the remark, its thread, and where its lines are now.
type suggestion struct {
	remark store.Remark
	thread store.Thread
	now    wire.Lines
}

// TakeIn takes suggestions in: one commit of the actor's on the source branch, with who suggested them as co-authors. The
// discussions are settled with it.
func (s *Service) TakeIn(ctx context.Context, a Actor, name string, number int, remarks []int64) (wire.Change, error) {
	db := s.store.Read(ctx)
	repo, c, err := s.changeRow(db, a, name, number, gate.Writer)
	if err != nil {
		return wire.Change{}, err
	}
	if err := s.mayEdit(db, a, repo, c, "taking suggestions into"); err != nil {
		return wire.Change{}, err
	}
	switch {
	case c.State != "draft" && c.State != "open":
		return wire.Change{}, problem(Conflict, "change %d is %s; only an open change takes suggestions in", number, c.State)
	case len(remarks) == 0 || len(remarks) > maxTaken:
		return wire.Change{}, invalid("remarks", "name the remarks whose suggestions to take in, at most %d", maxTaken)
	}
	head, err := s.bare(repo).Tip(ctx, "refs/heads/"+c.Source)
	if err != nil {
		return wire.Change{}, problem(Conflict, "the source branch %s is gone", c.Source)
	}
	r, err := revisionRow(db, c)
	if err != nil {
		return wire.Change{}, err
	}
	if head != r.Head {
		return wire.Change{}, problem(Conflict, "%s has just moved; look at the newest revision and say it again", c.Source)
	}
	var all []suggestion
	for _, id := range slices.Compact(slices.Sorted(slices.Values(remarks))) {
		x, err := s.suggested(ctx, repo, c, id)
		if err != nil {
			return wire.Change{}, err
		}
		all = append(all, x)
	}
	files, err := s.replacedFiles(ctx, repo, head, all)
	if err != nil {
		return wire.Change{}, err
	}
	message, err := s.takingMessage(ctx, a, all)
	if err != nil {
		return wire.Change{}, err
	}
	me := git.Signature{Name: a.account.Name, Email: a.account.Email, When: s.now()}
	commit, err := s.bare(repo).CommitFiles(ctx, head, files, me, me, message)
	if err != nil {
		return wire.Change{}, err
	}
	takes := make([]int64, len(all))
	for i, x := range all {
		takes[i] = x.remark.ID
	}
	if err := s.pushFor(ctx, a, repo, git.Update{Ref: "refs/heads/" + c.Source, Old: head, New: commit}, takes); err != nil {
		return wire.Change{}, err
	}
	return s.Change(ctx, a, name, number)
}

// suggested finds a suggestion, and where its lines are in the newest revision.
func (s *Service) suggested(ctx context.Context, repo *store.Repository, c store.Change, id int64) (suggestion, error) {
	db := s.store.Read(ctx)
	var x suggestion
	err := db.Joins("JOIN threads t ON t.id = remarks.thread_id AND t.change_id = ?", c.ID).Where("remarks.id = ?", id).First(&x.remark).Error
	if err != nil {
		return x, orUnknown(err, "change %d has no remark %d: tavrin thread list %d", c.Number, id, c.Number)
	}
	if err := db.First(&x.thread, x.remark.ThreadID).Error; err != nil {
		return x, err
	}
	switch {
	case x.remark.Suggestion == nil:
		return x, problem(Conflict, "remark %d suggests nothing", id)
	case x.remark.TakenAs != "":
		return x, problem(Conflict, "%s took remark %d in already, as %.10s", x.remark.TakenBy, id, x.remark.TakenAs)
	}
	now, _, err := s.carried(ctx, db, repo, c, x.thread)
	if err != nil {
		return x, err
	}
	if now == nil {
		return x, problem(Conflict, "the lines that remark %d is about have changed since; there is nothing to put it in the place of", id)
	}
	x.now = *now
	return x, nil
}

// replacedFiles puts suggestions into the files of a commit.
func (s *Service) replacedFiles(ctx context.Context, repo *store.Repository, head string, all []suggestion) ([]git.Written, error) {
	byPath := map[string][]carry.Replacement{}
	for _, x := range all {
		byPath[x.now.Path] = append(byPath[x.now.Path], carry.Replacement{First: x.now.First, Last: x.now.Last, Text: *x.remark.Suggestion})
	}
	var files []git.Written
	for path, with := range byPath {
		text, more, err := s.bare(repo).File(ctx, head, path, MaxFileBytes)
		if err != nil {
			return nil, err
		}
		if more {
			return nil, problem(Conflict, "%s is too large to be changed here: take the suggestion in by hand", path)
		}
		changed, err := carry.Replace(text, with...)
		if err != nil {
			return nil, problem(Conflict, "the suggestions do not go together in %s: %v; take them in one after the other", path, err)
		}
		files = append(files, git.Written{Path: path, Text: changed})
	}
	slices.SortFunc(files, func(a, b git.Written) int { return strings.Compare(a.Path, b.Path) })
	return files, nil
}

// takingMessage is the message of the commit that takes suggestions in.
func (s *Service) takingMessage(ctx context.Context, a Actor, all []suggestion) (string, error) {
	var by, paths []string
	for _, x := range all {
		if !slices.Contains(by, x.remark.Login) {
			by = append(by, x.remark.Login)
		}
		if !slices.Contains(paths, x.now.Path) {
			paths = append(paths, x.now.Path)
		}
	}
	subject := fmt.Sprintf("Take in what %s suggested for %s", strings.Join(by, " and "), strings.Join(paths, ", "))
	if len(subject) > 72 {
		subject = fmt.Sprintf("Take in what %s suggested", strings.Join(by, " and "))
	}
	message := subject + "\n"
	for _, login := range by {
		account, err := accountByLogin(s.store.Read(ctx), login)
		if err != nil {
			return "", err
		}
		if login == a.Login() {
			continue
		}
		if !strings.Contains(message, "\n\n") {
			message += "\n"
		}
		message += fmt.Sprintf("Co-authored-by: %s <%s>\n", account.Name, account.Email)
	}
	return message, nil
}

// recordTaken records that a push took suggestions in, and settles their discussions.
func (s *Service) recordTaken(tx *tx, repo *store.Repository, i *store.Intent) error {
	by := Actor{account: store.Account{Login: i.Actor}}
	for _, id := range i.Takes {
		var r store.Remark
		var t store.Thread
		var c store.Change
		err := tx.First(&r, id).Error
		if err == nil {
			err = tx.First(&t, r.ThreadID).Error
		}
		if err == nil {
			err = tx.First(&c, t.ChangeID).Error
		}
		if err == nil {
			err = tx.Model(&r).Updates(map[string]any{"taken_as": i.New, "taken_by": i.Actor}).Error
		}
		if err != nil {
			return err
		}
		if t.SettledBy != "" {
			continue
		}
		now := s.now()
		t.SettledBy, t.SettledAt, t.Outcome = i.Actor, &now, fmt.Sprintf("taken in as %.10s", i.New)
		if err := tx.Save(&t).Error; err != nil {
			return err
		}
		if err := s.recordThread(tx, repo, c, t, by, "thread.settled", "settled the discussion on", ": "+t.Outcome); err != nil {
			return err
		}
	}
	return nil
}

// maxGathered is how many remarks somebody may gather before sending them.
const maxGathered = 200

// Gather keeps a remark for a review that is not sent yet: one that begins a discussion, or a reply in one.
func (s *Service) Gather(ctx context.Context, a Actor, name string, number int, thread int64, n NewThread) (wire.Gathered, error) {
	db := s.store.Read(ctx)
	repo, c, err := s.changeRow(db, a, name, number, gate.Reader)
	if err != nil {
		return wire.Gathered{}, err
	}
	row := store.GatheredRemark{ChangeID: c.ID, Login: a.Login(), Text: n.Text, Suggestion: n.Suggest, CreatedAt: s.now()}
	if thread == 0 {
		row.Thread, err = s.newThread(ctx, db, a, repo, c, n)
	} else {
		row.ThreadID = &thread
		var t store.Thread
		err = errors.Join(saying(n.Text, n.Suggest), s.mayReview(db, a, repo, gate.Comment))
		if err == nil {
			err = orUnknown(db.Where("id = ? AND change_id = ?", thread, c.ID).First(&t).Error, "change %d has no discussion %d: tavrin thread list %d", number, thread, number)
		}
		if err == nil {
			err = suggestible(t, n.Suggest)
		}
		err = firstProblem(err)
	}
	if err != nil {
		return wire.Gathered{}, err
	}
	err = s.note(ctx, func(tx *tx) error {
		var many int64
		if err := tx.Model(&row).Where("change_id = ? AND login = ?", c.ID, a.Login()).Count(&many).Error; err != nil {
			return err
		}
		if many >= maxGathered {
			return problem(Conflict, "you have gathered %d remarks on change %d: send them with a review", many, number)
		}
		return tx.Create(&row).Error
	})
	if err != nil {
		return wire.Gathered{}, err
	}
	return gatheredView(s.store.Read(ctx), row)
}

func gatheredView(db *gorm.DB, r store.GatheredRemark) (wire.Gathered, error) {
	v := wire.Gathered{ID: r.ID, Text: r.Text, Suggestion: r.Suggestion, CreatedAt: r.CreatedAt}
	t := r.Thread
	if r.ThreadID != nil {
		v.Thread = *r.ThreadID
		if err := db.First(&t, *r.ThreadID).Error; err != nil {
			return v, err
		}
	}
	v.Where, v.Revision, v.Path, v.FirstLine, v.LastLine, v.Before, v.NeedsAnswer = where(t), t.Revision, t.Path, t.FirstLine, t.LastLine, t.Before, t.NeedsAnswer
	return v, nil
}

// Gathered lists what the actor has gathered on a change and not sent, oldest first. Nobody else sees it.
func (s *Service) Gathered(ctx context.Context, a Actor, name string, number int) ([]wire.Gathered, error) {
	db := s.store.Read(ctx)
	_, c, err := s.changeRow(db, a, name, number, gate.Reader)
	if err != nil {
		return nil, err
	}
	rows, err := unsent(db, c, a)
	out := []wire.Gathered{}
	for _, r := range rows {
		v, err := gatheredView(db, r)
		if err != nil {
			return nil, err
		}
		out = append(out, v)
	}
	return out, err
}

func unsent(db *gorm.DB, c store.Change, a Actor) ([]store.GatheredRemark, error) {
	var rows []store.GatheredRemark
	err := db.Where("change_id = ? AND login = ? AND login <> ''", c.ID, a.Login()).Order("id").Find(&rows).Error
	return rows, err
}

// Ungather throws a gathered remark away.
func (s *Service) Ungather(ctx context.Context, a Actor, name string, number int, id int64) error {
	return s.note(ctx, func(tx *tx) error {
		_, c, err := s.changeRow(tx.DB, a, name, number, gate.Reader)
		if err != nil {
			return err
		}
		done := tx.Where("id = ? AND change_id = ? AND login = ?", id, c.ID, a.Login()).Delete(&store.GatheredRemark{})
		if done.Error == nil && done.RowsAffected == 0 {
			return problem(Unknown, "you have gathered no remark %d on change %d", id, number)
		}
		return done.Error
	})
}

// sendGathered records what the actor has gathered on a change, and says how many remarks that were.
func (s *Service) sendGathered(tx *tx, a Actor, repo *store.Repository, c store.Change) (int, error) {
	rows, err := unsent(tx.DB, c, a)
	if err != nil {
		return 0, err
	}
	for _, r := range rows {
		remark := store.Remark{Text: r.Text, Suggestion: r.Suggestion}
		if r.ThreadID == nil {
			r.Thread.BegunAt = s.now()
			if err := s.saveThread(tx, a, repo, c, &r.Thread, remark); err != nil {
				return 0, err
			}
		} else {
			var t store.Thread
			if err := tx.First(&t, *r.ThreadID).Error; err != nil {
				return 0, err
			}
			if err := s.saveRemark(tx, a, repo, c, t, remark, "thread.replied", "replied on"); err != nil {
				return 0, err
			}
		}
		if err := tx.Delete(&r).Error; err != nil {
			return 0, err
		}
	}
	return len(rows), nil
}
