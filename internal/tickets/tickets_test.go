package tickets_test

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"tavrin/internal/accounts"
	"tavrin/internal/core/require"
	"tavrin/internal/lab"
	"tavrin/internal/outbound"
	"tavrin/internal/problem"
	"tavrin/internal/records"
	"tavrin/internal/tickets"
	"tavrin/wire"
)

const asksOpen = "tavrin: rules/1\nprotect:\n  - name: kept\n    branches: main\n    require: [{ticket: 'FEN-[0-9]+', tracker: open}]\n"

// desk is a tracker that keeps what it is asked, and answers as it is told.
type desk struct {
	*lab.Lab
	url string

	mu     sync.Mutex
	asked  []string
	header http.Header
	answer func(w http.ResponseWriter, ticket string)
}

// aDesk makes a lab in which the house asks a tracker of the test's own, with the rules that want it, and a change.
func aDesk(t *testing.T, rules string) *desk {
	d := &desk{answer: says("open")}
	s := httptest.NewServer(d)
	t.Cleanup(s.Close)
	l, err := outbound.NewList([]string{s.URL})
	if err != nil {
		t.Fatal(err)
	}
	d.Lab, d.url = lab.Calling(t, outbound.Options{List: l, Timeout: 5 * time.Second}), s.URL
	d.Commit("main", "", "README=a")
	d.Commit("topic", "main", "a=1")
	d.Rules(rules)
	d.set(d.url + "/tickets/{ticket}")
	return d
}

func (d *desk) set(url string) {
	d.T.Helper()
	_, err := d.Tickets.Set(d.T.Context(), d.Admin, lab.House, wire.NewTracker{URL: url, Reason: "for the test", Headers: map[string]string{"authorization": "Bearer 17"}})
	d.Ok(err)
}

func (d *desk) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.asked, d.header = append(d.asked, r.URL.EscapedPath()+strings.TrimSuffix("?"+r.URL.RawQuery, "?")), r.Header
	d.answer(w, strings.TrimPrefix(r.URL.Path, "/tickets/"))
}

func says(state string) func(http.ResponseWriter, string) {
	return func(w http.ResponseWriter, ticket string) {
		fmt.Fprintf(w, `{"ticket": %q, "state": %q, "title": "About %s"}`, ticket, state, ticket)
	}
}

func status(code int) func(http.ResponseWriter, string) {
	return func(w http.ResponseWriter, _ string) { w.WriteHeader(code) }
}

func body(text string) func(http.ResponseWriter, string) {
	return func(w http.ResponseWriter, _ string) { fmt.Fprint(w, text) }
}

func (d *desk) does(answer func(http.ResponseWriter, string)) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.answer = answer
}

// came has what is due asked, and lists what the tracker was asked.
func (d *desk) came() []string {
	d.T.Helper()
	d.Ok(d.Tickets.AskDue(d.T.Context()))
	d.mu.Lock()
	defer d.mu.Unlock()
	out := d.asked
	d.asked = nil
	return out
}

// gate is how the ticket's requirement stands.
func (d *desk) gate(number int) require.Outcome {
	d.T.Helper()
	report, err := d.Facts.Gate(d.T.Context(), d.Admin, lab.Name, number)
	d.Ok(err)
	for _, q := range report.Requirements {
		if q.Key == "ticket" {
			return q
		}
	}
	d.T.Fatal("the gate asks for no ticket")
	return require.Outcome{}
}

func (d *desk) stands(number int, state require.State, words string) {
	d.T.Helper()
	if q := d.gate(number); q.State != state || !strings.Contains(q.Told(), words) {
		d.T.Errorf("the gate is %s: %q; want %s: %q", q.State, q.Told(), state, words)
	}
}

func (d *desk) open(title string) wire.Change {
	d.T.Helper()
	c, err := d.Changes.OpenChange(d.T.Context(), d.Admin, lab.Name, wire.NewChange{Source: "topic", Title: title})
	d.Ok(err)
	return c
}

