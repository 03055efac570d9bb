package api

import (
	"compress/gzip"
	"context"
	"errors"
	"io"
	"net/http"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"

	"tavrin/internal/git"
	"tavrin/internal/git/transport"
	"tavrin/internal/problem"
)

// maxNegotiation is how much a client that fetches may say of what it has, in bytes, unpacked.
const maxNegotiation = 64 << 20

// gitTime is how long one request of a git client may take.
const gitTime = 30 * time.Minute

// gitRepo returns the repository that a path below /git/ names.
func gitRepo(r *http.Request) (string, bool) {
	name, ok := strings.CutSuffix(chi.URLParam(r, "name"), ".git")
	return chi.URLParam(r, "house") + "/" + name, ok
}

// gitRefs answers what a git client asks first.
func (s *server) gitRefs(w http.ResponseWriter, r *http.Request) {
	name, ok := gitRepo(r)
	if !ok {
		s.gitProblem(w, r, &problem.Problem{Kind: problem.Unknown, Text: "repositories are at /git/HOUSE/NAME.git"})
		return
	}
	what := r.URL.Query().Get("service")
	var repo *git.Repo
	var err error
	switch what {
	case "git-upload-pack":
		repo, err = s.Service.Intake.Fetch(r.Context(), actor(r.Context()), name)
	case "git-receive-pack":
		repo, err = s.Service.Intake.Pushable(r.Context(), actor(r.Context()), name)
	default:
		err = &problem.Problem{Kind: problem.Invalid, Text: "only Git's smart protocol is spoken here; use git " +
			"1.6.6 or newer"}
	}
	if err != nil {
		s.gitProblem(w, r, err)
		return
	}
	if done, err := s.gates.transfer(s.who(r)); err != nil { // here git shows people what it was told
		s.gitProblem(w, r, err)
		return
	} else {
		defer done()
	}
	s.unhurried(w)
	w.Header().Set("Content-Type", "application/x-"+what+"-advertisement")
	if what == "git-receive-pack" {
		err = transport.AdvertisePush(r.Context(), repo, w)
	} else {
		err = transport.AdvertiseFetch(r.Context(), repo, r.Header.Get("Git-Protocol"), flushing{w})
	}
	s.gitFailed(r, err)
}

// gitFetch answers a request for objects.
func (s *server) gitFetch(w http.ResponseWriter, r *http.Request) {
	name, _ := gitRepo(r)
	repo, err := s.Service.Intake.Fetch(r.Context(), actor(r.Context()), name)
	body, err2 := gitBody(r, "git-upload-pack")
	if err := errors.Join(err, err2); err != nil {
		s.gitProblem(w, r, err)
		return
	}
	done, err := s.gates.transfer(s.who(r))
	if err != nil {
		s.gitProblem(w, r, err)
		return
	}
	defer done()
	s.unhurried(w)
	w.Header().Set("Content-Type", "application/x-git-upload-pack-result")
	body = io.LimitReader(body, maxNegotiation)
	s.gitFailed(r, transport.ServeFetch(r.Context(), repo, r.Header.Get("Git-Protocol"), body, flushing{w}))
}

// gitPush takes a push.
func (s *server) gitPush(w http.ResponseWriter, r *http.Request) {
	name, _ := gitRepo(r)
	body, err := gitBody(r, "git-receive-pack")
	if err == nil {
		_, err = s.Service.Intake.Pushable(r.Context(), actor(r.Context()), name)
	}
	if err != nil {
		io.CopyN(io.Discard, r.Body, 64<<20) // so that the client reads the answer; bounded
		s.gitProblem(w, r, err)
		return
	}
	done, err := s.gates.transfer(s.who(r))
	if err != nil {
		io.CopyN(io.Discard, r.Body, 64<<20)
		s.gitProblem(w, r, err)
		return
	}
	defer done()
	s.unhurried(w)
	w.Header().Set("Content-Type", "application/x-git-receive-pack-result")
	err = s.Service.Intake.Receive(r.Context(), actor(r.Context()), name, body, w)
	var protocol *transport.ProtocolError
	if errors.As(err, &protocol) {
		s.gitProblem(w, r, &problem.Problem{Kind: problem.Invalid, Text: err.Error()})
		return
	}
	s.gitFailed(r, err)
}

// gitBody checks the content type and unpacks a compressed body.
func gitBody(r *http.Request, what string) (io.Reader, error) {
	if r.Header.Get("Content-Type") != "application/x-"+what+"-request" {
		return nil, &problem.Problem{Kind: problem.Invalid, Text: "the content type is not application/x-" + what +
			"-request"}
	}
	if r.Header.Get("Content-Encoding") != "gzip" {
		return r.Body, nil
	}
	unpacked, err := gzip.NewReader(r.Body)
	if err != nil {
		return nil, &problem.Problem{Kind: problem.Invalid, Text: "the body is said to be gzip and is not"}
	}
	return unpacked, nil
}

// unhurried moves the deadlines of a request that may carry hundreds of MiB.
func (s *server) unhurried(w http.ResponseWriter) {
	c := http.NewResponseController(w)
	until := time.Now().Add(gitTime)
	if err := errors.Join(c.SetReadDeadline(until), c.SetWriteDeadline(until)); err != nil {
		s.Log.Warn("a deadline could not be moved", "error", err)
	}
}

// flushing sends every piece of an answer at once, for progress to be seen.
type flushing struct{ w http.ResponseWriter }

func (f flushing) Write(p []byte) (int, error) {
	n, err := f.w.Write(p)
	if err == nil {
		err = http.NewResponseController(f.w).Flush()
	}
	return n, err
}

func (s *server) gitFailed(r *http.Request, err error) {
	if err != nil && !errors.Is(r.Context().Err(), context.Canceled) {
		s.Log.Warn("git request failed", "path", r.URL.Path, "error", err)
	}
}

// gitProblem answers in plain text, which git shows to the person.
func (s *server) gitProblem(w http.ResponseWriter, r *http.Request, err error) {
	p := s.problemOf(r.Context(), err)
	if p.Status == http.StatusUnauthorized {
		w.Header().Set("WWW-Authenticate", `Basic realm="Tavrin: any name, a token as the password"`)
	}
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	if p.Status == http.StatusTooManyRequests || p.Status == http.StatusServiceUnavailable {
		w.Header().Set("Retry-After", retryAfter)
	}
	w.WriteHeader(p.Status)
	io.WriteString(w, p.Detail+"\n")
}
