package api

import (
	"context"

	"tavrin/internal/accounts"
	"tavrin/internal/reading"
	"tavrin/wire"
)

// Read is what of a change somebody reads, and how.
type Read struct {
	Revision int    `query:"revision" minimum:"0" doc:"absent: the newest"`
	Since    int    `query:"since" minimum:"0" doc:"another revision: what came after it, without what came only from the target"`
	Commit   string `query:"commit" doc:"one commit of the revision, by its whole id"`
	Space    string `query:"space" enum:"shown,ignored" doc:"ignored: lines that differ only in white space are the same"`
	Context  int    `query:"context" minimum:"0" maximum:"10000" doc:"lines around what differs; absent: 3"`
}

func (r Read) reading() reading.Reading {
	return reading.Reading{Revision: r.Revision, Since: r.Since, Commit: r.Commit, IgnoreSpace: r.Space == "ignored",
		Context: r.Context}
}

// reading: differences, and what a person has read of them.
func (s *server) reading() {
	call(s, "GET", changePath+"/diff", "get-diff", "What a revision, a commit, or what came between two revisions "+
		"brings", func(ctx context.Context, a accounts.Actor, q *struct {
		InChange
		Read
		Files bool `query:"files" doc:"only the list of files; each is then asked for by itself"`
	}) (wire.Diff, error) {
		r := q.reading()
		r.FilesOnly = q.Files
		return s.Service.Reading.Diff(ctx, a, q.repository(), q.Number, r)
	})
	call(s, "GET", changePath+"/diff/{file}", "get-file-diff", "One file of a difference",
		func(ctx context.Context, a accounts.Actor, q *struct {
			InChange
			Read
			File string `path:"file" doc:"as the list of files names it"`
		}) (wire.FilePatch, error) {
			return s.Service.Reading.FileDiff(ctx, a, q.repository(), q.Number, q.File, q.reading())
		})
	call(s, "PUT", changePath+"/diff/{file}/read", "put-file-read", "Tick a file as read, or take the tick away; it "+
		"unticks itself when the file changes", func(ctx context.Context, a accounts.Actor, q *struct {
		InChange
		File string `path:"file" doc:"as the list of files names it"`
		Body struct {
			Read     bool `json:"read"`
			Revision int  `json:"revision,omitempty" minimum:"0" doc:"the one that was read; absent: the newest"`
		}
	}) (done, error) {
		return done{true}, s.Service.Reading.Tick(ctx, a, q.repository(), q.Number, q.Body.Revision, q.File,
			q.Body.Read)
	})
	call(s, "PUT", changePath+"/looked", "put-looked", "Remember up to which revision you have looked at a change",
		func(ctx context.Context, a accounts.Actor, q *struct {
			InChange
			Body struct {
				Revision int `json:"revision,omitempty" minimum:"0" doc:"absent: the newest"`
			}
		}) (done, error) {
			return done{true}, s.Service.Reading.Looked(ctx, a, q.repository(), q.Number, q.Body.Revision)
		})
}
