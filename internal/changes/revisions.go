package changes

import (
	"context"
	"errors"
	"fmt"
	"net/mail"
	"regexp"
	"slices"
	"strings"
	"sync"

	"gorm.io/gorm"

	"tavrin/internal/bounds"
	"tavrin/internal/core/change"
	"tavrin/internal/core/event"
	"tavrin/internal/core/fold"
	"tavrin/internal/core/gate"
	"tavrin/internal/facts"
	"tavrin/internal/git"
	"tavrin/internal/git/rehearsal"
	"tavrin/internal/problem"
	"tavrin/internal/records"
	"tavrin/internal/typed"
)

// PendingRevision is a revision worked out but not yet recorded.
type PendingRevision struct {
	Change  records.Change
	Row     records.Revision
	commits []git.Commit // those that the revision before did not have
	Brought []git.Commit // all that it brings to the target
}

// revisionsOf works out the revisions that follow from a source branch having moved to head. What a change cannot
// follow, such as a branch that was used again for something else, is told in lines for the pusher.
func (s *Changes) revisionsOf(ctx context.Context, repo *records.Repository, branch, head,
	pusher string) (out []PendingRevision, told []string, err error) {
	db := s.records.Read(ctx)
	var changes []records.Change
	if err := db.Where("repository_id = ? AND source = ? AND state IN ('draft', 'open')", repo.ID,
		branch).Find(&changes).Error; err != nil {
		return nil, nil, err
	}
	for _, c := range changes {
		last, err := facts.RevisionRow(db, c)
		if err != nil {
			return nil, nil, err
		}
		if last.Head == head {
			continue
		}
		p, err := s.RevisionOf(ctx, db, repo, c, &last, head, pusher)
		if reached := (*bounds.Reached)(nil); err != nil && !AboutTheChange(err) && !errors.As(err, &reached) {
			return nil, nil, err // trouble of the service's own: the revision is made when it is over
		}
		if err != nil {
			s.log.Warn("no revision made", "repository", repo.Name, "change", c.Number, "error", err)
			told = append(told, fmt.Sprintf("Change %d, %q, stays at revision %d and does not follow: %v.", c.Number,
				c.Title, c.Revision, err))
			continue
		}
		out = append(out, p)
	}
	return out, told, nil
}

// RevisionOf works out, with Git, what a head brings to the change's target, as the rules are that are read from db.
func (s *Changes) RevisionOf(ctx context.Context, db *gorm.DB, repo *records.Repository, c records.Change,
	last *records.Revision, head, pusher string) (PendingRevision, error) {
	bare := s.disk.Bare(repo)
	p := PendingRevision{Change: c, Row: records.Revision{Number: c.Revision + 1, Head: head, PushedBy: pusher,
		LastPusher: pusher, CreatedAt: s.records.Now(), Paths: []string{}}}
	target, err := bare.Tip(ctx, "refs/heads/"+c.Target)
	if err != nil {
		return p, err
	}
	bases, err := bare.MergeBases(ctx, target, head)
	if err != nil {
		return p, err
	}
	if len(bases) == 0 {
		return p, problem.Wrong("source", "%s and %s share no history, so one cannot be brought into the other",
			c.Source, c.Target)
	}
	p.Row.Base, p.Row.Bases = bases[0], len(bases)
	if p.Brought, err = bare.LogAll(ctx, head, []string{p.Row.Base}, "change.commits"); err != nil {
		return p, err
	}
	p.Row.Commits = facts.Kept(p.Brought)
	asked, err := s.traced(db, repo, c.Target)
	if err != nil {
		return p, err
	}
	if err := s.trace(ctx, repo, c.Source, asked, p.Row.Commits); err != nil {
		return p, err
	}
	files, err := bare.Diff(ctx, p.Row.Base, head)
	if err != nil {
		return p, err
	}
	for _, f := range files {
		p.Row.Paths = append(p.Row.Paths, f.Path)
		if f.OldPath != "" {
			p.Row.Paths = append(p.Row.Paths, f.OldPath)
		}
		p.Row.Added += f.Added
		p.Row.Removed += f.Removed
	}
	git.Ways(files, &p.Row.Ways)
	p.Row.Files = len(files)
	if most := s.bounds.ChangePaths; int64(len(files)) > most {
		return p, s.bounds.Reach("change.paths", "%s changes %d files", c.Source, len(files))
	}
	if err := s.brings(ctx, repo, &p); err != nil {
		return p, err
	}
	if last != nil {
		if err := s.compareEarlier(ctx, repo, &p, last); err != nil {
			return p, err
		}
		p.Row.Authors, p.Row.LastPusher = last.Authors, last.LastPusher
		if !p.Row.SameAsLast {
			p.Row.Authors, p.Row.LastPusher = append(slices.Clone(last.Authors), pusher), pusher
		}
	} else {
		p.Row.Authors = []string{pusher}
	}
	if p.Row.Kind, err = s.revisionKind(ctx, repo, last, p.Row); err != nil {
		return p, err
	}
	known := []string{p.Row.Base}
	if last != nil {
		known = append(known, last.Head)
	}
	p.commits, err = bare.LogAll(ctx, head, known, "change.commits")
	return p, err
}

