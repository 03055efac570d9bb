package api

import (
	"context"

	"tavrin/internal/accounts"
	"tavrin/internal/reading"
	"tavrin/wire"
)

func readingOf(r wire.Reading) reading.Reading {
	return reading.Reading{Revision: r.Revision, Since: r.Since, Commit: r.Commit, IgnoreSpace: r.Space == "ignored",
		Context: r.Context}
}

// reading: differences, and what a person has read of them.
func (s *server) reading() {
	serve(s, wire.GetDiff, func(ctx context.Context, a accounts.Actor, q *wire.DiffQuery) (wire.Diff, error) {
		r := readingOf(q.Reading)
		r.FilesOnly = q.Files
		return s.Service.Reading.Diff(ctx, a, q.Repository(), q.Number, r)
	})
	serve(s, wire.GetFileDiff, func(ctx context.Context, a accounts.Actor, q *wire.FileQuery) (wire.FilePatch, error) {
		return s.Service.Reading.FileDiff(ctx, a, q.Repository(), q.Number, q.File, readingOf(q.Reading))
	})
	serve(s, wire.PutFileRead, func(ctx context.Context, a accounts.Actor, q *wire.FileTicked) (wire.Done, error) {
		return wire.Done{Done: true}, s.Service.Reading.Tick(ctx, a, q.Repository(), q.Number, q.Body.Revision, q.File,
			q.Body.Read)
	})
	serve(s, wire.PutLooked, func(ctx context.Context, a accounts.Actor, q *wire.ChangeBody[wire.Look]) (wire.Done, error) {
		return wire.Done{Done: true}, s.Service.Reading.Looked(ctx, a, q.Repository(), q.Number, q.Body.Revision)
	})
}
