package api

import (
	"context"

	"tavrin/internal/service"
	"tavrin/wire"
)

// InThread is the part of a path that names a discussion of a change.
type InThread struct {
	InChange
	Thread int64 `path:"thread" minimum:"1"`
}

// threads: discussions on lines, files, commits and changes.
func (s *server) threads() {
	const one = changePath + "/threads/{thread}"
	call(s, "GET", changePath+"/threads", "list-threads", "Discussions, oldest first, with where their lines are now", func(ctx context.Context, a service.Actor, q *InChange) ([]wire.Thread, error) {
		return s.Service.Threads(ctx, a, q.repository(), q.Number)
	})
	call(s, "POST", changePath+"/threads", "create-thread", "Begin a discussion", func(ctx context.Context, a service.Actor, q *struct {
		InChange
		Body struct {
			Revision int    `json:"revision,omitempty" minimum:"0" doc:"the one that was looked at; absent: the newest"`
			Commit   string `json:"commit,omitempty" doc:"of a commit of the change"`
			Path     string `json:"path,omitempty" doc:"of a file"`
			Before   bool   `json:"before,omitempty" doc:"the lines are those of the file before the change"`
			First    int    `json:"first_line,omitempty" doc:"counted from 1; absent: the whole file"`
			Last     int    `json:"last_line,omitempty" doc:"absent: the first"`
			Text     string `json:"text"`
			NoAnswer bool   `json:"no_answer,omitempty" doc:"it needs no answer, and never blocks"`
		}
	}) (wire.Thread, error) {
		return s.Service.BeginThread(ctx, a, q.repository(), q.Number, service.NewThread(q.Body))
	})
	type words struct {
		Text string `json:"text"`
	}
	call(s, "POST", one+"/remarks", "create-remark", "Reply in a discussion", func(ctx context.Context, a service.Actor, q *struct {
		InThread
		Body words
	}) (wire.Thread, error) {
		return s.Service.Reply(ctx, a, q.repository(), q.Number, q.Thread, q.Body.Text)
	})
	call(s, "PUT", one+"/remarks/{remark}", "put-remark", "Alter one's own remark; what it said before is kept", func(ctx context.Context, a service.Actor, q *struct {
		InThread
		Remark int64 `path:"remark" minimum:"1"`
		Body   words
	}) (wire.Thread, error) {
		return s.Service.EditRemark(ctx, a, q.repository(), q.Number, q.Thread, q.Remark, q.Body.Text)
	})
	call(s, "PUT", one+"/settled", "put-settled", "Settle a discussion, or open it again", func(ctx context.Context, a service.Actor, q *struct {
		InThread
		Body struct {
			Settled bool   `json:"settled"`
			Outcome string `json:"outcome,omitempty" doc:"what came of it, or the ticket that takes it further"`
		}
	}) (wire.Thread, error) {
		return s.Service.Settle(ctx, a, q.repository(), q.Number, q.Thread, q.Body.Settled, q.Body.Outcome)
	})
}
