package tasks_test

import (
	"context"
	"testing"
	"time"

	"tavrin/internal/accounts"
	"tavrin/internal/lab"
	"tavrin/internal/problem"
	"tavrin/internal/tasks"
	"tavrin/wire"
)

// A task is its owner's: it is seen as far as it is, given up, and read only with the right to it.
func TestP11Tasks(t *testing.T) {
	l := lab.New(t)
	ctx := t.Context()
	s := tasks.New(l.Records)
	defer s.Close()
	wren, odo := l.Person("wren", "writer"), l.Person("odo", "writer")
	allowed := true
	may := func(context.Context, accounts.Actor) error {
		if !allowed {
			return problem.New(problem.Forbidden, "not any more")
		}
		return nil
	}
	half, on := make(chan struct{}), make(chan struct{})
	begun, err := s.Begin(ctx, wren, tasks.Work{What: "count the valves", May: may, Do: func(ctx context.Context, tell func(float64, string), result *wire.Task) error {
		tell(0.5, "7 of 14")
		close(half)
		<-on
		result.Head = &wire.SignedHead{JournalHead: wire.JournalHead{Seq: 14}}
		return nil
	}})
	l.Ok(err)
	<-half
	if got, err := s.Get(ctx, wren, begun.ID); err != nil || got.State != "running" || got.Done != 0.5 || got.Words != "7 of 14" {
		t.Errorf("half-way it is %+v, %v", got, err)
	}
	_, err = s.Get(ctx, odo, begun.ID)
	l.Is(err, problem.Unknown, "no task")
	l.Is(s.Stop(ctx, odo, begun.ID), problem.Unknown, "no task")
	close(on)
	until := func(id, state string) wire.Task {
		t.Helper()
		for range 400 {
			got, err := s.Get(ctx, wren, id)
			l.Ok(err)
			if got.State == state {
				return got
			}
			time.Sleep(5 * time.Millisecond)
		}
		t.Fatalf("it is never %s", state)
		return wire.Task{}
	}
	if got := until(begun.ID, "ready"); got.Head == nil || got.Head.Seq != 14 || got.Done != 1 {
		t.Errorf("ready it is %+v", got)
	}
	allowed = false
	_, err = s.Get(ctx, wren, begun.ID)
	l.Is(err, problem.Forbidden, "not any more")
	_, err = s.Begin(ctx, wren, tasks.Work{May: may})
	l.Is(err, problem.Forbidden, "not any more")
	allowed = true
	waits := func(ctx context.Context, _ func(float64, string), _ *wire.Task) error { <-ctx.Done(); return ctx.Err() }
	long, err := s.Begin(ctx, wren, tasks.Work{May: may, Do: waits})
	l.Ok(err)
	l.Ok(s.Stop(ctx, wren, long.ID))
	until(long.ID, "stopped")
	bad, err := s.Begin(ctx, wren, tasks.Work{May: may, Do: func(context.Context, func(float64, string), *wire.Task) error { panic("a fault") }})
	l.Ok(err)
	if got := until(bad.ID, "failed"); got.Problem == "" {
		t.Errorf("failed it is %+v", got)
	}
	for range 6 { // of one person only so many are kept
		_, err := s.Begin(ctx, wren, tasks.Work{May: may, Do: waits})
		l.Ok(err)
	}
	_, err = s.Get(ctx, wren, begun.ID)
	l.Is(err, problem.Unknown, "no task")
	_, err = s.Begin(ctx, accounts.Actor{}, tasks.Work{May: may, Do: waits})
	l.Is(err, problem.SignInNeeded, "sign in")
}
