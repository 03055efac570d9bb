package forecasts

import (
	"cmp"
	"context"
	"fmt"
	"sync/atomic"
	"time"

	"gorm.io/gorm"

	"tavrin/internal/core/forecast"
	"tavrin/internal/core/queue"
	"tavrin/internal/queues"
	"tavrin/internal/records"
	"tavrin/wire"
)

const (
	// besideDays are gone through again for settings that are tried, besideTime is how long that may take.
	besideDays = 28
	besideTime = 1500 * time.Millisecond
)

// Beside says what other settings of a queue would have changed in the last four weeks; nil: nothing landed in them, or nothing is other.
func (s *Forecasts) Beside(ctx context.Context, db *gorm.DB, repo *records.Repository, branch string, now, then queue.Settings) (*wire.QueueTrial, error) {
	now.Drawn, then.Drawn = "", ""
	if now.OnPush = then.OnPush; now == then {
		return nil, nil
	}
	until := s.records.Now()
	h, err := past(db, repo, branch, until.AddDate(0, 0, -besideDays), until)
	if err != nil || len(h.Landed) == 0 {
		return nil, err
	}
	out := &wire.QueueTrial{Repository: repo.Name, Branch: branch, Was: queues.SettingsOf(now), Would: queues.SettingsOf(then)}
	out.With = cmp.Or(otherwise(wire.NewForecast{}, now, then, 0), "the same")
	if lacks := h.Lacks(); lacks != "" {
		out.Words = fmt.Sprintf("what it would have changed in the last %d days cannot be said: %s", besideDays, lacks)
		return out, nil
	}
	ctx, end := context.WithTimeout(ctx, besideTime)
	defer end()
	var figures [2]forecast.Figures
	for i, settings := range []queue.Settings{now, then} {
		h.Settings = settings
		var done atomic.Uint64
		turn := s.turn(ctx)
		if turn == nil {
			break
		}
		o := simulate(ctx, h.Workload(1), 1, &done)
		turn()
		figures[i] = forecast.FiguresOf([]forecast.Outcome{o})
	}
	if ctx.Err() != nil {
		out.Words = fmt.Sprintf("what it would have changed in the last %d days takes longer to work out: tavrin queue forecast --days %d does", besideDays, besideDays)
		return out, nil
	}
	was, would := figuresOf(figures[0]), figuresOf(figures[1])
	out.Now, out.Then = &was, &would
	out.Words = fmt.Sprintf("with what came in the last %d days, %s", besideDays, figures[1].Beside(figures[0]))
	return out, nil
}