// A gate follows what the tracker says; it is asked in time for the next answer to be there before this is too old, and no
// more often than that.
func TestAGateFollowsTheTracker(t *testing.T) {
	d := aDesk(t, asksOpen)
	d.open("Close valves slowly, FEN-31")
	d.stands(1, require.Pending, "no answer yet about FEN-31: "+strings.TrimPrefix(d.url, "http://")+" is asked again by itself")
	if asked := d.came(); !slices.Equal(asked, []string{"/tickets/FEN-31"}) || d.header.Get("Authorization") != "Bearer 17" {
		t.Errorf("asked %v with %v", asked, d.header)
	}
	d.stands(1, require.Met, "")
	if d.Kinds(1) != "ticket.answered" {
		t.Errorf("the journal ends with %s", d.Kinds(3))
	}
	c, err := d.Changes.Change(t.Context(), d.Admin, lab.Name, 1)
	d.Ok(err)
	if a := c.TicketAnswers; len(a) != 1 || a[0].State != "open" || a[0].Title != "About FEN-31" || !a[0].AnsweredAt.Equal(d.Now()) {
		t.Errorf("the change shows %+v", a)
	}
	for range 3 {
		d.Wait(29 * time.Minute)
		if asked := d.came(); asked != nil {
			t.Errorf("asked too often: %v", asked)
		}
		d.Wait(2 * time.Minute)
		if asked := d.came(); len(asked) != 1 {
			t.Errorf("asked %v", asked)
		}
	}
	d.does(says("closed"))
	d.Wait(31 * time.Minute)
	d.came()
	d.stands(1, require.Missing, "says that FEN-31 is closed: open it there, or name another ticket in the title")
	if d.Kinds(1) != "ticket.answered" {
		t.Errorf("the journal ends with %s", d.Kinds(1))
	}
	d.does(says("open"))
	for range 3 { // which is no way to have it asked all the time
		_, err = d.Tickets.Ask(t.Context(), d.Admin, lab.Name, 1)
		d.Ok(err)
		if asked := d.came(); asked != nil {
			t.Errorf("asked again at once: %v", asked)
		}
	}
	d.Wait(2 * time.Second)
	if asked := d.came(); len(asked) != 1 {
		t.Errorf("asked again: %v", asked)
	}
	d.stands(1, require.Met, "")
	_, err = d.Changes.CloseChange(t.Context(), d.Admin, lab.Name, 1)
	d.Ok(err)
	d.Wait(time.Hour)
	if asked := d.came(); asked != nil {
		t.Errorf("asked about a closed change: %v", asked)
	}
}

// While a tracker is down an answer counts as long as it may, and then no more; the gate says since when and why. It is tried
// with growing pauses, about one ticket, and catches up when it is back.
func TestATrackerThatIsDown(t *testing.T) {
	d := aDesk(t, asksOpen)
	d.open("FEN-1 and FEN-2 and FEN-3")
	d.came()
	d.does(status(503))
	d.Wait(31 * time.Minute)
	if asked := d.came(); len(asked) > 3 {
		t.Errorf("asked %v", asked)
	}
	d.stands(1, require.Met, "")
	tries := 0
	for range 180 {
		d.Wait(10 * time.Second)
		asked := len(d.came())
		if asked > 1 {
			t.Errorf("%d were tried at once", asked)
		}
		tries += asked
	}
	if tries < 4 || tries > 10 {
		t.Errorf("%d tries in half an hour", tries)
	}
	d.stands(1, require.Pending, "the answer about FEN-1 is 1h1m old, more than 1h (it answered 503)")
	v, err := d.Tickets.Tracker(t.Context(), d.Admin, lab.House)
	d.Ok(err)
	if v.FailingSince == nil || v.Trouble != "it answered 503" || v.TryAt == nil {
		t.Errorf("the tracker is shown as %+v", v)
	}
	d.does(says("open"))
	d.Wait(10 * time.Minute)
	if asked := d.came(); len(asked) != 3 {
		t.Errorf("asked %v", asked)
	}
	d.stands(1, require.Met, "")
	if v, err = d.Tickets.Tracker(t.Context(), d.Admin, lab.House); err != nil || v.Trouble != "" || v.FailingSince != nil {
		t.Errorf("the tracker is shown as %+v, %v", v, err)
	}
}

