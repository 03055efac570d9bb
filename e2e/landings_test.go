package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"strconv"
	"strings"
	"testing"

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

// LANDINGS changes land one after the other, many rehearsed at once, and the service holds on to no more memory, processes, files or
// goroutines than after the first hundred. Without LANDINGS a few land, so that this is tried at all.
func TestLandingsLeaveNothingBehind(t *testing.T) {
	landings, _ := strconv.Atoi(os.Getenv("LANDINGS"))
	w := newTown(t)
	w.begin(many)
	dir := w.nearby("tamsin")
	const atOnce = 5
	var after holding
	for n := 0; n < max(landings, 2*atOnce); n += atOnce {
		var all []wire.Change
		w.must("tamsin", dir, "fetch", "-q", "origin", "main")
		for i := range atOnce {
			branch := fmt.Sprintf("topic-%d", n+i)
			w.must("tamsin", dir, "checkout", "-q", "-B", branch, "origin/main")
			w.commit("tamsin", dir, fmt.Sprintf("f/%d", n+i), "x\n", branch)
			w.must("tamsin", dir, "push", "-q", "origin", branch)
			k := w.openChange("tamsin", branch)
			w.join("tamsin", k, "")
			all = append(all, k)
		}
		w.verdicts(nil, "", w.allLanded(all...))
		now := held()
		if n%100 == 100-atOnce {
			t.Logf("%d have landed: %d KiB, %d files, %d processes, %d goroutines", n+atOnce, now.memory>>10, now.files, now.processes, now.goroutines)
		}
		if n+atOnce <= 100 {
			after = now
			continue
		}
		if now.files > after.files+10 || now.processes > after.processes+4 || now.goroutines > after.goroutines+20 || now.memory > after.memory+after.memory/2+8<<20 {
			t.Fatalf("after %d landings %+v are held, and after the first hundred %+v", n+atOnce, now, after)
		}
	}
}
