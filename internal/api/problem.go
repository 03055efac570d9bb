package api

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"tavrin/internal/bounds"
	"tavrin/internal/core/grammar"
	"tavrin/internal/problem"
)

// Problem is a problem report as RFC 9457 has it, with findings and places of our own.
type Problem struct {
	Type     string            `json:"type,omitempty" doc:"a URI for the kind of problem; absent: about:blank"`
	Title    string            `json:"title"`
	Status   int               `json:"status"`
	Detail   string            `json:"detail" doc:"what was wrong, where, and what would be right"`
	Errors   []Place           `json:"errors,omitempty"`
	Findings []grammar.Finding `json:"findings,omitempty" doc:"of a rules document"`
}

// Place is one thing wrong with a request.
type Place struct {
	Pointer string `json:"pointer,omitempty" doc:"JSON pointer (RFC 6901) into the request's body"`
	Where   string `json:"where,omitempty" doc:"such as path or query, when it is not the body"`
	Detail  string `json:"detail"`
}

// Error returns the detail.
func (p *Problem) Error() string { return p.Detail }

// GetStatus returns the HTTP status.
func (p *Problem) GetStatus() int { return p.Status }

// ContentType says that the body is a problem report.
func (p *Problem) ContentType(string) string { return "application/problem+json" }

func init() {
	huma.DefaultArrayNullable = false
	huma.NewError = newProblem
	huma.NewErrorWithContext = func(_ huma.Context, status int, text string, errs ...error) huma.StatusError {
		return newProblem(status, text, errs...)
	}
}

// newProblem is how the JSON layer reports a request that does not fit the description. Values that came in are
// not repeated.
func newProblem(status int, text string, errs ...error) huma.StatusError {
	p := &Problem{Status: status, Title: http.StatusText(status), Detail: text}
	var details []string
	for _, err := range errs {
		place := Place{Detail: err.Error()}
		var d *huma.ErrorDetail
		if errors.As(err, &d) {
			place.Detail = d.Message
			if path, ok := strings.CutPrefix(d.Location, "body"); ok {
				place.Pointer = strings.NewReplacer(".", "/", "[", "/", "]", "").Replace(path)
			} else {
				place.Where = d.Location
			}
		}
		p.Errors = append(p.Errors, place)
		details = append(details, strings.TrimSpace(strings.TrimPrefix(place.Pointer+place.Where+": "+place.Detail,
			": ")))
	}
	if len(details) > 0 {
		p.Detail += ": " + strings.Join(details, "; ")
	}
	return p
}

var statuses = map[problem.Kind]int{
	problem.Invalid: http.StatusUnprocessableEntity, problem.Unknown: http.StatusNotFound, problem.SignInNeeded: http.StatusUnauthorized,
	problem.Forbidden: http.StatusForbidden, problem.Conflict: http.StatusConflict, problem.Precondition: http.StatusPreconditionFailed,
	problem.Unavailable: http.StatusServiceUnavailable,
}

// problemOf turns any error of the service into a problem report; what is not the caller's doing is logged and
// not shown.
func (s *server) problemOf(ctx context.Context, err error) *Problem {
	var p *problem.Problem
	if errors.As(err, &p) {
		n := note(ctx)
		n.why, n.rights = p.Text, n.rights || p.Rights
		out := &Problem{Status: statuses[p.Kind], Title: http.StatusText(statuses[p.Kind]), Detail: p.Text,
			Findings: p.Findings}
		if p.Field != "" {
			out.Errors = []Place{{Pointer: "/" + p.Field, Detail: p.Text}}
		}
		return out
	}
	var reached *bounds.Reached
	if errors.As(err, &reached) {
		status := http.StatusUnprocessableEntity
		if strings.HasPrefix(reached.Name, "git.") && reached.Name != "git.output-bytes" ||
			strings.HasPrefix(reached.Name, "calls.") {
			status = http.StatusTooManyRequests
		}
		return &Problem{Status: status, Title: http.StatusText(status), Detail: reached.Error()}
	}
	if ctx.Err() != nil {
		return &Problem{Status: http.StatusServiceUnavailable, Title: "Service Unavailable",
			Detail: "the request was given up"}
	}
	s.Log.Error("a request failed", "error", err)
	return &Problem{Status: http.StatusInternalServerError, Title: "Internal Server Error",
		Detail: "the service failed; its log says why"}
}

func writeProblem(w http.ResponseWriter, p *Problem) {
	w.Header().Set("Content-Type", p.ContentType(""))
	if p.Status == http.StatusUnauthorized && w.Header().Get("WWW-Authenticate") == "" {
		w.Header().Set("WWW-Authenticate", `Bearer realm="Tavrin"`)
	}
	if p.Status == http.StatusTooManyRequests || p.Status == http.StatusServiceUnavailable {
		w.Header().Set("Retry-After", retryAfter)
	}
	w.WriteHeader(p.Status)
	json.NewEncoder(w).Encode(p)
}
