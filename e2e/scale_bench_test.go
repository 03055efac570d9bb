package e2e

import (
	"fmt"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"gorm.io/driver/sqlite"
	"gorm.io/gorm"

	"tavrin/internal/headless"
	"tavrin/wire"
)

// Changes of 2,000 files with 100,000 lines, and of 20,000 with a million: from asking for its page to its first content, to the first lines of its
// difference, and how long the page is held up while one scrolls through all of it.
func BenchmarkLargeChange(b *testing.B) {
	for _, files := range []int{2000, 20_000} {
		b.Run(fmt.Sprint(files), func(b *testing.B) { largeChange(b, files) })
	}
}

func largeChange(b *testing.B, files int) {
	w := newTown(b)
	w.begin(simple)
	w.wide(files, 50)
	p := w.visit()
	p.signIn("odo")
	var content, lines, frame, page float64
	n := 0
	for b.Loop() {
		p.open("/growers/irrigation/changes")
		p.shows("Bring topic")
		begun := time.Now()
		p.do(clicking(`a[href="/growers/irrigation/changes/1"]`))
		p.shows("Not ready for main")
		content += time.Since(begun).Seconds()
		p.shows(fmt.Sprintf("%d files, 0 read", files))
		p.do(headless.Script(`document.querySelector('#difference').scrollIntoView()`))
		p.shows("plot 0 line 0")
		lines += time.Since(begun).Seconds()
		// Two hundred steps of a page, and a hundred of 20,000 pixels, each as soon as the one before is drawn: the longest time between
		// two frames.
		page += p.longestFrame(200, 800)
		frame += p.longestFrame(100, 20_000)
		n++
	}
	b.ReportMetric(content/float64(n)*1000, "ms-content")
	b.ReportMetric(lines/float64(n)*1000, "ms-lines")
	b.ReportMetric(page/float64(n), "ms-longest-frame-by-pages")
	b.ReportMetric(frame/float64(n), "ms-longest-frame")
}

// longestFrame scrolls on by so many pixels a step, and returns the longest time between two frames in milliseconds.
func (p *page) longestFrame(steps, pixels int) float64 {
	worst, err := chromedp.Run(p.ctx, chromedp.Evaluate[float64](fmt.Sprintf(`(async () => {
  let worst = 0, before = performance.now();
  for (let i = 0; i < %d; i++) {
    scrollBy(0, %d);
    await new Promise((r) => requestAnimationFrame(r));
    const now = performance.now();
    worst = Math.max(worst, now - before);
    before = now;
  }
  return worst;
})()`, steps, pixels), chromedp.EvalAwaitPromise))
	p.ok(err)
	return worst
}

// multiply copies the first change of the repository, closed, until there are so many.
func (w *town) multiply(to int) {
	w.t.Helper()
	db, err := gorm.Open(sqlite.Open(w.dir+"/data/records.sqlite"), &gorm.Config{})
	w.ok(err)
	sql, err := db.DB()
	w.ok(err)
	defer sql.Close()
	w.ok(db.Transaction(func(db *gorm.DB) error {
		for n := 2; n <= to; n++ {
			if err := db.Exec(`INSERT INTO changes (repository_id, number, title, description, source, target, state, revision, opened_by, created_at, updated_at)
SELECT repository_id, ?, title || ' ' || ?, description, source || ?, target, state, revision, opened_by, created_at, updated_at FROM changes WHERE number = 1`, n, n, n).Error; err != nil {
				return err
			}
			if err := db.Exec(`INSERT INTO revisions (change_id, number, head, base, pushed_by, last_pusher, authors, same_as_last, paths, files, added, removed, created_at, commits, commit_authors)
SELECT (SELECT max(id) FROM changes), number, head, base, pushed_by, last_pusher, authors, same_as_last, paths, files, added, removed, created_at, commits, commit_authors FROM revisions WHERE change_id = 1`).Error; err != nil {
				return err
			}
		}
		return db.Exec("UPDATE repositories SET changes = ?", to).Error
	}))
}

// A page of 50 of 5,000 open changes: when it is asked for first, again, and with a filter that few fit.
func BenchmarkListOf5000Changes(b *testing.B) {
	w := newTown(b)
	w.begin(simple)
	w.propose("tamsin", "topic", "a", "a\n")
	w.close()
	w.multiply(5000)
	w.reopen()
	c := w.as("ines")
	took := func(q wire.ChangeFilter, want int) float64 {
		begun := time.Now()
		changes, err := c.Changes(b.Context(), repo, q)
		w.ok(err)
		if len(changes) != want {
			b.Fatalf("%+v gives %d changes, not %d", q, len(changes), want)
		}
		return time.Since(begun).Seconds() * 1000
	}
	var first, again, filtered float64
	n := 0
	for b.Loop() {
		before := 5001 - 60*(n%60)
		first += took(wire.ChangeFilter{Limit: 50, Before: before}, 50)
		again += took(wire.ChangeFilter{Limit: 50, Before: before}, 50)
		filtered += took(wire.ChangeFilter{Limit: 50, Search: fmt.Sprintf("topic %d", 100+n)}, min(50, 11))
		n++
	}
	b.ReportMetric(first/float64(n), "ms-first")
	b.ReportMetric(again/float64(n), "ms-again")
	b.ReportMetric(filtered/float64(n), "ms-filtered")
}
