package client

import (
	"context"
	"net/http"
	"net/url"
	"strconv"

	"tavrin/wire"
)

// changes is the part of the client about changes, their revisions and how they read.
type changes struct{ *connection }

// NewChange is what a change is made from.
type NewChange struct {
	Source      string `json:"source"`
	Target      string `json:"target,omitempty"`
	Title       string `json:"title"`
	Description string `json:"description,omitempty"` // empty: as the rules have new changes begin
	Draft       bool   `json:"draft,omitempty"`
	DependsOn   []int  `json:"depends_on,omitempty"` // numbers of changes that it waits for
}

// OpenChange opens a change.
func (c changes) OpenChange(ctx context.Context, repo string, n NewChange) (wire.Change, error) {
	return post[wire.Change](ctx, c, repoPath(repo)+"/changes", n)
}

// ChangeQuery selects changes; what is empty selects nothing out.
type ChangeQuery struct {
	State  string // draft, open, landed, closed or all; empty: draft and open
	Target string
	By     string // opened by
	Label  string
	Text   string // in the title or the source branch
	Before int    // numbers below it, for the next page
	Limit  int
}

// Changes lists changes, newest first.
func (c changes) Changes(ctx context.Context, repo string, q ChangeQuery) ([]wire.Change, error) {
	return get[[]wire.Change](ctx, c, repoPath(repo)+"/changes", "state", q.State, "target", q.Target, "by", q.By,
		"label", q.Label, "text", q.Text,
		"before", strconv.Itoa(q.Before), "limit", strconv.Itoa(q.Limit))
}

// Change describes one change.
func (c changes) Change(ctx context.Context, repo string, number int) (wire.Change, error) {
	return get[wire.Change](ctx, c, changePath(repo, number))
}

// ChangeEdit is what is to be altered; nil leaves a part as it is.
type ChangeEdit struct {
	Title       *string `json:"title,omitempty"`
	Description *string `json:"description,omitempty"`
	Draft       *bool   `json:"draft,omitempty"`
	Target      *string `json:"target,omitempty"`
	DependsOn   *[]int  `json:"depends_on,omitempty"`
}

// UpdateBranch updates a change's source branch to its target, by rebase (the default) or merge.
func (c changes) UpdateBranch(ctx context.Context, repo string, number int, by string) (wire.Change, error) {
	return post[wire.Change](ctx, c, changePath(repo, number)+"/update", map[string]string{"by": by})
}

// EditChange alters a change.
func (c changes) EditChange(ctx context.Context, repo string, number int, e ChangeEdit) (wire.Change, error) {
	var out wire.Change
	return out, c.Call(ctx, http.MethodPatch, changePath(repo, number), e, &out)
}

// CloseChange gives a change up.
func (c changes) CloseChange(ctx context.Context, repo string, number int) (wire.Change, error) {
	return post[wire.Change](ctx, c, changePath(repo, number)+"/close", nil)
}

// ReopenChange takes a closed change up again.
func (c changes) ReopenChange(ctx context.Context, repo string, number int) (wire.Change, error) {
	return post[wire.Change](ctx, c, changePath(repo, number)+"/reopen", nil)
}

// Gate gives a change's gate report.
func (c changes) Gate(ctx context.Context, repo string, number int) (wire.Report, error) {
	return get[wire.Report](ctx, c, changePath(repo, number)+"/gate")
}

// Revisions lists a change's revisions.
func (c changes) Revisions(ctx context.Context, repo string, number int) ([]wire.Revision, error) {
	return get[[]wire.Revision](ctx, c, changePath(repo, number)+"/revisions")
}

// Reading says what of a change is read, and how.
type Reading struct {
	Revision    int    // 0: the newest
	Since       int    // another revision: what came after it; 0: everything
	Commit      string // one commit of the revision; empty: all
	IgnoreSpace bool
	FilesOnly   bool
	Context     int // lines around what differs; 0: three
}

// Diff shows what a reading is about.
func (c changes) Diff(ctx context.Context, repo string, number int, r Reading) (wire.Diff, error) {
	return get[wire.Diff](ctx, c, changePath(repo, number)+"/diff", r.query()...)
}

// FileDiff shows one file of what a reading is about; file is as the list of files names it.
func (c changes) FileDiff(ctx context.Context, repo string, number int, file string,
	r Reading) (wire.FilePatch, error) {
	r.FilesOnly = false
	return get[wire.FilePatch](ctx, c, changePath(repo, number)+"/diff/"+url.PathEscape(file), r.query()...)
}

// Tick ticks a file as read, or takes the tick away.
func (c changes) Tick(ctx context.Context, repo string, number, revision int, file string, read bool) error {
	return c.Call(ctx, http.MethodPut, changePath(repo, number)+"/diff/"+url.PathEscape(file)+"/read",
		map[string]any{"read": read, "revision": revision}, nil)
}

// Looked remembers up to which revision the caller has looked at a change; 0: the newest.
func (c changes) Looked(ctx context.Context, repo string, number, revision int) error {
	return c.Call(ctx, http.MethodPut, changePath(repo, number)+"/looked", map[string]any{"revision": revision}, nil)
}

// ChangeAreas says which areas a change touches, and whose approval would be enough.
func (c changes) ChangeAreas(ctx context.Context, repo string, number int) (wire.ChangeAreas, error) {
	return get[wire.ChangeAreas](ctx, c, changePath(repo, number)+"/areas")
}

// SetLabels sets and removes labels of a change.
func (c changes) SetLabels(ctx context.Context, repo string, number int, set, remove []string) (wire.Change, error) {
	var out wire.Change
	err := c.Call(ctx, http.MethodPut, changePath(repo, number)+"/labels",
		map[string]any{"set": append([]string{}, set...), "remove": append([]string{}, remove...)}, &out)
	return out, err
}

// Preview says what a change would meet that is not opened yet.
func (c changes) Preview(ctx context.Context, repo, source, target, title string) (wire.Preview, error) {
	return get[wire.Preview](ctx, c, repoPath(repo)+"/preview", "source", source, "target", target, "title", title)
}
