package service

import (
	"context"
	"errors"
	"fmt"
	"net/mail"
	"regexp"
	"slices"
	"strings"

	"gorm.io/gorm"

	"tavrin/internal/bounds"
	"tavrin/internal/core/gate"
	"tavrin/internal/git"
	"tavrin/internal/store"
	"tavrin/wire"
)

const (
	MaxTitle = 200
	MaxProse = 16 << 10
	// maxHidden is how many of the paths are named that a change's difference does not show.
	maxHidden = 100
)

// NewChange is what a change is made from.
type NewChange struct {
	Source, Target, Title string
	Description           *string // nil: as the rules have new changes begin
	Draft                 bool
	DependsOn             []int // changes that it waits for
}

// OpenChange proposes to bring a source branch into a target branch.
func (s *Service) OpenChange(ctx context.Context, a Actor, name string, n NewChange) (wire.Change, error) {
	repo, err := s.reach(s.store.Read(ctx), a, name, gate.Writer)
	if err != nil {
		return wire.Change{}, err
	}
	if n.Target == "" {
		n.Target = repo.DefaultBranch
	}
	description, err := s.firstDescription(s.store.Read(ctx), repo, n)
	if err := errors.Join(err, line("title", n.Title, 1, MaxTitle), prose("description", description, MaxProse)); err != nil {
		return wire.Change{}, firstProblem(err)
	}
	n.Title, description = Mask(n.Title), Mask(description)
	unlock, err := s.writing(ctx, repo)
	if err != nil {
		return wire.Change{}, err
	}
	defer unlock()
	head, _, err := s.ends(ctx, repo, n)
	if err != nil {
		return wire.Change{}, err
	}
	state := "open"
	if n.Draft {
		state = "draft"
	}
	change := store.Change{RepositoryID: repo.ID, Title: n.Title, Description: description, Source: n.Source, Target: n.Target,
		State: state, OpenedBy: a.Login(), CreatedAt: s.now(), UpdatedAt: s.now()}
	pending, err := s.revisionOf(ctx, repo, change, nil, head, a.Login())
	if err != nil {
		return wire.Change{}, err
	}
	if pending.row.Files == 0 {
		return wire.Change{}, invalid("source", "%s brings nothing that %s does not have", n.Source, n.Target)
	}
	err = s.write(ctx, func(tx *tx) error { return s.recordOpened(tx, repo, &change, pending, n.DependsOn) })
	if err != nil {
		return wire.Change{}, err
	}
	return s.Change(ctx, a, name, change.Number)
}

// recordOpened gives a new change its number and records it with its first revision.
func (s *Service) recordOpened(tx *tx, repo *store.Repository, change *store.Change, first pendingRevision, dependsOn []int) error {
	if err := noTwin(tx.DB, *change); err != nil {
		return err
	}
	if err := tx.Model(repo).Update("changes", gorm.Expr("changes + 1")).Error; err != nil {
		return err
	}
	if err := tx.First(repo, repo.ID).Error; err != nil {
		return err
	}
	change.Number = repo.Changes
	if err := tx.Create(change).Error; err != nil {
		return err
	}
	if err := setDependencies(tx.DB, *change, dependsOn); err != nil {
		return err
	}
	err := tx.record(event{actor: change.OpenedBy, kind: "change.opened", repo: repo, subject: fmt.Sprintf("change/%d", change.Number),
		text: fmt.Sprintf("%s opened change %d, %q, from %s to %s", change.OpenedBy, change.Number, change.Title, change.Source, change.Target),
		data: map[string]any{"number": change.Number, "source": change.Source, "target": change.Target, "state": change.State}})
	if err != nil {
		return err
	}
	first.change = *change
	return s.saveRevision(tx, repo, first)
}

// firstProblem picks the first of joined problems, so that one sentence reaches the person.
func firstProblem(err error) error {
	var p *Problem
	if errors.As(err, &p) {
		return p
	}
	return err
}

// pendingRevision is a revision worked out but not yet recorded.
type pendingRevision struct {
	change  store.Change
	row     store.Revision
	commits []git.Commit // those that the revision before did not have
	brought []git.Commit // all that it brings to the target
}

