package client

import (
	"context"
	"fmt"
	"net/http"

	"tavrin/wire"
)

// threads is the part of the client about discussions.
type threads struct{ *connection }

// NewThread is what a discussion is begun with.
type NewThread struct {
	Revision int     `json:"revision,omitempty"` // 0: the newest
	Commit   string  `json:"commit,omitempty"`   // of a commit of the change
	Path     string  `json:"path,omitempty"`     // of a file
	Before   bool    `json:"before,omitempty"`   // the lines are those of the file before the change
	First    int     `json:"first_line,omitempty"`
	Last     int     `json:"last_line,omitempty"`
	Text     string  `json:"text,omitempty"`
	NoAnswer bool    `json:"no_answer,omitempty"`  // it needs no answer, and never blocks
	Suggest  *string `json:"suggestion,omitempty"` // what the lines should be; empty: they should go
}

// Threads lists a change's discussions, oldest first.
func (c threads) Threads(ctx context.Context, repo string, number int) ([]wire.Thread, error) {
	return get[[]wire.Thread](ctx, c, changePath(repo, number)+"/threads")
}

// BeginThread begins a discussion.
func (c threads) BeginThread(ctx context.Context, repo string, number int, n NewThread) (wire.Thread, error) {
	return post[wire.Thread](ctx, c, changePath(repo, number)+"/threads", n)
}

// Reply says something in a discussion; suggest is what its lines should be, nil for words only.
func (c threads) Reply(ctx context.Context, repo string, number int, thread int64, text string,
	suggest *string) (wire.Thread, error) {
	return post[wire.Thread](ctx, c, threadPath(repo, number, thread)+"/comments",
		NewThread{Text: text, Suggest: suggest})
}

// ApplySuggestions applies suggestions, as one commit of the caller's on the source branch.
func (c threads) ApplySuggestions(ctx context.Context, repo string, number int, comments []int64) (wire.Change, error) {
	return post[wire.Change](ctx, c, changePath(repo, number)+"/apply",
		map[string]any{"comments": append([]int64{}, comments...)})
}

// SaveDraft keeps a comment for a review that is not sent yet: one that begins a discussion, or, where thread is not 0, a
// reply.
func (c threads) SaveDraft(ctx context.Context, repo string, number int, thread int64,
	n NewThread) (wire.DraftComment, error) {
	path := changePath(repo, number) + "/drafts"
	if thread != 0 {
		path += fmt.Sprintf("?thread=%d", thread)
	}
	return post[wire.DraftComment](ctx, c, path, n)
}

// Drafts lists the caller's draft comments on a change.
func (c threads) Drafts(ctx context.Context, repo string, number int) ([]wire.DraftComment, error) {
	return get[[]wire.DraftComment](ctx, c, changePath(repo, number)+"/drafts")
}

// DropDraft deletes a draft comment.
func (c threads) DropDraft(ctx context.Context, repo string, number int, id int64) error {
	return c.Call(ctx, http.MethodDelete, fmt.Sprintf("%s/drafts/%d", changePath(repo, number), id), nil, nil)
}

// EditComment alters one's own comment.
func (c threads) EditComment(ctx context.Context, repo string, number int, thread, comment int64,
	text string) (wire.Thread, error) {
	var out wire.Thread
	err := c.Call(ctx, http.MethodPut, fmt.Sprintf("%s/comments/%d", threadPath(repo, number, thread), comment),
		map[string]string{"text": text}, &out)
	return out, err
}

// Resolve resolves a discussion, with what came of it, or opens it again.
func (c threads) Resolve(ctx context.Context, repo string, number int, thread int64, resolved bool,
	outcome string) (wire.Thread, error) {
	var out wire.Thread
	err := c.Call(ctx, http.MethodPut, threadPath(repo, number, thread)+"/resolved",
		map[string]any{"resolved": resolved, "outcome": outcome}, &out)
	return out, err
}
