package api

import (
	"context"

	"tavrin/internal/service"
	"tavrin/wire"
)

// journal: what was decided and done.
func (s *server) journal() {
	call(s, "GET", base+"/journal", "list-journal", "Lines of the journal", func(ctx context.Context, a service.Actor, q *struct {
		Repository string `query:"repository"`
		After      int64  `query:"after" minimum:"0" doc:"lines after this one, oldest first"`
		Before     int64  `query:"before" minimum:"0" doc:"lines before this one, newest first"`
		Limit      int    `query:"limit" minimum:"0" maximum:"500" default:"50"`
	}) ([]wire.JournalLine, error) {
		return s.Service.Journal(ctx, a, service.JournalQuery{Repository: q.Repository, After: q.After, Before: q.Before, Limit: q.Limit})
	})
	call(s, "POST", base+"/journal/verify", "verify-journal", "Check the whole journal and sign its head", func(ctx context.Context, a service.Actor, _ *in) (wire.SignedHead, error) {
		return s.Service.VerifyJournal(ctx, a)
	})
}
