package changes

import (
	"context"
	"errors"
	"strings"

	"gorm.io/gorm"

	"tavrin/internal/accounts"
	"tavrin/internal/core/carry"
	"tavrin/internal/core/change"
	"tavrin/internal/core/event"
	"tavrin/internal/core/people"
	"tavrin/internal/facts"
	"tavrin/internal/git"
	"tavrin/internal/hosted"
	"tavrin/internal/problem"
	"tavrin/internal/recall"
	"tavrin/internal/records"
	"tavrin/internal/typed"
	"tavrin/wire"
)

const (
	maxQuoted = 4 << 10
)

// BeginThread begins a discussion. Who has no role of their own may comment, but not ask for an answer that blocks.
func (s *Threads) BeginThread(ctx context.Context, a accounts.Actor, name string, number int,
	n wire.NewThread) (wire.Thread, error) {
	db := s.records.Read(ctx)
	repo, c, err := facts.ChangeRow(db, a, name, number, people.Reader)
	if err != nil {
		return wire.Thread{}, err
	}
	row, err := s.newThread(ctx, db, a, repo, c, n)
	if err != nil {
		return wire.Thread{}, err
	}
	err = s.records.Write(ctx, func(tx *records.Tx) error {
		return s.saveThread(tx, a, repo, c, &row, records.Comment{Text: n.Text, Suggestion: n.Suggestion})
	})
	if err != nil {
		return wire.Thread{}, err
	}
	return s.thread(ctx, s.records.Read(ctx), repo, c, row)
}

// newThread works out a discussion that somebody wants to begin.
func (s *Threads) newThread(ctx context.Context, db *gorm.DB, a accounts.Actor, repo *records.Repository,
	c records.Change, n wire.NewThread) (records.Thread, error) {
	if err := errors.Join(saying(n.Text, n.Suggestion), facts.MayReview(db, a, repo, change.Comment)); err != nil {
		return records.Thread{}, problem.First(err)
	}
	if n.Revision == 0 {
		n.Revision = c.Revision
	}
	if n.Suggestion != nil && (n.First == 0 || n.Before || n.Commit != "") {
		return records.Thread{}, problem.Wrong("suggestion", "a suggestion is for lines of a file as the revision "+
			"has them: say which with path and lines, and without before or commit")
	}
	row := records.Thread{ChangeID: c.ID, Revision: n.Revision, CommitID: n.Commit, Path: n.Path, Before: n.Before,
		FirstLine: n.First, LastLine: max(n.First, n.Last),
		NeedsAnswer: !n.NoAnswer, BegunBy: a.Login(), BegunAt: s.records.Now()}
	var err error
	if row.Quoted, err = s.threadPlace(ctx, db, repo, c, &row, n.Last); err != nil {
		return row, err
	}
	if err := facts.MayReview(db, a, repo, change.Object); err != nil {
		row.NeedsAnswer = false // whoever may not object may not block with a question either
	}
	return row, nil
}

// saveThread records a discussion with its first comment.
func (s *Threads) saveThread(tx *records.Tx, a accounts.Actor, repo *records.Repository, c records.Change,
	row *records.Thread, first records.Comment) error {
	var many int64
	if err := tx.Model(&records.Thread{}).Where("change_id = ?", c.ID).Count(&many).Error; err != nil {
		return err
	}
	if many >= s.bounds.ChangeThreads {
		return s.bounds.Reach("change.threads", "change %d has %d discussions", c.Number, many)
	}
	if err := tx.Create(row).Error; err != nil {
		return err
	}
	if err := s.saveComment(tx, a, *row, first); err != nil {
		return err
	}
	return tx.Record(a.Login(), repo, event.ThreadBegun{OfThread: ofThread(c, *row)})
}

// saveComment records what somebody says in a discussion.
func (s *Threads) saveComment(tx *records.Tx, a accounts.Actor, t records.Thread, r records.Comment) error {
	var said int64
	if err := tx.Model(&records.Comment{}).Where("thread_id = ?", t.ID).Count(&said).Error; err != nil {
		return err
	}
	if said >= s.bounds.ThreadComments {
		return s.bounds.Reach("thread.comments", "this discussion has %d comments", said)
	}
	r.ThreadID, r.Login, r.Text, r.CreatedAt = t.ID, a.Login(), typed.Mask(r.Text), s.records.Now()
	return tx.Create(&r).Error
}

// saying checks what somebody wants to say: words, or a suggestion, which may speak for itself.
func saying(text string, suggest *string) error {
	if suggest == nil {
		return commentText(text)
	}
	return errors.Join(typed.Prose("suggestion", *suggest, typed.MaxProse), typed.Prose("text", text, typed.MaxProse))
}

