package e2e

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	standard "github.com/standard-webhooks/standard-webhooks/libraries/go"

	"tavrin/internal/outbound"
	"tavrin/wire"
)

// destination keeps what comes to it.
type destination struct {
	*httptest.Server
	mu     sync.Mutex
	came   []received
	status int // to answer with; 0: 200
}

type received struct {
	id     string
	header http.Header
	body   []byte
	event  struct {
		SpecVersion, ID, Source, Type, Subject string
		Time                                   time.Time
		Data                                   struct {
			Actor, Repository, Text string
			Details                 json.RawMessage
			Links                   struct{ Git, Page, Report string }
		}
	}
}

// aDestination starts one, which the town's service may call from then on.
func (w *town) aDestination() *destination {
	w.t.Helper()
	d := &destination{}
	d.Server = httptest.NewServer(d)
	w.t.Cleanup(d.Close)
	l, err := outbound.NewList([]string{d.URL})
	w.ok(err)
	w.outside = append(w.outside, l...)
	w.close()
	w.reopen()
	return d
}

func (d *destination) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	body, _ := io.ReadAll(r.Body)
	one := received{id: r.Header.Get("webhook-id"), header: r.Header, body: body}
	json.Unmarshal(body, &one.event)
	d.mu.Lock()
	defer d.mu.Unlock()
	d.came = append(d.came, one)
	if d.status != 0 {
		w.WriteHeader(d.status)
	}
}

// all is what has come.
func (d *destination) all() []received {
	d.mu.Lock()
	defer d.mu.Unlock()
	return slices.Clone(d.came)
}

// until waits until so many deliveries have come.
func (d *destination) until(t testing.TB, n int) []received {
	t.Helper()
	for range 400 {
		if all := d.all(); len(all) >= n {
			return all
		}
		pause()
	}
	t.Fatalf("%d deliveries came, not %d", len(d.all()), n)
	return nil
}

// A webhook's whole life by the client: made, tried, listened to, failing, sent again, its secret replaced, deleted.
func TestAWebhooksLife(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	d := w.aDestination()
	in := func(args ...string) []string { return append([]string{"webhook"}, append(args, "--repo", repo)...) }
	w.says("ines", 0, "no webhook sends anything", in("list")...)
	w.says("ines", 1, "--allow-destination https://builds.example/x", in("create", "builds", "--url", "https://builds.example/x", "--event", "check.asked")...)
	w.says("odo", 1, "this needs the role maintainer", in("create", "builds", "--url", d.URL, "--event", "check.asked")...)
	made := w.says("ines", 0, "try it: tavrin webhook test 1", in("create", "builds", "--url", d.URL, "--event", "check.*,branch.*", "--header", "Authorization=Bearer bench-1")...)
	secret := made[strings.Index(made, "whsec_"):]
	secret, _, _ = strings.Cut(secret, "\n")
	theirs, err := standard.NewWebhook(secret)
	w.ok(err)
	out := w.says("ines", 0, "answer 200", "webhook", "test", "1")
	has(t, out, "Authorization: …", "tavrin.check.asked")
	w.propose("tamsin", "topic", "a", "a\n")
	all := d.until(t, 2)
	e := all[1].event
	if e.SpecVersion != "1.0" || e.Type != "tavrin.branch.created" || e.Source != w.url+"/repositories/"+repo || e.Data.Actor != "tamsin" ||
		e.Data.Links.Git != w.url+"/git/"+repo+".git" || all[1].header.Get("Authorization") != "Bearer bench-1" {
		t.Errorf("what came is %s with %v", all[1].body, all[1].header)
	}
	for _, one := range all {
		w.ok(theirs.Verify(one.body, one.header))
	}
	w.says("ines", 0, "delivered", "webhook", "deliveries", "1")
	w.says("ines", 0, "branch.created", "webhook", "delivery", "2")
	w.says("odo", 1, "there is no delivery 2", "webhook", "delivery", "2")

	d.mu.Lock()
	d.status = 500
	d.mu.Unlock()
	w.says("ines", 3, "it answered 500 Internal Server Error", "webhook", "test", "1")
	d.mu.Lock()
	d.status = 0
	d.mu.Unlock()
	w.says("ines", 0, "is on its way", "webhook", "again", "2")
	if again := d.until(t, 4)[3]; again.id != all[1].id || string(again.body) != string(all[1].body) {
		t.Errorf("sent again it is %s, %s", again.id, again.body)
	}
	replaced := w.says("ines", 0, "by the old one as well", "webhook", "new-secret", "1")
	w.must("tamsin", w.clone("tamsin"), "push", "-q", "origin", "HEAD:refs/heads/second")
	one := d.until(t, 5)[4]
	w.ok(theirs.Verify(one.body, one.header))
	secret, _, _ = strings.Cut(replaced[strings.Index(replaced, "whsec_"):], "\n")
	theirs, err = standard.NewWebhook(secret)
	w.ok(err)
	w.ok(theirs.Verify(one.body, one.header))

	w.says("ines", 0, "off: it was switched off", "webhook", "edit", "1", "--off")
	w.must("tamsin", w.clone("tamsin"), "push", "-q", "origin", "HEAD:refs/heads/third")
	w.says("ines", 0, "on", "webhook", "edit", "1", "--on", "--event", "branch.created")
	w.must("tamsin", w.clone("tamsin"), "push", "-q", "origin", "HEAD:refs/heads/fourth")
	if one := d.until(t, 6)[5]; one.event.Subject != "refs/heads/fourth" {
		t.Errorf("after it was on again %s came", one.body)
	}
	w.says("ines", 0, d.URL, "webhook", "destinations")
	w.says("ines", 0, "check.asked", "webhook", "events")
	w.says("ines", 0, "", "webhook", "delete", "1")
	w.says("ines", 1, "there is no webhook 1", "webhook", "show", "1")
}

