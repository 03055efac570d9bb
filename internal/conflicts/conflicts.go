// Package conflicts finds out early which changes do not go together with their targets, and shows where.
//
// It follows the journal: a change that is new, has another revision or another target is tried, and after a branch has
// moved, those of its open changes that touch a path which moved. What it tries is the judge's merge (rehearsal.Judge), so that
// what it finds is what a landing would meet. It promises that what was found is told once (change.conflict-found, and
// change.conflict-gone), that a kill loses nothing it has still to try, and that it holds up nobody: it works beside everything else,
// one change after another. A conflict that arises without a path in common (a file where the other side makes a folder) is found
// when somebody asks, or by the rehearsal.
package conflicts

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"tavrin/internal/core/event"
	"tavrin/internal/facts"
	"tavrin/internal/git/rehearsal"
	"tavrin/internal/hosted"
	"tavrin/internal/records"
)

// Conflicts is the room. Its methods may be called concurrently.
type Conflicts struct {
	records *records.Records
	disk    *hosted.Disk
	facts   *facts.Gatherer
	log     *slog.Logger

	at, kept int64 // how far the journal was followed, and how far that is kept; only Run knows
}

// New makes the room. It tries nothing before it runs.
func New(r *records.Records, disk *hosted.Disk, f *facts.Gatherer, log *slog.Logger) *Conflicts {
	return &Conflicts{records: r, disk: disk, facts: f, log: log}
}

const (
	// cursor is the name under which it is kept how far the journal was followed.
	cursor = "conflicts"
	// batch is how many lines are taken together: what several of them want to have tried is tried once.
	batch = 500
	// mostFiles is how many files are kept of one conflict, mostPaths of how many that moved it is looked which changes touch them.
	mostFiles, mostPaths = 50, 20000
	// mostTried is how many changes are tried after one move, those first that were opened last; the others, when somebody asks or
	// pushes to them, and by their rehearsals.
	mostTried = 500
	// soon is how long somebody waits for what is tried while they wait; what takes longer is tried after them.
	soon = 5 * time.Second
	// trouble is how long it is waited after something went wrong.
	trouble = 10 * time.Second
)

// Run follows the journal until the context ends.
func (s *Conflicts) Run(ctx context.Context) {
	for ctx.Err() == nil {
		grown := s.records.Grown() // before anything is looked at, so that nothing is missed
		err := s.Catch(ctx)
		if err != nil && ctx.Err() == nil {
			s.log.Error("changes could not be tried for conflicts", "error", err)
			select {
			case <-ctx.Done():
			case <-time.After(trouble):
			}
		}
		if err != nil {
			continue
		}
		select {
		case <-ctx.Done():
		case <-grown:
		}
	}
}

// Catch follows the journal to its end, once.
func (s *Conflicts) Catch(ctx context.Context) error {
	for {
		if more, err := s.follow(ctx); err != nil || !more {
			return err
		}
	}
}

// untried is what lines of the journal want to have tried.
type untried struct {
	changes map[records.ChangeKey]bool
	moves   map[branch]string // to where it stood before
	ended   map[records.ChangeKey]bool
}

type branch struct {
	repo int64
	name string
}

// read takes in what one line means.
func (u *untried) read(repo int64, e event.Event) {
	moved := func(name, old string) {
		if at := (branch{repo, name}); u.moves[at] == "" && old != "" {
			u.moves[at] = old
		}
	}
	key := records.ChangeKey{Repo: repo, Number: event.ChangeOf(e)}
	switch e := e.(type) {
	case event.ChangeOpened, event.ChangeRevised, event.ChangeEdited, event.ChangeReopened:
		u.changes[key] = true
	case event.ChangeClosed:
		u.ended[key] = true
	case event.ChangeLanded:
		u.ended[key] = true
		moved(e.Target, e.Old)
	case event.BranchMoved:
		moved(strings.TrimPrefix(e.Ref, "refs/heads/"), e.Old)
	}
}

// follow tries what the next lines of the journal want, and says whether there may be more.
func (s *Conflicts) follow(ctx context.Context) (bool, error) {
	if s.at == 0 {
		var at records.Cursor
		if err := s.records.Read(ctx).Where("name = ?", cursor).Limit(1).Find(&at).Error; err != nil {
			return false, err
		}
		s.at, s.kept = at.Seq, at.Seq
	}
	var lines []records.JournalLine
	err := s.records.Read(ctx).Select("seq", "kind", "repository_id", "data").Where("seq > ?", s.at).Order("seq").Limit(batch).Find(&lines).Error
	if err != nil || len(lines) == 0 {
		return false, err
	}
	u := untried{map[records.ChangeKey]bool{}, map[branch]string{}, map[records.ChangeKey]bool{}}
	for _, l := range lines {
		e, err := event.Decode(l.Kind, []byte(l.Data))
		if err != nil {
			s.log.Warn("a line of the journal cannot be read", "line", l.Seq, "error", err)
			continue
		}
		u.read(l.RepositoryID, e)
	}
	for b, old := range u.moves {
		touching, err := s.touching(ctx, b, old)
		if err != nil {
			s.log.Warn("it could not be found out which changes a move touches", "repository", b.repo, "branch", b.name, "error", err)
			continue
		}
		for _, k := range touching {
			u.changes[k] = true
		}
	}
	for k := range u.changes {
		if err := s.try(ctx, k); err != nil {
			if ctx.Err() != nil {
				return false, err // it is tried again after the start
			}
			s.log.Warn("a change could not be tried for conflicts", "repository", k.Repo, "change", k.Number, "error", err)
		}
	}
	last := lines[len(lines)-1].Seq
	// How far it came is kept once in a while: what is tried twice is told once.
	if len(u.ended) > 0 || last-s.kept >= batch {
		if err := s.keep(ctx, u.ended, last); err != nil {
			return false, err
		}
		s.kept = last
	}
	s.at = last
	return len(lines) == batch, nil
}

