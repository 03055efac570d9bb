// Package metrics counts what the service does and how it stands, for monitoring systems that read the Prometheus text
// format.
//
// What stands in the records is counted there, when somebody asks; what only passes by is counted as it does. Names of people
// are never among the labels, and every label has few values: kinds, states, routes, and the queues that have entries.
package metrics

import (
	"context"
	"database/sql"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"tavrin/internal/core/event"
	"tavrin/internal/records"
)

// Metrics are those of one service.
type Metrics struct {
	records  *records.Records
	registry *prometheus.Registry

	requests   *prometheus.HistogramVec
	processes  *prometheus.CounterVec
	deliveries *prometheus.HistogramVec
	trouble    prometheus.Counter

	stages *prometheus.HistogramVec
	ended  *prometheus.CounterVec
	runs   *prometheus.CounterVec
	ran    prometheus.Counter

	mu      sync.Mutex
	counted int64              // line of the journal up to which events are counted
	events  map[string]float64 // by kind
	left    time.Time          // up to which what left queues is counted
	checked time.Time          // up to which runs of checks are
}

// scrapeTime is how long counting in the records may take.
const scrapeTime = 10 * time.Second

// New begins to count. version is the program's.
func New(r *records.Records, version string) *Metrics {
	m := &Metrics{records: r, registry: prometheus.NewRegistry(),
		requests: prometheus.NewHistogramVec(prometheus.HistogramOpts{Name: "tavrin_http_request_seconds",
			Help: "Requests by route, method and class of the answer's status. Streams are not among them.", Buckets: []float64{.005, .025, .1, .5, 2.5, 10, 60}},
			[]string{"route", "method", "status"}),
		processes: prometheus.NewCounterVec(prometheus.CounterOpts{Name: "tavrin_git_processes_total", Help: "Git processes started, by command."}, []string{"command"}),
		deliveries: prometheus.NewHistogramVec(prometheus.HistogramOpts{Name: "tavrin_webhook_delivery_seconds",
			Help: "Tries to deliver an event, by what came of them.", Buckets: []float64{.01, .05, .25, 1, 5, 15}}, []string{"outcome"}),
		stages: prometheus.NewHistogramVec(prometheus.HistogramOpts{Name: "tavrin_queue_stage_seconds",
			Help:    "How long changes that landed were in each stage: waiting for their gate, queued, rehearsing, landing; and ready, the last three together.",
			Buckets: []float64{10, 60, 300, 900, 1800, 3600, 7200, 14400, 43200, 86400, 259200}}, []string{"stage"}),
		ended: prometheus.NewCounterVec(prometheus.CounterOpts{Name: "tavrin_queue_ended_total",
			Help: "Entries that left a queue, by repository, target, how, and for those that were ejected the cause."}, []string{"repository", "target", "how", "cause"}),
		runs: prometheus.NewCounterVec(prometheus.CounterOpts{Name: "tavrin_rehearsal_checks_total",
			Help: "Runs of checks on rehearsals that ended, by state, and whether they were asked for once more."}, []string{"state", "again"}),
		ran:     prometheus.NewCounter(prometheus.CounterOpts{Name: "tavrin_rehearsal_check_seconds_total", Help: "For how long checks of rehearsals ran, all together."}),
		events:  map[string]float64{},
		trouble: prometheus.NewCounter(prometheus.CounterOpts{Name: "tavrin_metrics_errors_total", Help: "Times that the records could not be counted."}),
	}
	build := prometheus.NewGauge(prometheus.GaugeOpts{Name: "tavrin_build_info", Help: "1, with the program's version.", ConstLabels: prometheus.Labels{"version": version}})
	build.Set(1)
	for _, k := range event.Kinds {
		m.events[k.Name] = 0 // so that a rate is known from the start
	}
	m.registry.MustRegister(m.requests, m.processes, m.deliveries, m.stages, m.ended, m.runs, m.ran, m.trouble, build, queues{m}, standing{m}, collectors.NewGoCollector(),
		collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	return m
}

// WatchDisk has the room on the disk shown.
func (m *Metrics) WatchDisk(free func() (uint64, error)) {
	m.registry.MustRegister(prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: "tavrin_disk_free_bytes", Help: "Room on the disk of the repositories."}, func() float64 {
		n, err := free()
		if err != nil {
			return -1
		}
		return float64(n)
	}))
}

// CountGates has gates counted: how many were judged since the start, and how many were remembered.
func (m *Metrics) CountGates(counts func() (judged, remembered uint64)) {
	for how, of := range map[string]func() float64{
		"judged":     func() float64 { n, _ := counts(); return float64(n) },
		"remembered": func() float64 { _, n := counts(); return float64(n) },
	} {
		m.registry.MustRegister(prometheus.NewCounterFunc(prometheus.CounterOpts{Name: "tavrin_gates_total",
			Help: "Gates that were read, judged for it or remembered.", ConstLabels: prometheus.Labels{"how": how}}, of))
	}
}