// AboutTheChange says whether an error is about what was asked for; any other is the service's own trouble.
func AboutTheChange(err error) bool {
	var p *problem.Problem
	var reached *bounds.Reached
	return errors.As(err, &p) || errors.As(err, &reached) && (!strings.HasPrefix(reached.Name, "git.") ||
		reached.Name == "git.output-bytes")
}

// mostTries is how often it is tried to make the revisions that follow from a move, before the move is put on record
// without them: nothing that somebody pushed may keep a repository from going on.
const mostTries = 3

// Followed is revisionsOf for a move that is being put on record.
func (s *Changes) Followed(ctx context.Context, repo *records.Repository,
	i *records.Intent) ([]PendingRevision, []string, error) {
	branch := strings.TrimPrefix(i.Ref, "refs/heads/")
	revisions, told, err := s.revisionsOf(ctx, repo, branch, i.New, i.Actor)
	if err == nil || ctx.Err() != nil {
		return revisions, told, err
	}
	if s.tries.again(i.ID) < mostTries {
		return nil, nil, err
	}
	s.log.Error("CHANGES DO NOT FOLLOW THEIR BRANCH: their revisions could not be made", "repository", repo.Name,
		"branch", branch, "head", i.New, "error", err)
	return nil, []string{fmt.Sprintf("Changes from %s stay where they are: the service could not work out what came "+
		"(%s). Push again to have it tried again.", branch, typed.Shortened(err.Error()))}, nil
}

// brings finds out what the commits of a revision bring one by one, and what of it the difference does not show.
func (s *Changes) brings(ctx context.Context, repo *records.Repository, p *PendingRevision) error {
	if len(p.Brought) == 1 && len(p.Brought[0].Parents) == 1 && p.Brought[0].Parents[0] == p.Row.Base {
		return nil // the one commit is the difference
	}
	each, err := rehearsal.Brings(ctx, s.disk.Bare(repo), p.Brought)
	if err != nil {
		return err
	}
	p.Row.History = records.BroughtHistory{Files: each.Files, Added: each.Added, Removed: each.Removed, Ways: each.Ways}
	for _, path := range each.Paths {
		if !slices.Contains(p.Row.Paths, path) {
			p.Row.History.Hidden = append(p.Row.History.Hidden, path)
		}
	}
	return nil
}

// compareEarlier compares a revision with the one before and with every one that somebody's word is still about: each
// for itself, never through those between.
func (s *Changes) compareEarlier(ctx context.Context, repo *records.Repository, p *PendingRevision,
	last *records.Revision) error {
	db := s.records.Read(ctx)
	standing, err := facts.StandingReviews(db, p.Change)
	if err != nil {
		return err
	}
	numbers := []int{last.Number}
	for _, r := range standing {
		numbers = append(numbers, r.Revision)
	}
	var rows []records.Revision
	if err := db.Where("change_id = ? AND number IN ?", p.Change.ID,
		numbers).Order("number").Find(&rows).Error; err != nil {
		return err
	}
	p.Row.SameAs = []int{}
	for _, r := range rows {
		same, err := rehearsal.Same(ctx, s.disk.Bare(repo), facts.ShownBy(r), facts.ShownBy(p.Row), p.Row.Base)
		if err != nil {
			return err
		}
		if same {
			p.Row.SameAs = append(p.Row.SameAs, r.Number)
		}
	}
	p.Row.SameAsLast = slices.Contains(p.Row.SameAs, last.Number)
	return nil
}