// LayOut shows how a text will be laid out.
func (s *Threads) LayOut(a accounts.Actor, text string) (string, error) {
	if !a.Known() {
		return "", problem.New(problem.SignInNeeded, "sign in to write")
	}
	if err := typed.Prose("text", text, typed.MaxProse); err != nil {
		return "", err
	}
	return s.html(text), nil
}

func commentText(text string) error {
	if strings.TrimSpace(text) == "" {
		return problem.Wrong("text", "a comment needs words")
	}
	return typed.Prose("text", text, typed.MaxProse)
}

// ofThread is what every event of a discussion tells.
func ofThread(c records.Change, t records.Thread) event.OfThread {
	return event.OfThread{OfChange: event.OfChange{Number: c.Number}, Thread: t.ID, Where: facts.Where(t)}
}

// threadPlace checks that what a thread is about is there, and returns the lines it is about. A commit that is named by the
// beginning of its id gets the whole.
func (s *Threads) threadPlace(ctx context.Context, db *gorm.DB, repo *records.Repository, c records.Change,
	t *records.Thread, last int) (string, error) {
	var r records.Revision
	if err := db.Where("change_id = ? AND number = ?", c.ID, t.Revision).First(&r).Error; err != nil {
		return "", records.OrUnknown(err, "change %d has no revision %d; the newest is %d", c.Number, t.Revision,
			c.Revision)
	}
	bare := s.disk.Bare(repo)
	commit := r.Head
	if t.CommitID != "" {
		var err error
		if t.CommitID, err = facts.BroughtBy(c, r, t.CommitID); err != nil {
			return "", err
		}
		commit = t.CommitID
	}
	switch {
	case t.Path == "" && (t.FirstLine != 0 || last != 0 || t.Before):
		return "", problem.Wrong("path", "say of which file the lines are")
	case t.Path == "":
		return "", nil
	case t.FirstLine < 0 || last < 0 || (last != 0 && last < t.FirstLine) || (t.FirstLine == 0 && last != 0):
		return "", problem.Wrong("line", "lines are counted from 1, and the last is not before the first")
	}
	if t.Before {
		commit = r.Base
	}
	text, _, err := bare.File(ctx, commit, t.Path, hosted.MaxFileBytes)
	if errors.Is(err, git.ErrNotFound) {
		before := ""
		if t.Before {
			before = " before the change"
		}
		return "", problem.Wrong("path", "there is no %s at revision %d%s", t.Path, t.Revision, before)
	}
	if err != nil || t.FirstLine == 0 {
		return "", err
	}
	all := strings.Split(strings.TrimSuffix(text, "\n"), "\n")
	if t.LastLine > len(all) {
		return "", problem.Wrong("line", "%s has %d lines at revision %d, so that there is no line %d", t.Path,
			len(all), t.Revision, t.LastLine)
	}
	quoted := strings.Join(all[t.FirstLine-1:t.LastLine], "\n")
	return strings.ToValidUTF8(quoted[:min(len(quoted), maxQuoted)], "\uFFFD"), nil
}

// Threads lists a change's discussions, oldest first, each with where its lines are now.
func (s *Threads) Threads(ctx context.Context, a accounts.Actor, name string, number int) ([]wire.Thread, error) {
	snap := s.records.View(ctx)
	defer snap.Close()
	db := snap.DB
	repo, c, err := facts.ChangeRow(db, a, name, number, people.Reader)
	if err != nil {
		return nil, err
	}
	var rows []records.Thread
	if err := db.Where("change_id = ?", c.ID).Order("id").Find(&rows).Error; err != nil {
		return nil, err
	}
	return s.threadViews(ctx, db, repo, c, rows)
}

// thread describes a thread as it stands.
func (s *Threads) thread(ctx context.Context, db *gorm.DB, repo *records.Repository, c records.Change,
	t records.Thread) (wire.Thread, error) {
	views, err := s.threadViews(ctx, db, repo, c, []records.Thread{t})
	if err != nil {
		return wire.Thread{}, err
	}
	return views[0], nil
}

