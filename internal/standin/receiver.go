package standin

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"time"

	"tavrin/internal/core/webhook"
)

// Received is a delivery as a destination sees it.
type Received struct {
	ID     string
	At     time.Time
	Kind   string // the event's type, where the body is an event
	Text   string // what it says, likewise
	Body   []byte
	Header http.Header
	// Trouble is why its signature is not good; nil: it is.
	Trouble error
	Again   bool // its id came before
}

// maxDelivery is the largest delivery that a Receiver takes, in bytes.
const maxDelivery = 1 << 20

// Receiver is a destination of webhooks: it verifies what comes, and tells of it.
type Receiver struct {
	Secret string          // that deliveries are signed with; empty: they are not verified
	Heard  func(*Received) // told of each, one after the other
	Answer int             // status; 0: 204, or 401 where the signature is not good
	seen   map[string]bool
	turn   chan struct{}
}

// NewReceiver makes a Receiver.
func NewReceiver(secret string, heard func(*Received)) *Receiver {
	return &Receiver{Secret: secret, Heard: heard, seen: map[string]bool{}, turn: make(chan struct{}, 1)}
}

// ServeHTTP takes one delivery.
func (r *Receiver) ServeHTTP(w http.ResponseWriter, q *http.Request) {
	body, err := io.ReadAll(http.MaxBytesReader(w, q.Body, maxDelivery))
	if q.Method != http.MethodPost || err != nil {
		http.Error(w, "a delivery is a POST of at most 1 MiB", http.StatusBadRequest)
		return
	}
	d := &Received{ID: q.Header.Get(webhook.HeaderID), At: time.Now(), Body: body, Header: q.Header}
	var e struct {
		Type string `json:"type"`
		Data struct {
			Text string `json:"text"`
		} `json:"data"`
	}
	if json.Unmarshal(body, &e) == nil {
		d.Kind, d.Text = e.Type, e.Data.Text
	}
	if r.Secret != "" {
		d.Trouble = webhook.Verify(r.Secret, d.ID, q.Header.Get(webhook.HeaderTimestamp), q.Header.Get(webhook.HeaderSignature), body, d.At)
	}
	r.turn <- struct{}{}
	d.Again = r.seen[d.ID]
	r.seen[d.ID] = true
	r.Heard(d)
	<-r.turn
	switch {
	case r.Answer != 0:
		w.WriteHeader(r.Answer)
		fmt.Fprintln(w, "answered as asked")
	case d.Trouble != nil:
		http.Error(w, d.Trouble.Error(), http.StatusUnauthorized)
	default:
		w.WriteHeader(http.StatusNoContent)
	}
}
