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

const (
	maxQuoted = 4 << 10
)

// NewThread is what a discussion is begun with.
type NewThread struct {
	Revision int    // 0: the newest
	Commit   string // of a commit of the change
	Path     string // of a file
	Before   bool   // lines are those of the file before the change
	First    int    // counted from 1; 0: the whole file
	Last     int    // 0: First
	Text     string
	NoAnswer bool // it needs no answer, and never blocks
	// Suggest is what the lines should be; nil: nothing is suggested; empty: they should go.
	Suggest *string
}

// where puts into words what a thread is about.
func where(t store.Thread) string {
	text := "the change"
	if t.CommitID != "" {
		text = fmt.Sprintf("commit %.10s", t.CommitID)
	}
	if t.Path != "" {
		text = t.Path
	}
	switch {
	case t.FirstLine > 0 && t.LastLine > t.FirstLine:
		text += fmt.Sprintf(", lines %d to %d", t.FirstLine, t.LastLine)
	case t.FirstLine > 0:
		text += fmt.Sprintf(", line %d", t.FirstLine)
	}
	if t.Before {
		text += " before the change"
	}
	return text
}

// BeginThread begins a discussion. Who has no role of their own may remark, but not ask for an answer that blocks.
func (s *Service) BeginThread(ctx context.Context, a Actor, name string, number int, n NewThread) (wire.Thread, error) {
	db := s.store.Read(ctx)
	repo, c, err := s.changeRow(db, a, name, number, gate.Reader)
	if err != nil {
		return wire.Thread{}, err
	}
	row, err := s.newThread(ctx, db, a, repo, c, n)
	if err != nil {
		return wire.Thread{}, err
	}
	err = s.write(ctx, func(tx *tx) error {
		return s.saveThread(tx, a, repo, c, &row, store.Remark{Text: n.Text, Suggestion: n.Suggest})
	})
	if err != nil {
		return wire.Thread{}, err
	}
	return s.thread(ctx, s.store.Read(ctx), repo, c, row)
}

// newThread works out a discussion that somebody wants to begin.
func (s *Service) newThread(ctx context.Context, db *gorm.DB, a Actor, repo *store.Repository, c store.Change, n NewThread) (store.Thread, error) {
	if err := errors.Join(saying(n.Text, n.Suggest), s.mayReview(db, a, repo, gate.Comment)); err != nil {
		return store.Thread{}, firstProblem(err)
	}
	if n.Revision == 0 {
		n.Revision = c.Revision
	}
	if n.Suggest != nil && (n.First == 0 || n.Before || n.Commit != "") {
		return store.Thread{}, invalid("suggestion", "a suggestion is for lines of a file as the revision has them: say which with path and lines, and without before or commit")
	}
	row := store.Thread{ChangeID: c.ID, Revision: n.Revision, CommitID: n.Commit, Path: n.Path, Before: n.Before, FirstLine: n.First, LastLine: max(n.First, n.Last),
		NeedsAnswer: !n.NoAnswer, BegunBy: a.Login(), BegunAt: s.now()}
	var err error
	if row.Quoted, err = s.threadPlace(ctx, db, repo, c, row, n.Last); err != nil {
		return row, err
	}
	if err := s.mayReview(db, a, repo, gate.Object); err != nil {
		row.NeedsAnswer = false // whoever may not object may not block with a question either
	}
	return row, nil
}

// saveThread records a discussion with its first remark.
func (s *Service) saveThread(tx *tx, a Actor, repo *store.Repository, c store.Change, row *store.Thread, first store.Remark) error {
	var many int64
	if err := tx.Model(&store.Thread{}).Where("change_id = ?", c.ID).Count(&many).Error; err != nil {
		return err
	}
	if many >= s.bounds.ChangeThreads {
		return s.bounds.Reach("change.threads", "change %d has %d discussions", c.Number, many)
	}
	if err := tx.Create(row).Error; err != nil {
		return err
	}
	return s.saveRemark(tx, a, repo, c, *row, first, "thread.begun", "began a discussion on")
}

// saveRemark records what somebody says in a discussion.
func (s *Service) saveRemark(tx *tx, a Actor, repo *store.Repository, c store.Change, t store.Thread, r store.Remark, kind, did string) error {
	var said int64
	if err := tx.Model(&store.Remark{}).Where("thread_id = ?", t.ID).Count(&said).Error; err != nil {
		return err
	}
	if said >= s.bounds.ThreadRemarks {
		return s.bounds.Reach("thread.remarks", "this discussion has %d remarks", said)
	}
	r.ThreadID, r.Login, r.Text, r.CreatedAt = t.ID, a.Login(), Mask(r.Text), s.now()
	if err := tx.Create(&r).Error; err != nil {
		return err
	}
	return s.recordThread(tx, repo, c, t, a, kind, did, "")
}