// revisionsOf works out the revisions that follow from a source branch having moved to head. What a change cannot follow,
// such as a branch that was used again for something else, is told in lines for the pusher.
func (s *Service) revisionsOf(ctx context.Context, repo *store.Repository, branch, head, pusher string) (out []pendingRevision, told []string, err error) {
	db := s.store.Read(ctx)
	var changes []store.Change
	if err := db.Where("repository_id = ? AND source = ? AND state IN ('draft', 'open')", repo.ID, branch).Find(&changes).Error; err != nil {
		return nil, nil, err
	}
	for _, c := range changes {
		last, err := revisionRow(db, c)
		if err != nil {
			return nil, nil, err
		}
		if last.Head == head {
			continue
		}
		p, err := s.revisionOf(ctx, repo, c, &last, head, pusher)
		if reached := (*bounds.Reached)(nil); err != nil && !aboutTheChange(err) && !errors.As(err, &reached) {
			return nil, nil, err // trouble of the service's own: the revision is made when it is over
		}
		if err != nil {
			s.log.Warn("no revision made", "repository", repo.Name, "change", c.Number, "error", err)
			told = append(told, fmt.Sprintf("Change %d, %q, stays at revision %d and does not follow: %v.", c.Number, c.Title, c.Revision, err))
			continue
		}
		out = append(out, p)
	}
	return out, told, nil
}

func revisionRow(db *gorm.DB, c store.Change) (store.Revision, error) {
	var r store.Revision
	err := db.Where("change_id = ? AND number = ?", c.ID, c.Revision).First(&r).Error
	return r, err
}

// revisionOf works out, with Git, what a head brings to the change's target.
func (s *Service) revisionOf(ctx context.Context, repo *store.Repository, c store.Change, last *store.Revision, head, pusher string) (pendingRevision, error) {
	bare := s.bare(repo)
	p := pendingRevision{change: c, row: store.Revision{Number: c.Revision + 1, Head: head, PushedBy: pusher, LastPusher: pusher, CreatedAt: s.now(), Paths: []string{}}}
	target, err := bare.Tip(ctx, "refs/heads/"+c.Target)
	if err != nil {
		return p, err
	}
	bases, err := bare.MergeBases(ctx, target, head)
	if err != nil {
		return p, err
	}
	if len(bases) == 0 {
		return p, invalid("source", "%s and %s share no history, so one cannot be brought into the other", c.Source, c.Target)
	}
	p.row.Base, p.row.Bases = bases[0], len(bases)
	if p.brought, err = bare.LogAll(ctx, head, []string{p.row.Base}, "change.commits"); err != nil {
		return p, err
	}
	p.row.Commits = kept(p.brought)
	files, err := bare.Diff(ctx, p.row.Base, head)
	if err != nil {
		return p, err
	}
	for _, f := range files {
		p.row.Paths = append(p.row.Paths, f.Path)
		if f.OldPath != "" {
			p.row.Paths = append(p.row.Paths, f.OldPath)
		}
		p.row.Added += f.Added
		p.row.Removed += f.Removed
	}
	p.row.Files = len(files)
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
		p.row.Authors, p.row.LastPusher = last.Authors, last.LastPusher
		if !p.row.SameAsLast {
			p.row.Authors, p.row.LastPusher = append(slices.Clone(last.Authors), pusher), pusher
		}
	} else {
		p.row.Authors = []string{pusher}
	}
	if p.row.Kind, err = s.revisionKind(ctx, repo, last, p.row); err != nil {
		return p, err
	}
	known := []string{p.row.Base}
	if last != nil {
		known = append(known, last.Head)
	}
	p.commits, err = bare.LogAll(ctx, head, known, "change.commits")
	return p, err
}

// aboutTheChange says whether an error is about what was asked for; any other is the service's own trouble.
func aboutTheChange(err error) bool {
	var p *Problem
	var reached *bounds.Reached
	return errors.As(err, &p) || errors.As(err, &reached) && (!strings.HasPrefix(reached.Name, "git.") || reached.Name == "git.output-bytes")
}

// mostTries is how often it is tried to make the revisions that follow from a move, before the move is put on record without
// them: nothing that somebody pushed may keep a repository from going on.
const mostTries = 3

