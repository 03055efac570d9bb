package outbox_test

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"tavrin/internal/accounts"
	"tavrin/internal/core/event"
	"tavrin/internal/core/webhook"
	"tavrin/internal/lab"
	"tavrin/internal/often"
	"tavrin/internal/outbound"
	"tavrin/internal/problem"
	"tavrin/internal/records"
	"tavrin/wire"
)

// place is a destination that keeps what comes, and answers as it is told.
type place struct {
	*lab.Lab
	url string

	mu     sync.Mutex
	got    []*http.Request
	bodies []string
	answer func(r *http.Request) int
}

// aPlace makes a lab that may call a destination of the test's own.
func aPlace(t *testing.T) *place {
	p := &place{}
	s := httptest.NewServer(p)
	t.Cleanup(s.Close)
	l, err := outbound.NewList([]string{s.URL})
	if err != nil {
		t.Fatal(err)
	}
	p.Lab, p.url = lab.Calling(t, outbound.Options{List: l, Timeout: time.Minute}), s.URL
	return p
}

func (p *place) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	p.mu.Lock()
	defer p.mu.Unlock()
	body := new(strings.Builder)
	fmt.Fprint(body, readAll(r))
	p.got, p.bodies = append(p.got, r), append(p.bodies, body.String())
	if p.answer != nil {
		w.WriteHeader(p.answer(r))
	}
	fmt.Fprintf(w, "you sent %s", r.Header.Get("Authorization"))
}

func readAll(r *http.Request) string {
	b := make([]byte, r.ContentLength)
	for n := 0; n < len(b); {
		m, err := r.Body.Read(b[n:])
		if n += m; err != nil {
			break
		}
	}
	return string(b)
}

// came lists the ids of what came, in order, and forgets them.
func (p *place) came() []string {
	p.T.Helper()
	p.Ok(p.Outbox.SendDue(p.T.Context()))
	p.mu.Lock()
	defer p.mu.Unlock()
	var ids []string
	for _, r := range p.got {
		ids = append(ids, r.Header.Get("webhook-id"))
	}
	p.got, p.bodies = nil, nil
	return ids
}

func (p *place) hook(n wire.NewWebhook) wire.Webhook {
	p.T.Helper()
	if n.Of == "" {
		n.Of = lab.Name
	}
	if n.URL == "" {
		n.URL = p.url
	}
	if n.Name == "" {
		n.Name = "builds"
	}
	if n.Events == nil {
		n.Events = []string{"tag.*"}
	}
	h, err := p.Outbox.Create(p.T.Context(), p.Admin, n)
	p.Ok(err)
	return h
}

// happen records an event about a tag.
func (p *place) happen(tag string) {
	p.T.Helper()
	p.Ok(p.Records.Write(p.T.Context(), func(tx *records.Tx) error { return tag1(tx, p.Repo, tag) }))
}

func tag1(tx *records.Tx, repo *records.Repository, tag string) error {
	return tx.Record("wren", repo, event.TagCreated{RefMove: event.RefMove{Ref: "refs/tags/" + tag, New: strings.Repeat("1", 40)}})
}

func (p *place) deliveries(id int64) []wire.Delivery {
	p.T.Helper()
	all, err := p.Outbox.Deliveries(p.T.Context(), p.Admin, wire.DeliveryQuery{WithID: wire.WithID{ID: id}, Limit: 200})
	p.Ok(err)
	slices.Reverse(all)
	return all
}

// A delivery is there exactly when its event is: what was not committed is not sent (P4).
func TestP4DeliveriesAreRecordedWithTheirEvents(t *testing.T) {
	p := aPlace(t)
	h := p.hook(wire.NewWebhook{})
	p.happen("v1")
	failed := errors.New("the disk is full")
	if err := p.Records.Write(t.Context(), func(tx *records.Tx) error { return errors.Join(tag1(tx, p.Repo, "v2"), failed) }); !errors.Is(err, failed) {
		t.Fatal(err)
	}
	p.happen("v3")
	all := p.deliveries(h.ID)
	if len(all) != 2 || all[0].State != "waiting" || all[0].Message == all[1].Message {
		t.Fatalf("there are %+v", all)
	}
	if came := p.came(); !slices.Equal(came, []string{all[0].Message, all[1].Message}) {
		t.Errorf("%v came", came)
	}
	if came := p.came(); came != nil {
		t.Errorf("%v came again", came)
	}
	one, err := p.Outbox.Delivery(t.Context(), p.Admin, all[1].ID)
	p.Ok(err)
	if one.State != "delivered" || len(one.Tries) != 1 || one.Tries[0].Status != 200 || !strings.Contains(one.Payload, `"refs/tags/v3"`) {
		t.Errorf("the delivery is %+v", one)
	}
}