// The command that stands in as a destination verifies what comes.
func TestListening(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	at := freeAddress(t)
	l, err := outbound.NewList([]string{"http://" + at})
	w.ok(err)
	w.outside = l
	w.close()
	w.reopen()
	h, err := w.as("ines").CreateWebhook(t.Context(), wire.NewWebhook{Of: repo, Name: "here", URL: "http://" + at + "/", Events: []string{"branch.created"}})
	w.ok(err)
	for secret, says := range map[string]string{h.Secret: "signature good", "whsec_" + strings.Repeat("A", 44): "REFUSED, it was signed by another secret"} {
		cmd := exec.Command(binary, "webhook", "listen", "--listen", at, "--count", "1", "--whole")
		cmd.Env = append(os.Environ(), "TAVRIN_WEBHOOK_SECRET="+secret)
		errs, err := cmd.StderrPipe()
		w.ok(err)
		out := &strings.Builder{}
		cmd.Stdout = out
		w.ok(cmd.Start())
		line, err := bufio.NewReader(errs).ReadString('\n')
		w.ok(err)
		has(t, line, "--allow-destination http://"+at)
		w.as("ines").TestWebhook(t.Context(), h.ID)
		w.ok(cmd.Wait())
		has(t, out.String(), says, "branch.created", "Webhook-Id: msg_")
	}
}

// Killed again and again while tags are pushed, the service loses no event and gives none a second id (P4).
func TestP4WebhooksSurviveKills(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	d := w.aDestination()
	_, err := w.as("ines").CreateWebhook(t.Context(), wire.NewWebhook{Of: repo, Name: "tags", URL: d.URL, Events: []string{"tag.created"}})
	w.ok(err)
	dir := w.clone("tamsin")
	w.close()
	at := freeAddress(t)
	w.url = "http://" + at
	w.must("tamsin", dir, "remote", "set-url", "origin", w.gitURL())
	for life := range 5 {
		cmd := exec.Command(binary, "serve", "--data", filepath.Join(w.dir, "data"), "--listen", at, "--allow-destination", d.URL)
		w.ok(cmd.Start())
		for c, tries := net.Conn(nil), 0; c == nil && tries < 400; tries++ {
			if c, err = net.Dial("tcp", at); err == nil {
				c.Close()
				break
			}
			pause()
		}
		ctx, stop := context.WithCancel(t.Context())
		killed := make(chan struct{})
		go func() {
			time.Sleep(time.Duration(200+rand.IntN(500)) * time.Millisecond)
			cmd.Process.Kill()
			cmd.Wait()
			stop()
			close(killed)
		}()
		for n := 0; ctx.Err() == nil; n++ {
			w.gitAs("tamsin", dir, "push", "-q", "origin", fmt.Sprintf("HEAD:refs/tags/v%d.%d", life, n)) // it may be killed at any moment
		}
		<-killed
	}
	w.reopen()
	made := 0
	for _, k := range w.kinds() {
		if k == "tag.created" {
			made++
		}
	}
	if made == 0 {
		t.Fatal("no tag was pushed")
	}
	events := map[string]string{} // line of the journal → id of its delivery
	for range 400 {
		clear(events)
		for _, one := range d.all() {
			if id := events[one.event.ID]; id != "" && id != one.id {
				t.Fatalf("line %s came as %s and as %s", one.event.ID, id, one.id)
			}
			events[one.event.ID] = one.id
		}
		if len(events) == made {
			break
		}
		pause()
	}
	if len(events) != made {
		t.Errorf("of %d events %d came", made, len(events))
	}
	t.Logf("%d tags, %d deliveries", made, len(d.all()))
}
