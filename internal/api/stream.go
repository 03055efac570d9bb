package api

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"time"

	"github.com/go-chi/chi/v5"

	"tavrin/internal/core/journal"
	"tavrin/internal/problem"
	"tavrin/internal/records"
)

const (
	// streamTime is how long one stream lasts; the client comes back by itself and misses nothing.
	streamTime = 5 * time.Minute
	// heartbeat keeps the connection from looking dead.
	heartbeat = 15 * time.Second
	// whoAgain is how often a stream finds out whether whoever listens still may.
	whoAgain = 2 * time.Second
)

// events streams the journal as Server-Sent Events: from the line after Last-Event-ID (or ?after=N), or else from
// now. Each event's id is its line's number.
func (s *server) events(w http.ResponseWriter, r *http.Request) {
	ctx, a := r.Context(), actor(r.Context())
	if err := s.mayCall(a, "stream-events"); err != nil {
		writeProblem(w, s.problemOf(ctx, err))
		return
	}
	done, err := s.gates.stream(s.who(r))
	if err != nil {
		writeProblem(w, s.problemOf(ctx, err))
		return
	}
	defer done()
	last, err := s.streamStart(r)
	if err == nil {
		_, err = s.Service.Audit.Following(ctx, a, r.URL.Query().Get("repository"), last, 1)
	}
	if err != nil {
		writeProblem(w, s.problemOf(ctx, err))
		return
	}
	c := http.NewResponseController(w)
	if err := errors.Join(c.SetWriteDeadline(time.Now().Add(streamTime+heartbeat)),
		c.SetReadDeadline(time.Now().Add(streamTime+heartbeat))); err != nil {
		s.Log.Warn("a deadline could not be moved", "error", err)
	}
	w.Header().Set("Content-Type", "text/event-stream")
	fmt.Fprintf(w, "retry: 1000\nid: %d\n\n", last) // at once: one that is cut before its first event goes on from here
	end := time.After(streamTime)
	var asked time.Time
	beat, again := time.NewTicker(heartbeat), time.NewTicker(whoAgain)
	defer beat.Stop()
	defer again.Stop()
	for {
		if time.Since(asked) >= whoAgain/2 { // not for every line
			if s.Service.Access.Still(ctx, a) != nil {
				return // the client comes back, and is told
			}
			asked = time.Now()
		}
		grown := s.Service.Records.Grown()
		was := last
		last, err = s.Service.Audit.Hear(ctx, a, r.URL.Query().Get("repository"), last, func(t *records.Told) error {
			text := t.Text(s.cloud)
			if text == nil {
				return errNotWritten
			}
			_, err := w.Write(text)
			return err
		})
		if err != nil {
			return
		}
		if c.Flush() != nil {
			return
		}
		if last > was {
			continue
		}
		select {
		case <-grown:
		case <-again.C:
		case <-beat.C:
			fmt.Fprint(w, ": still here\n\n")
		case <-end:
			return
		case <-ctx.Done():
			return
		case <-s.Service.Records.StreamsEnded():
			return
		}
	}
}

var errNotWritten = errors.New("an event could not be written out")

// cloud writes a line out as an event of a stream; nil: it cannot be.
func (s *server) cloud(l journal.Line) []byte {
	data, err := json.Marshal(journal.Cloud(l, s.Address))
	if err != nil {
		return nil
	}
	return fmt.Appendf(nil, "id: %d\ndata: %s\n\n", l.Seq, data)
}

func (s *server) streamStart(r *http.Request) (int64, error) {
	text := r.Header.Get("Last-Event-ID")
	if text == "" {
		text = r.URL.Query().Get("after")
	}
	if text == "" {
		return s.Service.Records.JournalEnd(r.Context())
	}
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil || n < 0 {
		return 0, &problem.Problem{Kind: problem.Invalid, Text: "the last event's id is a whole number, that of a " +
			"journal line"}
	}
	return n, nil
}

// jobPack sends the pack of the one commit that a runner's lease is for.
func (s *server) jobPack(w http.ResponseWriter, r *http.Request) {
	id, err := strconv.ParseInt(chi.URLParam(r, "id"), 10, 64)
	if err != nil {
		s.notFound(w, r)
		return
	}
	s.unhurried(w)
	w.Header().Set("Content-Type", "application/x-git-pack")
	if err := s.Service.Checks.JobPack(r.Context(), id, credential(r), w); err != nil {
		writeProblem(w, s.problemOf(r.Context(), err))
	}
}