// followed is revisionsOf for a move that is being put on record.
func (s *Service) followed(ctx context.Context, repo *store.Repository, i *store.Intent) ([]pendingRevision, []string, error) {
	branch := strings.TrimPrefix(i.Ref, "refs/heads/")
	revisions, told, err := s.revisionsOf(ctx, repo, branch, i.New, i.Actor)
	if err == nil || ctx.Err() != nil {
		return revisions, told, err
	}
	if s.tries.again(i.ID) < mostTries {
		return nil, nil, err
	}
	s.log.Error("CHANGES DO NOT FOLLOW THEIR BRANCH: their revisions could not be made", "repository", repo.Name, "branch", branch, "head", i.New, "error", err)
	return nil, []string{fmt.Sprintf("Changes from %s stay where they are: the service could not work out what came (%s). Push again to have it tried again.", branch, shortened(err.Error()))}, nil
}

// brings finds out what the commits of a revision bring one by one, and what of it the difference does not show.
func (s *Service) brings(ctx context.Context, repo *store.Repository, p *pendingRevision) error {
	if len(p.brought) == 1 && len(p.brought[0].Parents) == 1 && p.brought[0].Parents[0] == p.row.Base {
		return nil // the one commit is the difference
	}
	each, err := s.bare(repo).Brings(ctx, p.brought)
	if err != nil {
		return err
	}
	p.row.History = store.BroughtHistory{Files: each.Files, Added: each.Added, Removed: each.Removed}
	for _, path := range each.Paths {
		if !slices.Contains(p.row.Paths, path) {
			p.row.History.Hidden = append(p.row.History.Hidden, path)
		}
	}
	return nil
}

// compareEarlier compares a revision with the one before and with every one that somebody's word is still about: each for
// itself, never through those between.
func (s *Service) compareEarlier(ctx context.Context, repo *store.Repository, p *pendingRevision, last *store.Revision) error {
	db := s.store.Read(ctx)
	standing, err := standingReviews(db, p.change)
	if err != nil {
		return err
	}
	numbers := []int{last.Number}
	for _, r := range standing {
		numbers = append(numbers, r.Revision)
	}
	var rows []store.Revision
	if err := db.Where("change_id = ? AND number IN ?", p.change.ID, numbers).Order("number").Find(&rows).Error; err != nil {
		return err
	}
	p.row.SameAs = []int{}
	for _, r := range rows {
		same, err := s.bare(repo).Same(ctx, shownBy(r), shownBy(p.row), p.row.Base)
		if err != nil {
			return err
		}
		if same {
			p.row.SameAs = append(p.row.SameAs, r.Number)
		}
	}
	p.row.SameAsLast = slices.Contains(p.row.SameAs, last.Number)
	return nil
}

// shownBy is what a revision shows.
func shownBy(r store.Revision) git.Shown { return git.Shown{Base: r.Base, Head: r.Head} }

// revisionKind says what a revision did to the one before: "added" commits on top of it; "rebased" the same difference;
// "folded" fixups into their commits and nothing else; or "rewritten" it.
func (s *Service) revisionKind(ctx context.Context, repo *store.Repository, last *store.Revision, r store.Revision) (string, error) {
	if last == nil {
		return "first", nil
	}
	onTop, err := s.bare(repo).IsAncestor(ctx, last.Head, r.Head)
	switch {
	case err != nil:
		return "", err
	case onTop:
		return "added", nil
	case r.SameAsLast && fixups(last.Commits) > fixups(r.Commits):
		return "folded", nil
	case r.SameAsLast:
		return "rebased", nil
	}
	return "rewritten", nil
}

// fixups counts the commits that are meant to be folded into others.
func fixups(commits []store.BroughtCommit) int {
	n := 0
	for _, c := range commits {
		if gate.ForFolding(c.Message) {
			n++
		}
	}
	return n
}

