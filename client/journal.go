package client

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"time"

	"tavrin/wire"
)

// journal is the part of the client about the journal and the stream of events.
type journal struct{ *connection }

// Journal lists lines of the journal, newest first; repo may be empty.
func (c journal) Journal(ctx context.Context, repo string, limit int) ([]wire.JournalLine, error) {
	return do(ctx, c.connection, wire.ListJournal, wire.JournalQuery{Repository: repo, Limit: limit})
}

// JournalAfter lists the lines after one, oldest first.
func (c journal) JournalAfter(ctx context.Context, repo string, after int64, limit int) ([]wire.JournalLine, error) {
	return do(ctx, c.connection, wire.ListJournal, wire.JournalQuery{Repository: repo, From: after + 1, Limit: limit})
}

// VerifyJournal has the service check its journal, that it goes on from a head exported earlier (nil: none), and that records and
// branches are as it tells; with whole, from the first line on, else from the service's last checkpoint. It returns the head, signed.
// progress is told how far it is; nil: nobody is.
func (c journal) VerifyJournal(ctx context.Context, earlier *wire.SignedHead, whole bool, progress func(wire.Task)) (wire.SignedHead, error) {
	q := wire.EarlierHead{Whole: whole}
	if earlier != nil {
		q.Seq, q.Hash, q.PublicKey, q.Signature = earlier.Seq, earlier.Hash, earlier.PublicKey, earlier.Signature
	}
	begun, err := do(ctx, c.connection, wire.VerifyJournal, q)
	t, err := finished(ctx, c.connection, begun, err, progress)
	if err != nil || t.Head == nil {
		return wire.SignedHead{}, err
	}
	return *t.Head, nil
}

// JournalHead returns the newest line's place and hash, signed, for somebody else to keep.
func (c journal) JournalHead(ctx context.Context) (wire.SignedHead, error) {
	return do(ctx, c.connection, wire.GetJournalHead, wire.Nothing{})
}

// Event is one event of the stream.
type Event struct {
	ID      string    `json:"id"`
	Type    string    `json:"type"`
	Subject string    `json:"subject"`
	Time    time.Time `json:"time"`
	Data    EventData `json:"data"`
}

// EventData is what an event says: its line of the journal. Details are what its kind records, as the reference of events
// lists it.
type EventData struct {
	Actor      string          `json:"actor"`
	Repository string          `json:"repository"`
	Text       string          `json:"text"`
	Details    json.RawMessage `json:"details"`
}

// Events calls f for each event of a repository (empty: of all one may read) until f returns false, the stream
// ends, or the context does. after is the id to go on from; empty: from now.
func (c journal) Events(ctx context.Context, repo, after string, f func(Event) bool) error {
	header := http.Header{"Accept": {"text/event-stream"}}
	if after != "" {
		header.Set("Last-Event-ID", after)
	}
	path := "/events"
	if repo != "" {
		path += "?repository=" + url.QueryEscape(repo)
	}
	resp, err := c.send(ctx, http.MethodGet, path, c.token, header, nil)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	lines := bufio.NewScanner(resp.Body)
	lines.Buffer(nil, 4<<20)
	for lines.Scan() {
		data, ok := strings.CutPrefix(lines.Text(), "data: ")
		if !ok {
			continue
		}
		var e Event
		if err := json.Unmarshal([]byte(data), &e); err != nil {
			return fmt.Errorf("read an event: %w", err)
		}
		if !f(e) {
			return nil
		}
	}
	return lines.Err()
}
