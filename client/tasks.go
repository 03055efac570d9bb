package client

import (
	"context"
	"errors"
	"net/http"
	"time"

	"tavrin/wire"
)

const (
	// firstLook and longestPause are how long it is waited before a task is looked at again.
	firstLook    = 20 * time.Millisecond
	longestPause = 500 * time.Millisecond
)

// finished waits for a task that was begun. Whoever does not wait for it has it given up.
func finished(ctx context.Context, c *connection, t wire.Task, err error, progress func(wire.Task)) (wire.Task, error) {
	for pause := firstLook; err == nil && t.State == "running"; pause = min(2*pause, longestPause) {
		if progress != nil {
			progress(t)
		}
		select {
		case <-ctx.Done():
			giving, end := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
			defer end()
			_, _ = do(giving, c, wire.StopTask, wire.InTask{ID: t.ID}) // if it is not heard, the service forgets it by itself
			return t, ctx.Err()
		case <-time.After(pause):
		}
		t, err = do(ctx, c, wire.GetTask, wire.InTask{ID: t.ID})
	}
	if progress != nil && err == nil {
		progress(t)
	}
	switch {
	case err != nil || t.State == "ready":
		return t, err
	case t.State == "failed":
		return t, &Problem{Status: http.StatusConflict, Title: http.StatusText(http.StatusConflict), Detail: t.Problem}
	}
	return t, errors.New(t.What + ": " + t.Problem)
}
