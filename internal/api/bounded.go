package api

import (
	"context"
	"errors"
	"net"
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/go-chi/httprate"

	"tavrin/internal/bounds"
	"tavrin/internal/git"
	"tavrin/internal/problem"
)

// retryAfter is when somebody who was turned away may come back, in seconds.
const retryAfter = "10"

// gates count what each person or address has at once, and how often they come.
type gates struct {
	bounds             bounds.Bounds
	calls, guests      *httprate.RateLimiter
	failures           *httprate.RateLimiter
	mu                 sync.Mutex
	transfers, streams map[string]int64
	// addresses of which it is on record that too many of their sign-ins failed, and since when
	shutOut map[string]time.Time
}

func newGates(b bounds.Bounds) *gates {
	// Retry-After is said where somebody is turned away
	quiet := httprate.WithResponseHeaders(httprate.ResponseHeaders{})
	each := func(most int64) *httprate.RateLimiter { return httprate.NewRateLimiter(int(most), time.Minute, quiet) }
	return &gates{bounds: b, calls: each(b.TokenCalls), guests: each(b.AddressCalls), failures: each(b.FailedSignIns),
		transfers: map[string]int64{}, streams: map[string]int64{}, shutOut: map[string]time.Time{}}
}

// take counts one more of something for somebody, up to a bound, until done is called.
func (g *gates) take(of map[string]int64, who, bound, what string) (done func(), err error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if of[who] >= g.bounds.Of(bound) {
		return nil, g.bounds.Reach(bound, "%s has %d %s at once", who, of[who], what)
	}
	of[who]++
	return func() {
		g.mu.Lock()
		defer g.mu.Unlock()
		if of[who]--; of[who] == 0 {
			delete(of, who)
		}
	}, nil
}

func (g *gates) transfer(who string) (func(), error) {
	return g.take(g.transfers, who, "git.transfers", "clones, fetches and pushes")
}

func (g *gates) stream(who string) (func(), error) {
	return g.take(g.streams, who, "calls.streams", "event streams")
}

// address is where a request comes from, as far as that can be known: behind a proxy it is the last that the proxy
// added.
func (s *server) address(r *http.Request) string {
	if s.BehindProxy {
		if all := strings.Split(r.Header.Get("X-Forwarded-For"), ","); strings.TrimSpace(all[len(all)-1]) != "" {
			return strings.TrimSpace(all[len(all)-1])
		}
	}
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		return r.RemoteAddr
	}
	return host
}

// who names the person, or the address of somebody who has not signed in.
func (s *server) who(r *http.Request) string {
	if a := actor(r.Context()); a.Known() {
		return a.Login()
	}
	return s.address(r)
}

// addressKey is under what a request's address stands in its context.
type addressKey struct{}

// bounded turns away who comes too often, and says for whom git processes are started.
func (s *server) bounded(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		key, limiter, name := s.address(r), s.gates.guests, "calls.address"
		if a := actor(r.Context()); a.Known() {
			key, limiter, name = a.TokenKey(), s.gates.calls, "calls.token"
		}
		if strings.HasPrefix(r.URL.Path, "/api/") || strings.HasPrefix(r.URL.Path, "/git/") ||
			strings.HasPrefix(r.URL.Path, "/feeds/") {
			if limiter.OnLimit(w, r, key) {
				s.turnAway(w, r, s.gates.bounds.Reach(name, "%s asks too often", s.who(r)))
				return
			}
		}
		ctx := context.WithValue(r.Context(), addressKey{}, s.address(r))
		next.ServeHTTP(w, r.WithContext(git.For(ctx, s.who(r))))
	})
}

func (s *server) turnAway(w http.ResponseWriter, r *http.Request, err error) {
	if strings.HasPrefix(r.URL.Path, "/git/") {
		s.gitProblem(w, r, err)
		return
	}
	writeProblem(w, s.problemOf(r.Context(), err))
}

// refusedSignIn counts a token that is not good, and says that there were too many of them from that address. Good ones
// are never kept out by others' bad ones: a token cannot be guessed, so that what is bounded is the work.
func (s *server) refusedSignIn(address string, err error) error {
	var p *problem.Problem
	if !errors.As(err, &p) || p.Kind != problem.SignInNeeded {
		return err
	}
	if s.gates.failures.OnLimit(nowhere{http.Header{}}, &http.Request{}, address) {
		if s.gates.shutsOut(address, time.Now()) {
			if err := s.Service.Access.NoteShutOut(context.Background(), address); err != nil {
				s.Log.Warn("failed sign-ins could not be put on record", "error", err)
			}
		}
		return s.gates.bounds.Reach("calls.failed-sign-ins", "too many sign-ins from %s failed", address)
	}
	return err
}

// shutsOut says whether it is to be put on record that too many sign-ins from an address failed: once an hour, and of
// so many addresses at most.
func (g *gates) shutsOut(address string, now time.Time) bool {
	const most = 100
	g.mu.Lock()
	defer g.mu.Unlock()
	for a, since := range g.shutOut {
		if now.Sub(since) > time.Hour {
			delete(g.shutOut, a)
		}
	}
	if _, known := g.shutOut[address]; known || len(g.shutOut) >= most {
		return false
	}
	g.shutOut[address] = now
	return true
}

// nowhere takes the headers of an answer that is not given.
type nowhere struct{ h http.Header }

func (n nowhere) Header() http.Header         { return n.h }
func (n nowhere) Write(p []byte) (int, error) { return len(p), nil }
func (n nowhere) WriteHeader(int)             {}
