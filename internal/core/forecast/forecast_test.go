package forecast

import (
	"fmt"
	"math"
	"os"
	"reflect"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"tavrin/internal/core/queue"
)

// A simulation is the same each time; every change lands or is ejected; without flakes nobody innocent is ejected and nobody guilty
// lands; and no queue lands sooner than the oracle by more than luck.
func TestSimulate(t *testing.T) {
	for _, w := range Study(5 * time.Hour) {
		t.Run(w.Name, func(t *testing.T) {
			t.Parallel()
			got := Simulate(w, 3)
			if again := Simulate(w, 3); !reflect.DeepEqual(got, again) {
				t.Error("another time it goes otherwise")
			}
			came := len(w.changes(3))
			if got.Left > 0 && !got.Unstable {
				t.Errorf("%d wait for ever", got.Left)
			}
			if !got.Unstable && len(got.Minutes)+got.Ejected != came {
				t.Errorf("%d came, %d landed, %d were ejected", came, len(got.Minutes), got.Ejected)
			}
			if w.Flaky == 0 && got.Wrongly > 0 {
				t.Errorf("%d innocent ones were ejected", got.Wrongly)
			}
			best := Oracle(w, 3)
			if got.Quantile(.5) < .9*best.Quantile(.5) {
				t.Errorf("half land within %.1f minutes, and %.1f with an oracle", got.Quantile(.5), best.Quantile(.5))
			}
			if got.Busy <= 0 || got.BusyEach() < .5 || got.Runs < came/12 {
				t.Errorf("it was busy for %s in %d runs", got.Busy, got.Runs)
			}
		})
	}
}

// One at a time, a change takes its checks' time and that of those ahead of it, which can be worked out by hand.
func TestOneAtATime(t *testing.T) {
	w := Workload{PerHour: func(time.Duration) float64 { return 30 }, Most: 30, Length: 4 * time.Hour, Areas: 3, Median: 5 * time.Minute,
		Settings: queue.Settings{Planner: queue.OneByOne, Slots: 1}}
	got := Simulate(w, 1)
	free := time.Duration(0)
	for i, c := range w.changes(1) {
		free = max(free, c.at) + 5*time.Minute
		if want := (free - c.at).Minutes(); math.Abs(got.Minutes[i]-want) > 1e-6 {
			t.Fatalf("change %d landed after %.3f minutes, not %.3f", i, got.Minutes[i], want)
		}
	}
}

func TestTheAgendaIsInOrder(t *testing.T) {
	var a agenda
	for i := range 500 {
		a.add(happening{at: time.Duration(fortune(1, i) * 100), run: i})
	}
	last := happening{at: -1}
	for h, more := a.next(); more; h, more = a.next() {
		if h.before(last) {
			t.Fatalf("%+v comes after %+v", h, last)
		}
		last = h
	}
}

// The table of docs/performance.md. DAYS and SEEDS say how much is gone through; without them it is left out.
func TestStudy(t *testing.T) {
	days, _ := strconv.ParseFloat(os.Getenv("DAYS"), 64)
	seeds, _ := strconv.Atoi(os.Getenv("SEEDS"))
	if days == 0 || seeds == 0 {
		t.Skip("DAYS and SEEDS say how much to go through")
	}
	fmt.Println("| workload | P50 to the oracle's | P95 | minutes of checks for a landing | wrongly ejected | a step |")
	fmt.Println("| --- | --- | --- | --- | --- | --- |")
	for _, w := range Study(time.Duration(days * 24 * float64(time.Hour))) {
		if only := os.Getenv("ONLY"); only != "" && !slices.Contains(strings.Split(only, ";"), w.Name) {
			continue
		}
		fmt.Println(row(w, seeds))
	}
}

// row measures a workload with some seeds.
func row(w Workload, seeds int) string {
	var mu sync.Mutex
	var wg sync.WaitGroup
	var p50, p95, each, wrong, unstable, step []float64
	next := make(chan uint64)
	for range runtime.NumCPU() {
		wg.Go(func() {
			for seed := range next {
				began := time.Now()
				got := Simulate(w, seed)
				took := time.Since(began)
				best := Oracle(w, seed)
				mu.Lock()
				step = append(step, float64(took.Microseconds())/float64(max(1, got.Steps)))
				if got.Unstable {
					unstable = append(unstable, 1)
				} else {
					p50 = append(p50, got.Quantile(.5)/best.Quantile(.5))
					p95 = append(p95, got.Quantile(.95)/best.Quantile(.95))
					each = append(each, got.BusyEach())
					wrong = append(wrong, 100*float64(got.Wrongly)/float64(max(1, len(got.Minutes)+got.Wrongly)))
				}
				mu.Unlock()
			}
		})
	}
	for seed := range uint64(seeds) {
		next <- seed + 1
	}
	close(next)
	wg.Wait()
	name := w.Name
	if len(unstable) > 0 {
		name += fmt.Sprintf(" (unstable with %d of %d seeds)", len(unstable), seeds)
	}
	return fmt.Sprintf("| %s | %s | %s | %s | %s %% | %.0f µs |", name, interval(p50), interval(p95), interval(each), interval(wrong), mean(step))
}

func mean(of []float64) float64 {
	sum := 0.0
	for _, x := range of {
		sum += x
	}
	return sum / float64(max(1, len(of)))
}

// interval writes a mean with twice its standard error.
func interval(of []float64) string {
	if len(of) == 0 {
		return "-"
	}
	m, squares := mean(of), 0.0
	for _, x := range of {
		squares += (x - m) * (x - m)
	}
	return fmt.Sprintf("%.2f ± %.2f", m, 2*math.Sqrt(squares/float64(max(1, len(of)-1))/float64(len(of))))
}