// saveRevision records a revision: who counts as author of it is completed here, where the records are at hand.
func (s *Service) saveRevision(tx *tx, repo *store.Repository, p pendingRevision) error {
	more, err := contributors(tx.DB, repo, p)
	if err != nil {
		return err
	}
	wrote, err := commitAuthors(tx.DB, repo, p.brought)
	if err != nil {
		return err
	}
	p.row.CommitAuthors = slices.Compact(slices.Sorted(slices.Values(wrote)))
	p.row.Authors = slices.Compact(slices.Sorted(slices.Values(append(p.row.Authors, more...))))
	p.row.ChangeID = p.change.ID
	if err := tx.Create(&p.row).Error; err != nil {
		return err
	}
	if err := s.bare(repo).Keep(tx.Statement.Context, fmt.Sprintf("revisions/%d/%d", p.change.Number, p.row.Number), p.row.Head); err != nil {
		return err
	}
	if err := tx.Model(&p.change).Updates(map[string]any{"revision": p.row.Number, "updated_at": s.now()}).Error; err != nil {
		return err
	}
	what := map[string]string{"retargeted": "goes to " + p.change.Target, "first": "is the first", "added": "adds commits", "rebased": "brings the same difference, rebased", "folded": "folds fixups and nothing else",
		"rewritten": "changes the difference"}[p.row.Kind]
	err = tx.record(event{actor: p.row.PushedBy, kind: "change.revised", repo: repo, subject: fmt.Sprintf("change/%d", p.change.Number),
		text: fmt.Sprintf("%s made revision %d of change %d, which %s", p.row.PushedBy, p.row.Number, p.change.Number, what),
		data: map[string]any{"number": p.change.Number, "revision": p.row.Number, "head": p.row.Head, "base": p.row.Base, "same_difference": p.row.SameAsLast, "authors": p.row.Authors}})
	if err != nil {
		return err
	}
	p.change.Revision = p.row.Number
	if err := s.askReviewers(tx, repo, p.change, slices.Concat(p.row.Paths, p.row.History.Hidden)); err != nil {
		return err
	}
	g, err := s.gather(tx.DB, repo, p.change)
	if err != nil {
		return err
	}
	return s.askForHead(tx, repo, g)
}

// kept makes of a log what is kept of each commit with a revision.
func kept(log []git.Commit) []store.BroughtCommit {
	out := make([]store.BroughtCommit, len(log))
	for i, c := range log {
		message := c.Subject
		if c.Body != "" {
			message += "\n\n" + c.Body
		}
		signature, signed := c.Signature()
		out[i] = store.BroughtCommit{ID: c.ID, Message: message, Parents: len(c.Parents), Signed: signed, Key: signature.Key, BadSignature: signature.Bad, Reserved: c.Reserved()}
	}
	return out
}

var coAuthor = regexp.MustCompile(`(?im)^co-authored-by:\s*(.+)$`)

// contributors finds who else counts as author: whose push first brought a new commit of the difference, and whose
// registered address stands in one. A revision that brings what the one before brought adds nobody: a clean rebase
// neither launders nor spoils.
func contributors(db *gorm.DB, repo *store.Repository, p pendingRevision) ([]string, error) {
	logins := []string{p.change.OpenedBy}
	if p.row.SameAsLast {
		return logins, nil
	}
	wrote, err := commitAuthors(db, repo, p.commits)
	return append(logins, wrote...), err
}

// commitAuthors finds out whose push first brought the commits, and whose registered address stands in one as that of
// its author, committer or co-author.
func commitAuthors(db *gorm.DB, repo *store.Repository, commits []git.Commit) ([]string, error) {
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
	owners, err := ownersOfCommits(db, repo.ID, ids)
	if err != nil {
		return nil, err
	}
	var list []string
	for address := range addresses {
		list = append(list, address)
	}
	var registered []string
	err = db.Model(&store.Account{}).Where("email IN ? AND NOT robot", list).Pluck("login", &registered).Error
	return append(owners, registered...), err
}

// changeRow finds a change for an actor who needs at least a role in its repository.
func (s *Service) changeRow(db *gorm.DB, a Actor, name string, number int, need gate.Role) (*store.Repository, store.Change, error) {
	repo, err := s.reach(db, a, name, need)
	if err != nil {
		return nil, store.Change{}, err
	}
	var c store.Change
	err = db.Where("repository_id = ? AND number = ?", repo.ID, number).First(&c).Error
	return repo, c, orUnknown(err, "%s has no change %d", name, number)
}

