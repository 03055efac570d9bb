package client

import (
	"context"
	"fmt"
	"net/http"

	"tavrin/wire"
)

// NewThread is what a discussion is begun with.
type NewThread struct {
	Revision int    `json:"revision,omitempty"` // 0: the newest
	Commit   string `json:"commit,omitempty"`   // of a commit of the change
	Path     string `json:"path,omitempty"`     // of a file
	Before   bool   `json:"before,omitempty"`   // the lines are those of the file before the change
	First    int    `json:"first_line,omitempty"`
	Last     int    `json:"last_line,omitempty"`
	Text     string `json:"text"`
	NoAnswer bool   `json:"no_answer,omitempty"` // it needs no answer, and never blocks
}

func threadPath(repo string, number int, thread int64) string {
	return fmt.Sprintf("%s/threads/%d", changePath(repo, number), thread)
}

// Threads lists a change's discussions, oldest first.
func (c *Client) Threads(ctx context.Context, repo string, number int) ([]wire.Thread, error) {
	return get[[]wire.Thread](ctx, c, changePath(repo, number)+"/threads")
}

// BeginThread begins a discussion.
func (c *Client) BeginThread(ctx context.Context, repo string, number int, n NewThread) (wire.Thread, error) {
	return post[wire.Thread](ctx, c, changePath(repo, number)+"/threads", n)
}

// Reply says something in a discussion.
func (c *Client) Reply(ctx context.Context, repo string, number int, thread int64, text string) (wire.Thread, error) {
	return post[wire.Thread](ctx, c, threadPath(repo, number, thread)+"/remarks", map[string]string{"text": text})
}

// EditRemark alters one's own remark.
func (c *Client) EditRemark(ctx context.Context, repo string, number int, thread, remark int64, text string) (wire.Thread, error) {
	var out wire.Thread
	err := c.Call(ctx, http.MethodPut, fmt.Sprintf("%s/remarks/%d", threadPath(repo, number, thread), remark), map[string]string{"text": text}, &out)
	return out, err
}

// Settle settles a discussion, with what came of it, or opens it again.
func (c *Client) Settle(ctx context.Context, repo string, number int, thread int64, settled bool, outcome string) (wire.Thread, error) {
	var out wire.Thread
	err := c.Call(ctx, http.MethodPut, threadPath(repo, number, thread)+"/settled", map[string]any{"settled": settled, "outcome": outcome}, &out)
	return out, err
}