// revisionKind says what a revision did to the one before: "added" commits on top of it; "rebased" the same difference;
// "folded" fixups into their commits and nothing else; or "rewritten" it.
func (s *Changes) revisionKind(ctx context.Context, repo *records.Repository, last *records.Revision,
	r records.Revision) (event.RevisionKind, error) {
	if last == nil {
		return event.First, nil
	}
	onTop, err := s.disk.Bare(repo).IsAncestor(ctx, last.Head, r.Head)
	switch {
	case err != nil:
		return "", err
	case onTop:
		return event.Added, nil
	case r.SameAsLast && fixups(last.Commits) > fixups(r.Commits):
		return event.Folded, nil
	case r.SameAsLast:
		return event.Rebased, nil
	}
	return event.Rewritten, nil
}

// fixups counts the commits that are meant to be folded into others.
func fixups(commits []records.BroughtCommit) int {
	n := 0
	for _, c := range commits {
		if fold.Marked(c.Message) {
			n++
		}
	}
	return n
}

// Keep makes names of the service's own for the heads of revisions that are about to be recorded, so that Git does not
// lose them. It runs Git, and comes before the transaction that records them; the repository's lock is held, so that
// their numbers stay as they were worked out.
func (s *Changes) Keep(ctx context.Context, repo *records.Repository, revisions ...PendingRevision) error {
	for _, p := range revisions {
		name := fmt.Sprintf("revisions/%d/%d", p.Change.Number, p.Row.Number)
		if err := s.disk.Bare(repo).Keep(ctx, name, p.Row.Head); err != nil {
			return err
		}
	}
	return nil
}

// SaveRevision records a revision: who counts as author of it is completed here, where the records are at hand.
func (s *Changes) SaveRevision(tx *records.Tx, repo *records.Repository, p PendingRevision) error {
	more, err := Contributors(tx.DB, repo, p)
	if err != nil {
		return err
	}
	wrote, err := CommitAuthors(tx.DB, repo, p.Brought)
	if err != nil {
		return err
	}
	p.Row.CommitAuthors = slices.Compact(slices.Sorted(slices.Values(wrote)))
	p.Row.Authors = slices.Compact(slices.Sorted(slices.Values(append(p.Row.Authors, more...))))
	p.Row.ChangeID = p.Change.ID
	if err := tx.Create(&p.Row).Error; err != nil {
		return err
	}
	for _, c := range p.Brought {
		if c.ID == p.Row.Head {
			if err := facts.KeepTree(tx.DB, repo.ID, c.ID, c.Tree); err != nil {
				return err
			}
		}
	}
	if err := tx.Model(&p.Change).Updates(map[string]any{"revision": p.Row.Number,
		"updated_at": s.records.Now()}).Error; err != nil {
		return err
	}
	err = tx.Record(p.Row.PushedBy, repo, event.ChangeRevised{OfChange: event.OfChange{Number: p.Change.Number},
		Revision: p.Row.Number, Kind: p.Row.Kind, Target: p.Change.Target, Head: p.Row.Head, Base: p.Row.Base,
		SameDifference: p.Row.SameAsLast, Authors: p.Row.Authors})
	if err != nil {
		return err
	}
	p.Change.Revision = p.Row.Number
	if err := s.askReviewers(tx, repo, p.Change, slices.Concat(p.Row.Paths, p.Row.History.Hidden)); err != nil {
		return err
	}
	g, err := s.facts.Gather(tx.DB, repo, p.Change)
	if err != nil {
		return err
	}
	return s.checks.AskForHead(tx, repo, g)
}

var coAuthor = regexp.MustCompile(`(?im)^co-authored-by:\s*(.+)$`)