// Whatever a tracker answers that is no answer is told, and nothing is met by it.
func TestWrongAnswers(t *testing.T) {
	for _, c := range []struct {
		answer func(http.ResponseWriter, string)
		state  require.State
		words  string
	}{
		{status(404), require.Missing, "there is no FEN-1"}, {status(410), require.Missing, "there is no FEN-1"}, {body(`{"state": "none"}`), require.Missing, "there is no FEN-1"},
		{body(`{"state": "open"}`), require.Met, ""}, {body(`{"state": "OPEN"}`), require.Pending, `the state "OPEN"`}, {body(`{}`), require.Pending, `no "state"`},
		{body(`{"ticket": "FEN-2", "state": "open"}`), require.Pending, `about "FEN-2"`}, {body("<html>sign in</html>"), require.Pending, "not JSON"}, {body(""), require.Pending, "not JSON"},
		{body(`{"state": "open", "title": "` + strings.Repeat("x", 1<<20) + `"}`), require.Pending, "more than 4096 bytes"}, {body(`[{"state": "open"}]`), require.Pending, "not JSON"},
		{status(401), require.Pending, "a header that it wants is missing"}, {status(204), require.Pending, "it answered 204"}, {status(429), require.Pending, "it answered 429"},
		{func(w http.ResponseWriter, _ string) {
			w.Header().Set("Location", "/tickets/FEN-2")
			w.WriteHeader(302)
		}, require.Pending, "redirects are not followed"},
		{func(w http.ResponseWriter, _ string) { panic(http.ErrAbortHandler) }, require.Pending, "EOF"},
	} {
		d := aDesk(t, asksOpen)
		d.open("For FEN-1")
		d.does(c.answer)
		d.came()
		d.stands(1, c.state, c.words)
	}
}

// A ticket is whatever the rules' expression matches: whatever it is called, it leads nowhere but to its place at the tracker.
func TestTicketsLeadNowhereElse(t *testing.T) {
	d := aDesk(t, "tavrin: rules/1\nprotect:\n  - name: kept\n    branches: main\n    require: [{ticket: '[^ ]+', in: title, tracker: exists}]\n")
	d.set(d.url + "/tickets/{ticket}?of={ticket}")
	d.open("../admin . .. a?b=c&d #x %2e%2e/y é " + strings.Repeat("z", 101))
	asked := d.came()
	slices.Sort(asked)
	want := []string{"/tickets/%23x?of=%23x", "/tickets/%252e%252e%2Fy?of=%252e%252e%2Fy", "/tickets/%C3%A9?of=%C3%A9", "/tickets/a%3Fb%3Dc%26d?of=a%3Fb%3Dc%26d"}
	if !slices.Equal(asked, want) {
		t.Errorf("asked %q, want %q", asked, want)
	}
}

// A ticket that breaks the tracker keeps nobody else's answer away for long.
func TestATicketThatBreaksTheTracker(t *testing.T) {
	d := aDesk(t, asksOpen)
	d.Commit("other", "main", "b=1")
	d.open("FEN-1")
	_, err := d.Changes.OpenChange(t.Context(), d.Admin, lab.Name, wire.NewChange{Source: "other", Title: "FEN-2 and FEN-3"})
	d.Ok(err)
	d.does(func(w http.ResponseWriter, ticket string) {
		if ticket == "FEN-1" {
			w.WriteHeader(500)
			return
		}
		says("open")(w, ticket)
	})
	for range 12 {
		d.came()
		d.Wait(10 * time.Second)
	}
	d.stands(1, require.Pending, "it answered 500")
	d.stands(2, require.Met, "")
	for range 60 {
		d.Wait(10 * time.Minute)
		d.came()
		d.stands(2, require.Met, "")
	}
}

