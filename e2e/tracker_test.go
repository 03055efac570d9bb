package e2e

import (
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"tavrin/internal/core/change"
	"tavrin/internal/outbound"
	"tavrin/internal/standin"
	"tavrin/wire"
)

// A house asks a tracker, and its changes land only for tickets that are open there; what has landed is told there.
func TestTicketsOfATracker(t *testing.T) {
	w := newTown(t)
	w.begin("tavrin: rules/1\nprotect:\n  - name: trunk\n    branches: main\n    push: nobody\n    require:\n      - {ticket: 'FEN-[0-9]+', tracker: open, example: FEN-31}\n" +
		"    land: {strategies: [rebase, squash, merge], default: rebase}\n")
	tracker := standin.NewTracker(map[string]standin.Ticket{"FEN-31": {State: "closed", Title: "Count by hand"}})
	tracker.Key = "bench-1"
	outside := httptest.NewServer(tracker)
	t.Cleanup(outside.Close)
	list, err := outbound.NewList([]string{outside.URL})
	w.ok(err)
	w.outside = append(w.outside, list...)
	w.close()
	w.reopen()
	host := strings.TrimPrefix(outside.URL, "http://")

	k := w.propose("tamsin", "count", "docs/count.txt", "by hand\n")
	w.says("tamsin", 3, "no ticket named", "change", "gate", "1", "--repo", repo)
	w.says("tamsin", 0, "is open", "change", "edit", "1", "--title", "Count by hand, FEN-31", "--repo", repo)
	w.says("tamsin", 3, "a maintainer of the house names one (tavrin tracker set)", "change", "gate", "1", "--repo", repo)
	w.says("odo", 1, "its tracker is for maintainers of house growers", "tracker", "set", "growers", outside.URL+"/tickets/{ticket}", "--reason", "mine")
	w.says("admin", 1, "--allow-destination https://tickets.example", "tracker", "set", "growers", "https://tickets.example/{ticket}", "--reason", "ours")
	w.says("admin", 2, "reason", "tracker", "set", "growers", outside.URL+"/tickets/{ticket}")
	w.says("admin", 0, "try it: tavrin tracker try growers TICKET", "tracker", "set", "growers", outside.URL+"/tickets/{ticket}", "--reason", "ours")
	w.untilStands(k, "ticket", "pending")
	w.says("admin", 3, "nothing: it answered 401: a header that it wants is missing or wrong", "tracker", "try", "growers", "FEN-31")
	w.says("tamsin", 3, "no answer yet about FEN-31 (it answered 401", "change", "gate", "1", "--repo", repo)
	w.says("admin", 0, "house growers asks", "tracker", "set", "growers", outside.URL+"/tickets/{ticket}", "--header", "Authorization=Bearer bench-1", "--reason", "with its key")
	w.untilStands(k, "ticket", "missing")
	w.says("tamsin", 3, host+" says that FEN-31 is closed", "change", "gate", "1", "--repo", repo)
	if said := w.says("tamsin", 0, "Count by hand", "change", "tickets", "1", "--repo", repo); !strings.Contains(said, "closed") || !strings.Contains(said, " ago") {
		t.Errorf("its tickets are shown as %s", said)
	}
	if said := w.says("admin", 0, "Authorization", "tracker", "show", "growers"); strings.Contains(said, "bench-1") {
		t.Errorf("the key is shown: %s", said)
	}
	words := filepath.Join(w.dir, "words")
	w.ok(os.WriteFile(words, []byte("${data.text}"), 0o600))
	w.says("admin", 0, "sends change.landed", "webhook", "create", "work list", "--house", "growers", "--url", outside.URL+"/tickets/${data.details.tickets[0]}/comments",
		"--header", "Authorization=Bearer bench-1", "--event", "change.landed", "--when", "has(data.details.tickets)", "--body", words, "--content-type", "text/plain")

	// it waits in the queue for the tracker, and goes on by itself
	w.join("tamsin", k, string(change.Rebase))
	w.until(k, "waiting", func(k wire.Change) bool { return k.Entry.State == "waiting" })
	put, err := http.NewRequest("PUT", outside.URL+"/tickets/FEN-31", strings.NewReader(`{"state": "open", "title": "Count by hand"}`))
	w.ok(err)
	put.Header.Set("Authorization", "Bearer bench-1")
	answer, err := http.DefaultClient.Do(put)
	w.ok(err)
	answer.Body.Close()
	w.says("tamsin", 0, "the tracker is being asked", "change", "tickets", "1", "--ask", "--repo", repo)
	w.landed(k)
	for range 200 {
		page, err := http.Get(outside.URL)
		w.ok(err)
		text, err := io.ReadAll(page.Body)
		page.Body.Close()
		w.ok(err)
		if strings.Contains(string(text), "landed on main") {
			return
		}
		pause()
	}
	t.Error("nothing was told at the tracker")
}
