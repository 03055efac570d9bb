package api

import (
	"context"
	"errors"
	"mime"
	"net/http"
	"path"

	"github.com/go-chi/chi/v5"
)

// rawFile sends the bytes of a file as they are stored. They come from whoever pushed them, and lie on the origin at
// which people are signed in: so they are a download of no type that a browser would do anything with, in a sandbox
// should one try.
func (s *server) rawFile(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	send, err := s.Service.Repositories.RawFile(r.Context(), actor(r.Context()),
		chi.URLParam(r, "house")+"/"+chi.URLParam(r, "name"), q.Get("at"), q.Get("path"))
	if err != nil {
		writeProblem(w, s.problemOf(r.Context(), err))
		return
	}
	done, err := s.gates.transfer(s.who(r))
	if err != nil {
		writeProblem(w, s.problemOf(r.Context(), err))
		return
	}
	defer done()
	s.unhurried(w)
	h := w.Header()
	h.Set("Content-Type", "application/octet-stream")
	h.Set("Content-Disposition", mime.FormatMediaType("attachment",
		map[string]string{"filename": path.Base(q.Get("path"))}))
	h.Set("Content-Security-Policy", "sandbox; default-src 'none'; frame-ancestors 'none'")
	h.Set("Cross-Origin-Resource-Policy", "same-origin")
	if err := send(w); err != nil && !errors.Is(r.Context().Err(), context.Canceled) {
		s.Log.Warn("a file could not be sent whole", "error", err)
		panic(http.ErrAbortHandler) // what was sent must not be taken for all of it
	}
}