// saying checks what somebody wants to say: words, or a suggestion, which may speak for itself.
func saying(text string, suggest *string) error {
	if suggest == nil {
		return remarkText(text)
	}
	return errors.Join(prose("suggestion", *suggest, MaxProse), prose("text", text, MaxProse))
}

// LayOut shows how a text will be laid out.
func (s *Service) LayOut(a Actor, text string) (string, error) {
	if !a.Known() {
		return "", problem(SignInNeeded, "sign in to write")
	}
	if err := prose("text", text, MaxProse); err != nil {
		return "", err
	}
	return s.html(text), nil
}

func remarkText(text string) error {
	if strings.TrimSpace(text) == "" {
		return invalid("text", "say what you mean: a remark needs words")
	}
	return prose("text", text, MaxProse)
}

func (s *Service) recordThread(tx *tx, repo *store.Repository, c store.Change, t store.Thread, a Actor, kind, did, more string) error {
	return tx.record(event{actor: a.Login(), kind: kind, repo: repo, subject: fmt.Sprintf("change/%d", c.Number),
		text: fmt.Sprintf("%s %s %s of change %d%s", a.Login(), did, where(t), c.Number, more), data: map[string]any{"number": c.Number, "thread": t.ID}})
}

// threadPlace checks that what a thread is about is there, and returns the lines it is about.
func (s *Service) threadPlace(ctx context.Context, db *gorm.DB, repo *store.Repository, c store.Change, t store.Thread, last int) (string, error) {
	var r store.Revision
	if err := db.Where("change_id = ? AND number = ?", c.ID, t.Revision).First(&r).Error; err != nil {
		return "", orUnknown(err, "change %d has no revision %d; the newest is %d", c.Number, t.Revision, c.Revision)
	}
	bare := s.bare(repo)
	commit := r.Head
	if t.CommitID != "" {
		if !git.IsID(t.CommitID) {
			return "", invalid("commit", "%q is not a commit id: forty hexadecimal digits", t.CommitID)
		}
		if !slices.ContainsFunc(r.Commits, func(k store.BroughtCommit) bool { return k.ID == t.CommitID }) {
			return "", invalid("commit", "revision %d of change %d does not bring commit %.10s", t.Revision, c.Number, t.CommitID)
		}
		commit = t.CommitID
	}
	switch {
	case t.Path == "" && (t.FirstLine != 0 || last != 0 || t.Before):
		return "", invalid("path", "say of which file the lines are")
	case t.Path == "":
		return "", nil
	case t.FirstLine < 0 || last < 0 || (last != 0 && last < t.FirstLine) || (t.FirstLine == 0 && last != 0):
		return "", invalid("line", "lines are counted from 1, and the last is not before the first")
	}
	if t.Before {
		commit = r.Base
	}
	text, _, err := bare.File(ctx, commit, t.Path, MaxFileBytes)
	if errors.Is(err, git.ErrNotFound) {
		return "", invalid("path", "there is no %s at revision %d%s", t.Path, t.Revision, map[bool]string{true: " before the change"}[t.Before])
	}
	if err != nil || t.FirstLine == 0 {
		return "", err
	}
	all := strings.Split(strings.TrimSuffix(text, "\n"), "\n")
	if t.LastLine > len(all) {
		return "", invalid("line", "%s has %d lines at revision %d, so that there is no line %d", t.Path, len(all), t.Revision, t.LastLine)
	}
	quoted := strings.Join(all[t.FirstLine-1:t.LastLine], "\n")
	return strings.ToValidUTF8(quoted[:min(len(quoted), maxQuoted)], "\uFFFD"), nil
}

// Threads lists a change's discussions, oldest first, each with where its lines are now.
func (s *Service) Threads(ctx context.Context, a Actor, name string, number int) ([]wire.Thread, error) {
	db := s.store.Read(ctx)
	repo, c, err := s.changeRow(db, a, name, number, gate.Reader)
	if err != nil {
		return nil, err
	}
	var rows []store.Thread
	if err := db.Where("change_id = ?", c.ID).Order("id").Find(&rows).Error; err != nil {
		return nil, err
	}
	out := []wire.Thread{}
	for _, row := range rows {
		v, err := s.thread(ctx, db, repo, c, row)
		if err != nil {
			return nil, err
		}
		out = append(out, v)
	}
	return out, nil
}

