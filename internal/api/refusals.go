package api

import (
	"cmp"
	"context"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"tavrin/internal/service"
	"tavrin/wire"
)

// maxRefusals is how many different refusals are counted one by one; the rest is counted together.
const maxRefusals = 2000

// refusals counts what was refused for a reason of rights since the service was started: to whom, what, and how often. A single
// one is no more than somebody's mistake; many are for an administrator to see.
type refusals struct {
	mu    sync.Mutex
	byKey map[[2]string]*wire.Refusal
}

// noted is what is found out about a request while it is answered, for the count.
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

// count counts a request that was refused, if it was.
func (c *refusals) count(r *http.Request, n *noted, status int, at time.Time) {
	if status != http.StatusUnauthorized && status != http.StatusForbidden && !n.rights {
		return
	}
	if _, err := r.Cookie(sessionCookie); err != nil && credential(r) == "" { // asked to sign in, as git's first request always is
		return
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	key := [2]string{n.who, r.Method + " " + loggable(r.URL.Path)}
	if len(key[1]) > 200 {
		key[1] = strings.ToValidUTF8(key[1][:200], "") + "…"
	}
	if c.byKey[key] == nil && len(c.byKey) >= maxRefusals {
		key = [2]string{"others", "anything"}
	}
	if c.byKey[key] == nil {
		c.byKey[key] = &wire.Refusal{Who: key[0], What: key[1]}
	}
	one := c.byKey[key]
	one.Times++
	one.Why, one.Last = n.why, at.UTC()
}

// list lists them, the most frequent first.
func (c *refusals) list() []wire.Refusal {
	c.mu.Lock()
	defer c.mu.Unlock()
	out := []wire.Refusal{}
	for _, one := range c.byKey {
		out = append(out, *one)
	}
	slices.SortFunc(out, func(a, b wire.Refusal) int {
		return cmp.Or(cmp.Compare(b.Times, a.Times), cmp.Compare(a.Who, b.Who), cmp.Compare(a.What, b.What))
	})
	return out
}

// refused shows administrators what was refused.
func (s *server) refused() {
	call(s, "GET", base+"/refusals", "list-refusals", "What was refused for a reason of rights since the service was started, the most frequent first", func(_ context.Context, a service.Actor, _ *in) ([]wire.Refusal, error) {
		if err := a.MustAdminister("seeing what was refused"); err != nil {
			return nil, err
		}
		return s.refusals.list(), nil
	})
}
