// Package outbox keeps webhooks and sends their deliveries.
//
// A delivery is recorded in the transaction of its event, so that one is there exactly when the other is; it is sent
// at least once, always under the same id and with the same body, in the order of the events unless the webhook says
// otherwise. Each webhook has a lane of its own: one whose destination is dead or slow keeps nobody else waiting, and
// nothing that happens in the service waits for any of them. What is sent, when it is tried again and how it is signed is
// decided in core/webhook; what may be called, in outbound.
package outbox

import (
	"context"
	"errors"
	"log/slog"
	"maps"
	"sync"
	"time"

	"tavrin/internal/bounds"
	"tavrin/internal/core/webhook"
	"tavrin/internal/hosted"
	"tavrin/internal/outbound"
	"tavrin/internal/records"
)

// Outbox is the room of webhooks.
type Outbox struct {
	records *records.Records
	disk    *hosted.Disk
	caller  *outbound.Caller
	bounds  *bounds.Bounds
	log     *slog.Logger
	base    string // the service's own address, for links
	tried   func(ok bool, took time.Duration)

	mu    sync.Mutex
	hooks map[int64]*hook // those that are on, as they are committed
	fresh bool            // hooks are as the records have them
	lanes map[int64]*lane // those with something to do
	done  sync.WaitGroup
	run   context.Context // that lanes run in; nil: nothing is sent yet
	wake  map[int64]bool  // webhooks for which something was recorded in the transaction under way

	unnoted []noted // what came of tries and is not recorded yet
	noting  bool    // somebody is recording
}

// hook is a webhook with its filter and its condition read.
type hook struct {
	records.Webhook
	filter webhook.Filter
	when   webhook.Condition
}

// Needs is what the room stands on.
type Needs struct {
	Records *records.Records
	Disk    *hosted.Disk
	Caller  *outbound.Caller
	Bounds  *bounds.Bounds
	Log     *slog.Logger
	Address string // of the service itself
	// Tried is told of every try to deliver; nil: nobody is.
	Tried func(ok bool, took time.Duration)
}

// New makes the room. From then on deliveries are recorded; they are sent once it runs.
func New(n Needs) *Outbox {
	s := &Outbox{records: n.Records, disk: n.Disk, caller: n.Caller, bounds: n.Bounds, log: n.Log, base: n.Address,
		lanes: map[int64]*lane{}, wake: map[int64]bool{}}
	if s.tried = n.Tried; s.tried == nil {
		s.tried = func(bool, time.Duration) {}
	}
	n.Records.OnRecord(s.record)
	n.Records.Listen(records.Listener{After: s.committed})
	return s
}

// committed has the lanes go on for which something was recorded.
func (s *Outbox) committed(c records.Commit) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if !c.Done {
		s.fresh = false // what was read within it is not so
	} else if s.run != nil {
		for id := range s.wake {
			s.begin(id)
		}
	}
	clear(s.wake)
}

// Run sends what waits, until the context ends and what is under way has ended.
func (s *Outbox) Run(ctx context.Context) {
	waiting, err := s.waiting(ctx)
	if err != nil && ctx.Err() == nil {
		s.log.Error("deliveries that wait could not be read", "error", err)
	}
	s.mu.Lock()
	s.run = ctx
	for _, id := range waiting {
		s.begin(id)
	}
	s.mu.Unlock()
	<-ctx.Done()
	s.mu.Lock()
	s.run = nil
	lanes := maps.Clone(s.lanes)
	s.mu.Unlock()
	for _, l := range lanes {
		l.nudge()
	}
	s.done.Wait()
}

// waiting lists the webhooks by which something is on its way.
func (s *Outbox) waiting(ctx context.Context) (ids []int64, err error) {
	err = s.records.Read(ctx).Raw("SELECT DISTINCT webhook_id FROM deliveries WHERE state = 'waiting'").Scan(&ids).Error
	return ids, err
}

// SendDue sends what is due now, and returns when that is done. Tests use it, whose clock does not go by itself.
func (s *Outbox) SendDue(ctx context.Context) error {
	ids, err := s.waiting(ctx)
	for _, id := range ids {
		if _, e := (&lane{room: s, id: id}).round(ctx); e != nil {
			err = errors.Join(err, e)
		}
	}
	return err
}

// begin has a lane go on, or begins it; the caller holds the lock.
func (s *Outbox) begin(id int64) {
	l := s.lanes[id]
	if l == nil {
		l = &lane{room: s, id: id, woken: make(chan struct{}, 1)}
		s.lanes[id] = l
		ctx := s.run
		s.done.Go(func() { l.run(ctx) })
	}
	l.nudge()
}

// changed forgets the webhooks as they were read: they are about to be others.
func (s *Outbox) changed(id int64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.fresh = false
	s.wake[id] = true
}
