package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"tavrin/wire"
)

// spent is the processor time that this process has used, the service in it.
func spent() time.Duration {
	var u syscall.Rusage
	_ = syscall.Getrusage(syscall.RUSAGE_SELF, &u)
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}

// browsing is the processor time that the browser has used, by what the system says of every process of its name.
func browsing() (all time.Duration) {
	const tick = 10 * time.Millisecond // USER_HZ is 100 on Linux
	stats, _ := filepath.Glob("/proc/[0-9]*/stat")
	for _, path := range stats {
		text, err := os.ReadFile(path)
		if err != nil || !strings.Contains(string(text), "(chrom") {
			continue
		}
		f := strings.Fields(string(text[strings.LastIndexByte(string(text), ')')+1:]))
		user, _ := strconv.Atoi(f[11])
		system, _ := strconv.Atoi(f[12])
		all += time.Duration(user+system) * tick
	}
	return all
}

// The queue's page with fifty entries: how long it takes from something's having happened until it is seen, and what share of a core
// it costs the service, and the browser, to keep it up to date when something happens each second. What the same costs the service while
// nobody looks is taken off.
func BenchmarkQueuePage(b *testing.B) {
	w := newTown(b)
	w.begin(many)
	dir := w.nearby("tamsin")
	all := make([]wire.Change, 50)
	for i := range all {
		branch := fmt.Sprintf("topic-%d", i)
		w.must("tamsin", dir, "checkout", "-q", "-B", branch, "origin/main")
		w.commit("tamsin", dir, fmt.Sprintf("f/%d", i), "x\n", branch)
		w.must("tamsin", dir, "push", "-q", "origin", branch)
		all[i] = w.openChange("tamsin", branch)
		w.join("tamsin", all[i], "")
	}
	w.rehearsed(all[0])
	time.Sleep(2 * time.Second) // until as many are rehearsed as there are slots
	n := 0
	happens := func() (title string, at time.Time) {
		n++
		title = fmt.Sprintf("Called %d now", n)
		_, err := w.as("tamsin").EditChange(b.Context(), repo, all[n%50].Number, wire.ChangeEdit{Title: &title})
		w.ok(err)
		return title, time.Now()
	}
	const blind = 15
	cpu := spent()
	for range blind {
		_, at := happens()
		time.Sleep(time.Until(at.Add(time.Second)))
	}
	unseen := float64(spent()-cpu) / blind
	p := w.visit()
	p.signIn("odo")
	p.open("/growers/irrigation/queue")
	p.shows("Bring topic-49", "Bring topic-0")
	p.still()
	time.Sleep(time.Second)
	var seen time.Duration
	shown := 0
	cpu, browser, begun := spent(), browsing(), time.Now()
	for b.Loop() {
		title, at := happens()
		if shown++; shown%4 == 0 { // asking costs too
			for there := false; !there; time.Sleep(2 * time.Millisecond) {
				var err error
				there, err = chromedp.Run(p.ctx, chromedp.Evaluate[bool](fmt.Sprintf("document.body.innerText.includes(%q)", title)))
				w.ok(err)
			}
			seen += time.Since(at)
		}
		time.Sleep(time.Until(at.Add(time.Second)))
	}
	b.ReportMetric(float64(seen.Milliseconds())/float64(max(1, shown/4)), "ms-until-seen")
	b.ReportMetric(100*(float64(spent()-cpu)/float64(shown)-unseen)/float64(time.Second), "%-of-a-core-service")
	b.ReportMetric(100*float64(browsing()-browser)/float64(time.Since(begun)), "%-of-a-core-browser")
}
