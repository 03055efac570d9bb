package tracker

import (
	"strings"
	"testing"
	"time"

	"tavrin/internal/core/change"
)

func TestRead(t *testing.T) {
	for _, c := range []struct {
		got   Received
		state change.TicketState
		down  bool
		says  string // the title, or a part of the trouble
	}{
		{Received{Status: 200, Body: []byte(`{"state": "open", "title": "a\n\u001b[31mb"}`)}, change.TicketOpen, false, "a [31mb"},
		{Received{Status: 200, Body: []byte(`{"state": "closed", "ticket": "FEN-1", "title": "` + strings.Repeat("ü", 300) + `"}`)}, change.TicketClosed, false, strings.Repeat("ü", 199) + "…"},
		{Received{Status: 404, Body: []byte("<html>")}, change.TicketNone, false, ""}, {Received{Status: 410}, change.TicketNone, false, ""},
		{Received{Status: 200, Body: []byte(`{"state": "open", "ticket": "FEN-2"}`)}, "", false, "not the question"},
		{Received{Status: 200, Body: []byte(`{"state": "open"}`), Cut: true}, "", false, "more than 17 bytes"},
		{Received{Status: 200, Body: []byte(`{"state": 1}`)}, "", false, "not JSON"}, {Received{Status: 200, Body: []byte(`null`)}, "", false, `no "state"`},
		{Received{Status: 201}, "", false, "it answered 201"}, {Received{Status: 400}, "", false, "it answered 400"}, {Received{Status: 0}, "", false, "it answered 0"},
		{Received{Status: 301}, "", true, "redirects"}, {Received{Status: 403}, "", true, "header"}, {Received{Status: 408}, "", true, "408"}, {Received{Status: 503}, "", true, "503"},
	} {
		a := Read("FEN-1", c.got)
		said := a.Title
		if c.state == "" {
			said = a.Trouble
		}
		if a.State != c.state || a.Down != c.down || (a.State == "") != (a.Trouble != "") || c.state != "" && said != c.says || !strings.Contains(said, c.says) {
			t.Errorf("%d %s means %+v, want %q (down %v): %q", c.got.Status, c.got.Body, a, c.state, c.down, c.says)
		}
	}
}

// Pauses grow up to ten minutes, whatever the tracker asks for and however often it failed.
func TestPauses(t *testing.T) {
	last := time.Duration(0)
	for tries := range 1000 {
		pause := PauseAfter(tries, 0)
		if pause < last || pause < firstPause || pause > LongestPause {
			t.Fatalf("after %d tries %s, before that %s", tries, pause, last)
		}
		last = pause
	}
	if last != LongestPause || PauseAfter(0, time.Minute) != time.Minute || PauseAfter(0, 24*time.Hour) != LongestPause {
		t.Errorf("%s, %s, %s", last, PauseAfter(0, time.Minute), PauseAfter(0, 24*time.Hour))
	}
	for ticket, is := range map[string]bool{"FEN-1": true, ".": false, "..": false, "a/../b": true, "a\nb": false, strings.Repeat("a", 101): false} {
		if Askable(ticket) != is {
			t.Errorf("%q can be asked about: %v", ticket, !is)
		}
	}
}
