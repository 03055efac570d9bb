package forecasts

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"strings"
	"sync/atomic"
	"time"

	"gorm.io/gorm"

	"tavrin/internal/accounts"
	"tavrin/internal/core/forecast"
	"tavrin/internal/core/people"
	"tavrin/internal/core/queue"
	"tavrin/internal/core/require"
	"tavrin/internal/core/rules"
	"tavrin/internal/freezes"
	"tavrin/internal/git"
	"tavrin/internal/problem"
	"tavrin/internal/queues"
	"tavrin/internal/records"
	"tavrin/wire"
)

// job is one forecast.
type job struct {
	id, login string
	repo      string // its name when it was asked for
	asked     time.Time
	stop      context.CancelFunc

	goes  int
	done  []atomic.Uint64 // of each go, the share that is gone through, as bits
	begun wire.Forecast
	ready chan struct{}
	ended wire.Forecast // once it is ready
}

// column is one way in which the queue might be.
type column struct {
	name string
	work forecast.Workload
}

// Start begins a forecast.
func (s *Forecasts) Start(ctx context.Context, a accounts.Actor, name string, n wire.NewForecast) (wire.Forecast, error) {
	if a.Login() == "" {
		return wire.Forecast{}, problem.New(problem.SignInNeeded, "sign in to have something worked out")
	}
	if err := valid(&n); err != nil {
		return wire.Forecast{}, err
	}
	snap := s.records.View(ctx)
	defer snap.Close()
	repo, err := accounts.Reach(snap.DB, a, name, people.Reader)
	if err != nil {
		return wire.Forecast{}, err
	}
	branch := cmp.Or(n.Branch, repo.DefaultBranch)
	if err := git.CheckBranch(branch); err != nil {
		return wire.Forecast{}, problem.Wrong("branch", "%v", err)
	}
	columns, of, err := s.columns(snap.DB, repo, branch, n)
	if err != nil {
		return wire.Forecast{}, err
	}
	j := &job{id: newID(), login: a.Login(), repo: repo.Name, asked: s.records.Now(), ready: make(chan struct{})}
	j.begun = wire.Forecast{ID: j.id, Branch: branch, Of: of.words, AsItWas: of.was, Columns: []wire.ForecastColumn{}}
	seeds := seedsFor(columns)
	j.goes = seeds * len(columns)
	j.done = make([]atomic.Uint64, j.goes)
	running, stop := context.WithCancel(context.Background()) // it goes on when the call has been answered
	j.stop = stop
	s.mu.Lock()
	defer s.mu.Unlock()
	s.forget(j.login, s.records.Now())
	if s.ended || s.waiting() >= mostWaiting {
		stop()
		return wire.Forecast{}, problem.New(problem.Unavailable, "too many forecasts are being worked out; ask again in a minute")
	}
	s.jobs[j.id] = j
	s.running.Go(func() { s.work(running, j, columns, seeds) })
	return j.view(), nil
}

// waiting counts the forecasts that are not ready. The lock is held.
func (s *Forecasts) waiting() (n int) {
	for _, j := range s.jobs {
		select {
		case <-j.ready:
		default:
			n++
		}
	}
	return n
}

// seedsFor is how often each column is gone through: more where that takes no time.
func seedsFor(columns []column) int {
	came := 0.0
	for _, c := range columns {
		came += max(float64(len(c.work.Came))*c.work.Times, c.work.Most*c.work.Length.Hours())
	}
	if came > 6000 {
		return 1
	}
	return 3
}

// Get returns a forecast that somebody has asked for, as far as it is, while they may read what it is of.
func (s *Forecasts) Get(ctx context.Context, a accounts.Actor, id string) (wire.Forecast, error) {
	j, err := s.find(a, id)
	if err != nil {
		return wire.Forecast{}, err
	}
	if _, err := accounts.Reach(s.records.Read(ctx), a, j.repo, people.Reader); err != nil {
		return wire.Forecast{}, err
	}
	return j.view(), nil
}

// Stop gives a forecast up.
func (s *Forecasts) Stop(_ context.Context, a accounts.Actor, id string) error {
	j, err := s.find(a, id)
	if err != nil {
		return err
	}
	j.stop()
	return nil
}

