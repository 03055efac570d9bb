// Package forecasts says how a queue would do otherwise: with other settings, with more or less to do, with freezes. It runs the very
// planner of core/queue on what the queue had to deal with of late, or on work that is described, as core/forecast does.
//
// A forecast is worked out in the background, a few at once, and read by whoever asked for it until it is forgotten: nothing of it is
// on record. It promises to change nothing, and to end when nobody wants it any more.
package forecasts

import (
	"context"
	"crypto/rand"
	"runtime"
	"sync"
	"time"

	"tavrin/internal/records"
	"tavrin/internal/rulebook"
)

const (
	// kept is how long a forecast can be read after it was last asked for, mostKept how many of one person.
	kept     = 15 * time.Minute
	mostKept = 4
	// mostWaiting is how many wait for their turn in the whole service.
	mostWaiting = 50
)

// Forecasts are those of a service. Its methods may be called concurrently.
type Forecasts struct {
	records  *records.Records
	rulebook *rulebook.Rulebook

	workers chan struct{} // goes of a simulation at once
	running sync.WaitGroup
	mu      sync.Mutex
	jobs    map[string]*job
	ended   bool
}

// New returns what foresees queues.
func New(r *records.Records, book *rulebook.Rulebook) *Forecasts {
	return &Forecasts{records: r, rulebook: book, workers: make(chan struct{}, runtime.NumCPU()), jobs: map[string]*job{}}
}

// Close gives up all that is being worked out, and waits for that.
func (s *Forecasts) Close() {
	s.mu.Lock()
	s.ended = true
	for _, j := range s.jobs {
		j.stop()
	}
	s.mu.Unlock()
	s.running.Wait()
}

// forget drops what nobody has asked for lately, and the oldest of somebody who has too many. The lock is held.
func (s *Forecasts) forget(login string, now time.Time) {
	var own []*job
	for id, j := range s.jobs {
		switch {
		case now.Sub(j.asked) > kept:
			j.stop()
			delete(s.jobs, id)
		case j.login == login:
			own = append(own, j)
		}
	}
	for len(own) >= mostKept {
		oldest := 0
		for i, j := range own {
			if j.asked.Before(own[oldest].asked) {
				oldest = i
			}
		}
		own[oldest].stop()
		delete(s.jobs, own[oldest].id)
		own = append(own[:oldest], own[oldest+1:]...)
	}
}

// turn waits until a worker is free, and returns what ends its work; nil: nobody wants it any more.
func (s *Forecasts) turn(ctx context.Context) func() {
	select {
	case s.workers <- struct{}{}:
		return func() { <-s.workers }
	case <-ctx.Done():
		return nil
	}
}

func newID() string { return rand.Text() }
