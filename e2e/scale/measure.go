package main

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"tavrin/client"
	"tavrin/wire"
)

// figure is one thing measured, in the form in which it is kept for the table. Times are in milliseconds.
type figure struct {
	Name   string  `json:"name"`
	Goal   string  `json:"goal"`
	Cold   float64 `json:"cold,omitempty"`
	Median float64 `json:"median"`
	P99    float64 `json:"p99,omitempty"`
	Unit   string  `json:"unit"`
	Note   string  `json:"note,omitempty"`
}

// measurer measures a service that was made.
type measurer struct {
	size
	dir, program string
	tokens       map[string]string
	served       *served
	figures      []figure
}

// served is the service as a process of its own.
type served struct {
	cmd *exec.Cmd
	url string
}

// measure measures everything of a service in a folder.
func measure(ctx context.Context, dir, program string, s size, only string) ([]figure, error) {
	m := &measurer{size: s, dir: dir, program: program}
	text, err := os.ReadFile(filepath.Join(dir, "tokens.json"))
	if err == nil {
		err = json.Unmarshal(text, &m.tokens)
	}
	if err != nil {
		return nil, err
	}
	for _, part := range []struct {
		name string
		of   func(context.Context) error
	}{{"start", m.start}, {"reading", m.reading}, {"queue", m.queue}, {"rules", m.rules}, {"git", m.git}, {"many", m.many}, {"audit", m.audit}, {"disk", m.disk}, {"statements", m.statements}} {
		if only != "" && !slices.Contains(strings.Split(only, ","), part.name) {
			continue
		}
		if err := part.of(ctx); err != nil {
			return m.figures, errors.Join(fmt.Errorf("%s: %w", part.name, err), m.stop())
		}
	}
	return m.figures, m.stop()
}

// say keeps a figure, and tells of it.
func (m *measurer) say(f figure) {
	m.figures = append(m.figures, f)
	fmt.Printf("%-62s %10.2f %10.2f %10.2f %-5s goal %-24s %s\n", f.Name, f.Cold, f.Median, f.P99, f.Unit, f.Goal, f.Note)
}

