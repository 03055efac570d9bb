package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"tavrin/wire"
)

// holding is what the process of the service, and of these tests, holds on to.
type holding struct {
	memory     uint64 // bytes that are in use
	files      int    // open ones
	processes  int    // its children
	goroutines int
}

func held() (h holding) {
	debug.FreeOSMemory()
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	files, _ := os.ReadDir("/proc/self/fd")
	statuses, _ := filepath.Glob("/proc/[0-9]*/status")
	for _, path := range statuses {
		if text, err := os.ReadFile(path); err == nil && strings.Contains(string(text), fmt.Sprintf("\nPPid:\t%d\n", os.Getpid())) {
			h.processes++
		}
	}
	h.memory, h.files, h.goroutines = m.HeapAlloc, len(files), runtime.NumGoroutine()
	return h
}

// LANDINGS changes land one after the other, many rehearsed at once, each from a branch that goes with it, and the service holds on to no
// more memory (but for what fills its memories, which are bounded), processes, files or goroutines than after the first hundred. Without LANDINGS a few land, so that this is tried at all.
func TestLandingsLeaveNothingBehind(t *testing.T) {
	landings, _ := strconv.Atoi(os.Getenv("LANDINGS"))
	w := newTown(t)
	w.begin(many)
	dir := w.nearby("tamsin")
	const atOnce = 5
	var after holding
	var pushes, landed []time.Duration // of the last fifty
	median := func(all *[]time.Duration) time.Duration {
		*all = (*all)[max(0, len(*all)-50):]
		sorted := slices.Sorted(slices.Values(*all))
		return sorted[len(sorted)/2].Round(time.Millisecond / 10)
	}
	for n := 0; n < max(landings, 2*atOnce); n += atOnce {
		first := 0
		w.must("tamsin", dir, "fetch", "-q", "--prune", "origin")
		for i := range atOnce {
			branch := fmt.Sprintf("topic-%d", n+i)
			w.must("tamsin", dir, "checkout", "-q", "--detach", "origin/main")
			w.commit("tamsin", dir, fmt.Sprintf("f/%d/%d", (n+i)/50, n+i), "x\n", branch)
			begun := time.Now()
			w.must("tamsin", dir, "push", "-q", "origin", "HEAD:refs/heads/"+branch)
			pushes = append(pushes, time.Since(begun))
			k := w.openChange("tamsin", branch)
			if i == 0 {
				first = k.Number
			}
			_, err := w.as("tamsin").Join(t.Context(), repo, k.Number, wire.NewEntry{DeleteSource: new(true)})
			w.ok(err)
		}
		begun := time.Now()
		w.verdicts(nil, "", func() bool { // without a look at each, since what is looked at is remembered
			q, err := w.as("odo").Queue(t.Context(), repo, "")
			w.ok(err)
			return len(q.Entries) == 0
		})
		for range atOnce {
			landed = append(landed, time.Since(begun)/atOnce)
		}
		q, err := w.as("odo").Queue(t.Context(), repo, "")
		w.ok(err)
		for _, e := range q.Recent[:atOnce] {
			if e.Number < first || e.State != "landed" {
				t.Fatalf("%d landings have left %+v", n, e)
			}
		}
		now := held()
		if n == 50-atOnce || n%100 == 100-atOnce {
			t.Logf("%d have landed: %d KiB, %d files, %d processes, %d goroutines; of the last fifty, a push took %s, and a landing %s", n+atOnce, now.memory>>10, now.files,
				now.processes, now.goroutines, median(&pushes), median(&landed))
		}
		if n+atOnce <= 100 {
			after = now
			continue
		}
		if now.files > after.files+10 || now.processes > after.processes+4 || now.goroutines > after.goroutines+20 || now.memory > after.memory+after.memory/10+8<<20 {
			t.Fatalf("after %d landings %+v are held, and after the first hundred %+v", n+atOnce, now, after)
		}
	}
}

// JOINS changes join at once; each is told its place, none is lost, and the queue says of each what it waits for; then it goes on. Without
// JOINS a few do (P9).
func TestP9ManyJoinAtOnce(t *testing.T) {
	joins, _ := strconv.Atoi(os.Getenv("JOINS"))
	joins = max(joins, 40)
	w := newTown(t)
	w.begin(many)
	dir := w.nearby("tamsin")
	tip := strings.TrimSpace(w.must("tamsin", dir, "rev-parse", "origin/main"))
	var stream strings.Builder
	for i := range joins {
		fmt.Fprintf(&stream, "commit refs/heads/topic-%d\ncommitter Tamsin <tamsin@fennmoor.example> 1800000000 +0000\ndata 5\ntopic\nfrom %s\nM 644 inline f/%d\ndata 2\nx\n\n", i, tip, i)
	}
	w.imported(dir, stream.String())
	w.must("tamsin", dir, "push", "-q", "origin", "refs/heads/topic-*:refs/heads/topic-*")
	all := make([]wire.Change, joins)
	for i := range all {
		all[i] = w.openChange("tamsin", fmt.Sprintf("topic-%d", i))
	}
	begun := time.Now()
	next, places := make(chan int), make([]int, joins)
	var workers sync.WaitGroup
	for range 16 {
		workers.Go(func() {
			for i := range next {
				e, err := w.as("tamsin").Join(t.Context(), repo, all[i].Number, wire.NewEntry{})
				w.ok(err)
				places[i] = e.Position
			}
		})
	}
	for i := range all {
		next <- i
	}
	close(next)
	workers.Wait()
	t.Logf("%d joined within %s", joins, time.Since(begun))
	for i, place := range places {
		if place < 1 || place > joins {
			t.Errorf("change %d was told that its place is %d", i+1, place)
		}
	}
	q, err := w.as("odo").Queue(t.Context(), repo, "")
	w.ok(err)
	if len(q.Entries) != joins {
		t.Errorf("%d have joined, and %d are in line", joins, len(q.Entries))
	}
	for i, e := range q.Entries {
		if e.Position != i+1 || e.Reason == "" {
			t.Errorf("entry %d: %+v", i, e)
		}
	}
	t.Logf("the queue was looked at after %s", time.Since(begun))
	first := slices.MinFunc(q.Entries, func(a, b wire.Entry) int { return a.Position - b.Position }).Number
	w.verdicts(nil, "", w.allLanded(all[first-1]))
	t.Logf("the first has landed after %s", time.Since(begun))
}