// Change describes one change.
func (s *Service) Change(ctx context.Context, a Actor, name string, number int) (wire.Change, error) {
	db := s.store.Read(ctx)
	repo, c, err := s.changeRow(db, a, name, number, gate.Reader)
	if err != nil {
		return wire.Change{}, err
	}
	v, err := s.changeView(db, repo, c)
	v.DescriptionHTML = s.html(v.Description)
	if err != nil || (c.State != "open" && c.State != "draft") || !s.bare(repo).HasBranch(c.Target) {
		return v, err
	}
	v.Ahead, v.Behind, err = s.bare(repo).AheadBehind(ctx, v.Head, "refs/heads/"+c.Target)
	return v, err
}

func (s *Service) changeView(db *gorm.DB, repo *store.Repository, c store.Change) (wire.Change, error) {
	g, err := s.judgedOf(db, repo, c)
	if err != nil {
		return wire.Change{}, err
	}
	r, report, entry := g.revision, g.judge(), g.entry
	v := wire.Change{Repository: repo.Name, Number: c.Number, Title: c.Title, Description: c.Description, Source: c.Source, Target: c.Target,
		State: c.State, Revision: c.Revision, Head: r.Head, Base: r.Base, Ready: report.Ready, Summary: report.Summary, OpenedBy: c.OpenedBy,
		Authors: r.Authors, Files: r.Files, Added: r.Added, Removed: r.Removed, LandedCommit: c.LandedCommit, CreatedAt: c.CreatedAt, UpdatedAt: c.UpdatedAt}
	v.Hidden = r.History.Hidden[:min(len(r.History.Hidden), maxHidden)]
	v.SourceGone = (c.State == "open" || c.State == "draft") && !s.bare(repo).HasBranch(c.Source)
	v.Labels, v.Reviewers, v.DependsOn = []string{}, []wire.Reviewer{}, []int{}
	for _, d := range g.facts.Dependencies {
		v.DependsOn = append(v.DependsOn, d.Number)
	}
	v.Tickets = gate.Tickets(g.set, g.facts)
	if err := db.Model(&store.ChangeLabel{}).Where("change_id = ?", c.ID).Order("label").Pluck("label", &v.Labels).Error; err != nil {
		return v, err
	}
	var asked []store.ChangeReviewer
	if err := db.Where("change_id = ?", c.ID).Order("optional, who").Find(&asked).Error; err != nil {
		return v, err
	}
	for _, r := range asked {
		v.Reviewers = append(v.Reviewers, wire.Reviewer{Who: r.Who, Optional: r.Optional, Because: r.Because})
	}
	if v.Overrides, err = overrideViews(db.Where("change_id = ?", c.ID)); err != nil {
		return v, err
	}
	if entry != nil {
		view, err := s.entryView(db, repo, *entry)
		if err != nil {
			return v, err
		}
		v.Entry = &view
	}
	return v, nil
}

// ChangeQuery selects changes.
type ChangeQuery struct {
	State  string // draft, open, landed, closed; empty: draft and open; "all"
	Before int    // numbers below it; 0: from the newest
	Limit  int
	Target string // of that branch; empty: of any
	By     string // opened by
	Label  string
	Text   string // in the title or the source branch
}

const changesPage = 50

// Changes lists a repository's changes, newest first.
func (s *Service) Changes(ctx context.Context, a Actor, name string, q ChangeQuery) ([]wire.Change, error) {
	db := s.store.Read(ctx)
	repo, err := s.reach(db, a, name, gate.Reader)
	if err != nil {
		return nil, err
	}
	query := db.Where("repository_id = ?", repo.ID).Order("number DESC").Limit(min(max(q.Limit, 1), 200))
	if q.Limit == 0 {
		query = query.Limit(changesPage)
	}
	switch q.State {
	case "":
		query = query.Where("state IN ('draft', 'open')")
	case "draft", "open", "landed", "closed":
		query = query.Where("state = ?", q.State)
	case "all":
	default:
		return nil, invalid("state", "%q is not a state of a change: draft, open, landed, closed or all", q.State)
	}
	for column, value := range map[string]string{"target": q.Target, "opened_by": q.By} {
		if value != "" {
			query = query.Where(column+" = ?", value)
		}
	}
	if q.Label != "" {
		query = query.Where("EXISTS (SELECT 1 FROM change_labels l WHERE l.change_id = changes.id AND l.label = ?)", q.Label)
	}
	if q.Text != "" {
		query = query.Where("instr(lower(title), lower(?)) > 0 OR instr(lower(source), lower(?)) > 0", q.Text, q.Text)
	}
	if q.Before > 0 {
		query = query.Where("number < ?", q.Before)
	}
	var rows []store.Change
	if err := query.Find(&rows).Error; err != nil {
		return nil, err
	}
	out := []wire.Change{}
	for _, c := range rows {
		v, err := s.changeView(db, repo, c)
		if err != nil {
			return nil, err
		}
		out = append(out, v)
	}
	return out, nil
}

