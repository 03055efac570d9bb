package api

import (
	"context"

	"tavrin/internal/accounts"
	"tavrin/internal/audit"
	"tavrin/wire"
)

// journal: what was decided and done.
func (s *server) journal() {
	call(s, "GET", base+"/journal", "list-journal", "Lines of the journal",
		func(ctx context.Context, a accounts.Actor, q *struct {
			Repository string `query:"repository"`
			After      int64  `query:"after" minimum:"0" doc:"lines after this one, oldest first"`
			Before     int64  `query:"before" minimum:"0" doc:"lines before this one, newest first"`
			Limit      int    `query:"limit" minimum:"0" maximum:"500" default:"50"`
		}) ([]wire.JournalLine, error) {
			return s.Service.Audit.Journal(ctx, a, audit.JournalQuery{Repository: q.Repository, After: q.After,
				Before: q.Before, Limit: q.Limit})
		})
	call(s, "POST", base+"/journal/verify", "verify-journal", "Check the whole journal, that records and branches "+
		"are as it tells, and sign its head", func(ctx context.Context, a accounts.Actor, q *struct {
		Seq       int64  `query:"seq" minimum:"0" doc:"of a head exported earlier, from which the journal must go on; absent: none"`
		Hash      string `query:"hash"`
		PublicKey string `query:"public_key"`
		Signature string `query:"signature"`
	}) (wire.SignedHead, error) {
		if q.Seq == 0 {
			return s.Service.Audit.VerifyJournal(ctx, a, nil)
		}
		return s.Service.Audit.VerifyJournal(ctx, a, &wire.SignedHead{JournalHead: wire.JournalHead{Seq: q.Seq,
			Hash: q.Hash}, PublicKey: q.PublicKey, Signature: q.Signature})
	})
	call(s, "GET", base+"/journal/head", "get-journal-head", "The newest line of the journal, signed, for somebody "+
		"else to keep", func(ctx context.Context, a accounts.Actor, _ *in) (wire.SignedHead, error) {
		return s.Service.Audit.JournalHead(ctx, a)
	})
}
