package e2e

import (
	"bytes"
	"fmt"
	"math"
	"os"
	"os/exec"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"tavrin/wire"
)

// synced is a buffer that one writes and others read.
type synced struct {
	mu sync.Mutex
	of *bytes.Buffer
}

func (s *synced) Write(text []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.of.Write(text)
}

func (s *synced) String() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.of.String()
}

// foreseen waits until a forecast is worked out.
func (w *town) foreseen(login string, n wire.NewForecast) wire.Forecast {
	w.t.Helper()
	f, err := w.as(login).StartForecast(w.t.Context(), repo, n)
	w.ok(err)
	for f.State == "running" {
		if f.Done < 0 || f.Done > 1 || len(f.Columns) > 0 {
			w.t.Fatalf("on its way it is %+v", f)
		}
		pause()
		f, err = w.as(login).GetForecast(w.t.Context(), f.ID)
		w.ok(err)
	}
	return f
}

// A queue that has landed some says when the next is likely to, counts how it has done, foresees how it would do otherwise, and says what it
// weighed; before that it says that it cannot, and why.
func TestTheQueueIsForeseen(t *testing.T) {
	w := newTown(t)
	dir := w.begin(many)
	ctx := t.Context()
	_, err := w.as("odo").StartForecast(ctx, repo, wire.NewForecast{})
	problem(t, err, 409, "0 changes have landed", "describe the work")
	empty, err := w.as("odo").QueueNumbers(ctx, wire.NumbersQuery{}, repo)
	if w.ok(err); empty.Landed != 0 || len(empty.Stages) != 5 || len(empty.Times) != 0 {
		t.Errorf("before anything it counts %+v", empty)
	}
	w.says("odo", 0, "Nothing has left the queue in that time", "queue", "numbers", "--repo", repo)
	propose := func(n int) wire.Change {
		w.must("tamsin", dir, "fetch", "-q", "origin", "main")
		branch := fmt.Sprintf("topic-%d", n)
		w.must("tamsin", dir, "checkout", "-q", "-B", branch, "origin/main")
		w.commit("tamsin", dir, fmt.Sprintf("f/%d", n), "x\n", branch)
		w.must("tamsin", dir, "push", "-q", "origin", branch)
		return w.openChange("tamsin", branch)
	}
	var all []wire.Change
	for n := range 4 {
		var some []wire.Change
		for i := range 3 {
			k := propose(3*n + i)
			w.join("tamsin", k, "")
			some = append(some, k)
		}
		w.verdicts(nil, "", w.allLanded(some...))
		all = append(all, some...)
		if n == 0 {
			k := w.propose("wren", "early", "early", "x\n")
			w.join("wren", k, "")
			w.rehearsed(k)
			now, err := w.as("wren").Change(ctx, repo, k.Number)
			if w.ok(err); now.Entry.Likely == nil || now.Entry.Likely.Half != nil || !strings.Contains(now.Entry.Likely.Words, "too few have landed") {
				t.Errorf("after three landings it is likely to land %+v", now.Entry.Likely)
			}
			_, err = w.as("wren").Leave(ctx, repo, k.Number)
			w.ok(err)
		}
	}
	bad := propose(90)
	w.join("tamsin", bad, "")
	w.verdicts(map[string]int{"f": -1}, "", func() bool {
		k, err := w.as("tamsin").Change(ctx, repo, bad.Number)
		w.ok(err)
		return k.Entry.State == "ejected"
	})

	next := propose(91)
	w.join("tamsin", next, "")
	w.rehearsed(next)
	next = w.until(next, "foreseen", func(k wire.Change) bool { return k.Entry.Likely != nil && k.Entry.Likely.Half != nil })
	l := next.Entry.Likely
	if l.Most.Before(*l.Half) || l.Half.Before(next.Entry.CreatedAt) || !strings.Contains(l.Words, "its checks run for") || next.Entry.Rehearsal.Since.IsZero() {
		t.Errorf("it is likely to land %+v", l)
	}
	q, err := w.as("odo").Queue(ctx, repo, "")
	if w.ok(err); q.Kept.Of > 13 || q.Kept.Half > q.Kept.Most || q.Kept.Most > q.Kept.Of {
		t.Errorf("promises came out as %+v", q.Kept)
	}
	w.says("odo", 0, "LIKELY", "queue", "show", "--repo", repo)

	numbers, err := w.as("odo").QueueNumbers(ctx, wire.NumbersQuery{Days: 1}, repo)
	w.ok(err)
	if numbers.Landed != 12 || numbers.Ejected != 1 || numbers.Withdrawn != 1 || len(numbers.Ejections) != 1 || numbers.Ejections[0] != (wire.Ejections{Cause: "checks", Count: 1}) {
		t.Errorf("it counts %d, %d, %d, %+v", numbers.Landed, numbers.Ejected, numbers.Withdrawn, numbers.Ejections)
	}
	sum := 0
	for _, x := range numbers.Times {
		sum += x.Landed
	}
	ready, parts := numbers.Stages[4], numbers.Stages[1].Half+numbers.Stages[2].Half+numbers.Stages[3].Half
	if sum != 12 || ready.Half <= 0 || ready.Most < ready.Half || ready.Half > 10*parts+1 || len(numbers.Checks) != 1 || numbers.Checks[0].Reruns != 1 || numbers.Checks[0].Failed < 2 || numbers.Checks[0].Flakes != 0 {
		t.Errorf("it counts %+v", numbers)
	}
	w.says("odo", 0, "ready to landed", "queue", "numbers", "--repo", repo)

	reruns, begins, ends := 0, time.Now().Add(time.Hour), time.Now().Add(2*time.Hour)
	freeze := wire.NewFreeze{Begins: &begins, Ends: &ends}
	f := w.foreseen("odo", wire.NewForecast{Days: 14, Settings: wire.NewSettings{Slots: 1, Reruns: &reruns}, Arrivals: 2, Freeze: &freeze})
	if f.State != "ready" || len(f.Columns) != 2 || f.AsItWas == nil || f.AsItWas.Landed != 12 || f.Columns[0].Settings.Slots != 6 || f.Columns[1].Settings.Slots != 1 {
		t.Fatalf("the forecast is %+v", f)
	}
	is, would := f.Columns[0], f.Columns[1]
	if math.Abs(is.Figures.Landed-12) > 1 || math.Abs(would.Figures.Landed-24) > 2 || would.Name != "1 slot, 0 reruns, 2 times as many changes, 1 freeze" ||
		is.Oracle.Half > is.Figures.Half+1e-9 || !strings.Contains(would.Words, "instead of") || len(is.Figures.Within) != 21 {
		t.Errorf("it foresees %v landed and %q, %v, %q", is.Figures.Landed, would.Name, would.Figures.Landed, would.Words)
	}
	_, err = w.as("pavo").GetForecast(ctx, f.ID)
	problem(t, err, 404, "no forecast")
	w.says("odo", 0, "an oracle, as it is", "queue", "forecast", "--repo", repo, "--slots", "12")
	w.says("odo", 0, "does not keep up", "queue", "forecast", "--repo", repo, "--per-hour", "60", "--check-minutes", "20", "--slots", "1", "--days", "5")

	w.says("ines", 0, "With 1 freeze half would have landed", "freeze", "plan", "harvest", "--from", begins.Format(time.RFC3339), "--until", ends.Format(time.RFC3339), "--reason", "x", "--try", "--repo", repo)
	planned, err := w.as("ines").Freezes(ctx, repo, true)
	if w.ok(err); len(planned) > 0 {
		t.Errorf("a freeze that was tried is planned: %+v", planned)
	}
	w.says("tamsin", 0, "likely to land", "change", "show", fmt.Sprint(next.Number), "--repo", repo)

	// What is followed is shown again when something happens, until it is interrupted.
	var shown, trouble bytes.Buffer
	follows := exec.CommandContext(ctx, binary, "queue", "show", "--follow", "-o", "json", "--repo", repo)
	follows.Env = append(os.Environ(), "TAVRIN_URL="+w.url, "TAVRIN_TOKEN="+w.tokens["odo"])
	follows.Stdout, follows.Stderr = &synced{of: &shown}, &synced{of: &trouble}
	w.ok(follows.Start())
	times := func() int { return strings.Count(follows.Stdout.(*synced).String(), `"caption"`) }
	for n := times(); n < 1; n = times() {
		pause()
	}
	title := "Called otherwise"
	_, err = w.as("tamsin").EditChange(ctx, repo, next.Number, wire.ChangeEdit{Title: &title})
	w.ok(err)
	for !strings.Contains(follows.Stdout.(*synced).String(), title) {
		pause()
	}
	w.ok(follows.Process.Signal(os.Interrupt))
	if err := follows.Wait(); err != nil || trouble.Len() > 0 {
		t.Errorf("interrupted, it ends with %v and says %s", err, trouble.String())
	}

	tried, err := w.as("ines").TryRules(ctx, repo, strings.Replace(many, "slots: 6", "slots: 2", 1), 0)
	if w.ok(err); len(tried.Queues) != 1 || tried.Queues[0].Branch != "main" || tried.Queues[0].With != "2 slots" || tried.Queues[0].Then == nil || !strings.Contains(tried.Queues[0].Words, "instead of") {
		t.Errorf("tried, it says %+v", tried.Queues)
	}

	decisions, err := w.as("odo").Decisions(ctx, wire.DecisionQuery{Number: next.Number, Weighed: true}, repo)
	w.ok(err)
	weighed := false
	for _, d := range decisions {
		if x := d.Weighed; d.Do == "build a rehearsal" && x != nil {
			weighed = x.Slots == 6 && len(x.Thought) > 0 && len(x.Options) > 0 && x.Options[0].Worth > 0
		}
	}
	if !weighed {
		t.Errorf("it decided %+v", decisions)
	}
	w.says("odo", 0, "is worth", "queue", "decisions", fmt.Sprint(next.Number), "--weighed", "--repo", repo)
	one, err := w.as("odo").Decisions(ctx, wire.DecisionQuery{Rehearsal: 1}, repo)
	if w.ok(err); len(one) == 0 || one[0].Rehearsal != 1 {
		t.Errorf("of the first rehearsal: %+v", one)
	}
	_, err = w.as("odo").Decisions(ctx, wire.DecisionQuery{Since: time.Now(), Until: time.Now().Add(-time.Hour)}, repo)
	problem(t, err, 422, "before since")
}