// CloseChange gives a change up; ReopenChange takes it up again.
func (s *Service) CloseChange(ctx context.Context, a Actor, name string, number int) (wire.Change, error) {
	return s.turn(ctx, a, name, number, "closed", "closing")
}

// ReopenChange takes a closed change up again, at its newest revision.
func (s *Service) ReopenChange(ctx context.Context, a Actor, name string, number int) (wire.Change, error) {
	return s.turn(ctx, a, name, number, "open", "reopening")
}

func (s *Service) turn(ctx context.Context, a Actor, name string, number int, to, what string) (wire.Change, error) {
	repo, c, err := s.changeRow(s.store.Read(ctx), a, name, number, gate.Writer)
	if err != nil {
		return wire.Change{}, err
	}
	unlock, err := s.writing(ctx, repo) // so that it does not land while it is closed
	if err != nil {
		return wire.Change{}, err
	}
	defer unlock()
	kind := map[string]string{"closed": "change.closed", "open": "change.reopened"}[to]
	var pending []pendingRevision
	if to == "open" {
		if pending, err = s.missed(ctx, repo, c, a.Login()); err != nil {
			return wire.Change{}, err
		}
	}
	err = s.write(ctx, func(tx *tx) error {
		_, c, err := s.changeRow(tx.DB, a, name, number, gate.Writer)
		if err == nil {
			err = s.mayEdit(tx.DB, a, repo, c, what)
		}
		if err != nil {
			return err
		}
		isOpen := c.State == "draft" || c.State == "open"
		if c.State == "landed" || isOpen == (to == "open") {
			return problem(Conflict, "change %d is %s; it cannot be %s", number, c.State, map[string]string{"closed": "closed", "open": "reopened"}[to])
		}
		if err := tx.Model(&c).Updates(map[string]any{"state": to, "updated_at": s.now()}).Error; err != nil {
			return err
		}
		word := strings.TrimPrefix(kind, "change.")
		if err := tx.record(event{actor: a.Login(), kind: kind, repo: repo, subject: fmt.Sprintf("change/%d", number), text: fmt.Sprintf("%s %s change %d", a.Login(), word, number)}); err != nil {
			return err
		}
		for _, p := range pending {
			p.change = c
			if err := s.saveRevision(tx, repo, p); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return wire.Change{}, err
	}
	return s.Change(ctx, a, name, number)
}

// missed works out the revision that a closed change did not get while its branch moved on.
func (s *Service) missed(ctx context.Context, repo *store.Repository, c store.Change, by string) ([]pendingRevision, error) {
	last, err := revisionRow(s.store.Read(ctx), c)
	if err != nil {
		return nil, err
	}
	head, err := s.bare(repo).Tip(ctx, "refs/heads/"+c.Source)
	if errors.Is(err, git.ErrNotFound) || head == last.Head {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	p, err := s.revisionOf(ctx, repo, c, &last, head, by)
	return []pendingRevision{p}, err
}

// Revisions lists a change's revisions, newest first, with the commits of each.
func (s *Service) Revisions(ctx context.Context, a Actor, name string, number int) ([]wire.Revision, error) {
	db := s.store.Read(ctx)
	repo, c, err := s.changeRow(db, a, name, number, gate.Reader)
	if err != nil {
		return nil, err
	}
	var rows []store.Revision
	if err := db.Where("change_id = ?", c.ID).Order("number DESC").Limit(100).Find(&rows).Error; err != nil {
		return nil, err
	}
	out := []wire.Revision{}
	for _, r := range rows {
		log, err := s.bare(repo).Log(ctx, r.Head, []string{r.Base}, 0, 100)
		if err != nil {
			return nil, err
		}
		commits, err := s.commitViews(db, repo, log, c.Target)
		if err != nil {
			return nil, err
		}
		known, err := gateCommits(db, repo.ID, r.Commits)
		if err != nil {
			return nil, err
		}
		for i := range commits {
			for _, k := range known {
				if k.ID == commits[i].ID {
					commits[i].Signature, commits[i].SignedBy = k.Signature.State.Words(), k.Signature.By
				}
			}
		}
		out = append(out, wire.Revision{Number: r.Number, Head: r.Head, Base: r.Base, PushedBy: r.PushedBy, SameDifference: r.SameAsLast, Kind: r.Kind,
			Files: r.Files, Added: r.Added, Removed: r.Removed, Commits: commits, CreatedAt: r.CreatedAt})
	}
	return out, nil
}

// NewReview is what a reviewer says.
type NewReview struct {
	Verdict  gate.Verdict
	Revision int // 0 is allowed for comments: the newest
	Text     string
	Gathered bool // send what was gathered with it
}

// Review records a reviewer's word on a revision. It answers "conflict" when that is no longer the newest.
func (s *Service) Review(ctx context.Context, a Actor, name string, number int, n NewReview) (wire.Review, error) {
	if err := prose("text", n.Text, MaxProse); err != nil {
		return wire.Review{}, err
	}
	if n.Verdict != gate.Approve && strings.TrimSpace(n.Text) == "" && !(n.Verdict == gate.Comment && n.Gathered) {
		return wire.Review{}, invalid("text", "say what you mean: an objection or a comment needs words")
	}
	n.Text = Mask(n.Text) // a token pasted by mistake is not shown to everybody
	var row store.Review
	err := s.write(ctx, func(tx *tx) error {
		repo, c, err := s.changeRow(tx.DB, a, name, number, gate.Reader)
		if err != nil {
			return err
		}
		if err := s.mayReview(tx.DB, a, repo, n.Verdict); err != nil {
			return err
		}
		if c.State != "draft" && c.State != "open" && n.Verdict != gate.Comment {
			return problem(Conflict, "change %d is %s; only an open change is reviewed", number, c.State)
		}
		if n.Verdict == gate.Comment && n.Revision == 0 {
			n.Revision = c.Revision
		}
		if n.Revision != c.Revision {
			return problem(Conflict, "conflict: the newest revision of change %d is %d, not %d: look at what came since (tavrin change diff %d --since %d) and say it again with --revision %d; what you gathered is kept",
				number, c.Revision, n.Revision, number, n.Revision, c.Revision)
		}
		sent := 0
		if n.Gathered {
			if sent, err = s.sendGathered(tx, a, repo, c); err != nil {
				return err
			}
		}
		if n.Verdict == gate.Comment && strings.TrimSpace(n.Text) == "" && sent == 0 {
			return invalid("text", "say what you mean: nothing was gathered, and a comment needs words")
		}
		teams, err := teamsOf(tx.DB, []string{a.Login()})
		if err != nil {
			return err
		}
		row = store.Review{ChangeID: c.ID, Revision: n.Revision, Login: a.Login(), Verdict: string(n.Verdict), Text: n.Text, Title: c.Title, Description: c.Description, Teams: teams[a.Login()], CreatedAt: s.now()}
		if err := tx.Create(&row).Error; err != nil {
			return err
		}
		if err := s.looked(tx, c, a, n.Revision); err != nil {
			return err
		}
		verb := map[gate.Verdict]string{gate.Approve: "approved", gate.Object: "objected to", gate.Comment: "commented on"}[n.Verdict]
		return tx.record(event{actor: a.Login(), kind: "review." + string(n.Verdict), repo: repo, subject: fmt.Sprintf("change/%d", number),
			text: fmt.Sprintf("%s %s revision %d of change %d", a.Login(), verb, n.Revision, number), data: map[string]any{"number": number, "revision": n.Revision, "text": n.Text}})
	})
	return s.reviewView(row, true, store.Change{Title: row.Title, Description: row.Description}), err
}

// mayReview refuses verdicts of robots and of those without a role of their own: that a repository is readable by
// all lets nobody block it.
func (s *Service) mayReview(db *gorm.DB, a Actor, repo *store.Repository, v gate.Verdict) error {
	private := *repo
	private.Public = false
	role, err := roleIn(db, a.account, &private)
	switch {
	case err != nil:
		return err
	case !a.Known():
		return problem(SignInNeeded, "sign in to review")
	case a.account.Robot && v != gate.Comment:
		return problem(Forbidden, "%s is a robot, and robots do not approve or object", a.Login())
	case a.scope != ScopeAll:
		return problem(Forbidden, "this token cannot review; it takes one of scope all")
	case v != gate.Comment && !role.AtLeast(gate.Reader):
		return problem(Forbidden, "%s has no role in %s and may only comment: ask a maintainer for one", a.Login(), repo.Name)
	}
	return nil
}

// reviewView describes a review of a change as it is now.
func (s *Service) reviewView(r store.Review, standing bool, c store.Change) wire.Review {
	v := wire.Review{ID: r.ID, By: r.Login, Revision: r.Revision, Verdict: r.Verdict, Text: r.Text, HTML: s.html(r.Text), Withdrawn: r.WithdrawnAt != nil,
		Standing: standing, CreatedAt: r.CreatedAt}
	if r.Title == "" { // from before it was kept
		return v
	}
	if r.Title != c.Title {
		v.Altered = append(v.Altered, fmt.Sprintf("the title was %q then", r.Title))
	}
	if r.Description != c.Description {
		v.Altered = append(v.Altered, "the description was another then")
	}
	return v
}

// Withdraw takes back one's standing approval or objection.
func (s *Service) Withdraw(ctx context.Context, a Actor, name string, number int) (wire.Review, error) {
	var out wire.Review
	err := s.write(ctx, func(tx *tx) error {
		repo, c, err := s.changeRow(tx.DB, a, name, number, gate.Reader)
		if err != nil {
			return err
		}
		standing, err := standingReviews(tx.DB, c)
		if err != nil {
			return err
		}
		i := slices.IndexFunc(standing, func(r store.Review) bool { return r.Login == a.Login() })
		if i < 0 || a.scope != ScopeAll {
			return problem(Conflict, "%s has no standing approval or objection on change %d", a.who(), number)
		}
		row := standing[i]
		now := s.now()
		row.WithdrawnAt = &now
		out = s.reviewView(row, false, c)
		if err := tx.Model(&row).Update("withdrawn_at", now).Error; err != nil {
			return err
		}
		noun := map[string]string{"approve": "approval", "object": "objection"}[row.Verdict]
		return tx.record(event{actor: a.Login(), kind: "review.withdrawn", repo: repo, subject: fmt.Sprintf("change/%d", number),
			text: fmt.Sprintf("%s withdrew the %s of revision %d of change %d", a.Login(), noun, row.Revision, number)})
	})
	return out, err
}

// standingReviews returns each person's newest approval or objection, unless that one is withdrawn.
func standingReviews(db *gorm.DB, c store.Change) ([]store.Review, error) {
	var rows []store.Review
	err := db.Where("change_id = ? AND verdict <> 'comment'", c.ID).Order("id").Find(&rows).Error
	newest := map[string]store.Review{}
	for _, r := range rows {
		newest[r.Login] = r
	}
	var out []store.Review
	for _, r := range newest {
		if r.WithdrawnAt == nil {
			out = append(out, r)
		}
	}
	slices.SortFunc(out, func(a, b store.Review) int { return int(a.ID - b.ID) })
	return out, err
}

// Reviews lists everything reviewers said of a change, oldest first.
func (s *Service) Reviews(ctx context.Context, a Actor, name string, number int) ([]wire.Review, error) {
	db := s.store.Read(ctx)
	_, c, err := s.changeRow(db, a, name, number, gate.Reader)
	if err != nil {
		return nil, err
	}
	standing, err := standingReviews(db, c)
	if err != nil {
		return nil, err
	}
	var rows []store.Review
	err = db.Where("change_id = ?", c.ID).Order("id").Find(&rows).Error
	out := []wire.Review{}
	for _, r := range rows {
		out = append(out, s.reviewView(r, slices.ContainsFunc(standing, func(x store.Review) bool { return x.ID == r.ID }), c))
	}
	return out, err
}