// What was sent and not recorded, because the service was killed, is sent again under the same id (P4).
func TestP4KilledBetweenSendingAndRecording(t *testing.T) {
	p := aPlace(t)
	h := p.hook(wire.NewWebhook{})
	p.happen("v1")
	ctx, kill := context.WithCancel(t.Context())
	p.answer = func(*http.Request) int { kill(); return 200 }
	p.Outbox.SendDue(ctx) // it does not get to know the answer
	p.answer = nil
	all := p.deliveries(h.ID)
	if all[0].State != "waiting" {
		t.Fatalf("it is %s", all[0].State)
	}
	if came := p.came(); !slices.Equal(came, []string{all[0].Message, all[0].Message}) {
		t.Errorf("%v came", came)
	}
}

func TestWhatAWebhookSends(t *testing.T) {
	p := aPlace(t)
	p.Commit("main", "", "docs/a=1", "valves/a=1")
	first := p.Tip("main")
	p.Commit("main", "main", "valves/a=2")
	valves := p.Tip("main")
	_, err := p.Repositories.CreateRepository(t.Context(), p.Admin, wire.NewRepository{Name: lab.House + "/handbook"})
	p.Ok(err)
	var other records.Repository
	p.Ok(p.Records.Read(t.Context()).Where("name = ?", lab.House+"/handbook").First(&other).Error)
	hooks := map[string]wire.Webhook{}
	for name, n := range map[string]wire.NewWebhook{
		"repository": {}, "house": {Of: lab.House}, "main": {Events: []string{"branch.*"}, Branches: []string{"main"}},
		"valves": {Events: []string{"*"}, Paths: []string{"valves/**"}}, "docs": {Events: []string{"branch.moved"}, Paths: []string{"docs/**"}},
	} {
		n.Name = name
		hooks[name] = p.hook(n)
	}
	service, err := p.Outbox.Create(t.Context(), p.Admin, wire.NewWebhook{Name: "service", URL: p.url, Events: []string{"*"}})
	p.Ok(err)
	hooks["service"] = service
	for _, c := range []struct {
		e    event.Event
		repo *records.Repository
		want string
	}{
		{event.TagCreated{RefMove: event.RefMove{Ref: "refs/tags/v1", New: first}}, p.Repo, "house repository service valves"},
		{event.TagCreated{RefMove: event.RefMove{Ref: "refs/tags/v1", New: first}}, &other, "house service"},
		{event.BranchMoved{RefMove: event.RefMove{Ref: "refs/heads/main", Old: first, New: valves}}, p.Repo, "main service valves"},
		{event.BranchMoved{RefMove: event.RefMove{Ref: "refs/heads/x", Old: first, New: valves}}, p.Repo, "service valves"},
		{event.RulesApplied{RulesOf: lab.Name, Version: 1}, p.Repo, "service"},
		{event.HouseCreated{House: "others"}, nil, ""},
		{event.TokenCreated{}, nil, ""},
	} {
		before := map[string]int{}
		for name, h := range hooks {
			before[name] = len(p.deliveries(h.ID))
		}
		p.Ok(p.Records.Write(t.Context(), func(tx *records.Tx) error { return tx.Record("wren", c.repo, c.e) }))
		p.came()
		var sent []string
		for name, h := range hooks {
			for _, d := range p.deliveries(h.ID)[before[name]:] {
				if d.State == "delivered" {
					sent = append(sent, name)
				}
			}
		}
		slices.Sort(sent)
		if got := strings.Join(sent, " "); got != c.want {
			t.Errorf("%T goes to %q, want %q", c.e, got, c.want)
		}
	}
}

