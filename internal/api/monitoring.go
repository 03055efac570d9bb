package api

import (
	"context"
	"encoding/json"
	"net/http"
	"time"

	"github.com/go-chi/chi/v5"
)

// measured counts a request that was answered, by the pattern of its route. A stream's time would say nothing.
func (s *server) measured(r *http.Request, status int, took time.Duration) {
	if s.Service == nil {
		return
	}
	route := chi.RouteContext(r.Context()).RoutePattern()
	if route != base+"/events" {
		s.Service.Metrics.Request(route, r.Method, status, took)
	}
}

// metrics answers monitoring systems in the Prometheus text format. What there is tells the names of repositories, so that it
// is for administrators: by a token of theirs that only reads.
func (s *server) metrics(w http.ResponseWriter, r *http.Request) {
	a := actor(r.Context())
	err := s.mayCall(a, "read-metrics")
	if err == nil {
		err = a.MustWatch("reading metrics")
	}
	if err != nil {
		writeProblem(w, s.problemOf(r.Context(), err))
		return
	}
	s.Service.Metrics.Handler().ServeHTTP(w, r)
}

// readyTime is how long finding out whether the service can work may take.
const readyTime = 3 * time.Second

// ready says whether the service can work: its records can be read and written, and there is room on the disk. It names nothing
// of what is in it, so that anybody may ask.
func (s *server) ready(w http.ResponseWriter, r *http.Request) {
	ctx, stop := context.WithTimeout(r.Context(), readyTime)
	defer stop()
	answer := struct {
		Ready bool     `json:"ready"`
		Why   []string `json:"why"`
	}{Why: []string{}}
	for _, trouble := range s.Service.Trouble(ctx) {
		answer.Why = append(answer.Why, trouble)
	}
	answer.Ready = len(answer.Why) == 0
	w.Header().Set("Content-Type", "application/json")
	if !answer.Ready {
		w.WriteHeader(http.StatusServiceUnavailable)
	}
	json.NewEncoder(w).Encode(answer)
}
