package api

import (
	"context"
	"net/http"

	"tavrin/internal/accounts"
	"tavrin/wire"
)

// noted is what is found out about a request while it is answered, for the count of what is refused.
type noted struct {
	who, why string
	rights   bool // refused for a reason of rights, whatever the status says
}

type notedKey struct{}

// note returns what is noted of a request, or a place that nobody looks at.
func note(ctx context.Context) *noted {
	if n, ok := ctx.Value(notedKey{}).(*noted); ok {
		return n
	}
	return &noted{}
}

// countRefusal counts a request, if it was refused for a reason of rights.
func (s *server) countRefusal(r *http.Request, n *noted, status int) {
	if s.Service == nil || status != http.StatusUnauthorized && status != http.StatusForbidden && !n.rights {
		return
	}
	// asked to sign in, as git's first request always is
	if _, err := r.Cookie(sessionCookie); err != nil && credential(r) == "" {
		return
	}
	s.Service.Access.CountRefusal(n.who, r.Method+" "+loggable(r.URL.Path), n.why)
}

// refused shows administrators what was refused.
func (s *server) refused() {
	serve(s, wire.ListRefusals, func(_ context.Context, a accounts.Actor, _ *wire.Nothing) ([]wire.Refusal, error) {
		return s.Service.Access.Refusals(a)
	})
}