// thread describes a thread as it stands.
func (s *Service) thread(ctx context.Context, db *gorm.DB, repo *store.Repository, c store.Change, t store.Thread) (wire.Thread, error) {
	v := wire.Thread{ID: t.ID, Revision: t.Revision, Commit: t.CommitID, Path: t.Path, Before: t.Before, FirstLine: t.FirstLine, LastLine: t.LastLine, Quoted: t.Quoted, Where: where(t),
		NeedsAnswer: t.NeedsAnswer, BegunBy: t.BegunBy, BegunAt: t.BegunAt, Settled: t.SettledBy != "", SettledBy: t.SettledBy, SettledAt: t.SettledAt, Outcome: t.Outcome, Remarks: []wire.Remark{}}
	var err error
	if t.Path != "" {
		if v.Now, v.Gone, err = s.carried(ctx, db, repo, c, t); err != nil {
			return v, err
		}
	}
	var rows []store.Remark
	if err := db.Where("thread_id = ?", t.ID).Order("id").Find(&rows).Error; err != nil {
		return v, err
	}
	for _, r := range rows {
		remark := wire.Remark{ID: r.ID, By: r.Login, Text: r.Text, HTML: s.html(r.Text), Suggestion: r.Suggestion, TakenAs: r.TakenAs, TakenBy: r.TakenBy, CreatedAt: r.CreatedAt, EditedAt: r.EditedAt}
		if r.EditedAt != nil {
			var earlier []store.RemarkVersion
			if err := db.Where("remark_id = ?", r.ID).Order("until").Find(&earlier).Error; err != nil {
				return v, err
			}
			for _, e := range earlier {
				remark.Earlier = append(remark.Earlier, wire.RemarkVersion{Text: e.Text, Until: e.Until})
			}
		}
		v.Remarks = append(v.Remarks, remark)
	}
	return v, nil
}

// carried says where the lines of a thread are in the newest revision.
func (s *Service) carried(ctx context.Context, db *gorm.DB, repo *store.Repository, c store.Change, t store.Thread) (*wire.Lines, bool, error) {
	var then, now store.Revision
	if err := db.Where("change_id = ? AND number = ?", c.ID, t.Revision).First(&then).Error; err != nil {
		return nil, false, err
	}
	now, err := revisionRow(db, c)
	if err != nil {
		return nil, false, err
	}
	from, to := then.Head, now.Head
	if t.CommitID != "" {
		from = t.CommitID
	}
	if t.Before {
		from, to = then.Base, now.Base
	}
	moved, err := remembered(s, key{"follow", repo.ID, from + to + t.Path}, func(m git.Moved) int { return 1 + len(m.Hunks)/20 }, func() (git.Moved, error) { return s.bare(repo).Follow(ctx, from, to, t.Path) })
	if err != nil || moved.Path == "" {
		return nil, moved.Path == "", err
	}
	if t.FirstLine == 0 {
		return nil, false, nil
	}
	first, last, ok := carry.Through(moved.Hunks, t.FirstLine, t.LastLine)
	if !ok {
		return nil, true, nil
	}
	return &wire.Lines{Path: moved.Path, First: first, Last: last}, false, nil
}

// inThread finds a thread for an actor who speaks in it, and does something to it in one transaction.
func (s *Service) inThread(ctx context.Context, a Actor, name string, number int, id int64, f func(tx *tx, repo *store.Repository, c store.Change, t *store.Thread) error) (wire.Thread, error) {
	var repo *store.Repository
	var c store.Change
	var t store.Thread
	err := s.write(ctx, func(tx *tx) error {
		var err error
		if repo, c, err = s.changeRow(tx.DB, a, name, number, gate.Reader); err != nil {
			return err
		}
		if err := s.mayReview(tx.DB, a, repo, gate.Comment); err != nil {
			return err
		}
		if err := tx.Where("id = ? AND change_id = ?", id, c.ID).First(&t).Error; err != nil {
			return orUnknown(err, "change %d has no discussion %d: tavrin thread list %d", number, id, number)
		}
		return f(tx, repo, c, &t)
	})
	if err != nil {
		return wire.Thread{}, err
	}
	return s.thread(ctx, s.store.Read(ctx), repo, c, t)
}