// Nonsense is refused with what would be right; what is not wanted any more ends.
func TestForecastsOfNonsense(t *testing.T) {
	w := newTown(t)
	w.begin(many)
	ctx := t.Context()
	work := func(change func(*wire.NewWork)) *wire.NewWork {
		n := wire.NewWork{PerHour: 6, Minutes: 10, Red: 10}
		change(&n)
		return &n
	}
	for words, n := range map[string]wire.NewForecast{
		"1 to 90 days":         {Days: 91},
		"a tenth to twenty":    {Arrivals: 1000},
		"from 1 to 64 slots":   {Settings: wire.NewSettings{Slots: 65}},
		"strict, by_area":      {Settings: wire.NewSettings{Tests: "loose"}},
		"from 0.05 to 600":     {Work: work(func(n *wire.NewWork) { n.PerHour = 1e9 })},
		"from 0 to 90":         {Work: work(func(n *wire.NewWork) { n.Red = -1 })},
		"from 0.05 to 1440":    {Work: work(func(n *wire.NewWork) { n.Minutes = 0 })},
		"would come: take few": {Days: 90, Arrivals: 20, Work: work(func(n *wire.NewWork) { n.PerHour = 500 })},
		"a freeze begins":      {Work: work(func(*wire.NewWork) {}), Freeze: &wire.NewFreeze{}},
		"it is no iCalendar":   {Work: work(func(*wire.NewWork) {}), Freeze: &wire.NewFreeze{Calendar: "x"}},
	} {
		_, err := w.as("odo").StartForecast(ctx, repo, n)
		if err == nil || !strings.Contains(err.Error(), words) {
			t.Errorf("%s: %v", words, err)
		}
	}
	_, err := w.as("odo").QueueNumbers(ctx, wire.NumbersQuery{Days: 1000}, repo)
	problem(t, err, 422, "days")
	f, err := w.as("odo").StartForecast(ctx, repo, wire.NewForecast{Days: 60, Settings: wire.NewSettings{Slots: 16, Tests: "by_area"}, Work: work(func(n *wire.NewWork) { n.PerHour, n.Areas = 40, 30 })})
	w.ok(err)
	_, err = w.as("odo").StopForecast(ctx, f.ID)
	w.ok(err)
	for f.State == "running" {
		pause()
		f, err = w.as("odo").GetForecast(ctx, f.ID)
		w.ok(err)
	}
	if f.State != "stopped" || len(f.Columns) != 0 {
		t.Errorf("given up, it is %+v", f)
	}
}