// A condition decides, and one that asks for what an event has not is refused when it is made.
func TestConditions(t *testing.T) {
	p := aPlace(t)
	for when, words := range map[string]string{"data.details.nothing == 1": "could not be worked out", "data.text": "neither true nor false", "type": "is not true or false"} {
		_, err := p.Outbox.Create(t.Context(), p.Admin, wire.NewWebhook{Of: lab.Name, Name: "x", URL: p.url, Events: []string{"tag.*"}, When: when})
		p.Is(err, problem.Invalid, words)
	}
	h := p.hook(wire.NewWebhook{When: `data.details.ref == "refs/tags/v4"`})
	p.happen("v3")
	p.happen("v4")
	p.happen("v5")
	if came := p.came(); len(came) != 1 {
		t.Errorf("%v came", came)
	}
	states := ""
	for _, d := range p.deliveries(h.ID) {
		states += d.State + " "
	}
	if states != "delivered " {
		t.Errorf("the deliveries are %s", states)
	}
	if d, err := p.Outbox.Test(t.Context(), p.Admin, h.ID); err != nil || d.State != "delivered" { // the example is of v4
		t.Errorf("the test is %+v, %v", d, err)
	}
	none := p.hook(wire.NewWebhook{When: "false"})
	if d, err := p.Outbox.Test(t.Context(), p.Admin, none.ID); err != nil || d.State != "delivered" { // to try the way there
		t.Errorf("the test is %+v, %v", d, err)
	}
	needs := p.hook(wire.NewWebhook{When: "has(data.details.nothing)", URL: p.url + "/${data.details.nothing}"})
	_, err := p.Outbox.Test(t.Context(), p.Admin, needs.ID)
	p.Is(err, problem.Conflict, "holds for no example")
}

// In order, unless told otherwise; with growing pauses; parked after a day, with a word to who keeps it; and sent again.
func TestFailures(t *testing.T) {
	p := aPlace(t)
	ordered, any := p.hook(wire.NewWebhook{Name: "ordered"}), p.hook(wire.NewWebhook{Name: "any", AnyOrder: true, URL: p.url + "/any"})
	p.happen("v1")
	p.happen("v2")
	bad := true
	p.answer = func(r *http.Request) int {
		if bad {
			return 503
		}
		return 200
	}
	if n := len(p.came()); n != 3 { // the first of those in order, and both others
		t.Errorf("%d came", n)
	}
	for h, tries := range map[int64][2]int{ordered.ID: {1, 0}, any.ID: {1, 1}} {
		for i, d := range p.deliveries(h) {
			if d.Attempts != tries[i] || d.State != "waiting" || tries[i] > 0 && (d.NextAt == nil || d.Status != 503) {
				t.Errorf("delivery %d of webhook %d is %+v", i, h, d)
			}
		}
	}
	if came := p.came(); came != nil {
		t.Errorf("%v came before their time", came)
	}
	var pauses []time.Duration
	for range 40 {
		all := p.deliveries(ordered.ID)
		if all[0].NextAt == nil {
			break
		}
		pause := all[0].NextAt.Sub(p.Now())
		pauses = append(pauses, pause)
		p.Wait(pause)
		p.came()
	}
	if len(pauses) < 10 || pauses[0] > 2*time.Second || pauses[len(pauses)-1] < 40*time.Minute {
		t.Errorf("the pauses are %v", pauses)
	}
	p.Wait(webhook.LongestPause * 2)
	p.came()
	for _, h := range []wire.Webhook{ordered, any} {
		now, err := p.Outbox.Webhook(t.Context(), p.Admin, h.ID)
		p.Ok(err)
		if now.Parked != 2 || now.FailingSince == nil || !strings.Contains(now.Trouble, "503 Service Unavailable") {
			t.Errorf("webhook %s is %+v", h.Name, now)
		}
	}
	desk, err := p.Desk.Desk(t.Context(), p.Admin)
	p.Ok(err)
	if i := slices.IndexFunc(desk, func(d wire.DeskItem) bool { return d.Kind == "webhook" }); i < 0 || !strings.Contains(desk[i].What, "2 deliveries") {
		t.Errorf("the desk says %+v", desk)
	}
	bad = false
	parked := p.deliveries(ordered.ID)[0]
	_, err = p.Outbox.Again(t.Context(), p.Admin, parked.ID)
	p.Ok(err)
	if came := p.came(); !slices.Equal(came, []string{parked.Message}) {
		t.Errorf("%v came, want %s", came, parked.Message)
	}
	now, err := p.Outbox.Webhook(t.Context(), p.Admin, ordered.ID)
	p.Ok(err)
	if now.FailingSince != nil || now.Trouble != "" || now.Parked != 1 {
		t.Errorf("after a success webhook is %+v", now)
	}
	p.Wait(15 * 24 * time.Hour)
	p.Ok(p.Outbox.Tidy(t.Context()))
	if left := p.deliveries(ordered.ID); len(left) != 0 {
		t.Errorf("after two weeks there are %+v", left)
	}
}