// Reply says something in a discussion; suggest is what its lines should be, nil for words only.
func (s *Service) Reply(ctx context.Context, a Actor, name string, number int, id int64, text string, suggest *string) (wire.Thread, error) {
	if err := saying(text, suggest); err != nil {
		return wire.Thread{}, firstProblem(err)
	}
	return s.inThread(ctx, a, name, number, id, func(tx *tx, repo *store.Repository, c store.Change, t *store.Thread) error {
		if err := suggestible(*t, suggest); err != nil {
			return err
		}
		return s.saveRemark(tx, a, repo, c, *t, store.Remark{Text: text, Suggestion: suggest}, "thread.replied", "replied on")
	})
}

func suggestible(t store.Thread, suggest *string) error {
	if suggest != nil && (t.FirstLine == 0 || t.Before || t.CommitID != "") {
		return invalid("suggestion", "discussion %d is not about lines that could be replaced", t.ID)
	}
	return nil
}

// Settle settles a discussion, with what came of it, or opens it again. Those who may write may, and whoever began it;
// whether that counts for the gate is the rules' business.
func (s *Service) Settle(ctx context.Context, a Actor, name string, number int, id int64, settled bool, outcome string) (wire.Thread, error) {
	if outcome != "" {
		if err := line("outcome", outcome, 1, 500); err != nil {
			return wire.Thread{}, err
		}
	}
	return s.inThread(ctx, a, name, number, id, func(tx *tx, repo *store.Repository, c store.Change, t *store.Thread) error {
		role, err := roleIn(tx.DB, a.account, repo)
		if err != nil {
			return err
		}
		switch {
		case !role.AtLeast(gate.Writer) && t.BegunBy != a.Login():
			return problem(Forbidden, "a discussion is settled and opened again by those who may write, and by %s, who began it", t.BegunBy)
		case settled && t.SettledBy != "":
			return problem(Conflict, "the discussion was settled by %s already", t.SettledBy)
		case !settled && t.SettledBy == "":
			return problem(Conflict, "the discussion is open")
		}
		now := s.now()
		if settled {
			t.SettledBy, t.SettledAt, t.Outcome = a.Login(), &now, Mask(outcome)
		} else {
			t.SettledBy, t.SettledAt, t.Outcome = "", nil, ""
		}
		if err := tx.Save(t).Error; err != nil {
			return err
		}
		if settled {
			more := ""
			if outcome != "" {
				more = ": " + t.Outcome
			}
			return s.recordThread(tx, repo, c, *t, a, "thread.settled", "settled the discussion on", more)
		}
		return s.recordThread(tx, repo, c, *t, a, "thread.reopened", "opened again the discussion on", "")
	})
}

// EditRemark alters one's own remark; what it said before is kept and shown.
func (s *Service) EditRemark(ctx context.Context, a Actor, name string, number int, id, remark int64, text string) (wire.Thread, error) {
	if err := remarkText(text); err != nil {
		return wire.Thread{}, err
	}
	return s.inThread(ctx, a, name, number, id, func(tx *tx, repo *store.Repository, c store.Change, t *store.Thread) error {
		var r store.Remark
		if err := tx.Where("id = ? AND thread_id = ?", remark, t.ID).First(&r).Error; err != nil {
			return orUnknown(err, "discussion %d has no remark %d", id, remark)
		}
		if r.Login != a.Login() {
			return problem(Forbidden, "the remark is %s's, and only they may alter it", r.Login)
		}
		now := s.now()
		if err := tx.Create(&store.RemarkVersion{RemarkID: r.ID, Text: r.Text, Until: now}).Error; err != nil {
			return err
		}
		if err := tx.Model(&r).Updates(map[string]any{"text": Mask(text), "edited_at": now}).Error; err != nil {
			return err
		}
		return s.recordThread(tx, repo, c, *t, a, "thread.edited", "altered a remark on", "")
	})
}

// gateThreads gives the gate the discussions that need an answer.
func gateThreads(db *gorm.DB, c store.Change) ([]gate.Thread, error) {
	var rows []store.Thread
	err := db.Where("change_id = ? AND needs_answer", c.ID).Order("id").Find(&rows).Error
	var out []gate.Thread
	for _, t := range rows {
		out = append(out, gate.Thread{ID: t.ID, By: t.BegunBy, Where: where(t), SettledBy: t.SettledBy})
	}
	return out, err
}
