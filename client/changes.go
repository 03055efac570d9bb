package client

import (
	"context"

	"tavrin/wire"
)

// changes is the part of the client about changes, their revisions and how they read.
type changes struct{ *connection }

// OpenChange opens a change.
func (c changes) OpenChange(ctx context.Context, repo string, n wire.NewChange) (wire.Change, error) {
	return do(ctx, c.connection, wire.CreateChange, onRepo(repo, n))
}

// Changes lists changes, newest first.
func (c changes) Changes(ctx context.Context, repo string, f wire.ChangeFilter) ([]wire.Change, error) {
	return do(ctx, c.connection, wire.ListChanges, wire.ChangeQuery{InRepo: inRepo(repo), ChangeFilter: f})
}

// Change describes one change.
func (c changes) Change(ctx context.Context, repo string, number int) (wire.Change, error) {
	return do(ctx, c.connection, wire.GetChange, inChange(repo, number))
}

// EditChange alters a change.
func (c changes) EditChange(ctx context.Context, repo string, number int, e wire.ChangeEdit) (wire.Change, error) {
	return do(ctx, c.connection, wire.EditChange, onChange(repo, number, e))
}

// Conflicts says where a change and its target as it is now do not go together.
func (c changes) Conflicts(ctx context.Context, repo string, number int) (wire.Conflicts, error) {
	return do(ctx, c.connection, wire.GetConflicts, inChange(repo, number))
}

// UndoLanding opens a change that takes back what a change landed.
func (c changes) UndoLanding(ctx context.Context, repo string, number int, reason string) (wire.Change, error) {
	return do(ctx, c.connection, wire.UndoLanding, onChange(repo, number, wire.Reasoned{Reason: reason}))
}

// UpdateBranch updates a change's source branch to its target, by the strategy rebase (the default) or merge.
func (c changes) UpdateBranch(ctx context.Context, repo string, number int, strategy string) (wire.Change, error) {
	return do(ctx, c.connection, wire.UpdateBranch, onChange(repo, number, wire.BranchUpdate{Strategy: strategy}))
}

// CloseChange gives a change up.
func (c changes) CloseChange(ctx context.Context, repo string, number int) (wire.Change, error) {
	return do(ctx, c.connection, wire.CloseChange, inChange(repo, number))
}

// ReopenChange takes a closed change up again.
func (c changes) ReopenChange(ctx context.Context, repo string, number int) (wire.Change, error) {
	return do(ctx, c.connection, wire.ReopenChange, inChange(repo, number))
}

// Gate gives a change's gate report.
func (c changes) Gate(ctx context.Context, repo string, number int) (wire.Report, error) {
	return do(ctx, c.connection, wire.GetGate, inChange(repo, number))
}

// Preview says what a change would meet that is not opened yet.
func (c changes) Preview(ctx context.Context, repo, source, target, title string) (wire.Preview, error) {
	return do(ctx, c.connection, wire.GetPreview, wire.PreviewQuery{InRepo: inRepo(repo), Source: source, Target: target,
		Title: title})
}

// Revisions lists a change's revisions, newest first.
func (c changes) Revisions(ctx context.Context, repo string, number int) ([]wire.Revision, error) {
	return do(ctx, c.connection, wire.ListRevisions, inChange(repo, number))
}

// Diff shows what a reading is about; with filesOnly, the list of files alone.
func (c changes) Diff(ctx context.Context, repo string, number int, r wire.Reading, filesOnly bool) (wire.Diff, error) {
	return do(ctx, c.connection, wire.GetDiff, wire.DiffQuery{InChange: inChange(repo, number), Reading: r, Files: filesOnly})
}

// FileDiff shows one file of what a reading is about; file is as the list of files names it.
func (c changes) FileDiff(ctx context.Context, repo string, number int, file string,
	r wire.Reading) (wire.FilePatch, error) {
	return do(ctx, c.connection, wire.GetFileDiff, wire.FileQuery{InChange: inChange(repo, number), Reading: r, File: file})
}

// Tick ticks a file as read, or takes the tick away.
func (c changes) Tick(ctx context.Context, repo string, number, revision int, file string, read bool) error {
	return none(do(ctx, c.connection, wire.PutFileRead, wire.FileTicked{InChange: inChange(repo, number), File: file,
		Body: wire.FileTick{Read: read, Revision: revision}}))
}

// Looked remembers up to which revision the caller has looked at a change; 0: the newest.
func (c changes) Looked(ctx context.Context, repo string, number, revision int) error {
	return none(do(ctx, c.connection, wire.PutLooked, onChange(repo, number, wire.Look{Revision: revision})))
}

// SetLabels sets and removes labels of a change.
func (c changes) SetLabels(ctx context.Context, repo string, number int, set, remove []string) (wire.Change, error) {
	return do(ctx, c.connection, wire.PutLabels, onChange(repo, number, wire.LabelEdit{Set: set, Remove: remove}))
}
