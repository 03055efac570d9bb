package api

import (
	"context"

	"tavrin/internal/accounts"
	"tavrin/internal/changes"
	"tavrin/internal/core/change"
	"tavrin/internal/git/rehearsal"
	"tavrin/wire"
)

// changes: changes, their revisions and reviews, and the gate.
func (s *server) changes() {
	call(s, "GET", repoPath+"/changes", "list-changes", "Changes, newest first",
		func(ctx context.Context, a accounts.Actor, q *struct {
			InRepo
			State  string `query:"state" enum:"draft,open,landed,closed,all" doc:"absent: draft and open"`
			Before int    `query:"before" minimum:"0"`
			Limit  int    `query:"limit" minimum:"0" maximum:"200"`
			Target string `query:"target" doc:"of that branch"`
			By     string `query:"by" doc:"opened by that login"`
			Label  string `query:"label"`
			Text   string `query:"text" maxLength:"200" doc:"in the title or the source branch, whatever the case"`
		}) ([]wire.Change, error) {
			return s.Service.Changes.Changes(ctx, a, q.repository(),
				changes.ChangeQuery{State: q.State, Before: q.Before, Limit: q.Limit, Target: q.Target, By: q.By,
					Label: q.Label, Text: q.Text})
		})
	call(s, "POST", repoPath+"/changes", "create-change", "Open a change",
		func(ctx context.Context, a accounts.Actor, q *struct {
			InRepo
			Body struct {
				Source      string  `json:"source"`
				Target      string  `json:"target,omitempty" doc:"absent: the default branch"`
				Title       string  `json:"title"`
				Description *string `json:"description,omitempty" doc:"absent: as the rules have new changes begin"`
				Draft       bool    `json:"draft,omitempty"`
				DependsOn   []int   `json:"depends_on,omitempty" doc:"numbers of changes that it waits for"`
			}
		}) (wire.Change, error) {
			return s.Service.Changes.OpenChange(ctx, a, q.repository(), changes.NewChange(q.Body))
		})
	call(s, "GET", changePath, "get-change", "One change", func(ctx context.Context, a accounts.Actor,
		q *InChange) (wire.Change, error) {
		return s.Service.Changes.Change(ctx, a, q.repository(), q.Number)
	})
	call(s, "PATCH", changePath, "edit-change", "Alter title, description, draft state, target, or what it depends on",
		func(ctx context.Context, a accounts.Actor, q *struct {
			InChange
			Body struct {
				Title       *string `json:"title,omitempty"`
				Description *string `json:"description,omitempty"`
				Draft       *bool   `json:"draft,omitempty"`
				Target      *string `json:"target,omitempty" doc:"another branch to go to: a new revision is made, and it leaves the queue"`
				DependsOn   *[]int  `json:"depends_on,omitempty" doc:"numbers of the changes that it waits for, in place of those before"`
			}
		}) (wire.Change, error) {
			return s.Service.Changes.EditChange(ctx, a, q.repository(), q.Number, changes.ChangeEdit(q.Body))
		})
	call(s, "GET", repoPath+"/preview", "get-preview", "What a change would meet that is not opened yet",
		func(ctx context.Context, a accounts.Actor, q *struct {
			InRepo
			Source string `query:"source" required:"true"`
			Target string `query:"target" doc:"absent: the default branch"`
			Title  string `query:"title"`
		}) (wire.Preview, error) {
			return s.Service.Landing.Preview(ctx, a, q.repository(),
				changes.NewChange{Source: q.Source, Target: q.Target, Title: q.Title})
		})
	call(s, "POST", changePath+"/update", "update-branch", "Update the source branch to its target",
		func(ctx context.Context, a accounts.Actor, q *struct {
			InChange
			Body struct {
				By string `json:"by,omitempty" enum:"rebase,merge" doc:"absent: rebase"`
			}
		}) (wire.Change, error) {
			return s.Service.Intake.UpdateBranch(ctx, a, q.repository(), q.Number, rehearsal.Strategy(q.Body.By))
		})
	call(s, "POST", changePath+"/close", "close-change", "Give a change up",
		func(ctx context.Context, a accounts.Actor, q *InChange) (wire.Change, error) {
			return s.Service.Changes.CloseChange(ctx, a, q.repository(), q.Number)
		})
	call(s, "POST", changePath+"/reopen", "reopen-change", "Take a closed change up again",
		func(ctx context.Context, a accounts.Actor, q *InChange) (wire.Change, error) {
			return s.Service.Changes.ReopenChange(ctx, a, q.repository(), q.Number)
		})
	call(s, "GET", changePath+"/gate", "get-gate", "What still stands between a change and its target",
		func(ctx context.Context, a accounts.Actor, q *InChange) (wire.Report, error) {
			return s.Service.Facts.Gate(ctx, a, q.repository(), q.Number)
		})
	call(s, "GET", changePath+"/landing", "get-landing", "How a change landed, with its statement",
		func(ctx context.Context, a accounts.Actor, q *InChange) (wire.Landing, error) {
			return s.Service.Facts.Landing(ctx, a, q.repository(), q.Number)
		})
	call(s, "GET", changePath+"/revisions", "list-revisions", "A change's revisions, newest first",
		func(ctx context.Context, a accounts.Actor, q *InChange) ([]wire.Revision, error) {
			return s.Service.Reading.Revisions(ctx, a, q.repository(), q.Number)
		})
	call(s, "GET", changePath+"/reviews", "list-reviews", "What reviewers said, oldest first",
		func(ctx context.Context, a accounts.Actor, q *InChange) ([]wire.Review, error) {
			return s.Service.Changes.Reviews(ctx, a, q.repository(), q.Number)
		})
	call(s, "POST", changePath+"/reviews", "create-review", "Approve, object or comment",
		func(ctx context.Context, a accounts.Actor, q *struct {
			InChange
			Body struct {
				Verdict  string `json:"verdict" enum:"approve,object,comment"`
				Revision int    `json:"revision,omitempty" minimum:"0" doc:"the one that was read; a comment may leave it out"`
				Text     string `json:"text,omitempty" doc:"Markdown"`
				Drafts   bool   `json:"drafts,omitempty" doc:"send your draft comments with it, in one go"`
			}
		}) (wire.Review, error) {
			return s.Service.Changes.Review(ctx, a, q.repository(), q.Number,
				changes.NewReview{Verdict: change.Verdict(q.Body.Verdict), Revision: q.Body.Revision, Text: q.Body.Text,
					Drafts: q.Body.Drafts})
		})
	call(s, "POST", changePath+"/withdraw", "withdraw-review", "Take back your approval or objection",
		func(ctx context.Context, a accounts.Actor, q *InChange) (wire.Review, error) {
			return s.Service.Changes.Withdraw(ctx, a, q.repository(), q.Number)
		})
}
