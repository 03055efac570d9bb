package standin

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"html"
	"io"
	"maps"
	"net"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"
)

// Ticket is one ticket of a Tracker.
type Ticket struct {
	State    string   `json:"state"` // open or closed
	Title    string   `json:"title"`
	Comments []string `json:"comments,omitempty"`
}

// Tracker keeps tickets, answers whether one is open, and takes comments:
//
//	GET  /tickets/FEN-31            {"ticket": "FEN-31", "state": "open", "title": "…"}, or 404
//	PUT  /tickets/FEN-31            the same, to make it or change it
//	POST /tickets/FEN-31/comments   any text
//	GET  /                          all of them, for people
type Tracker struct {
	// Key has to be in the Authorization header of whoever asks, behind "Bearer"; empty: none is needed.
	Key string

	mu      sync.Mutex
	tickets map[string]Ticket
}

// NewTracker makes a tracker with some tickets.
func NewTracker(tickets map[string]Ticket) *Tracker {
	return &Tracker{tickets: maps.Clone(tickets)}
}

// maxTicket is the largest request that a Tracker takes, in bytes.
const maxTicket = 1 << 20

// Run answers until the context ends.
func (t *Tracker) Run(ctx context.Context, listener net.Listener) error {
	server := &http.Server{ReadHeaderTimeout: 5 * time.Second, ReadTimeout: 15 * time.Second, Handler: t}
	failed := make(chan error, 1)
	go func() { failed <- server.Serve(listener) }()
	select {
	case err := <-failed:
		return err
	case <-ctx.Done():
		return server.Close()
	}
}

// ServeHTTP answers one call.
func (t *Tracker) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	t.mu.Lock()
	defer t.mu.Unlock()
	name, commented := strings.CutSuffix(strings.TrimPrefix(r.URL.Path, "/tickets/"), "/comments")
	switch {
	case r.Method == http.MethodGet && r.URL.Path == "/":
		t.show(w)
	case t.Key != "" && r.Header.Get("Authorization") != "Bearer "+t.Key:
		http.Error(w, "who is asking?", http.StatusUnauthorized)
	case !strings.HasPrefix(r.URL.Path, "/tickets/") || name == "":
		http.NotFound(w, r)
	case r.Method == http.MethodPut && !commented:
		var n Ticket
		if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, maxTicket)).Decode(&n); err != nil || n.State != "open" && n.State != "closed" {
			http.Error(w, `a ticket is {"state": "open" or "closed", "title": "…"}`, http.StatusBadRequest)
			return
		}
		n.Comments = t.tickets[name].Comments
		t.keep(name, n)
		w.WriteHeader(http.StatusNoContent)
	case r.Method == http.MethodPost && commented:
		text, err := io.ReadAll(http.MaxBytesReader(w, r.Body, maxTicket))
		n, there := t.tickets[name]
		if err != nil || !there {
			http.Error(w, "there is no such ticket, or the comment is too long", http.StatusNotFound)
			return
		}
		n.Comments = append(n.Comments, string(text))
		t.keep(name, n)
		w.WriteHeader(http.StatusNoContent)
	case r.Method == http.MethodGet && !commented:
		n, there := t.tickets[name]
		if !there {
			http.Error(w, `{"state": "none"}`, http.StatusNotFound)
			return
		}
		w.Header().Set("Content-Type", "application/json")
		// an error is the caller's: it has gone
		_ = json.NewEncoder(w).Encode(map[string]string{"ticket": name, "state": n.State, "title": n.Title})
	default:
		http.Error(w, "GET, PUT, or POST to comments", http.StatusMethodNotAllowed)
	}
}

func (t *Tracker) keep(name string, n Ticket) {
	if t.tickets == nil {
		t.tickets = map[string]Ticket{}
	}
	t.tickets[name] = n
}

// show shows all tickets to people.
func (t *Tracker) show(w http.ResponseWriter) {
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	fmt.Fprint(w, "<!doctype html><title>Tickets</title><h1>Tickets</h1><ul>")
	for _, name := range slices.Sorted(maps.Keys(t.tickets)) {
		n := t.tickets[name]
		fmt.Fprintf(w, "<li>%s, %s: %s<ul>", html.EscapeString(name), n.State, html.EscapeString(n.Title))
		for _, c := range n.Comments {
			fmt.Fprintf(w, "<li>%s", html.EscapeString(c))
		}
		fmt.Fprint(w, "</ul>")
	}
	fmt.Fprint(w, "</ul>")
}

// ReadTickets reads tickets from JSON: {"FEN-31": {"state": "open", "title": "Valves open too fast"}}.
func ReadTickets(r io.Reader) (map[string]Ticket, error) {
	out := map[string]Ticket{}
	if err := json.NewDecoder(r).Decode(&out); err != nil {
		return nil, fmt.Errorf("tickets are written {\"FEN-31\": {\"state\": \"open\", \"title\": \"…\"}}: %w", err)
	}
	for name, n := range out {
		if n.State != "open" && n.State != "closed" {
			return nil, errors.New("ticket " + name + " is neither open nor closed")
		}
	}
	return out, nil
}
