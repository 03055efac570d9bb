// Package tracker decides about the tracker of a house: what can be asked, what an answer means, and when it is asked again.
//
// Calling it is the business of others; here is no clock and no network.
package tracker

import (
	"encoding/json"
	"fmt"
	"strings"
	"time"
	"unicode"

	"tavrin/internal/core/change"
)

const (
	// firstPause and longestPause lie between two tries that come to nothing; each is twice the one before.
	firstPause, LongestPause = 10 * time.Second, 10 * time.Minute
	// longestTicket and longestTitle are in bytes and in characters.
	longestTicket, longestTitle = 100, 200
)

// Askable says whether a tracker can be asked about what a change calls a ticket.
func Askable(ticket string) bool {
	return ticket != "." && ticket != ".." && len(ticket) <= longestTicket && !strings.ContainsFunc(ticket, unicode.IsControl)
}

// Again is how long after an answer it is asked for once more, so that the next is there before this is too old.
func Again(maxAge time.Duration) time.Duration { return maxAge / 2 }

// PauseAfter is the pause after so many tries in a row that came to nothing, at least what the tracker asks for.
func PauseAfter(tries int, asked time.Duration) time.Duration {
	pause := LongestPause
	if tries < 7 {
		pause = min(firstPause<<tries, LongestPause)
	}
	return max(pause, min(asked, LongestPause))
}

// Received is an answer of HTTP: its status, the beginning of its body, and whether that is all.
type Received struct {
	Status int
	Body   []byte
	Cut    bool
}

// Answer is what an answer means.
type Answer struct {
	State   change.TicketState // TicketNotAsked: it means nothing
	Title   string             // fit to be shown in one line
	Trouble string             // why it means nothing
	// Down says that it is the tracker's trouble, which would be met with any other ticket too.
	Down bool
}

// Read says what an answer to the question about a ticket means.
func Read(ticket string, got Received) Answer {
	var said struct {
		Ticket string `json:"ticket"`
		State  string `json:"state"`
		Title  string `json:"title"`
	}
	trouble := func(down bool, format string, args ...any) Answer {
		return Answer{Trouble: fmt.Sprintf(format, args...), Down: down}
	}
	switch s := got.Status; {
	case s == 404 || s == 410:
		return Answer{State: change.TicketNone}
	case s == 401 || s == 403:
		return trouble(true, "it answered %d: a header that it wants is missing or wrong", s)
	case s >= 300 && s < 400:
		return trouble(true, "it answered %d, and redirects are not followed", s)
	case s >= 500 || s == 408 || s == 429:
		return trouble(true, "it answered %d", s)
	case s != 200:
		return trouble(false, "it answered %d, where 200 or 404 are meant", s)
	case got.Cut:
		return trouble(false, "its answer has more than %d bytes", len(got.Body))
	}
	if err := json.Unmarshal(got.Body, &said); err != nil {
		return trouble(false, "its answer is not JSON: %v", err)
	}
	if said.Ticket != "" && said.Ticket != ticket {
		return trouble(false, "it answered about %.100q, which was not the question", said.Ticket)
	}
	switch state := change.TicketState(said.State); state {
	case change.TicketOpen, change.TicketClosed:
		return Answer{State: state, Title: shown(said.Title)}
	case change.TicketNone:
		return Answer{State: state}
	case change.TicketNotAsked:
		return trouble(false, `its answer has no "state"`)
	}
	return trouble(false, `its answer has the state %.100q, where "open", "closed" and "none" are meant`, said.State)
}

// shown is a title fit to be shown in one line.
func shown(title string) string {
	title = strings.Join(strings.FieldsFunc(title, func(r rune) bool { return unicode.IsSpace(r) || !unicode.IsGraphic(r) }), " ")
	if runes := []rune(title); len(runes) > longestTitle {
		return string(runes[:longestTitle-1]) + "…"
	}
	return title
}