// keep keeps how far the journal was followed, and forgets what was found of changes that have ended.
func (s *Conflicts) keep(ctx context.Context, ended map[records.ChangeKey]bool, seq int64) error {
	return s.records.Note(ctx, func(tx *records.Tx) error {
		for k := range ended {
			if err := tx.Exec("DELETE FROM conflicts WHERE change_id = (SELECT id FROM changes WHERE repository_id = ? AND number = ? AND state NOT IN ('draft', 'open'))",
				k.Repo, k.Number).Error; err != nil {
				return err
			}
		}
		return tx.Save(&records.Cursor{Name: cursor, Seq: seq}).Error
	})
}

// touched is the paths that an open change touches.
type touched struct {
	Number int
	Paths  []string `gorm:"serializer:json"`
}

// touching lists the open changes for a branch that touch a path in which it has moved.
func (s *Conflicts) touching(ctx context.Context, b branch, old string) ([]records.ChangeKey, error) {
	repo, err := s.repository(ctx, b.repo)
	if err != nil || repo == nil {
		return nil, err
	}
	var open []touched
	err = s.records.Read(ctx).Table("changes c").Joins("JOIN revisions r ON r.change_id = c.id AND r.number = c.revision").
		Where("c.repository_id = ? AND c.state IN ('draft', 'open') AND c.target = ?", b.repo, b.name).Select("c.number", "r.paths").Find(&open).Error
	if err != nil || len(open) == 0 {
		return nil, err
	}
	bare := s.disk.Bare(repo)
	tip, err := bare.At("refs/heads/" + b.name)
	if err != nil || tip == "" || tip == old {
		return nil, err
	}
	files, err := bare.Diff(ctx, old, tip)
	if err != nil {
		return nil, err
	}
	moved := map[string]bool{}
	for _, f := range files[:min(len(files), mostPaths)] {
		moved[f.Path] = true
		if f.OldPath != "" {
			moved[f.OldPath] = true
		}
	}
	var out []records.ChangeKey
	slices.SortFunc(open, func(a, b touched) int { return b.Number - a.Number })
	for _, c := range open {
		if len(out) == mostTried {
			break
		}
		if len(files) > mostPaths || slices.ContainsFunc(c.Paths, func(p string) bool { return moved[p] }) {
			out = append(out, records.ChangeKey{Repo: b.repo, Number: c.Number})
		}
	}
	return out, nil
}

// repository returns a repository that is there; nil: it is not.
func (s *Conflicts) repository(ctx context.Context, id int64) (*records.Repository, error) {
	var repo records.Repository
	err := records.Going(s.records.Read(ctx)).Where("id = ?", id).Limit(1).Find(&repo).Error
	if err != nil || repo.ID == 0 {
		return nil, err
	}
	return &repo, nil
}

// try tries one change, and records what is different from before.
func (s *Conflicts) try(ctx context.Context, k records.ChangeKey) error {
	repo, err := s.repository(ctx, k.Repo)
	if err != nil || repo == nil {
		return err
	}
	c, r, err := s.newest(ctx, k)
	if err != nil || c.ID == 0 {
		return err
	}
	bare := s.disk.Bare(repo)
	tip, err := bare.At("refs/heads/" + c.Target)
	if err != nil || tip == "" {
		return err
	}
	now := records.Conflict{ChangeID: c.ID, Revision: r.Number, Target: c.Target, Tip: tip, Files: []string{}, Landed: []int{}}
	_, err = rehearsal.Judge(ctx, bare, facts.ShownBy(r), tip)
	if errors.As(err, new(*rehearsal.ConflictError)) {
		snap := s.records.View(ctx)
		found, err := Where(ctx, s.disk.Bare(repo), s.facts, snap.DB, repo, c, r, tip)
		snap.Close()
		if err != nil {
			return err
		}
		for _, f := range found {
			now.Landed = append(now.Landed, f.With...)
			if len(now.Files) == mostFiles {
				now.More++
				continue
			}
			now.Files = append(now.Files, strings.ToValidUTF8(f.Path, "\uFFFD"))
		}
		slices.Sort(now.Landed)
		now.Landed = slices.Compact(now.Landed)
	} else if err != nil {
		return err
	}
	return s.record(ctx, repo, c, now)
}

