package forecasts_test

import (
	"fmt"
	"math"
	"strings"
	"testing"
	"time"

	"tavrin/internal/core/queue"
	"tavrin/internal/forecasts"
	"tavrin/internal/lab"
	"tavrin/internal/problem"
	"tavrin/internal/records"
	"tavrin/wire"
)

// landings puts changes on record that came to main one an hour, and how they ended: each fifth red, each seventh in conflict.
func landings(l *lab.Lab, n int) {
	l.T.Helper()
	l.Commit("main", "", "a=1")
	for i := range n {
		branch := fmt.Sprintf("topic-%d", i)
		l.Commit(branch, "main", fmt.Sprintf("%s=1", branch))
		c := l.Row(l.Open(l.Admin, branch).Number)
		came := l.Now().Add(time.Duration(i-n) * time.Hour)
		ended := came.Add(20 * time.Minute)
		e := records.Entry{RepositoryID: l.Repo.ID, ChangeID: c.ID, Target: "main", State: "landed", Strategy: "squash", JoinedBy: "ines", Touches: queue.Touched{Areas: []string{"valves"}},
			Waited: (5 * time.Minute).Milliseconds(), Queued: (2 * time.Minute).Milliseconds(), Rehearsed: (13 * time.Minute).Milliseconds(), CreatedAt: came, EndedAt: &ended}
		switch {
		case i%5 == 4:
			e.State, e.Cause = "ejected", "checks"
		case i%7 == 6:
			e.State, e.Cause = "ejected", "conflict"
		}
		run := func(name string, attempt int, state string, took time.Duration) records.CheckRun {
			end := came.Add(7*time.Minute + took)
			return records.CheckRun{RepositoryID: l.Repo.ID, CommitID: fmt.Sprintf("%040d", i), Name: name, Attempt: attempt, State: state, AskedFor: "rehearsal/1", Target: "main",
				Milliseconds: took.Milliseconds(), CreatedAt: came.Add(7 * time.Minute), FinishedAt: &end}
		}
		runs := []records.CheckRun{run("unit", 1, "passed", 4*time.Minute), run("bench", 1, "passed", 10*time.Minute)}
		if i%6 == 0 {
			runs[1].State = "failed"
			runs = append(runs, run("bench", 2, "passed", 10*time.Minute))
		}
		l.Ok(l.Records.Write(l.T.Context(), func(tx *records.Tx) error {
			tx.TouchesNothing()
			if err := tx.Create(&e).Error; err != nil {
				return err
			}
			return tx.Create(&runs).Error
		}))
	}
}

// What came is read as it was: when each was ready, which were red by themselves, how long the longest check took, and what flaked.
func TestThePastIsReadAsItWas(t *testing.T) {
	l := lab.New(t)
	landings(l, 30)
	since := l.Now().Add(-31 * time.Hour)
	h, err := forecasts.Past(l.Records.Read(t.Context()), l.Repo, "main", since, l.Now())
	l.Ok(err)
	guilty := 0
	for i, a := range h.Came {
		if want := time.Duration(i+1)*time.Hour + 5*time.Minute; (a.At - want).Abs() > time.Second {
			t.Fatalf("change %d was ready after %s, not %s", i, a.At, want)
		}
		if a.Guilty {
			guilty++
		}
		if len(a.Touches.Areas) != 1 || a.Author == "" {
			t.Fatalf("change %d is %+v", i, a)
		}
	}
	if len(h.Came) != 30 || guilty != 6 || h.Clashed != 4 || len(h.Landed) != 20 || h.Landed[0] != 15 || h.Runs != 30 || h.Flaked != 5 {
		t.Errorf("%d came, %d were guilty, %d clashed, %d landed, %d ran, %d flaked", len(h.Came), guilty, h.Clashed, len(h.Landed), h.Runs, h.Flaked)
	}
	for _, d := range h.Took {
		if (d - 10*time.Minute).Abs() > time.Second {
			t.Fatalf("checks took %s", d)
		}
	}
	if math.Abs(h.Minutes-30*14) > .1 {
		t.Errorf("they ran for %.1f minutes", h.Minutes)
	}
	none, err := forecasts.Past(l.Records.Read(t.Context()), l.Repo, "other", since, l.Now())
	if l.Ok(err); none.Lacks() == "" {
		t.Error("of a branch without landings something is foreseen")
	}
}