// A destination that answers 410 hears no more, until somebody switches the webhook on again.
func TestGone(t *testing.T) {
	p := aPlace(t)
	h := p.hook(wire.NewWebhook{})
	p.happen("v1")
	p.answer = func(*http.Request) int { return 410 }
	p.came()
	p.answer = nil
	p.happen("v2")
	if came := p.came(); came != nil {
		t.Errorf("%v came", came)
	}
	on := false
	_, err := p.Outbox.Again(t.Context(), p.Admin, p.deliveries(h.ID)[0].ID)
	p.Is(err, problem.Conflict, "is off: it answered 410 Gone")
	_, err = p.Outbox.Edit(t.Context(), p.Admin, h.ID, wire.WebhookEdit{Off: &on})
	p.Ok(err)
	p.happen("v3")
	if came := p.came(); len(came) != 1 {
		t.Errorf("%v came", came)
	}
}

// After the secret was replaced what waits carries both signatures, for a day (a secret rotated while deliveries wait).
func TestReplacedSecret(t *testing.T) {
	p := aPlace(t)
	h := p.hook(wire.NewWebhook{})
	p.happen("v1")
	replaced, err := p.Outbox.ReplaceSecret(t.Context(), p.Admin, h.ID, "")
	p.Ok(err)
	for _, after := range []struct {
		wait time.Duration
		good map[string]bool
	}{{0, map[string]bool{h.Secret: true, replaced.Secret: true}}, {25 * time.Hour, map[string]bool{h.Secret: false, replaced.Secret: true}}} {
		p.Wait(after.wait)
		p.happen("v")
		p.Ok(p.Outbox.SendDue(t.Context()))
		r, body := p.got[len(p.got)-1], p.bodies[len(p.bodies)-1]
		for secret, good := range after.good {
			err := webhook.Verify(secret, r.Header.Get(webhook.HeaderID), r.Header.Get(webhook.HeaderTimestamp), r.Header.Get(webhook.HeaderSignature), []byte(body), p.Now())
			if (err == nil) != good {
				t.Errorf("after %s a secret is good: %v (%v)", after.wait, err == nil, err)
			}
		}
	}
	_, err = p.Outbox.ReplaceSecret(t.Context(), p.Admin, h.ID, "whsec_short")
	p.Is(err, problem.Invalid, "24 to 64 bytes")
}

// What a maintainer gives as a secret is never shown again: not in a list, not in the log, not when it is echoed (P11).
func TestP11SecretsAreNotShown(t *testing.T) {
	p := aPlace(t)
	h := p.hook(wire.NewWebhook{Headers: map[string]string{"authorization": "Bearer of-the-bench"}})
	test, err := p.Outbox.Test(t.Context(), p.Admin, h.ID)
	p.Ok(err)
	if test.State != "delivered" || test.Tries[0].Answer != "you sent …" {
		t.Errorf("the test is %+v", test)
	}
	all, err := p.Outbox.Webhooks(t.Context(), p.Admin, lab.Name)
	p.Ok(err)
	p.happen("v1")
	p.came()
	one, err := p.Outbox.Delivery(t.Context(), p.Admin, p.deliveries(h.ID)[1].ID)
	p.Ok(err)
	var lines []records.JournalLine
	p.Ok(p.Records.Read(t.Context()).Find(&lines).Error)
	shown := fmt.Sprintf("%+v %+v %+v %+v", test, all, one, lines)
	for _, secret := range []string{"of-the-bench", strings.TrimPrefix(h.Secret, webhook.SecretPrefix)} {
		if strings.Contains(shown, secret) {
			t.Errorf("%s is shown", secret)
		}
	}
	to := "https://elsewhere.example/x"
	_, err = p.Outbox.Edit(t.Context(), p.Admin, h.ID, wire.WebhookEdit{URL: &to})
	p.Is(err, problem.Invalid, "hold secrets for")
}

