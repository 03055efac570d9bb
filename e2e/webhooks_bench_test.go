package e2e

import (
	"bufio"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"tavrin/client"
	"tavrin/internal/outbound"
	"tavrin/internal/sidebyside"
	"tavrin/wire"
)

// From a push's answer to the arrival of its event at each of 50 local destinations, all of one push: the 95th percentile.
func BenchmarkPushToDelivery(b *testing.B) {
	w := newTown(b)
	dir := w.begin(simple)
	var mu sync.Mutex
	var arrived []time.Time
	s := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		io.Copy(io.Discard, r.Body)
		mu.Lock()
		defer mu.Unlock()
		arrived = append(arrived, time.Now())
	}))
	b.Cleanup(s.Close)
	l, err := outbound.NewList([]string{s.URL})
	w.ok(err)
	w.outside = l
	w.close()
	w.reopen()
	const destinations = 50
	for n := range destinations {
		_, err := w.as("ines").CreateWebhook(b.Context(), wire.NewWebhook{Of: repo, Name: fmt.Sprint(n), URL: fmt.Sprintf("%s/%d", s.URL, n), Events: []string{"branch.moved"}})
		w.ok(err)
	}
	w.must("ines", dir, "remote", "set-url", "origin", w.gitURL())
	w.must("ines", dir, "push", "-q", "origin", "HEAD:refs/heads/topic")
	var took []time.Duration
	for n := 0; b.Loop(); n++ {
		mu.Lock()
		arrived = nil
		mu.Unlock()
		w.commit("ines", dir, "a", fmt.Sprint(n), "more")
		w.must("ines", dir, "push", "-q", "origin", "HEAD:refs/heads/topic")
		answered := time.Now()
		for all := 0; all < destinations; time.Sleep(time.Millisecond) {
			mu.Lock()
			all = len(arrived)
			mu.Unlock()
		}
		for _, at := range arrived {
			took = append(took, max(at.Sub(answered), 0))
		}
	}
	slices.Sort(took)
	b.ReportMetric(float64(took[len(took)*95/100].Milliseconds()), "ms-p95")
	b.ReportMetric(float64(took[len(took)-1].Milliseconds()), "ms-max")
}

// The same push with a thousand deliveries waiting for a dead destination, and with none.
func BenchmarkPushBesideWaitingDeliveries(b *testing.B) {
	release := make(chan struct{})
	s := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { <-release }))
	b.Cleanup(s.Close)
	b.Cleanup(func() { close(release) })
	push := func(waiting bool) func() time.Duration {
		w := newTown(b)
		dir := w.begin(simple)
		if waiting {
			l, err := outbound.NewList([]string{s.URL})
			w.ok(err)
			w.outside = l
			w.close()
			w.reopen()
			w.must("ines", dir, "remote", "set-url", "origin", w.gitURL())
			_, err = w.as("ines").CreateWebhook(b.Context(), wire.NewWebhook{Of: repo, Name: "dead", URL: s.URL, Events: []string{"tag.created"}})
			w.ok(err)
		}
		var refs []string // in both, because a push is shown all refs
		for n := range 1000 {
			refs = append(refs, fmt.Sprintf("HEAD:refs/tags/v%d", n))
		}
		w.must("ines", dir, append([]string{"push", "-q", "origin"}, refs...)...)
		n := 0
		return func() time.Duration {
			n++
			w.commit("ines", dir, "a", fmt.Sprint(n), "more")
			return sidebyside.Time(func() { w.must("ines", dir, "push", "-q", "origin", "HEAD:refs/heads/topic") })
		}
	}
	sidebyside.Measure(b, push(true), push(false))
}

// From a report's answer to its arrival on an event stream, as a change's page has one; with 200 streams open, and the memory
// that the process takes then.
func BenchmarkVerdictToStream(b *testing.B) {
	w := newTown(b)
	w.begin(simple)
	k := w.propose("tamsin", "topic", "a", "a\n")
	heard := make(chan time.Time, 1)
	open := func(login string, tell bool) {
		r, err := http.NewRequestWithContext(b.Context(), "GET", w.url+"/api/v1/events?repository="+repo, nil)
		w.ok(err)
		r.Header.Set("Authorization", "Bearer "+w.tokens[login])
		resp, err := http.DefaultClient.Do(r)
		w.ok(err)
		if resp.StatusCode != 200 {
			b.Fatalf("a stream: %s", resp.Status)
		}
		go func() {
			defer resp.Body.Close()
			for lines := bufio.NewScanner(resp.Body); lines.Scan(); {
				if tell && strings.Contains(lines.Text(), "tavrin.check.reported") {
					heard <- time.Now()
				}
			}
		}()
	}
	before := resident(b)
	for n := range 10 { // 20 streams each
		login := fmt.Sprintf("listener%d", n)
		w.person(login)
		w.ok(w.admin.Grant(b.Context(), repo, login, "reader"))
		for i := range 20 {
			open(login, n == 0 && i == 0)
		}
	}
	after := resident(b)
	var c *client.Client = w.as("builder")
	var took []time.Duration
	for n := 0; b.Loop(); n++ {
		_, err := c.ReportCheck(b.Context(), repo, wire.NewReport{Commit: k.Head, Name: "unit", State: "running", Summary: fmt.Sprint(n)})
		w.ok(err)
		answered := time.Now()
		took = append(took, max((<-heard).Sub(answered), 0))
	}
	slices.Sort(took)
	b.ReportMetric(float64(took[len(took)*95/100].Milliseconds()), "ms-p95")
	b.ReportMetric(float64(after-before)/(1<<20), "MiB-for-200-streams")
}

// resident is the memory that this process takes, in bytes: service, clients and test.
func resident(b *testing.B) int64 {
	b.Helper()
	text, err := os.ReadFile("/proc/self/statm")
	if err != nil {
		b.Fatal(err)
	}
	var size, pages int64
	if _, err := fmt.Sscan(string(text), &size, &pages); err != nil {
		b.Fatal(err)
	}
	return pages * int64(os.Getpagesize())
}