func ended(l *lab.Lab, s *forecasts.Forecasts, id string) wire.Forecast {
	l.T.Helper()
	for {
		f, err := s.Get(l.T.Context(), l.Admin, id)
		l.Ok(err)
		if f.State != "running" {
			return f
		}
		time.Sleep(5 * time.Millisecond)
	}
}

// A forecast is whole when it is ready; it is its asker's; somebody has four at most; and what is given up, or forgotten, ends.
func TestForecastsEnd(t *testing.T) {
	l := lab.New(t)
	landings(l, 20)
	s := forecasts.New(l.Records, l.Rulebook)
	ctx := t.Context()
	f, err := s.Start(ctx, l.Admin, lab.Name, wire.NewForecast{Days: 2, Settings: wire.NewSettings{Slots: 2}})
	l.Ok(err)
	if got := ended(l, s, f.ID); got.State != "ready" || got.Done != 1 || len(got.Columns) != 2 || got.Columns[0].Figures.Landed < 10 || got.AsItWas.Half != 15 || got.Columns[1].Words == "" {
		t.Errorf("it is %+v", got)
	}
	odo := l.Person("odo", "writer")
	_, err = s.Get(ctx, odo, f.ID)
	l.Is(err, problem.Unknown, "no forecast")
	its, err := s.Start(ctx, odo, lab.Name, wire.NewForecast{Days: 2})
	l.Ok(err)
	_, err = s.Get(ctx, odo, its.ID)
	l.Ok(err)
	l.Ok(l.People.Grant(ctx, l.Admin, lab.Name, "odo", "none"))
	if _, err := s.Get(ctx, odo, its.ID); err == nil { // what came to a queue is told to its readers, as they are now
		t.Error("who may read the repository no more still reads its forecast")
	}
	long := wire.NewForecast{Days: 90, Work: &wire.NewWork{PerHour: 25, Minutes: 10, Red: 10, Areas: 20}, Settings: wire.NewSettings{Slots: 16, Tests: "by_area"}}
	var ids []string
	for range forecasts.MostKept {
		l.Wait(time.Second)
		f, err := s.Start(ctx, l.Admin, lab.Name, long)
		l.Ok(err)
		ids = append(ids, f.ID)
	}
	_, err = s.Get(ctx, l.Admin, f.ID) // the first, of five
	l.Is(err, problem.Unknown, "no forecast")
	l.Ok(s.Stop(ctx, l.Admin, ids[0]))
	if got := ended(l, s, ids[0]); got.State != "stopped" || len(got.Columns) > 0 {
		t.Errorf("given up, it is %+v", got)
	}
	l.Wait(forecasts.Kept + time.Minute)
	_, err = s.Get(ctx, l.Admin, ids[1])
	l.Is(err, problem.Unknown, "no forecast")
	s.Close()
	_, err = s.Start(ctx, l.Admin, lab.Name, long)
	l.Is(err, problem.Unavailable, "too many")
}

// What other settings would have changed is said where something landed, and nothing is said of the same ones.
func TestBeside(t *testing.T) {
	l := lab.New(t)
	s := forecasts.New(l.Records, l.Rulebook)
	now, then := queue.Settings{Slots: 1, Reruns: 1}, queue.Settings{Slots: 4, Reruns: 1}
	beside := func(now, then queue.Settings) *wire.QueueTrial {
		t.Helper()
		q, err := s.Beside(t.Context(), l.Records.Read(t.Context()), l.Repo, "main", now, then)
		l.Ok(err)
		return q
	}
	if q := beside(now, then); q != nil {
		t.Errorf("where nothing has landed: %+v", q)
	}
	landings(l, 6)
	if q := beside(now, then); q == nil || q.Then != nil || !strings.Contains(q.Words, "cannot be said: 5 changes have landed") {
		t.Errorf("after few: %+v", q)
	}
	l2 := lab.New(t)
	landings(l2, 30)
	l, s = l2, forecasts.New(l2.Records, l2.Rulebook)
	if q := beside(now, then); q == nil || q.Then == nil || q.With != "4 slots" || !strings.Contains(q.Words, "instead of") {
		t.Errorf("otherwise: %+v", q)
	}
	if q := beside(now, now); q != nil {
		t.Errorf("the same: %+v", q)
	}
}