// threadViews describes threads of a change as they stand, in their order: each table is asked once for all of them.
func (s *Threads) threadViews(ctx context.Context, db *gorm.DB, repo *records.Repository, c records.Change,
	list []records.Thread) ([]wire.Thread, error) {
	ids := make([]int64, len(list))
	for i, t := range list {
		ids[i] = t.ID
	}
	comments, err := s.commentViews(db, ids)
	if err != nil {
		return nil, err
	}
	var rows []records.Revision
	err = db.Where("change_id = ? AND (number = ? OR number IN (SELECT revision FROM threads WHERE id IN ?))", c.ID,
		c.Revision, ids).Find(&rows).Error
	if err != nil {
		return nil, err
	}
	revisions := map[int]records.Revision{}
	for _, r := range rows {
		revisions[r.Number] = r
	}
	out := []wire.Thread{}
	for _, t := range list {
		v := wire.Thread{
			ID: t.ID, Revision: t.Revision, Commit: t.CommitID, Path: t.Path, Before: t.Before, FirstLine: t.FirstLine, LastLine: t.LastLine,
			Quoted: t.Quoted, Where: facts.Where(t), NeedsAnswer: t.NeedsAnswer, BegunBy: t.BegunBy, BegunAt: t.BegunAt,
			Resolved: t.ResolvedBy != "", ResolvedBy: t.ResolvedBy, ResolvedAt: t.ResolvedAt, Outcome: t.Outcome,
			Comments: append([]wire.Comment{}, comments[t.ID]...),
		}
		if t.Path != "" {
			if v.Now, v.Gone, err = s.carriedBetween(ctx, repo, t, revisions[t.Revision],
				revisions[c.Revision]); err != nil {
				return nil, err
			}
		}
		out = append(out, v)
	}
	return out, nil
}

// commentViews describes what was said in threads, by thread.
func (s *Threads) commentViews(db *gorm.DB, threads []int64) (map[int64][]wire.Comment, error) {
	var rows []records.Comment
	if err := db.Where("thread_id IN ?", threads).Order("id").Find(&rows).Error; err != nil {
		return nil, err
	}
	var versions []records.CommentVersion
	err := db.Where("comment_id IN (SELECT id FROM comments WHERE thread_id IN ?)",
		threads).Order("until").Find(&versions).Error
	earlier := map[int64][]wire.CommentVersion{}
	for _, v := range versions {
		earlier[v.CommentID] = append(earlier[v.CommentID], wire.CommentVersion{Text: v.Text, Until: v.Until})
	}
	out := map[int64][]wire.Comment{}
	for _, r := range rows {
		out[r.ThreadID] = append(out[r.ThreadID], wire.Comment{
			ID: r.ID, By: r.Login, Text: r.Text, HTML: s.html(r.Text), Suggestion: r.Suggestion, AppliedAs: r.AppliedAs, AppliedBy: r.AppliedBy,
			CreatedAt: r.CreatedAt, EditedAt: r.EditedAt, Earlier: earlier[r.ID],
		})
	}
	return out, err
}

// Carried says where the lines of a thread are in the newest revision.
func (s *Threads) Carried(ctx context.Context, db *gorm.DB, repo *records.Repository, c records.Change,
	t records.Thread) (*wire.Lines, bool, error) {
	then, err := facts.RevisionNumbered(db, c, t.Revision)
	if err != nil {
		return nil, false, err
	}
	now, err := facts.RevisionRow(db, c)
	if err != nil {
		return nil, false, err
	}
	return s.carriedBetween(ctx, repo, t, then, now)
}