func (s *Forecasts) find(a accounts.Actor, id string) (*job, error) {
	if a.Login() == "" {
		return nil, problem.New(problem.SignInNeeded, "sign in to see your forecasts")
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	now := s.records.Now()
	s.forget("", now)
	j := s.jobs[id]
	if j == nil || j.login != a.Login() {
		return nil, problem.New(problem.Unknown, "there is no forecast %q of yours: they are kept for %d minutes, and not when the service starts anew", id, int(kept.Minutes()))
	}
	j.asked = now
	return j, nil
}

// view is a forecast as far as it is.
func (j *job) view() wire.Forecast {
	select {
	case <-j.ready:
		return j.ended
	default:
	}
	out := j.begun
	out.State = "running"
	for i := range j.done {
		out.Done += math.Float64frombits(j.done[i].Load()) / float64(j.goes)
	}
	return out
}

// work goes through every column with every seed, some at once.
func (s *Forecasts) work(ctx context.Context, j *job, columns []column, seeds int) {
	defer close(j.ready)
	defer j.stop()
	goes, oracles := make([]forecast.Outcome, j.goes), make([]forecast.Outcome, j.goes)
	ends := make(chan bool, j.goes)
	for i := range j.goes {
		go func() {
			whole := false
			defer func() {
				fault := recover() // a fault of the simulation's is no end of the service
				ends <- whole && fault == nil
			}()
			end := s.turn(ctx)
			if end == nil {
				return
			}
			defer end()
			w, seed := columns[i/seeds].work, uint64(i%seeds+1)
			goes[i] = simulate(ctx, w, seed, &j.done[i])
			if !goes[i].Given {
				oracles[i] = forecast.Oracle(w, seed)
			}
			whole = !goes[i].Given
		}()
	}
	whole := true
	for range j.goes {
		whole = <-ends && whole
	}
	j.ended = j.begun
	if j.ended.State, j.ended.Done = "ready", 1; !whole {
		j.ended.State = "failed"
		if ctx.Err() != nil {
			j.ended.State = "stopped"
		}
		return
	}
	var is forecast.Figures
	for i, c := range columns {
		f := forecast.FiguresOf(goes[i*seeds : (i+1)*seeds])
		best := forecast.FiguresOf(oracles[i*seeds : (i+1)*seeds])
		v := wire.ForecastColumn{Name: c.name, Settings: queues.SettingsOf(c.work.Settings), Figures: figuresOf(f), Oracle: figuresOf(best)}
		if i == 0 {
			is = f
		} else {
			v.Words = f.Beside(is)
		}
		j.ended.Columns = append(j.ended.Columns, v)
	}
}

// simulate goes through a workload until nobody wants it any more, and says how far it is.
func simulate(ctx context.Context, w forecast.Workload, seed uint64, done *atomic.Uint64) forecast.Outcome {
	var began time.Time
	out := forecast.SimulateTold(w, seed, func(_, after *queue.State) bool {
		if began.IsZero() {
			began = after.At
		}
		if w.Length > 0 {
			done.Store(math.Float64bits(min(1, float64(after.At.Sub(began))/float64(w.Length))))
		}
		return ctx.Err() == nil
	})
	done.Store(math.Float64bits(1))
	return out
}

// ofWhat is what a forecast rests on.
type ofWhat struct {
	words string
	was   *wire.ForecastFigures
}

// columns are the ways that are compared: the queue as it is, and as it is asked for.
func (s *Forecasts) columns(db *gorm.DB, repo *records.Repository, branch string, n wire.NewForecast) ([]column, ofWhat, error) {
	force, err := s.rulebook.RulesOf(db, repo)
	if err != nil {
		return nil, ofWhat{}, err
	}
	now := force.Now().For(branch).Queue.Settings()
	then := changed(now, n.Settings)
	until := s.records.Now()
	since := until.AddDate(0, 0, -n.Days)
	var of ofWhat
	var is forecast.Workload
	if n.Work != nil {
		is = described(*n.Work, n.Days, now)
		of.words = require.Count(n.Days, "day") + " of work as it is described"
	} else {
		h, err := past(db, repo, branch, since, until)
		if err != nil {
			return nil, of, err
		}
		if lacks := h.Lacks(); lacks != "" {
			return nil, of, problem.New(problem.Conflict, "nothing can be foreseen for %s from the last %s: %s. Take more days, or describe the work: "+
				"how many changes come in an hour, how many of 100 are red, how many minutes checks take", branch, require.Count(n.Days, "day"), lacks)
		}
		h.Settings = now
		is = h.Workload(1)
		was := figuresOf(h.AsItWas())
		of.was = &was
		of.words = fmt.Sprintf("the %d changes that came to %s in the last %s, of which %d landed", len(h.Came), branch, require.Count(n.Days, "day"), len(h.Landed))
	}
	would := is
	would.Settings = then
	if times := n.Arrivals; times > 0 {
		would.Times *= times
		rate := is.PerHour
		if rate != nil {
			would.PerHour, would.Most = func(at time.Duration) float64 { return times * rate(at) }, times*is.Most
		}
	}
	if n.Freeze != nil {
		stops, err := freezes.Might(*n.Freeze, since, until)
		if err != nil {
			return nil, of, err
		}
		for _, x := range stops {
			would.Stops = append(would.Stops, forecast.Span{From: x.Begins.Sub(since), To: x.Ends.Sub(since)})
		}
	}
	if float64(len(would.Came))*would.Times > forecast.MostArrival || would.Most*would.Length.Hours() > forecast.MostArrival {
		return nil, of, problem.Wrong("arrivals", "more than %d changes would come: take fewer days, or fewer changes", forecast.MostArrival)
	}
	columns := []column{{"as it is", is}}
	if words := otherwise(n, now, then, len(would.Stops)); words != "" {
		columns = append(columns, column{words, would})
	}
	return columns, of, nil
}

// described is work as somebody describes it, of which the same comes at all times.
func described(n wire.NewWork, days int, settings queue.Settings) forecast.Workload {
	return forecast.Workload{Name: "described", Most: n.PerHour, PerHour: func(time.Duration) float64 { return n.PerHour }, Length: time.Duration(days) * 24 * time.Hour,
		Guilty: n.Red / 100, Conflicting: n.Conflicting / 100, Flaky: n.Flaky / 100, Areas: max(1, n.Areas), Times: 1,
		Median: time.Duration(n.Minutes * float64(time.Minute)), Spread: .3, Settings: settings}
}

// changed are settings with what is asked for.
func changed(s queue.Settings, n wire.NewSettings) queue.Settings {
	if n.Slots > 0 {
		s.Slots = n.Slots
	}
	if n.Reruns != nil {
		s.Reruns = *n.Reruns
	}
	if n.Tests != "" {
		s.Areas = n.Tests == string(rules.ByArea)
	}
	if n.Planner != "" {
		s.Planner = queue.Planner(n.Planner)
	}
	return s
}

// otherwise says what is asked for that is not as it is; empty: nothing.
func otherwise(n wire.NewForecast, now, then queue.Settings, stops int) string {
	var all []string
	if now.Slots != then.Slots {
		all = append(all, require.Count(then.Slots, "slot"))
	}
	if now.Reruns != then.Reruns {
		all = append(all, require.Count(then.Reruns, "rerun"))
	}
	if now.Areas != then.Areas {
		all = append(all, map[bool]string{true: "areas side by side", false: "strictly in line"}[then.Areas])
	}
	if now.Planner != then.Planner {
		all = append(all, string(cmp.Or(then.Planner, queue.Adaptive)))
	}
	if n.Arrivals > 0 && n.Arrivals != 1 {
		all = append(all, fmt.Sprintf("%g times as many changes", n.Arrivals))
	}
	if n.Freeze != nil {
		all = append(all, require.Count(stops, "freeze"))
	}
	return strings.Join(all, ", ")
}

func valid(n *wire.NewForecast) error {
	n.Days = cmp.Or(n.Days, 14)
	finite := func(x float64) bool { return !math.IsNaN(x) && !math.IsInf(x, 0) }
	switch {
	case n.Days < 1 || n.Days > 90:
		return problem.Wrong("days", "a forecast goes through 1 to 90 days")
	case n.Arrivals != 0 && (!finite(n.Arrivals) || n.Arrivals < 0.1 || n.Arrivals > 20):
		return problem.Wrong("arrivals", "from a tenth to twenty times as many changes are foreseen")
	case n.Settings.Slots < 0 || n.Settings.Slots > rules.MaxSlots:
		return problem.Wrong("settings.slots", "a queue has from 1 to %d slots", rules.MaxSlots)
	case n.Settings.Reruns != nil && (*n.Settings.Reruns < 0 || *n.Settings.Reruns > rules.MaxReruns):
		return problem.Wrong("settings.reruns", "a red is run again from 0 to %d times", rules.MaxReruns)
	case n.Settings.Tests != "" && n.Settings.Tests != string(rules.Strict) && n.Settings.Tests != string(rules.ByArea):
		return problem.Wrong("settings.tests", "%q is not a way to test: strict or by_area", n.Settings.Tests)
	case n.Settings.Planner != "" && n.Settings.Planner != string(queue.Adaptive) && n.Settings.Planner != string(queue.OneByOne):
		return problem.Wrong("settings.planner", "%q is not a planner: adaptive or one-at-a-time", n.Settings.Planner)
	}
	if w := n.Work; w != nil {
		for _, x := range []struct {
			field       string
			is, low, up float64
			what        string
		}{
			{"per_hour", w.PerHour, 0.05, 600, "changes that come in an hour"}, {"minutes", w.Minutes, 0.05, 1440, "minutes that checks take"},
			{"red", w.Red, 0, 90, "of 100 changes that are red by themselves"}, {"flaky", w.Flaky, 0, 50, "of 100 runs that are red by nobody's fault"},
			{"conflicting", w.Conflicting, 0, 50, "of 100 pairs that do not go together"}, {"areas", float64(w.Areas), 0, 63, "areas"},
		} {
			if !finite(x.is) || x.is < x.low || x.is > x.up {
				return problem.Wrong("work."+x.field, "%g is not a number of %s: from %g to %g", x.is, x.what, x.low, x.up)
			}
		}
	}
	return nil
}

func figuresOf(f forecast.Figures) wire.ForecastFigures {
	return wire.ForecastFigures{Landed: f.Landed, Ejected: f.Ejected, Wrongly: f.Wrongly, Half: f.Half, Most: f.Most, Late: f.Late,
		CheckMinutes: f.CheckMinutes, MinutesEach: f.MinutesEach, Runs: f.Runs, Cancelled: f.Cancelled, Within: f.Within[:], Overrun: f.Overrun, OverrunDay: f.OverrunDay}
}
