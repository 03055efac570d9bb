package api

import (
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"tavrin/internal/lab"
	"tavrin/internal/problem"
	"tavrin/internal/service"
)

// handler is everything that the service answers, on the rooms of a lab.
func handler(l *lab.Lab) http.Handler {
	return New(Options{Service: &service.Service{Rooms: l.Rooms}, Log: slog.New(slog.DiscardHandler)})
}

// Every answer that is no success is a problem of RFC 9457, with the status of its kind.
func TestProblemsHaveAStatus(t *testing.T) {
	l := lab.New(t)
	h := handler(l)
	for path, want := range map[string]int{
		"/api/v1/me":                                 http.StatusUnauthorized,
		"/api/v1/nowhere":                            http.StatusNotFound,
		"/api/v1/repositories/growers/none":          http.StatusUnauthorized,
		"/api/v1/repositories/growers/none/branches": http.StatusUnauthorized,
	} {
		w := httptest.NewRecorder()
		h.ServeHTTP(w, httptest.NewRequest("GET", path, nil))
		var p struct {
			Status int
			Title  string
		}
		if err := json.Unmarshal(w.Body.Bytes(), &p); err != nil || w.Code != want || p.Status != want || p.Title == "" ||
			!strings.HasPrefix(w.Header().Get("Content-Type"), "application/problem+json") {
			t.Errorf("%s: %d %s %s, %v", path, w.Code, w.Header().Get("Content-Type"), w.Body, err)
		}
	}
}

// Trouble of the service's own is told to nobody but the log; a person's problem is told in its words.
func TestTroubleIsNotTold(t *testing.T) {
	s := &server{Options: Options{Log: slog.New(slog.DiscardHandler)}}
	for _, c := range []struct {
		err    error
		status int
		says   string
	}{
		{problem.New(problem.Conflict, "it has moved"), http.StatusConflict, "it has moved"},
		{fmt.Errorf("deep: %w", problem.New(problem.Unavailable, "try again in a minute")), http.StatusServiceUnavailable, "try again in a minute"},
		{problem.Wrong("title", "title is empty"), http.StatusUnprocessableEntity, "title is empty"},
		{errors.New("/secret/path: disk full"), http.StatusInternalServerError, ""},
	} {
		p := s.problemOf(t.Context(), c.err)
		if p.Status != c.status || c.says != "" && p.Detail != c.says || strings.Contains(p.Detail, "/secret/path") {
			t.Errorf("%v is told as %+v", c.err, p)
		}
	}
}