// carriedBetween says where the lines of a thread are in another revision than it was begun on; true: they are gone.
func (s *Threads) carriedBetween(ctx context.Context, repo *records.Repository, t records.Thread, then,
	now records.Revision) (*wire.Lines, bool, error) {
	from, to := then.Head, now.Head
	if t.CommitID != "" {
		from = t.CommitID
	}
	if t.Before {
		from, to = then.Base, now.Base
	}
	k := recall.Key{What: "follow", Repo: repo.ID, Of: from + to + t.Path}
	weigh := func(m git.Moved) int { return 1 + len(m.Hunks)/20 }
	moved, err := recall.Of(s.memory, k, weigh, func() (git.Moved,
		error) {
		return s.disk.Bare(repo).Follow(ctx, from, to, t.Path)
	})
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
func (s *Threads) inThread(ctx context.Context, a accounts.Actor, name string, number int, id int64,
	f func(tx *records.Tx, repo *records.Repository, c records.Change, t *records.Thread) error) (wire.Thread, error) {
	var repo *records.Repository
	var c records.Change
	var t records.Thread
	err := s.records.Write(ctx, func(tx *records.Tx) error {
		var err error
		if repo, c, err = facts.ChangeRow(tx.DB, a, name, number, people.Reader); err != nil {
			return err
		}
		if err := facts.MayReview(tx.DB, a, repo, change.Comment); err != nil {
			return err
		}
		if err := tx.Where("id = ? AND change_id = ?", id, c.ID).First(&t).Error; err != nil {
			return records.OrUnknown(err, "change %d has no discussion %d: tavrin thread list %d", number, id, number)
		}
		return f(tx, repo, c, &t)
	})
	if err != nil {
		return wire.Thread{}, err
	}
	return s.thread(ctx, s.records.Read(ctx), repo, c, t)
}

// Reply says something in a discussion; suggest is what its lines should be, nil for words only.
func (s *Threads) Reply(ctx context.Context, a accounts.Actor, name string, number int, id int64, text string,
	suggest *string) (wire.Thread, error) {
	if err := saying(text, suggest); err != nil {
		return wire.Thread{}, problem.First(err)
	}
	return s.inThread(ctx, a, name, number, id, func(tx *records.Tx, repo *records.Repository, c records.Change,
		t *records.Thread) error {
		if err := suggestible(*t, suggest); err != nil {
			return err
		}
		if err := s.saveComment(tx, a, *t, records.Comment{Text: text, Suggestion: suggest}); err != nil {
			return err
		}
		return tx.Record(a.Login(), repo, event.ThreadReplied{OfThread: ofThread(c, *t)})
	})
}

func suggestible(t records.Thread, suggest *string) error {
	if suggest != nil && (t.FirstLine == 0 || t.Before || t.CommitID != "") {
		return problem.Wrong("suggestion", "discussion %d is not about lines that could be replaced", t.ID)
	}
	return nil
}

// Resolve resolves a discussion, with what came of it, or opens it again. Those who may write may, and whoever began it;
// whether that counts for the gate is the rules' business.
func (s *Threads) Resolve(ctx context.Context, a accounts.Actor, name string, number int, id int64, resolved bool,
	outcome string) (wire.Thread, error) {
	if outcome != "" {
		if err := typed.Line("outcome", outcome, 1, 500); err != nil {
			return wire.Thread{}, err
		}
	}
	return s.inThread(ctx, a, name, number, id, func(tx *records.Tx, repo *records.Repository, c records.Change,
		t *records.Thread) error {
		role, err := accounts.RoleIn(tx.DB, a.Account(), repo)
		if err != nil {
			return err
		}
		switch {
		case !role.AtLeast(people.Writer) && t.BegunBy != a.Login():
			return problem.New(problem.Forbidden, "a discussion is resolved and opened again by those who may write, "+
				"and by %s, who began it", t.BegunBy)
		case resolved && t.ResolvedBy != "":
			return problem.New(problem.Conflict, "the discussion was resolved by %s already", t.ResolvedBy)
		case !resolved && t.ResolvedBy == "":
			return problem.New(problem.Conflict, "the discussion is open")
		}
		now := s.records.Now()
		if resolved {
			t.ResolvedBy, t.ResolvedAt, t.Outcome = a.Login(), &now, typed.Mask(outcome)
		} else {
			t.ResolvedBy, t.ResolvedAt, t.Outcome = "", nil, ""
		}
		if err := tx.Save(t).Error; err != nil {
			return err
		}
		if resolved {
			return tx.Record(a.Login(), repo, event.ThreadResolved{OfThread: ofThread(c, *t), Outcome: t.Outcome})
		}
		return tx.Record(a.Login(), repo, event.ThreadReopened{OfThread: ofThread(c, *t)})
	})
}

// EditComment alters one's own comment; what it said before is kept and shown.
func (s *Threads) EditComment(ctx context.Context, a accounts.Actor, name string, number int, id, comment int64,
	text string) (wire.Thread, error) {
	if err := commentText(text); err != nil {
		return wire.Thread{}, err
	}
	return s.inThread(ctx, a, name, number, id, func(tx *records.Tx, repo *records.Repository, c records.Change,
		t *records.Thread) error {
		var r records.Comment
		if err := tx.Where("id = ? AND thread_id = ?", comment, t.ID).First(&r).Error; err != nil {
			return records.OrUnknown(err, "discussion %d has no comment %d", id, comment)
		}
		if r.Login != a.Login() {
			return problem.New(problem.Forbidden, "the comment is %s's, and only they may edit it", r.Login)
		}
		now := s.records.Now()
		if err := tx.Create(&records.CommentVersion{CommentID: r.ID, Text: r.Text, Until: now}).Error; err != nil {
			return err
		}
		if err := tx.Model(&r).Updates(map[string]any{"text": typed.Mask(text), "edited_at": now}).Error; err != nil {
			return err
		}
		return tx.Record(a.Login(), repo, event.ThreadEdited{OfThread: ofThread(c, *t)})
	})
}