// Contributors finds who else counts as author: whose push first brought a new commit of the difference, and whose
// registered address stands in one. A revision that brings what the one before brought adds nobody: a clean rebase
// neither launders nor spoils.
func Contributors(db *gorm.DB, repo *records.Repository, p PendingRevision) ([]string, error) {
	logins := []string{p.Change.OpenedBy}
	if p.Row.SameAsLast {
		return logins, nil
	}
	wrote, err := CommitAuthors(db, repo, p.commits)
	return append(logins, wrote...), err
}

// CommitAuthors finds out whose push first brought the commits, and whose registered address stands in one as that of
// its author, committer or co-author.
func CommitAuthors(db *gorm.DB, repo *records.Repository, commits []git.Commit) ([]string, error) {
	ids, addresses := []string{}, map[string]bool{}
	for _, c := range commits {
		ids = append(ids, c.ID)
		addresses[strings.ToLower(c.Author.Email)] = true
		addresses[strings.ToLower(c.CommitterEmail)] = true
		for _, m := range coAuthor.FindAllStringSubmatch(c.Body, -1) {
			if address, err := mail.ParseAddress(m[1]); err == nil {
				addresses[strings.ToLower(address.Address)] = true
			}
		}
	}
	owners, err := OwnersOfCommits(db, repo.ID, ids)
	if err != nil {
		return nil, err
	}
	var list []string
	for address := range addresses {
		list = append(list, address)
	}
	var registered []string
	err = db.Model(&records.Account{}).Where("email IN ? AND NOT robot", list).Pluck("login", &registered).Error
	return append(owners, registered...), err
}

// missed works out the revision that a closed change did not get while its branch moved on.
func (s *Changes) missed(ctx context.Context, repo *records.Repository, c records.Change,
	by string) ([]PendingRevision, error) {
	last, err := facts.RevisionRow(s.records.Read(ctx), c)
	if err != nil {
		return nil, err
	}
	head, err := s.disk.Bare(repo).Tip(ctx, "refs/heads/"+c.Source)
	if errors.Is(err, git.ErrNotFound) || head == last.Head {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	p, err := s.RevisionOf(ctx, s.records.Read(ctx), repo, c, &last, head, by)
	return []PendingRevision{p}, err
}

// tries counts how often something was tried in vain. Its zero value is ready.
type tries struct {
	mu sync.Mutex
	of map[int64]int
}

// again counts one more try, and returns how many there were.
func (t *tries) again(id int64) int {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.of == nil {
		t.of = map[int64]int{}
	}
	t.of[id]++
	return t.of[id]
}

// OwnersOfCommits says whose pushes brought the commits.
func OwnersOfCommits(db *gorm.DB, repo int64, commits []string) ([]string, error) {
	var logins []string
	for chunk := range slices.Chunk(commits, 500) {
		var some []string
		err := db.Model(&records.PushedCommit{}).Distinct("login").Where("repository_id = ? AND commit_id IN ?", repo,
			chunk).Pluck("login", &some).Error
		if err != nil {
			return nil, err
		}
		logins = append(logins, some...)
	}
	return logins, nil
}

// Outlives says of each approval of a change whether it still counts after a push, for the pusher's terminal.
func (s *Changes) Outlives(ctx context.Context, repo *records.Repository, id int64) ([]string, error) {
	snap := s.records.View(ctx)
	defer snap.Close()
	var c records.Change
	if err := snap.First(&c, id).Error; err != nil {
		return nil, err
	}
	g, err := s.facts.Gather(snap.DB, repo, c)
	if err != nil {
		return nil, err
	}
	var stay, lines []string
	for _, w := range gate.JudgeInFull(g.Set, g.Facts).Reviews {
		switch {
		case w.Verdict != change.Approve:
		case len(w.For) > 0:
			stay = append(stay, w.By)
		default:
			lines = append(lines, fmt.Sprintf("  %s's approval of revision %d does not count: %s.", w.By, w.Revision, strings.Join(w.Not, "; ")))
		}
	}
	if len(stay) > 0 {
		lines = slices.Insert(lines, 0, "  Still approved by "+strings.Join(stay, ", ")+".")
	}
	return lines, nil
}
