package api

import (
	"context"

	"tavrin/internal/accounts"
	"tavrin/wire"
)

// journal: what was decided and done.
func (s *server) journal() {
	serve(s, wire.ListJournal, func(ctx context.Context, a accounts.Actor, q *wire.JournalQuery) ([]wire.JournalLine, error) {
		return s.Service.Audit.Journal(ctx, a, wire.JournalQuery{Repository: q.Repository, After: q.After, From: q.From,
			Before: q.Before, Limit: q.Limit})
	})
	serve(s, wire.VerifyJournal, func(ctx context.Context, a accounts.Actor, q *wire.EarlierHead) (wire.Task, error) {
		var earlier *wire.SignedHead
		if q.Seq != 0 {
			earlier = &wire.SignedHead{JournalHead: wire.JournalHead{Seq: q.Seq, Hash: q.Hash}, PublicKey: q.PublicKey, Signature: q.Signature}
		}
		work, err := s.Service.Audit.Verification(a, earlier, q.Whole)
		if err != nil {
			return wire.Task{}, err
		}
		return s.Service.Tasks.Begin(ctx, a, work)
	})
	serve(s, wire.GetTask, func(ctx context.Context, a accounts.Actor, q *wire.InTask) (wire.Task, error) {
		return s.Service.Tasks.Get(ctx, a, q.ID)
	})
	serve(s, wire.StopTask, func(ctx context.Context, a accounts.Actor, q *wire.InTask) (wire.Done, error) {
		return wire.Done{Done: true}, s.Service.Tasks.Stop(ctx, a, q.ID)
	})
	serve(s, wire.GetJournalHead, func(ctx context.Context, a accounts.Actor, _ *wire.Nothing) (wire.SignedHead, error) {
		return s.Service.Audit.JournalHead(ctx, a)
	})
}
