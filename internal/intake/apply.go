package intake

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"tavrin/internal/accounts"
	"tavrin/internal/core/carry"
	"tavrin/internal/core/people"
	"tavrin/internal/facts"
	"tavrin/internal/git"
	"tavrin/internal/git/transport"
	"tavrin/internal/hosted"
	"tavrin/internal/problem"
	"tavrin/internal/records"
	"tavrin/wire"
)

// maxApplied is how many suggestions are applied at once.
const maxApplied = 50

// suggestion is one that is about to be applied: the comment, its thread, and where its lines are now.
type suggestion struct {
	comment records.Comment
	thread  records.Thread
	now     wire.Lines
}

// ApplySuggestions applies suggestions: one commit of the actor's on the source branch, with who suggested them as co-authors.
// The discussions are resolved with it.
func (s *Intake) ApplySuggestions(ctx context.Context, a accounts.Actor, name string, number int,
	comments []int64) (wire.Change, error) {
	db := s.records.Read(ctx)
	repo, c, err := facts.ChangeRow(db, a, name, number, people.Writer)
	if err != nil {
		return wire.Change{}, err
	}
	if err := facts.MayEdit(db, a, repo, c, "taking suggestions into"); err != nil {
		return wire.Change{}, err
	}
	switch {
	case c.State != "draft" && c.State != "open":
		return wire.Change{}, problem.New(problem.Conflict, "change %d is %s; only an open change applies suggestions",
			number, c.State)
	case len(comments) == 0 || len(comments) > maxApplied:
		return wire.Change{}, problem.Wrong("comments", "name the comments whose suggestions to apply, at most %d",
			maxApplied)
	}
	head, err := s.disk.Bare(repo).Tip(ctx, "refs/heads/"+c.Source)
	if err != nil {
		return wire.Change{}, problem.New(problem.Conflict, "the source branch %s is gone", c.Source)
	}
	r, err := facts.RevisionRow(db, c)
	if err != nil {
		return wire.Change{}, err
	}
	if head != r.Head {
		return wire.Change{}, problem.New(problem.Conflict, "%s has just moved; look at the newest revision and say "+
			"it again", c.Source)
	}
	var all []suggestion
	for _, id := range slices.Compact(slices.Sorted(slices.Values(comments))) {
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
	me := git.Signature{Name: a.Account().Name, Email: a.Account().Email, When: s.records.Now()}
	commit, err := s.disk.Bare(repo).CommitFiles(ctx, head, files, me, me, message)
	if err != nil {
		return wire.Change{}, err
	}
	takes := make([]int64, len(all))
	for i, x := range all {
		takes[i] = x.comment.ID
	}
	if err := s.pushFor(ctx, a, repo, transport.Update{Ref: "refs/heads/" + c.Source, Old: head, New: commit},
		takes); err != nil {
		return wire.Change{}, err
	}
	return s.changes.Change(ctx, a, name, number)
}

// suggested finds a suggestion, and where its lines are in the newest revision.
func (s *Intake) suggested(ctx context.Context, repo *records.Repository, c records.Change,
	id int64) (suggestion, error) {
	db := s.records.Read(ctx)
	var x suggestion
	err := db.Joins("JOIN threads t ON t.id = comments.thread_id AND t.change_id = ?", c.ID).Where("comments.id = ?",
		id).First(&x.comment).Error
	if err != nil {
		return x, records.OrUnknown(err, "change %d has no comment %d: tavrin thread list %d", c.Number, id, c.Number)
	}
	if err := db.First(&x.thread, x.comment.ThreadID).Error; err != nil {
		return x, err
	}
	switch {
	case x.comment.Suggestion == nil:
		return x, problem.New(problem.Conflict, "comment %d suggests nothing", id)
	case x.comment.AppliedAs != "":
		return x, problem.New(problem.Conflict, "%s applied comment %d already, as %.10s", x.comment.AppliedBy, id,
			x.comment.AppliedAs)
	}
	now, _, err := s.threads.Carried(ctx, db, repo, c, x.thread)
	if err != nil {
		return x, err
	}
	if now == nil {
		return x, problem.New(problem.Conflict, "the lines that comment %d is about have changed since; there is "+
			"nothing to put it in the place of", id)
	}
	x.now = *now
	return x, nil
}

// replacedFiles puts suggestions into the files of a commit.
func (s *Intake) replacedFiles(ctx context.Context, repo *records.Repository, head string,
	all []suggestion) ([]git.Written, error) {
	byPath := map[string][]carry.Replacement{}
	for _, x := range all {
		byPath[x.now.Path] = append(byPath[x.now.Path], carry.Replacement{First: x.now.First, Last: x.now.Last,
			Text: *x.comment.Suggestion})
	}
	var files []git.Written
	for path, with := range byPath {
		text, more, err := s.disk.Bare(repo).File(ctx, head, path, hosted.MaxFileBytes)
		if err != nil {
			return nil, err
		}
		if more {
			return nil, problem.New(problem.Conflict, "%s is too large to be changed here: take the suggestion in "+
				"by hand", path)
		}
		changed, err := carry.Replace(text, with...)
		if err != nil {
			return nil, problem.New(problem.Conflict, "the suggestions do not go together in %s: %v; take them in "+
				"one after the other", path, err)
		}
		files = append(files, git.Written{Path: path, Text: changed})
	}
	slices.SortFunc(files, func(a, b git.Written) int { return strings.Compare(a.Path, b.Path) })
	return files, nil
}

// takingMessage is the message of the commit that applies suggestions.
func (s *Intake) takingMessage(ctx context.Context, a accounts.Actor, all []suggestion) (string, error) {
	var by, paths []string
	for _, x := range all {
		if !slices.Contains(by, x.comment.Login) {
			by = append(by, x.comment.Login)
		}
		if !slices.Contains(paths, x.now.Path) {
			paths = append(paths, x.now.Path)
		}
	}
	subject := fmt.Sprintf("Apply what %s suggested for %s", strings.Join(by, " and "), strings.Join(paths, ", "))
	if len(subject) > 72 {
		subject = fmt.Sprintf("Apply what %s suggested", strings.Join(by, " and "))
	}
	message := subject + "\n"
	for _, login := range by {
		account, err := accounts.AccountByLogin(s.records.Read(ctx), login)
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
