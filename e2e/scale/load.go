package main

import (
	"context"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"tavrin/client"
	"tavrin/wire"
)

// queue measures what a long line costs: to look at, by itself, and whatever happens beside it.
func (m *measurer) queue(ctx context.Context) error {
	if _, err := m.run(ctx); err != nil {
		return err
	}
	by := m.as(m.writer())
	before, err := m.pushes(ctx, 6)
	if err != nil {
		return err
	}
	begun, joined := time.Now(), 0
	for _, n := range m.openOf(0) {
		if joined == m.live {
			break
		}
		if _, err := by.Join(ctx, big(), n, wire.NewEntry{}); err != nil {
			return err
		}
		joined++
	}
	m.say(figure{Name: fmt.Sprintf("one of %d changes that join", joined), Goal: "-", Median: milliseconds(time.Since(begun)) / float64(joined), Unit: "ms"})
	if err := m.settled(ctx); err != nil {
		return err
	}
	if _, err := m.run(ctx); err != nil {
		return err
	}
	if err := m.settled(ctx); err != nil {
		return err
	}
	odo := m.as(grower)
	if err := m.times(fmt.Sprintf("the page of a queue of %d entries", joined), "100", m.calls, func(int) error {
		q, err := odo.Queue(ctx, big(), "main")
		if err == nil && len(q.Entries) != joined {
			err = fmt.Errorf("%d entries are in line", len(q.Entries))
		}
		return err
	}); err != nil {
		return err
	}
	idle := 20 * m.second
	was := m.cpu()
	time.Sleep(idle)
	m.say(figure{Name: fmt.Sprintf("a minute in which nothing happens, %d entries in line", joined), Goal: "1", Median: (m.cpu() - was).Seconds() * float64(60*m.second/idle) * time.Second.Seconds() / m.second.Seconds(), Unit: "CPU s"})
	after, err := m.pushes(ctx, 6)
	if err != nil {
		return err
	}
	m.say(figure{Name: fmt.Sprintf("a push beside %d entries in line, of one without", joined), Goal: "1", Median: after / before, Unit: "times", Note: fmt.Sprintf("%.0f ms beside %.0f ms", after, before)})
	return m.listeners(ctx)
}

// settled waits until nothing more happens by itself.
func (m *measurer) settled(ctx context.Context) error {
	for quiet := 0; quiet < 3; {
		was := m.cpu()
		select {
		case <-time.After(m.second):
		case <-ctx.Done():
			return ctx.Err()
		}
		if quiet++; m.cpu()-was > m.second/4 {
			quiet = 0
		}
	}
	return nil
}

// wrote is what each of some writes costs the service, with all that follows.
func (m *measurer) wrote(ctx context.Context, times int) (float64, error) {
	by, open := m.as(m.writer()), m.openOf(0)
	was := m.cpu()
	for n := range times {
		if _, err := by.BeginThread(ctx, big(), open[n%len(open)], wire.NewThread{Text: "And at noon?", NoAnswer: true}); err != nil {
			return 0, err
		}
		time.Sleep(m.second / 30) // one event is to be one, and not half of two
	}
	time.Sleep(m.second)
	return milliseconds(m.cpu()-was) / float64(times), nil
}

// listeners measures what an event costs with many who listen.
func (m *measurer) listeners(ctx context.Context) error {
	listening, events := 200, 3*m.calls
	alone, err := m.wrote(ctx, events)
	if err != nil {
		return err
	}
	m.say(figure{Name: "a write of which nobody hears", Goal: "-", Median: alone, Unit: "CPU ms"})
	hearing, stop := context.WithCancel(ctx)
	defer stop()
	var heard atomic.Int64
	var all sync.WaitGroup
	for range listening {
		c := m.as(grower)
		all.Go(func() {
			// it ends when it is told to, which is no trouble
			_ = c.Events(hearing, "", "", func(client.Event) bool { heard.Add(1); return true })
		})
	}
	time.Sleep(2 * m.second)
	each, err := m.wrote(ctx, events)
	if err != nil {
		return err
	}
	m.say(figure{Name: fmt.Sprintf("that %d hear of one, besides", listening), Goal: "5", Median: each - alone, Unit: "CPU ms", Note: fmt.Sprintf("%d of %d heard", heard.Load(), listening*events)})
	stop()
	all.Wait()
	return nil
}

// rules measures what becomes of rules that are tried and applied.
func (m *measurer) rules(ctx context.Context) error {
	if _, err := m.run(ctx); err != nil {
		return err
	}
	ines := m.as(maintainer)
	if err := m.times("rules tried on 100 landings of the big repository", "2000", min(5, m.calls), func(int) error {
		_, err := ines.TryRules(ctx, big(), ownRules(teamName(0), true), 100)
		return err
	}); err != nil {
		return err
	}
	at, looks := time.Now(), 0
	if _, err := ines.TryHouseRules(ctx, house, houseRules(true), 100, func(wire.Task) { looks++ }); err != nil {
		return err
	}
	m.say(figure{Name: "house rules tried on 100 landings of each repository and on what is open", Goal: "with progress", Median: time.Since(at).Seconds(), Unit: "s",
		Note: fmt.Sprintf("told how far it was %d times", looks)})
	at = time.Now()
	giving, stop := context.WithTimeout(ctx, m.second/2)
	defer stop()
	if _, err := ines.TryHouseRules(giving, house, houseRules(true), 100, nil); err != nil && giving.Err() == nil {
		return err
	}
	was := m.cpu()
	if err := m.settled(ctx); err != nil {
		return err
	}
	m.say(figure{Name: "the same, given up after half a second: what it still costs", Goal: "-", Median: (m.cpu() - was).Seconds(), Unit: "CPU s"})
	if _, err := m.run(ctx); err != nil {
		return err
	}
	ines = m.as(maintainer)
	writing, stopWriting := context.WithCancel(ctx)
	defer stopWriting()
	waits := make(chan []float64, 1)
	open := m.openOf(1)
	go func() {
		by := m.as("admin")
		var all []float64
		for n := 0; writing.Err() == nil; n++ {
			at := time.Now()
			if _, err := by.BeginThread(writing, repositoryName(1), open[n%len(open)], wire.NewThread{Text: "And in autumn?", NoAnswer: true}); err == nil {
				all = append(all, milliseconds(time.Since(at)))
			}
			time.Sleep(20 * time.Millisecond)
		}
		waits <- all
	}()
	time.Sleep(m.second)
	loose := true
	if err := m.times("house rules applied: until it answers", "1000", min(5, m.calls), func(int) error {
		_, err := ines.ApplyRules(ctx, house, wire.NewRules{Text: houseRules(loose), Reason: "for a season"}, -1)
		loose = !loose
		return err
	}); err != nil {
		return err
	}
	at = time.Now()
	time.Sleep(2 * m.second)
	stopWriting()
	all := <-waits
	if err := m.settled(ctx); err != nil {
		return err
	}
	m.say(figure{Name: "until everything that is open is judged by them", Goal: "-", Median: max(0, milliseconds(time.Since(at)-3*m.second)), Unit: "ms"})
	m.say(figure{Name: "the longest that a write elsewhere took meanwhile", Goal: "250", Median: quantile(all, 0.5), P99: quantile(all, 1), Unit: "ms", Note: fmt.Sprintf("%d writes; the P99 is the longest", len(all))})
	return nil
}
