package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"path/filepath"
	"reflect"
	"runtime"
	"strings"
	"sync"
	"testing"
	"time"

	"tavrin/internal/core/queue"
	"tavrin/internal/records"
)

// What holds for every service of every test is watched here: no git process starts within a write transaction, which
// everybody else's writes would wait for, and nothing is read beside an open snapshot of the same request.

// onStack says that a function of some package is on the stack.
func onStack(function string) bool {
	pcs := make([]uintptr, 100)
	frames := runtime.CallersFrames(pcs[:runtime.Callers(2, pcs)])
	for {
		f, more := frames.Next()
		if strings.Contains(f.Function, function) {
			return true
		}
		if !more {
			return false
		}
	}
}

// caller names the functions of the service on the stack, innermost first.
func caller() string {
	pcs := make([]uintptr, 100)
	frames := runtime.CallersFrames(pcs[:runtime.Callers(2, pcs)])
	var names []string
	for {
		f, more := frames.Next()
		if strings.Contains(f.Function, "tavrin/internal/") && len(names) < 8 {
			names = append(names, filepath.Base(f.Function))
		}
		if !more {
			return strings.Join(names, " ← ")
		}
	}
}

// watch has what must not happen in any service reported, once for each place.
func watch(t testing.TB) (git func([]string), nested func()) {
	var seen sync.Map
	report := func(what string) {
		at := caller()
		if _, known := seen.LoadOrStore(what+at, true); !known {
			t.Errorf("%s: %s", what, at)
		}
	}
	git = func(args []string) {
		if onStack("internal/records.(*Records).Write") || onStack("internal/records.(*Records).Note") {
			report("git " + strings.Join(args, " ") + " within a write transaction")
		}
	}
	return git, func() { report("reading beside an open snapshot") }
}

// replayed tells every queue of a folder of what it was told once more, from the beginning: it has to come to the same, and
// the rows of entries have to be as it has them.
func replayed(t testing.TB, dir string) {
	t.Helper()
	ctx := context.Background() // the test's own may have ended
	r, err := records.Open(ctx, filepath.Join(dir, "records.sqlite"), time.Now)
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	var all []records.Queue
	if err := r.Read(ctx).Find(&all).Error; err != nil {
		t.Fatal(err)
	}
	for _, q := range all {
		var told []records.QueueEvent
		if err := r.Read(ctx).Where("queue_id = ?", q.ID).Order("version").Find(&told).Error; err != nil {
			t.Fatal(err)
		}
		var state queue.State
		for i, row := range told {
			e, err := queue.Decode([]byte(row.Event))
			if err != nil || row.Version != int64(i+1) {
				t.Fatalf("event %d of queue %d: version %d, %v", i, q.ID, row.Version, err)
			}
			state, _ = queue.Plan(queue.Apply(state, e))
		}
		data, err := json.Marshal(state)
		if err == nil {
			state = queue.State{}
			err = json.Unmarshal(data, &state) // as it is on record: times without a clock's reading
		}
		if err != nil {
			t.Fatal(err)
		}
		if !reflect.DeepEqual(state, q.State) {
			t.Errorf("the queue of %s, told again, knows\n%+v\nand on record is\n%+v", q.Target, state, q.State)
		}
		var rows []records.Entry
		if err := r.Read(ctx).Where("repository_id = ? AND target = ? AND ended_at IS NULL", q.RepositoryID, q.Target).Order("id").Find(&rows).Error; err != nil {
			t.Fatal(err)
		}
		var have, want []string
		for _, e := range rows {
			have = append(have, fmt.Sprintf("%d %s %d", e.ID, e.State, e.Place))
		}
		for _, e := range q.State.Entries {
			if !e.State.Ended() {
				want = append(want, fmt.Sprintf("%d %s %d", e.ID, e.State, e.Place))
			}
		}
		if !reflect.DeepEqual(have, want) {
			t.Errorf("the entries of %s are %v on record, and %v to their queue", q.Target, have, want)
		}
	}
}

// A push is not kept waiting by a rehearsal that is being built, and neither is whoever takes an entry out: the worker is
// called off, and what it built is nobody's.
func TestPushesDoNotWaitForRehearsals(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	w.close()
	building, goOn := make(chan struct{}, 10), make(chan struct{})
	w.openAt(func(step string) {
		if step == "rehearsal:planned" {
			building <- struct{}{}
			<-goOn
		}
	})
	k := w.propose("tamsin", "slow", "a", "a\n")
	w.approve("odo", k)
	w.join("tamsin", k, "squash")
	<-building
	other := w.propose("wren", "quick", "b", "b\n") // a push, a change and its first revision
	if other.Revision != 1 {
		t.Errorf("beside a rehearsal, the change is %+v", other)
	}
	_, err := w.as("tamsin").Leave(t.Context(), repo, k.Number)
	w.ok(err)
	close(goOn)
	w.join("tamsin", k, "squash")
	w.report(w.rehearsed(k), "unit", "passed")
	w.landed(k)
}