// TryNow tries one change for somebody who waits. What cannot be done in a few seconds is done after them, as the journal is followed.
func (s *Conflicts) TryNow(ctx context.Context, k records.ChangeKey) error {
	ctx, cancel := context.WithTimeout(ctx, soon)
	defer cancel()
	return s.try(ctx, k)
}

// newest returns a change that is open, with its newest revision.
func (s *Conflicts) newest(ctx context.Context, k records.ChangeKey) (c records.Change, r records.Revision, err error) {
	snap := s.records.View(ctx)
	defer snap.Close()
	err = snap.Where("repository_id = ? AND number = ? AND state IN ('draft', 'open')", k.Repo, k.Number).Limit(1).Find(&c).Error
	if err == nil && c.ID != 0 {
		r, err = facts.RevisionRow(snap.DB, c)
	}
	return c, r, err
}

// mostTold is how many changes of one push are tried while the pusher waits.
const mostTold = 5

// TellPusher tries the changes that come from branches which somebody has just pushed to, and says in lines for their
// terminal which of them do not go together with their targets. What is too much for that is tried afterwards.
func (s *Conflicts) TellPusher(ctx context.Context, repo *records.Repository, branches []string) ([]string, error) {
	if len(branches) == 0 || len(branches) > mostTold {
		return nil, nil
	}
	var from []records.Change
	err := s.records.Read(ctx).Where("repository_id = ? AND state IN ('draft', 'open') AND source IN ?", repo.ID, branches).Order("number").Limit(mostTold).Find(&from).Error
	if err != nil || len(from) == 0 {
		return nil, err
	}
	ids := make([]int64, len(from))
	for i, c := range from {
		ids[i] = c.ID
		if err := s.TryNow(ctx, records.ChangeKey{Repo: repo.ID, Number: c.Number}); err != nil {
			return nil, err
		}
	}
	found, err := Found(s.records.Read(ctx), ids)
	var lines []string
	for _, c := range from {
		if x := found[c.ID]; x.ChangeID != 0 {
			lines = append(lines, Told(c.Number, x).ToPusher(repo.Name))
		}
	}
	return lines, err
}

// record records what was found of a change, unless it is another by now.
func (s *Conflicts) record(ctx context.Context, repo *records.Repository, tried records.Change, now records.Conflict) error {
	told := func(db *gorm.DB) (before records.Conflict, already bool, err error) {
		err = db.Where("change_id = ?", tried.ID).Limit(1).Find(&before).Error
		same := slices.Equal(before.Files, now.Files) && before.More == now.More && before.Target == now.Target && before.Revision == now.Revision
		return before, same || before.ChangeID == 0 && len(now.Files) == 0, err
	}
	if _, already, err := told(s.records.Read(ctx)); already || err != nil {
		return err
	}
	return s.records.Write(ctx, func(tx *records.Tx) error {
		before, already, err := told(tx.DB) // a push and the journal's follower may try at once
		if err != nil {
			return err
		}
		var c records.Change
		err = tx.Where("id = ? AND state IN ('draft', 'open') AND revision = ? AND target = ?", tried.ID, now.Revision, now.Target).Limit(1).Find(&c).Error
		if err != nil || already || c.ID == 0 {
			tx.TouchesNothing()
			return err // of what happened to it, the line is still to come
		}
		if len(now.Files) == 0 {
			if err := tx.Delete(&before).Error; err != nil {
				return err
			}
			return tx.Record(records.Itself, repo, event.ConflictGone{OfChange: event.OfChange{Number: c.Number}, Target: now.Target, Tip: now.Tip, Revision: now.Revision})
		}
		now.FoundAt = tx.Now()
		if err := tx.Save(&now).Error; err != nil {
			return err
		}
		return tx.Record(records.Itself, repo, Told(c.Number, now))
	})
}

// sides names the two sides as the marks of a conflict do.
func sides(c records.Change) rehearsal.Sides {
	return rehearsal.Sides{Ours: c.Target, Theirs: fmt.Sprintf("change %d (%s)", c.Number, c.Source)}
}

// Told is what was found of a change as it is told of.
func Told(number int, x records.Conflict) event.ConflictFound {
	return event.ConflictFound{OfChange: event.OfChange{Number: number}, Target: x.Target, Tip: x.Tip, Revision: x.Revision, Files: x.Files, More: x.More, With: x.Landed}
}

// Found is what was found of open changes, by change.
func Found(db *gorm.DB, changes []int64) (map[int64]records.Conflict, error) {
	var rows []records.Conflict
	out := map[int64]records.Conflict{}
	for some := range slices.Chunk(changes, 500) {
		if err := db.Where("change_id IN ?", some).Find(&rows).Error; err != nil {
			return nil, err
		}
		for _, r := range rows {
			out[r.ChangeID] = r
		}
	}
	return out, nil
}
