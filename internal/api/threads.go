package api

import (
	"context"

	"tavrin/internal/accounts"
	"tavrin/internal/changes"
	"tavrin/wire"
)

// InThread is the part of a path that names a discussion of a change.
type InThread struct {
	InChange
	Thread int64 `path:"thread" minimum:"1"`
}

// beginning is what a discussion is begun with.
type beginning struct {
	Revision int     `json:"revision,omitempty" minimum:"0" doc:"the one that was looked at; absent: the newest"`
	Commit   string  `json:"commit,omitempty" doc:"of a commit of the change"`
	Path     string  `json:"path,omitempty" doc:"of a file"`
	Before   bool    `json:"before,omitempty" doc:"the lines are those of the file before the change"`
	First    int     `json:"first_line,omitempty" doc:"counted from 1; absent: the whole file"`
	Last     int     `json:"last_line,omitempty" doc:"absent: the first"`
	Text     string  `json:"text,omitempty" doc:"Markdown; may be left out beside a suggestion"`
	NoAnswer bool    `json:"no_answer,omitempty" doc:"it needs no answer, and never blocks"`
	Suggest  *string `json:"suggestion,omitempty" doc:"what the lines should be; empty: they should go"`
}

// threads: discussions on lines, files, commits and changes.
func (s *server) threads() {
	const one = changePath + "/threads/{thread}"
	call(s, "GET", changePath+"/threads", "list-threads", "Discussions, oldest first, with where their lines are now",
		func(ctx context.Context, a accounts.Actor, q *InChange) ([]wire.Thread, error) {
			return s.Service.Threads.Threads(ctx, a, q.repository(), q.Number)
		})
	call(s, "POST", changePath+"/threads", "create-thread", "Begin a discussion",
		func(ctx context.Context, a accounts.Actor, q *struct {
			InChange
			Body beginning
		}) (wire.Thread, error) {
			return s.Service.Threads.BeginThread(ctx, a, q.repository(), q.Number, changes.NewThread(q.Body))
		})
	type words struct {
		Text string `json:"text"`
	}
	type reply struct {
		Text    string  `json:"text,omitempty" doc:"Markdown; may be left out beside a suggestion"`
		Suggest *string `json:"suggestion,omitempty" doc:"what the discussion's lines should be; empty: they should go"`
	}
	call(s, "POST", one+"/comments", "create-comment", "Reply in a discussion",
		func(ctx context.Context, a accounts.Actor, q *struct {
			InThread
			Body reply
		}) (wire.Thread, error) {
			return s.Service.Threads.Reply(ctx, a, q.repository(), q.Number, q.Thread, q.Body.Text, q.Body.Suggest)
		})
	call(s, "POST", changePath+"/apply", "apply-suggestions", "Apply suggestions, as one commit of yours on "+
		"the source branch", func(ctx context.Context, a accounts.Actor, q *struct {
		InChange
		Body struct {
			Comments []int64 `json:"comments" doc:"whose suggestions to apply"`
		}
	}) (wire.Change, error) {
		return s.Service.Intake.ApplySuggestions(ctx, a, q.repository(), q.Number, q.Body.Comments)
	})
	call(s, "GET", changePath+"/drafts", "list-drafts", "Your draft comments: not sent, "+
		"oldest first", func(ctx context.Context, a accounts.Actor, q *InChange) ([]wire.DraftComment, error) {
		return s.Service.Threads.Drafts(ctx, a, q.repository(), q.Number)
	})
	call(s, "POST", changePath+"/drafts", "create-draft", "Save a draft comment for a review",
		func(ctx context.Context, a accounts.Actor, q *struct {
			InChange
			Thread int64 `query:"thread" minimum:"0" doc:"the discussion it replies in; absent: it begins one"`
			Body   beginning
		}) (wire.DraftComment, error) {
			return s.Service.Threads.SaveDraft(ctx, a, q.repository(), q.Number, q.Thread, changes.NewThread(q.Body))
		})
	call(s, "DELETE", changePath+"/drafts/{id}", "delete-draft", "Delete a draft comment",
		func(ctx context.Context, a accounts.Actor, q *struct {
			InChange
			ID int64 `path:"id" minimum:"1"`
		}) (done, error) {
			return done{true}, s.Service.Threads.DropDraft(ctx, a, q.repository(), q.Number, q.ID)
		})
	call(s, "POST", base+"/markdown", "lay-out", "Show how a text will be laid out",
		func(_ context.Context, a accounts.Actor, q *struct{ Body words }) (wire.Laid, error) {
			html, err := s.Service.Threads.LayOut(a, q.Body.Text)
			return wire.Laid{HTML: html}, err
		})
	call(s, "PUT", one+"/comments/{comment}", "put-comment", "Alter one's own comment; what it said before is kept",
		func(ctx context.Context, a accounts.Actor, q *struct {
			InThread
			Comment int64 `path:"comment" minimum:"1"`
			Body    words
		}) (wire.Thread, error) {
			return s.Service.Threads.EditComment(ctx, a, q.repository(), q.Number, q.Thread, q.Comment, q.Body.Text)
		})
	call(s, "PUT", one+"/resolved", "put-resolved", "Resolve a discussion, or open it again",
		func(ctx context.Context, a accounts.Actor, q *struct {
			InThread
			Body struct {
				Resolved bool   `json:"resolved"`
				Outcome  string `json:"outcome,omitempty" doc:"what came of it, or the ticket that takes it further"`
			}
		}) (wire.Thread, error) {
			return s.Service.Threads.Resolve(ctx, a, q.repository(), q.Number, q.Thread, q.Body.Resolved, q.Body.Outcome)
		})
}