// run starts the service, and waits until it answers; it returns how long that took.
func (m *measurer) run(ctx context.Context) (time.Duration, error) {
	if err := m.stop(); err != nil {
		return 0, err
	}
	cmd := exec.CommandContext(ctx, m.program, "serve", "--data", filepath.Join(m.dir, "data"), "--listen", "127.0.0.1:0",
		"--bound", "calls.token=1000000", "--bound", "calls.streams=1000", "--bound", "git.transfers=100", "--bound", "git.person-processes=48") // all of it comes from a few people
	cmd.Stderr = os.Stderr
	if os.Getenv("SCALE_QUIET") == "" {
		log, err := os.OpenFile(filepath.Join(m.dir, "serve.log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
		if err != nil {
			return 0, err
		}
		defer log.Close()
		cmd.Stderr = log
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		return 0, err
	}
	begun := time.Now()
	if err := cmd.Start(); err != nil {
		return 0, err
	}
	lines := bufio.NewScanner(out)
	for lines.Scan() {
		if url, is := strings.CutPrefix(lines.Text(), "Tavrin serves "); is {
			m.served = &served{cmd, url}
			break
		}
	}
	if m.served == nil {
		return 0, fmt.Errorf("the service did not start: %w", cmd.Wait())
	}
	_, err = m.as(grower).Me(ctx)
	return time.Since(begun), err
}

func (m *measurer) stop() error {
	if m.served == nil {
		return nil
	}
	cmd := m.served.cmd
	m.served = nil
	if err := cmd.Process.Signal(os.Interrupt); err != nil {
		return err
	}
	return cmd.Wait()
}

func (m *measurer) as(login string) *client.Client {
	c, err := client.New(m.served.url, m.tokens[login])
	if err != nil {
		panic(err) // the address is one that the service gave itself
	}
	return c
}

// writer is one of the crew that owns the big repository.
func (m *measurer) writer() string {
	var names []string
	for name := range m.tokens {
		if name != "admin" && name != maintainer && name != grower {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return names[0]
}

// cpu is how much time of processors the service has used, its ended children's included.
func (m *measurer) cpu() time.Duration {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", m.served.cmd.Process.Pid))
	if err != nil {
		return 0
	}
	_, after, _ := strings.Cut(string(text), ") ")
	fields := strings.Fields(after)
	total := 0
	for _, n := range []int{11, 12, 13, 14} {
		ticks, err := strconv.Atoi(fields[n])
		if err != nil {
			return 0
		}
		total += ticks
	}
	return time.Duration(total) * 10 * time.Millisecond
}

// memory is what of the service lies in memory, in MB.
func (m *measurer) memory() float64 {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", m.served.cmd.Process.Pid))
	if err != nil {
		return 0
	}
	for line := range strings.Lines(string(text)) {
		if rest, is := strings.CutPrefix(line, "VmRSS:"); is {
			kb, err := strconv.Atoi(strings.Fields(rest)[0])
			if err != nil {
				return 0
			}
			return float64(kb) / 1000
		}
	}
	return 0
}

func milliseconds(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }

// enough is for how long one figure is measured at most, when it comes to many calls.
const enough = 20 * time.Second

// times measures a call: once cold, three times to warm up, then as often as is told.
func (m *measurer) times(name, goal string, calls int, call func(n int) error) error {
	f := figure{Name: name, Goal: goal, Unit: "ms"}
	var all []float64
	begun := time.Now()
	for n := range calls + 4 {
		if n > 4 && time.Since(begun) > enough {
			f.Note = fmt.Sprintf("%d calls", len(all))
			break
		}
		at := time.Now()
		if err := call(n); err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		took := milliseconds(time.Since(at))
		switch {
		case n == 0:
			f.Cold = took
		case n > 3 || took > 5000:
			all = append(all, took)
		}
	}
	f.Median, f.P99 = quantile(all, 0.5), quantile(all, 0.99)
	m.say(f)
	return nil
}

func quantile(all []float64, q float64) float64 {
	if len(all) == 0 {
		return 0
	}
	sorted := slices.Sorted(slices.Values(all))
	return sorted[min(len(sorted)-1, int(q*float64(len(sorted))))]
}

func (m *measurer) start(ctx context.Context) error {
	var all []float64
	for range 5 {
		took, err := m.run(ctx)
		if err != nil {
			return err
		}
		all = append(all, milliseconds(took))
	}
	m.say(figure{Name: "first answer after the start", Goal: "500", Cold: all[0], Median: quantile(all, 0.5), P99: quantile(all, 0.99), Unit: "ms"})
	time.Sleep(3 * m.second)
	m.say(figure{Name: "memory, idle", Goal: "100", Median: m.memory(), Unit: "MB"})
	return nil
}

// big is the repository with the most of everything.
func big() string { return repositoryName(0) }

// reading measures what people look at.
func (m *measurer) reading(ctx context.Context) error {
	if _, err := m.run(ctx); err != nil {
		return err
	}
	odo, ines := m.as(grower), m.as(maintainer)
	if err := m.times("the list of repositories", "100", m.calls, func(int) error {
		_, err := ines.Repositories(ctx)
		return err
	}); err != nil {
		return err
	}
	newest := m.openOf(0)
	if err := m.times("one gate, each a cold one", "5", m.calls, func(n int) error {
		_, err := odo.Gate(ctx, big(), newest[n%len(newest)])
		return err
	}); err != nil {
		return err
	}
	if _, err := m.run(ctx); err != nil {
		return err
	}
	odo, ines = m.as(grower), m.as(maintainer)
	if err := m.times("a page of 50 changes with their gates", "300 cold, 30 warm", m.calls, func(int) error {
		_, err := odo.Changes(ctx, big(), wire.ChangeFilter{Limit: 50})
		return err
	}); err != nil {
		return err
	}
	for _, who := range []string{grower, maintainer} {
		if _, err := m.run(ctx); err != nil {
			return err
		}
		name := "the desk of a grower"
		if who == maintainer {
			name = "the desk of who maintains the house"
		}
		if err := m.times(name, "1000 cold, 50 warm", m.calls, func(int) error {
			_, err := m.as(who).Desk(ctx)
			return err
		}); err != nil {
			return err
		}
	}
	by := m.as(m.writer())
	var all []float64
	for n := range max(3, m.calls/3) {
		if _, err := by.BeginThread(ctx, big(), newest[n%len(newest)], wire.NewThread{Text: "And in the morning?", NoAnswer: true}); err != nil {
			return err
		}
		at := time.Now()
		if _, err := m.as(maintainer).Desk(ctx); err != nil {
			return err
		}
		all = append(all, milliseconds(time.Since(at)))
	}
	m.say(figure{Name: "the same desk, after a write somewhere", Goal: "100", Cold: all[0], Median: quantile(all, 0.5), P99: quantile(all, 0.99), Unit: "ms"})
	ines = m.as(maintainer)
	odo = m.as(grower)
	for _, x := range []struct {
		name, goal string
		call       func(int) error
	}{
		{"notifications", "50", func(int) error { _, err := odo.Notifications(ctx, 50); return err }},
		{"the journal of what a person may read, 50 lines", "50", func(int) error { _, err := odo.Journal(ctx, "", 50); return err }},
		{"the journal of the big repository, 50 lines", "50", func(int) error { _, err := odo.Journal(ctx, big(), 50); return err }},
		{fmt.Sprintf("%d branches", m.branches), "300", func(int) error { _, err := odo.Branches(ctx, big()); return err }},
		{"history of 30", "100", func(int) error { _, err := odo.History(ctx, big(), "main", 30); return err }},
		{"the load on reviewers", "300", func(int) error { _, err := ines.ReviewLoads(ctx, big()); return err }},
		{"a change", "-", func(n int) error { _, err := odo.Change(ctx, big(), newest[n%len(newest)]); return err }},
		{"the difference of a change", "-", func(n int) error {
			_, err := odo.Diff(ctx, big(), newest[n%len(newest)], wire.Reading{}, true)
			return err
		}},
	} {
		if err := m.times(x.name, x.goal, m.calls, x.call); err != nil {
			return err
		}
	}
	m.say(figure{Name: "memory, after that", Goal: "300", Median: m.memory(), Unit: "MB"})
	return nil
}

// openOf lists the numbers of the changes that are open in a repository, the newest first.
func (m *measurer) openOf(repo int) []int {
	others := max(1, m.repositories-1)
	landed, open := (m.changes-m.open)*9/10/others, (m.open-m.big)/others
	if repo == 0 {
		landed, open = (m.changes-m.open)/10, m.big
	}
	var all []int
	for n := landed + open; n > landed; n-- {
		all = append(all, n)
	}
	return all
}