// Webhooks are for those who keep the repository, the house or the service; to others there are none (P11).
func TestP11WhoKeepsWebhooks(t *testing.T) {
	p := aPlace(t)
	h := p.hook(wire.NewWebhook{})
	ctx := t.Context()
	wren, ines := p.Person("wren", "writer"), p.Person("ines", "maintainer")
	_, err := p.Outbox.Create(ctx, ines, wire.NewWebhook{Of: lab.Name, Name: "ines", URL: p.url, Events: []string{"*"}})
	p.Ok(err)
	new := wire.NewWebhook{Of: lab.Name, Name: "x", URL: p.url, Events: []string{"*"}}
	_, err = p.Outbox.Create(ctx, wren, new)
	p.Is(err, problem.Forbidden, "maintainer")
	new.Of = lab.House
	_, err = p.Outbox.Create(ctx, ines, new)
	p.Is(err, problem.Forbidden, "maintainers of house")
	new.Of = ""
	_, err = p.Outbox.Create(ctx, ines, new)
	p.Is(err, problem.Forbidden, "administrator")
	for what, call := range map[string]func(a accounts.Actor) error{
		"show":   func(a accounts.Actor) error { _, err := p.Outbox.Webhook(ctx, a, h.ID); return err },
		"edit":   func(a accounts.Actor) error { _, err := p.Outbox.Edit(ctx, a, h.ID, wire.WebhookEdit{}); return err },
		"test":   func(a accounts.Actor) error { _, err := p.Outbox.Test(ctx, a, h.ID); return err },
		"secret": func(a accounts.Actor) error { _, err := p.Outbox.ReplaceSecret(ctx, a, h.ID, ""); return err },
		"deliveries": func(a accounts.Actor) error {
			_, err := p.Outbox.Deliveries(ctx, a, wire.DeliveryQuery{WithID: wire.WithID{ID: h.ID}})
			return err
		},
		"delete": func(a accounts.Actor) error { return p.Outbox.Delete(ctx, a, h.ID) },
	} {
		err := call(wren)
		if q, ok := errors.AsType[*problem.Problem](err); !ok || q.Kind != problem.Unknown {
			t.Errorf("%s by a writer: %v", what, err)
		}
	}
	_, err = p.Outbox.Destinations(ctx, wren)
	p.Is(err, problem.Forbidden, "maintainers and administrators")
	all, err := p.Outbox.Destinations(ctx, ines)
	p.Ok(err)
	if len(all) != 1 || all[0].Destination != p.url {
		t.Errorf("destinations are %v", all)
	}
}

