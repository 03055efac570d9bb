package main

import (
	"context"
	"fmt"
	"path/filepath"
	"sync/atomic"
	"time"

	"tavrin/internal/service"
	"tavrin/wire"
)

// statements counts what is asked of the records for each line of the journal, and while nothing happens, by a service in this process.
func (m *measurer) statements(ctx context.Context) error {
	if err := m.stop(); err != nil {
		return err
	}
	var asked atomic.Int64
	s, err := service.Open(ctx, service.Options{Dir: filepath.Join(m.dir, "data"), Queries: func(string) { asked.Add(1) }})
	if err != nil {
		return err
	}
	defer s.Close()
	time.Sleep(65 * m.second) // what a start brings, and its first look at every repository
	a, err := s.Access.Authenticate(ctx, m.tokens[m.writer()])
	if err != nil {
		return err
	}
	was := asked.Load()
	time.Sleep(10 * m.second)
	idle := asked.Load() - was
	m.say(figure{Name: "statements in a minute in which nothing happens", Goal: "-", Median: float64(idle) * 6, Unit: ""})
	from, err := s.Records.JournalEnd(ctx)
	if err != nil {
		return err
	}
	open := m.openOf(0)
	was = asked.Load()
	begun := time.Now()
	for n := range 50 {
		if _, err := s.Threads.BeginThread(ctx, a, big(), open[n%len(open)], wire.NewThread{Text: "And in spring?", NoAnswer: true}); err != nil {
			return err
		}
		time.Sleep(20 * time.Millisecond)
	}
	time.Sleep(time.Second)
	to, err := s.Records.JournalEnd(ctx)
	if err != nil {
		return err
	}
	all := float64(asked.Load()-was) - float64(idle)*time.Since(begun).Seconds()/(10*m.second.Seconds())
	m.say(figure{Name: "statements for each line of the journal, what follows from it included", Goal: "-", Median: all / float64(to-from), Unit: "", Note: fmt.Sprintf("%d lines", to-from)})
	return nil
}
