package api

import (
	"context"
	"log/slog"
	"net/http"
	"regexp"
	"strings"
	"time"

	"tavrin/internal/accounts"
)

const sessionCookie = "tavrin_session"

// jobCall matches the calls about one job.
var jobCall = regexp.MustCompile(`^` + base + `/jobs/[0-9]+/`)

type actorKey struct{}

// actor returns who makes the request.
func actor(ctx context.Context) accounts.Actor {
	a, _ := ctx.Value(actorKey{}).(accounts.Actor)
	return a
}

// identified finds out who makes the request: by a bearer token, by the password of Basic authentication, or by
// the console's session. A token that is not good is refused here; without any, the actor is nobody.
func (s *server) identified(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if jobCall.MatchString(r.URL.Path) {
			next.ServeHTTP(w, r) // these are opened by the job's own lease
			return
		}
		a, err := s.identify(r)
		if err != nil {
			if credential(r) != "" { // a session that is over is no try
				err = s.refusedSignIn(s.address(r), err)
			}
			if strings.HasPrefix(r.URL.Path, "/git/") {
				s.gitProblem(w, r, err)
				return
			}
			if s.mayGoOn(r) {
				next.ServeHTTP(w, r)
				return
			}
			writeProblem(w, s.problemOf(r.Context(), err))
			return
		}
		if a.Known() {
			note(r.Context()).who = a.Login()
		}
		next.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), actorKey{}, a)))
	})
}

// mayGoOn lets a browser with a session that is over load the console and sign in again.
func (s *server) mayGoOn(r *http.Request) bool {
	return r.Header.Get("Authorization") == "" && (!strings.HasPrefix(r.URL.Path, base+"/") ||
		r.URL.Path == base+"/session")
}

func (s *server) identify(r *http.Request) (accounts.Actor, error) {
	if token := credential(r); token != "" {
		return s.Service.Access.Authenticate(r.Context(), token)
	}
	if c, err := r.Cookie(sessionCookie); err == nil && s.Service != nil {
		return s.Service.Access.Session(r.Context(), c.Value)
	}
	return accounts.Actor{}, nil
}

// credential returns the token that a request carries in its Authorization header, or nothing.
func credential(r *http.Request) string {
	if _, password, ok := r.BasicAuth(); ok {
		return password
	}
	token, _ := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
	return strings.TrimSpace(token)
}

// safe sets the headers that every answer carries.
func (s *server) safe(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "same-origin")
		h.Set("Content-Security-Policy", "default-src 'self'; img-src 'self' data:; style-src 'self'; "+
			"frame-ancestors 'none'; base-uri 'none'; form-action 'self'")
		if !strings.HasPrefix(r.URL.Path, "/assets/") {
			h.Set("Cache-Control", "no-store")
		}
		next.ServeHTTP(w, r)
	})
}

// recorder remembers the status for the log, and passes on everything else.
type recorder struct {
	http.ResponseWriter
	status int
}

func (r *recorder) WriteHeader(status int) {
	r.status = status
	r.ResponseWriter.WriteHeader(status)
}

// Unwrap lets http.ResponseController reach the writer below.
func (r *recorder) Unwrap() http.ResponseWriter { return r.ResponseWriter }

// logged writes one line a request, without queries and headers, which may hold secrets.
func (s *server) logged(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		begin := time.Now()
		rec := &recorder{ResponseWriter: w, status: http.StatusOK}
		n := &noted{who: s.address(r)}
		next.ServeHTTP(rec, r.WithContext(context.WithValue(r.Context(), notedKey{}, n)))
		s.countRefusal(r, n, rec.status)
		s.measured(r, rec.status, time.Since(begin))
		level := slog.LevelDebug
		if rec.status >= 500 {
			level = slog.LevelWarn
		}
		s.Log.Log(r.Context(), level, "request", "method", r.Method, "path", loggable(r.URL.Path), "status", rec.status,
			"took", time.Since(begin).Round(time.Microsecond))
	})
}

// loggable is a path without what must not stand in a log: the private address of a feed.
func loggable(path string) string {
	if strings.HasPrefix(path, "/feeds/") {
		return "/feeds/…"
	}
	return path
}