// Who may say what is asked for a house is its maintainers' alone; what is sent along is never shown; where it may go is the
// administrator's.
func TestP11TrackersAreTheMaintainersOfTheHouse(t *testing.T) {
	d := aDesk(t, asksOpen)
	ines := d.Person("ines", "maintainer")
	ctx := t.Context()
	_, err := d.Tickets.Set(ctx, ines, lab.House, wire.NewTracker{URL: d.url + "/{ticket}", Reason: "mine"})
	d.Is(err, problem.Forbidden, "for maintainers of house growers")
	_, err = d.Tickets.Tracker(ctx, ines, lab.House)
	d.Is(err, problem.Forbidden, "for maintainers of house growers")
	_, err = d.Tickets.Try(ctx, accounts.Actor{}, lab.House, "FEN-1")
	if err == nil {
		t.Error("somebody unknown asked")
	}
	d.Is(d.Tickets.Remove(ctx, ines, lab.House, "x"), problem.Forbidden, "for maintainers of house growers")
	for url, words := range map[string]string{"https://elsewhere.example/{ticket}": "administrator", d.url + "/": "no address with {ticket}", "ftp://a/{ticket}": "no address",
		d.url + "/{ticket}\n": "no spaces", "http://{ticket}/": "no address"} {
		_, err := d.Tickets.Set(ctx, d.Admin, lab.House, wire.NewTracker{URL: url, Reason: "x"})
		d.Is(err, problem.Invalid, words)
	}
	_, err = d.Tickets.Set(ctx, d.Admin, lab.House, wire.NewTracker{URL: d.url + "/{ticket}"})
	d.Is(err, problem.Invalid, "reason")
	_, err = d.Tickets.Set(ctx, d.Admin, lab.House, wire.NewTracker{URL: d.url + "/{ticket}", Reason: "x", Headers: map[string]string{"Host": "a"}})
	d.Is(err, problem.Invalid, "the service's own to write")
	v, err := d.Tickets.Tracker(ctx, d.Admin, lab.House)
	if d.Ok(err); !slices.Equal(v.Headers, []string{"Authorization"}) || strings.Contains(fmt.Sprint(v), "Bearer") {
		t.Errorf("it is shown as %+v", v)
	}
	tried, err := d.Tickets.Try(ctx, d.Admin, lab.House, "FEN-9")
	if d.Ok(err); tried.State != "open" || tried.Status != 200 || !strings.Contains(tried.Answer, "About FEN-9") || strings.Contains(fmt.Sprint(tried), "Bearer") {
		t.Errorf("tried: %+v", tried)
	}
	if d.came(); strings.Contains(d.Kinds(3), "ticket.answered") {
		t.Errorf("trying left %s", d.Kinds(3))
	}
}

// What one tracker answered does not count for another, nor for a house that has none any more; what changes refer to is
// asked about as it is now, after a start too.
func TestAnswersBelongToTheirTracker(t *testing.T) {
	d := aDesk(t, asksOpen)
	d.open("FEN-1")
	d.came()
	d.stands(1, require.Met, "")
	d.set(d.url + "/tickets/{ticket}?new")
	d.stands(1, require.Pending, "no answer yet about FEN-1")
	if asked := d.came(); !slices.Equal(asked, []string{"/tickets/FEN-1?new"}) {
		t.Errorf("asked %v", asked)
	}
	title := "FEN-2"
	_, err := d.Changes.EditChange(t.Context(), d.Admin, lab.Name, 1, wire.ChangeEdit{Title: &title})
	d.Ok(err)
	// after a start nothing is marked, and everything is looked at
	list, err := outbound.NewList([]string{d.url})
	d.Ok(err)
	again := tickets.New(d.Records, d.Facts, outbound.New(outbound.Options{List: list}), lab.Quiet)
	d.stands(1, require.Pending, "no answer yet about FEN-2")
	d.Ok(again.AskDue(t.Context()))
	d.stands(1, require.Met, "")
	if asked := d.came(); !slices.Equal(asked, []string{"/tickets/FEN-2?new"}) {
		t.Errorf("asked %v", asked)
	}
	d.Rules(strings.Replace(asksOpen, "FEN-", "fen-", 1))
	d.Ok(d.Tickets.Remove(t.Context(), d.Admin, lab.House, "we stop"))
	d.Rules(asksOpen)
	d.stands(1, require.Missing, "the house has no tracker to ask")
	if asked := d.came(); asked != nil {
		t.Errorf("asked %v", asked)
	}
	var left int64
	if d.Ok(d.Records.Read(t.Context()).Model(&records.TicketAnswer{}).Count(&left).Error); left != 0 {
		t.Errorf("%d answers are left", left)
	}
}

// A landing is judged by the answers there are: one that has grown too old holds it up.
func TestP1ALandingWaitsForTheTracker(t *testing.T) {
	d := aDesk(t, asksOpen)
	c := d.open("FEN-1")
	d.came()
	g, err := d.Facts.Gather(d.Records.Read(t.Context()), d.Repo, d.Row(c.Number))
	if d.Ok(err); !g.Judge().Ready {
		t.Errorf("not ready: %s", g.Judge().Summary)
	}
	d.Wait(61 * time.Minute)
	if g, err = d.Facts.Gather(d.Records.Read(t.Context()), d.Repo, d.Row(c.Number)); err != nil || g.Judge().Ready {
		t.Errorf("ready by an answer of an hour ago: %v", err)
	}
}
