package api

import (
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"strings"
	"time"

	"tavrin/internal/git"
	"tavrin/internal/git/transport"
	"tavrin/internal/problem"
)

// maxNegotiation is how much a client that fetches may say of what it has, in bytes, unpacked.
const maxNegotiation = 64 << 20

// gitTime is how long one request of a git client may take.
const gitTime = 30 * time.Minute

// gitCalls are the calls of Git's smart HTTP (gitprotocol-http(5)), below the address of a repository.
var gitCalls = map[string]struct {
	method string
	serve  func(s *server, w http.ResponseWriter, r *http.Request, name string)
}{
	"info/refs":        {http.MethodGet, (*server).gitRefs},
	"git-upload-pack":  {http.MethodPost, (*server).gitFetch},
	"git-receive-pack": {http.MethodPost, (*server).gitPush},
}

// git answers everything below /git/, in the way that git clients read: /git/HOUSE/NAME.git/CALL, with .git or without.
func (s *server) git(w http.ResponseWriter, r *http.Request) {
	parts := strings.SplitN(strings.TrimPrefix(r.URL.Path, "/git/"), "/", 3)
	if len(parts) < 3 || parts[0] == "" || parts[1] == "" {
		s.gitNowhere(w, r)
		return
	}
	call, ok := gitCalls[parts[2]]
	if !ok {
		s.gitNowhere(w, r)
		return
	}
	if r.Method != call.method && !(r.Method == http.MethodHead && call.method == http.MethodGet) {
		allowed := call.method
		if allowed == http.MethodGet {
			allowed += ", " + http.MethodHead
		}
		w.Header().Set("Allow", allowed)
		gitText(w, http.StatusMethodNotAllowed, fmt.Sprintf("%s means nothing here; %s does", r.Method, allowed))
		return
	}
	call.serve(s, w, r, parts[0]+"/"+strings.TrimSuffix(parts[1], ".git"))
}

// gitNowhere answers what is nothing of ours. Who is not signed in hears that first: what there is, is theirs to ask.
func (s *server) gitNowhere(w http.ResponseWriter, r *http.Request) {
	text := "repositories are at /git/HOUSE/NAME.git, and only Git's smart protocol is spoken there"
	kind := problem.Unknown
	if !actor(r.Context()).Known() {
		kind = problem.SignInNeeded
	}
	s.gitProblem(w, r, &problem.Problem{Kind: kind, Text: text})
}

// gitElsewhere tells a git client that was given a page's address the one that it needs.
func (s *server) gitElsewhere(pages http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		page, asks := strings.CutSuffix(r.URL.Path, "/info/refs")
		if !asks || !strings.HasPrefix(r.URL.Query().Get("service"), "git-") {
			pages.ServeHTTP(w, r)
			return
		}
		parts := strings.Split(strings.Trim(page, "/"), "/")
		if len(parts) < 2 {
			parts = []string{"HOUSE", "NAME"}
		}
		gitText(w, http.StatusNotFound, fmt.Sprintf("this is an address of the console; git takes %s/git/%s/%s.git", s.reached(r),
			parts[0], strings.TrimSuffix(parts[1], ".git")))
	})
}

// reached is the address at which whoever asks reaches the service.
func (s *server) reached(r *http.Request) string {
	if s.Secure {
		return "https://" + r.Host
	}
	return "http://" + r.Host
}

// gitRefs answers what a git client asks first.
func (s *server) gitRefs(w http.ResponseWriter, r *http.Request, name string) {
	what := r.URL.Query().Get("service")
	var repo *git.Repo
	var may func(string) error
	var err error
	switch what {
	case "git-upload-pack":
		repo, may, err = s.Service.Intake.Fetch(r.Context(), actor(r.Context()), name)
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
		err = transport.AdvertiseFetch(r.Context(), repo, r.Header.Get("Git-Protocol"), may != nil, flushing{w})
	}
	s.gitFailed(r, err)
}

// gitFetch answers a request for objects.
func (s *server) gitFetch(w http.ResponseWriter, r *http.Request, name string) {
	repo, may, err := s.Service.Intake.Fetch(r.Context(), actor(r.Context()), name)
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
	body = io.LimitReader(body, maxNegotiation)
	if may != nil {
		if body, err = transport.OnlyWanted(body, may); err != nil {
			s.gitProblem(w, r, asProblem(err))
			return
		}
	}
	w.Header().Set("Content-Type", "application/x-git-upload-pack-result")
	s.gitFailed(r, transport.ServeFetch(r.Context(), repo, r.Header.Get("Git-Protocol"), may != nil, body, flushing{w}))
}

// gitPush takes a push.
func (s *server) gitPush(w http.ResponseWriter, r *http.Request, name string) {
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
	err = s.Service.Intake.Receive(r.Context(), actor(r.Context()), name, s.reached(r), body, w)
	var protocol *transport.ProtocolError
	if errors.As(err, &protocol) {
		s.gitProblem(w, r, asProblem(err))
		return
	}
	s.gitFailed(r, err)
}

// asProblem makes a problem of what a client got wrong of the protocol.
func asProblem(err error) error {
	var protocol *transport.ProtocolError
	if errors.As(err, &protocol) {
		return &problem.Problem{Kind: problem.Invalid, Text: err.Error()}
	}
	return err
}

// gitBody checks the content type and unpacks a compressed body.
func gitBody(r *http.Request, what string) (io.Reader, error) {
	wanted := "application/x-" + what + "-request"
	if kind, _, err := mime.ParseMediaType(r.Header.Get("Content-Type")); err != nil || kind != wanted {
		return nil, &unreadable{"the content type is not " + wanted}
	}
	switch encoding := strings.ToLower(r.Header.Get("Content-Encoding")); encoding {
	case "", "identity":
		return r.Body, nil
	case "gzip", "x-gzip": // one thing: RFC 9110, section 8.4.1.3
	default:
		return nil, &unreadable{fmt.Sprintf("the content encoding is %.20q; gzip is taken, and none", encoding)}
	}
	unpacked, err := gzip.NewReader(r.Body)
	if err != nil {
		return nil, &problem.Problem{Kind: problem.Invalid, Text: "the body is said to be gzip and is not"}
	}
	return unpacked, nil
}

// unreadable is a body in a form that is not taken: status 415.
type unreadable struct{ what string }

func (u *unreadable) Error() string { return u.what }

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
	var form *unreadable
	if errors.As(err, &form) {
		gitText(w, http.StatusUnsupportedMediaType, form.what)
		return
	}
	p := s.problemOf(r.Context(), err)
	if p.Status == http.StatusUnauthorized {
		w.Header().Set("WWW-Authenticate", basicRealm)
	}
	if p.Status == http.StatusTooManyRequests || p.Status == http.StatusServiceUnavailable {
		w.Header().Set("Retry-After", retryAfter)
	}
	gitText(w, p.Status, p.Detail)
}

func gitText(w http.ResponseWriter, status int, text string) {
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	w.WriteHeader(status)
	io.WriteString(w, text+"\n")
}

// basicRealm is how a program is asked who is asking.
const basicRealm = `Basic realm="Tavrin: any name, a token as the password"`