// Request counts a request that was answered.
func (m *Metrics) Request(route, method string, status int, took time.Duration) {
	if route == "" {
		route = "none"
	}
	if !slices.Contains([]string{"GET", "HEAD", "POST", "PUT", "PATCH", "DELETE", "OPTIONS"}, method) {
		method = "other"
	}
	m.requests.WithLabelValues(route, method, strconv.Itoa(status/100)+"xx").Observe(took.Seconds())
}

// GitStarted counts a git process.
func (m *Metrics) GitStarted(args []string) {
	command := "other"
	for i := 0; i < len(args); i++ {
		if args[i] == "-c" || args[i] == "-C" {
			i++
		} else if !strings.HasPrefix(args[i], "-") {
			command = args[i]
			break
		}
	}
	m.processes.WithLabelValues(command).Inc()
}

// Delivered counts a try to deliver an event.
func (m *Metrics) Delivered(ok bool, took time.Duration) {
	outcome := "failed"
	if ok {
		outcome = "delivered"
	}
	m.deliveries.WithLabelValues(outcome).Observe(took.Seconds())
}

// Handler answers with everything.
func (m *Metrics) Handler() http.Handler {
	return promhttp.HandlerFor(m.registry, promhttp.HandlerOpts{})
}

// standing counts in the records.
type standing struct{ *Metrics }

var events = prometheus.NewDesc("tavrin_events_total", "Lines of the journal since the start, by kind of event.", []string{"kind"}, nil)

// gauge is something that is counted in the records.
type gauge struct {
	name, help string
	labels     []string
	sql        string
}

func (g gauge) desc() *prometheus.Desc { return prometheus.NewDesc(g.name, g.help, g.labels, nil) }

// gauges are what is counted in the records: each statement gives a number and the values of the labels.
var gauges = []gauge{
	{"tavrin_changes", "Changes that have not ended, by state.", []string{"state"},
		"SELECT count(*) AS n, state AS a, '' AS b, '' AS c FROM changes WHERE state IN ('draft', 'open') GROUP BY state"},
	{"tavrin_queue_entries", "Entries of queues that have not ended, by repository, target and state.", []string{"repository", "target", "state"},
		"SELECT count(*) AS n, r.name AS a, e.target AS b, e.state AS c FROM entries e JOIN repositories r ON r.id = e.repository_id " +
			"WHERE e.state IN ('waiting', 'queued', 'rehearsing', 'landing') GROUP BY r.name, e.target, e.state"},
	{"tavrin_queue_oldest_seconds", "How long the oldest entry of a queue has been there.", []string{"repository", "target"},
		"SELECT (julianday(@now) - julianday(min(e.created_at))) * 86400 AS n, r.name AS a, e.target AS b, '' AS c FROM entries e JOIN repositories r ON r.id = e.repository_id " +
			"WHERE e.state IN ('waiting', 'queued', 'rehearsing', 'landing') GROUP BY r.name, e.target"},
	{"tavrin_checks", "Checks that have no answer yet, by who answers and state.", []string{"by", "state"},
		"SELECT count(*) AS n, CASE WHEN command = '' THEN 'robot' ELSE 'runner' END AS a, state AS b, '' AS c FROM check_runs " +
			"WHERE state IN ('waiting', 'running') GROUP BY command = '', state"},
	{"tavrin_runners", "Runners' tokens that were used within five minutes.", nil,
		"SELECT count(*) AS n, '' AS a, '' AS b, '' AS c FROM tokens WHERE scope = 'runner' AND revoked_at IS NULL AND julianday(last_used_at) > julianday(@now) - 5.0 / 1440"},
	{"tavrin_webhook_waiting", "Deliveries on their way, by webhook.", []string{"webhook"},
		"SELECT count(*) AS n, webhook_id AS a, '' AS b, '' AS c FROM deliveries WHERE state = 'waiting' GROUP BY webhook_id"},
	{"tavrin_webhook_parked", "Deliveries that were given up, by webhook.", []string{"webhook"},
		"SELECT count(*) AS n, webhook_id AS a, '' AS b, '' AS c FROM deliveries WHERE state = 'parked' GROUP BY webhook_id"},
	{"tavrin_rules_to_judge", "Open changes still to be looked at under rules that are in force.", nil,
		"SELECT count(*) AS n, '' AS a, '' AS b, '' AS c FROM rules_due d JOIN changes c ON c.repository_id = d.repository_id AND c.state IN ('draft', 'open') AND c.number > d.after"},
	{"tavrin_repositories_stopped", "Repositories that are read-only until an administrator has looked.", nil,
		"SELECT count(*) AS n, '' AS a, '' AS b, '' AS c FROM repositories WHERE trouble <> ''"},
}