func TestWrongWebhooks(t *testing.T) {
	p := aPlace(t)
	for _, c := range []struct {
		n     wire.NewWebhook
		words string
	}{
		{wire.NewWebhook{URL: "https://elsewhere.example/x"}, "--allow-destination https://elsewhere.example/x"},
		{wire.NewWebhook{URL: p.url + "/${data.details.nothing}"}, "no such key"},
		{wire.NewWebhook{URL: "http://${data.repository}.example/"}, "the host of an address is fixed"},
		{wire.NewWebhook{Events: []string{"tag.born"}}, "is no kind of event"},
		{wire.NewWebhook{Events: []string{"tag.*", "change.opened"}, Body: `"${data.details.ref}"`}, "for an event change.opened"},
		{wire.NewWebhook{Body: `{`}, "no JSON document"},
		{wire.NewWebhook{Body: `x`, ContentType: "text"}, "no content type"},
		{wire.NewWebhook{Headers: map[string]string{"host": "x"}}, "the service's own"},
		{wire.NewWebhook{Headers: map[string]string{"Webhook-Id": "x"}}, "the service's own"},
		{wire.NewWebhook{Headers: map[string]string{"a b": "x"}}, "no name of a header"},
		{wire.NewWebhook{Headers: map[string]string{"X": "a\r\nHost: b"}}, "one line"},
		{wire.NewWebhook{Secret: "secret"}, "24 to 64 bytes"},
		{wire.NewWebhook{Name: "a\nb"}, "control characters"},
	} {
		if c.n.Name == "" {
			c.n.Name = "x"
		}
		if c.n.URL == "" {
			c.n.URL = p.url
		}
		if c.n.Events == nil {
			c.n.Events = []string{"tag.*"}
		}
		c.n.Of = lab.Name
		_, err := p.Outbox.Create(t.Context(), p.Admin, c.n)
		p.Is(err, problem.Invalid, c.words)
	}
	for range 50 {
		p.hook(wire.NewWebhook{})
	}
	_, err := p.Outbox.Create(t.Context(), p.Admin, wire.NewWebhook{Of: lab.Name, Name: "x", URL: p.url, Events: []string{"*"}})
	p.Is(err, problem.Conflict, "which is the bound webhooks")
}

// A destination that never answers keeps no other waiting.
func TestDeadDestinationsDelayNobody(t *testing.T) {
	p := aPlace(t)
	release := make(chan struct{})
	dead := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { <-release }))
	defer dead.Close()
	defer close(release)
	l, err := outbound.NewList([]string{p.url, dead.URL})
	p.Ok(err)
	q := &place{Lab: lab.Calling(t, outbound.Options{List: l, Timeout: time.Hour}), url: p.url}
	for range 20 {
		q.hook(wire.NewWebhook{URL: dead.URL})
	}
	q.hook(wire.NewWebhook{})
	ctx, stop := context.WithCancel(t.Context())
	ended := make(chan struct{})
	go func() { q.Outbox.Run(ctx); close(ended) }()
	for n := 1; n <= 3; n++ {
		q.happen(fmt.Sprint("v", n))
		for {
			p.mu.Lock()
			came := len(p.got)
			p.mu.Unlock()
			if came == n {
				break
			}
			time.Sleep(time.Millisecond)
		}
	}
	stop()
	<-ended
}

// A webhook that is deleted while a delivery of it is under way has nothing on its way afterwards.
func TestDeletedWhileUnderWay(t *testing.T) {
	p := aPlace(t)
	h := p.hook(wire.NewWebhook{})
	p.happen("v1")
	p.answer = func(*http.Request) int {
		p.Ok(p.Outbox.Delete(t.Context(), p.Admin, h.ID))
		return 503
	}
	p.Ok(p.Outbox.SendDue(t.Context()))
	var states []string
	p.Ok(p.Records.Read(t.Context()).Model(&records.Delivery{}).Where("webhook_id = ?", h.ID).Pluck("state", &states).Error)
	if !slices.Equal(states, []string{"dropped"}) {
		t.Errorf("its deliveries are %v", states)
	}
}

// Events at ten thousand a minute, for twelve seconds; in the long run for a minute: each is delivered once, in order.
func TestTenThousandEventsAMinute(t *testing.T) {
	p := aPlace(t)
	h := p.hook(wire.NewWebhook{})
	const atOnce = 1000
	events := min(often.Times(2), 10) * atOnce
	for n := 0; n < events; n += atOnce {
		p.Ok(p.Records.Write(t.Context(), func(tx *records.Tx) (err error) {
			for i := range atOnce {
				err = errors.Join(err, tag1(tx, p.Repo, fmt.Sprintf("v%d", n+i)))
			}
			return err
		}))
		p.Wait(6 * time.Second)
	}
	var messages []string
	p.Ok(p.Records.Read(t.Context()).Model(&records.Delivery{}).Where("webhook_id = ? AND state = 'waiting'", h.ID).Order("seq").Pluck("message", &messages).Error)
	if came := p.came(); len(messages) != events || !slices.Equal(came, messages) {
		t.Errorf("%d were to come, %d came", len(messages), len(came))
	}
	if came := p.came(); came != nil {
		t.Errorf("%d came again", len(came))
	}
}
