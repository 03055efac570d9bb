package api

import (
	"context"

	"tavrin/internal/accounts"
	"tavrin/wire"
)

// journal: what was decided and done.
func (s *server) journal() {
	serve(s, wire.ListJournal, func(ctx context.Context, a accounts.Actor, q *wire.JournalQuery) ([]wire.JournalLine, error) {
		return s.Service.Audit.Journal(ctx, a, wire.JournalQuery{Repository: q.Repository, After: q.After,
			Before: q.Before, Limit: q.Limit})
	})
	serve(s, wire.VerifyJournal, func(ctx context.Context, a accounts.Actor, q *wire.EarlierHead) (wire.SignedHead, error) {
		if q.Seq == 0 {
			return s.Service.Audit.VerifyJournal(ctx, a, nil)
		}
		return s.Service.Audit.VerifyJournal(ctx, a, &wire.SignedHead{JournalHead: wire.JournalHead{Seq: q.Seq,
			Hash: q.Hash}, PublicKey: q.PublicKey, Signature: q.Signature})
	})
	serve(s, wire.GetJournalHead, func(ctx context.Context, a accounts.Actor, _ *wire.Nothing) (wire.SignedHead, error) {
		return s.Service.Audit.JournalHead(ctx, a)
	})
}