// Describe implements prometheus.Collector.
func (s standing) Describe(to chan<- *prometheus.Desc) {
	to <- events
	for _, g := range gauges {
		to <- g.desc()
	}
}

// Collect implements prometheus.Collector.
func (s standing) Collect(to chan<- prometheus.Metric) {
	ctx, stop := context.WithTimeout(context.Background(), scrapeTime)
	defer stop()
	v := s.records.View(ctx)
	defer v.Close()
	for _, g := range gauges {
		var rows []struct {
			N       float64
			A, B, C string
		}
		var now []any
		if strings.Contains(g.sql, "@now") {
			now = append(now, sql.Named("now", s.records.Now()))
		}
		if err := v.Raw(g.sql, now...).Scan(&rows).Error; err != nil {
			s.trouble.Inc()
			return
		}
		for _, r := range rows {
			to <- prometheus.MustNewConstMetric(g.desc(), prometheus.GaugeValue, r.N, []string{r.A, r.B, r.C}[:len(g.labels)]...)
		}
	}
	if err := s.count(v, to); err != nil {
		s.trouble.Inc()
	}
}

// count counts the lines of the journal that came since the last time, and tells of all since the start.
func (s standing) count(v *records.View, to chan<- prometheus.Metric) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	var end int64
	if err := v.Raw("SELECT ifnull(max(seq), 0) FROM journal_lines").Scan(&end).Error; err != nil {
		return err
	}
	var rows []struct {
		N    int64
		Kind string
	}
	if err := v.Raw("SELECT count(*) AS n, kind FROM journal_lines WHERE seq > ? GROUP BY kind", s.counted).Scan(&rows).Error; err != nil {
		return err
	}
	for _, r := range rows {
		s.events[r.Kind] += float64(r.N)
	}
	s.counted = end
	for kind, n := range s.events {
		to <- prometheus.MustNewConstMetric(events, prometheus.CounterValue, n, kind)
	}
	return nil
}

// queues counts what left queues, and the checks of rehearsals, since it was last asked. It is asked before the counters are read or
// after, so that they may be one scrape late.
type queues struct{ *Metrics }

// Describe implements prometheus.Collector: it has nothing of its own.
func (q queues) Describe(chan<- *prometheus.Desc) {}

// Collect implements prometheus.Collector.
func (q queues) Collect(chan<- prometheus.Metric) {
	ctx, stop := context.WithTimeout(context.Background(), scrapeTime)
	defer stop()
	q.mu.Lock()
	defer q.mu.Unlock()
	v := q.records.View(ctx)
	defer v.Close()
	if q.countEnded(v) != nil || q.countRuns(v) != nil {
		q.trouble.Inc()
	}
}

func (m *Metrics) countEnded(v *records.View) error {
	var rows []struct {
		Repository, Target, State, Cause  string
		Waited, Queued, Rehearsed, Landed float64
		EndedAt                           time.Time
	}
	if err := v.Raw("SELECT r.name AS repository, e.target, e.state, e.cause, e.waited, e.queued, e.rehearsed, e.landed, e.ended_at FROM entries e "+
		"JOIN repositories r ON r.id = e.repository_id WHERE e.ended_at > ? ORDER BY e.ended_at", m.left).Scan(&rows).Error; err != nil {
		return err
	}
	for _, r := range rows {
		m.left = r.EndedAt
		m.ended.WithLabelValues(r.Repository, r.Target, r.State, r.Cause).Inc()
		if r.State != "landed" {
			continue
		}
		for stage, ms := range map[string]float64{"waiting": r.Waited, "queued": r.Queued, "rehearsing": r.Rehearsed, "landing": r.Landed, "ready": r.Queued + r.Rehearsed + r.Landed} {
			m.stages.WithLabelValues(stage).Observe(ms / 1000)
		}
	}
	return nil
}

func (m *Metrics) countRuns(v *records.View) error {
	var rows []struct {
		State        string
		Attempt      int
		Milliseconds float64
		FinishedAt   time.Time
	}
	if err := v.Raw("SELECT state, attempt, milliseconds, finished_at FROM check_runs WHERE finished_at > ? AND asked_for LIKE 'rehearsal/%' AND ran_on = '' "+
		"ORDER BY finished_at", m.checked).Scan(&rows).Error; err != nil {
		return err
	}
	for _, r := range rows {
		m.checked = r.FinishedAt
		m.runs.WithLabelValues(r.State, strconv.FormatBool(r.Attempt > 1)).Inc()
		m.ran.Add(r.Milliseconds / 1000)
	}
	return nil
}

// Begin has events counted from now on; those before the start are those of another.
func (m *Metrics) Begin(ctx context.Context) error {
	end, err := m.records.JournalEnd(ctx)
	m.mu.Lock()
	defer m.mu.Unlock()
	m.counted, m.left, m.checked = end, m.records.Now(), m.records.Now()
	return err
}