// In the console one sees when a change is likely to land, how the queue has done, what other settings would do to described work, and
// what was decided and weighed.
func consoleForeseesAQueue(t *testing.T) {
	w := newTown(t)
	w.begin(many)
	var all []wire.Change
	for i := range 2 {
		k := w.propose("tamsin", fmt.Sprintf("topic-%d", i), fmt.Sprintf("f%d", i), "x\n")
		w.join("tamsin", k, "")
		all = append(all, k)
	}
	w.verdicts(nil, "", w.allLanded(all...))
	k := w.propose("wren", "next", "next", "x\n")
	w.join("wren", k, "")
	w.rehearsed(k)
	p := w.visit()
	p.signIn("odo")
	p.open("/growers/irrigation/queue")
	p.shows("Bring next", "When: too few have landed to say when", "its checks run")
	p.do(clicking(`a[href="/growers/irrigation/queue/numbers"]`))
	p.shows("2 landed in 14 days", "ready to landed", "taken from the same tree")
	p.do(clicking(`a[href="/growers/irrigation/queue/forecast"]`))
	p.shows("now: 6 slots, 1 rerun, strictly in line")
	p.press("Foresee")
	p.shows("nothing can be foreseen for main", "2 changes have landed")
	p.do(clicking(`form input[type="checkbox"]`), chromedp.SendKeys(chromedp.CSS(`form input[type="number"]`), "2"))
	p.press("Foresee")
	p.shows("Side by side", "an oracle, 2 slots", "With 2 slots: half would have landed within")
	p.do(clicking(`a[href="/growers/irrigation/queue/decisions"]`))
	p.shows("Told again what it was told, the planner decides the same", "build a rehearsal", "what was weighed: 0 of 6 slots taken")
	p.do(clicking("summary"))
	p.shows("thought good")
	p.do(chromedp.SendKeys(chromedp.CSS(`main input[type="number"]`), fmt.Sprint(k.Number)))
	p.shows("line up", fmt.Sprintf("change %d", k.Number))
}
