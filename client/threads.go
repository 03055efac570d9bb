package client

import (
	"context"

	"tavrin/wire"
)

// threads is the part of the client about discussions.
type threads struct{ *connection }

// Threads lists a change's discussions, oldest first.
func (c threads) Threads(ctx context.Context, repo string, number int) ([]wire.Thread, error) {
	return do(ctx, c.connection, wire.ListThreads, inChange(repo, number))
}

// BeginThread begins a discussion.
func (c threads) BeginThread(ctx context.Context, repo string, number int, n wire.NewThread) (wire.Thread, error) {
	return do(ctx, c.connection, wire.CreateThread, onChange(repo, number, n))
}

// Reply says something in a discussion.
func (c threads) Reply(ctx context.Context, repo string, number int, thread int64, n wire.NewComment) (wire.Thread, error) {
	return do(ctx, c.connection, wire.CreateComment, wire.ThreadBody[wire.NewComment]{InThread: inThread(repo, number, thread),
		Body: n})
}

// EditComment alters one's own comment.
func (c threads) EditComment(ctx context.Context, repo string, number int, thread, comment int64,
	text string) (wire.Thread, error) {
	return do(ctx, c.connection, wire.PutComment, wire.CommentEdited{InThread: inThread(repo, number, thread), Comment: comment,
		Body: wire.NewText{Text: text}})
}

// Resolve resolves a discussion, with what came of it, or opens it again.
func (c threads) Resolve(ctx context.Context, repo string, number int, thread int64, resolved bool,
	text string) (wire.Thread, error) {
	return do(ctx, c.connection, wire.PutResolved, wire.ThreadBody[wire.Resolution]{InThread: inThread(repo, number, thread),
		Body: wire.Resolution{Resolved: resolved, Text: text}})
}

// ApplySuggestions applies suggestions, as one commit of the caller's on the source branch.
func (c threads) ApplySuggestions(ctx context.Context, repo string, number int, comments []int64) (wire.Change, error) {
	return do(ctx, c.connection, wire.ApplySuggestions, onChange(repo, number, wire.AppliedSuggestions{Comments: append([]int64{}, comments...)}))
}

// SaveDraft keeps a comment for a review that is not sent yet: one that begins a discussion, or, where thread is not 0, a
// reply.
func (c threads) SaveDraft(ctx context.Context, repo string, number int, thread int64,
	n wire.NewThread) (wire.DraftComment, error) {
	return do(ctx, c.connection, wire.CreateDraft, wire.DraftSaved{InChange: inChange(repo, number), Thread: thread, Body: n})
}

// Drafts lists the caller's draft comments on a change.
func (c threads) Drafts(ctx context.Context, repo string, number int) ([]wire.DraftComment, error) {
	return do(ctx, c.connection, wire.ListDrafts, inChange(repo, number))
}

// DeleteDraft deletes a draft comment.
func (c threads) DeleteDraft(ctx context.Context, repo string, number int, id int64) error {
	return none(do(ctx, c.connection, wire.DeleteDraft, wire.OneDraft{InChange: inChange(repo, number), ID: id}))
}

// LayOut shows how a text in Markdown will be laid out.
func (c threads) LayOut(ctx context.Context, text string) (wire.Laid, error) {
	return do(ctx, c.connection, wire.LayOut, just(wire.NewText{Text: text}))
}
