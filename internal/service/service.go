// Package service puts the rooms together: opens what they stand on, tells each of those it needs, starts and stops
// what runs.
//
// It decides nothing and knows nothing about changes or rules. It promises that a service starts only on a folder that
// it keeps and that is in a condition to be served, and that whatever the last process left is settled before anything
// else happens.
package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"tavrin/internal/accounts"
	"tavrin/internal/audit"
	"tavrin/internal/bounds"
	"tavrin/internal/changes"
	"tavrin/internal/checks"
	"tavrin/internal/conflicts"
	"tavrin/internal/desk"
	"tavrin/internal/facts"
	"tavrin/internal/folder"
	"tavrin/internal/forecasts"
	"tavrin/internal/freezes"
	"tavrin/internal/git"
	"tavrin/internal/hosted"
	"tavrin/internal/intake"
	"tavrin/internal/landing"
	"tavrin/internal/mail"
	"tavrin/internal/metrics"
	"tavrin/internal/moves"
	"tavrin/internal/outbound"
	"tavrin/internal/outbox"
	"tavrin/internal/queues"
	"tavrin/internal/reading"
	"tavrin/internal/recall"
	"tavrin/internal/records"
	"tavrin/internal/repositories"
	"tavrin/internal/rulebook"
	"tavrin/internal/signing"
	"tavrin/internal/tasks"
	"tavrin/internal/tickets"
	"tavrin/internal/trials"
	"tavrin/internal/waivers"
)

// Options is what a service is started with.
type Options struct {
	Dir string // the service's folder: records, repositories, key
	// Imports lists the URL prefixes from which repositories may be imported.
	Imports []string
	// Outside is what may be called outside; the zero value: nothing.
	Outside outbound.Options
	// Address is where the service is reached, such as https://tavrin.example; empty: it does not know.
	Address string
	// SignCommits has the commits that landings write signed with the service's key.
	SignCommits bool
	Version     string // of the program
	// Relay takes digests by mail; nil: none are sent.
	Relay *mail.Relay
	Log   *slog.Logger
	// Now is the clock; nil: the system's.
	Now func() time.Time
	// At is called at each named step of a landing or of a recorded push. Tests use it to stop the process there.
	At func(step string)
	// Doubt has every remembered gate judged anew, and is told of those that were remembered wrongly. Tests use it.
	Doubt func(what string)
	// Queries is told of every statement on the records, as SQL. Tests use it.
	Queries func(sql string)
	// Git is told of every git process that is about to start, and Nested when something is read beside an open
	// snapshot of the same request. Tests use them.
	Git    func(args []string)
	Nested func()
	// Bounds say how much is taken; the zero value stands for the defaults.
	Bounds bounds.Bounds
}

// filled returns the options with what nobody said.
func (o Options) filled() Options {
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	if o.Now == nil {
		o.Now = time.Now
	}
	if o.Bounds == (bounds.Bounds{}) {
		o.Bounds = bounds.Default()
	}
	return o
}

// Rooms are the rooms of a service, each for one subject.
type Rooms struct {
	Records       *records.Records
	Access        *accounts.Access
	People        *accounts.People
	Rulebook      *rulebook.Rulebook
	Facts         *facts.Gatherer
	Checks        *checks.Checks
	Waivers       *waivers.Waivers
	Queues        *queues.Queues
	Changes       *changes.Changes
	Threads       *changes.Threads
	Reading       *reading.Reader
	Repositories  *repositories.Repositories
	Intake        *intake.Intake
	Landing       *landing.Conductor
	Trials        *trials.Trials
	Forecasts     *forecasts.Forecasts
	Tasks         *tasks.Tasks
	Desk          *desk.Desk
	Notifications *desk.Notifications
	Audit         *audit.Auditor
	Outbox        *outbox.Outbox
	Tickets       *tickets.Tickets
	Conflicts     *conflicts.Conflicts
	Freezes       *freezes.Freezes
	Metrics       *metrics.Metrics
	Mail          *mail.Mailer
	Disk          *hosted.Disk
	Moves         *moves.Moves
}

// Service is a running service.
type Service struct {
	Rooms
	folder *folder.Folder
	key    *signing.Key
	log    *slog.Logger
	tasks  sync.WaitGroup // what runs until the service stops
	stop   context.CancelFunc
}

// Open opens the service's folder, making it when there is none, repairs what a killed process left, and starts the
// queues.
func Open(ctx context.Context, o Options) (*Service, error) {
	o = o.filled()
	home, err := folder.Take(o.Dir)
	if err != nil {
		return nil, err
	}
	s := &Service{folder: home, log: o.Log}
	if err := s.open(ctx, o); err != nil {
		return nil, errors.Join(err, s.giveUp())
	}
	s.Rooms = Furnish(s.Records, s.key, home.Dir, home.Repositories(), home.Home(), o)
	if err := errors.Join(s.settle(ctx), s.Metrics.Begin(ctx)); err != nil {
		return nil, errors.Join(err, s.giveUp())
	}
	running, stop := context.WithCancel(context.WithoutCancel(ctx))
	s.stop = stop
	s.tasks.Go(func() { s.Landing.Run(running) })
	s.tasks.Go(func() { s.Changes.Trace(running) })
	s.tasks.Go(func() { s.Outbox.Run(running) })
	s.tasks.Go(func() { s.Rulebook.JudgeDue(running) })
	s.tasks.Go(func() { s.Tickets.Run(running) })
	s.tasks.Go(func() { s.Conflicts.Run(running) })
	s.tasks.Go(func() {
		s.every(running, time.Hour, "what is kept for a while only", func(ctx context.Context) error {
			return errors.Join(s.Outbox.Tidy(ctx), s.Checks.ForgetKeys(ctx), s.Checks.ForgetLogs(ctx), s.Landing.ForgetRehearsals(ctx), s.Freezes.Extend(ctx))
		})
	})
	s.tasks.Go(func() { s.every(running, 2*time.Second, "what ends by itself", s.endings) })
	s.tasks.Go(func() { s.every(running, time.Minute, "digests that are due", s.Mail.SendDue) })
	s.tasks.Go(func() { s.every(running, time.Minute, "untidy repositories", s.Repositories.Tidy) })
	s.tasks.Go(func() { s.every(running, 5*time.Second, "what lies by itself", s.Repositories.Pack) })
	return s, nil
}

// open opens what the rooms stand on: the key and the records, backed up where they are of an older schema.
func (s *Service) open(ctx context.Context, o Options) error {
	from, to, err := records.Schema(ctx, s.folder.Records())
	if err == nil {
		err = s.folder.BackUpFirst(ctx, from, to, o.Now(), o.Log)
	}
	if err == nil {
		s.key, err = signing.Open(s.folder.Key())
	}
	if err == nil {
		s.Records, err = records.Open(ctx, s.folder.Records(), o.Now)
	}
	if err == nil && o.Nested != nil {
		s.Records.Nested(o.Nested)
	}
	if err == nil && o.Queries != nil {
		err = s.Records.Observe(o.Queries)
	}
	return err
}

// Furnish makes the rooms on records and a key, from the bottom up, and tells the lower ones whom to tell. Nothing runs
// yet. dir is the service's folder, repositories the one of the hosted repositories, home that of git's processes.
func Furnish(r *records.Records, key *signing.Key, dir, repos, home string, o Options) Rooms {
	o = o.filled()
	memory, b := recall.New(), &o.Bounds
	s := Rooms{Records: r, Metrics: metrics.New(r, o.Version)}
	s.Disk = hosted.New(&git.Program{Home: home, Bounds: o.Bounds, Started: func(args []string) {
		s.Metrics.GitStarted(args)
		if o.Git != nil {
			o.Git(args)
		}
	}}, repos)
	s.Metrics.WatchDisk(s.Disk.Free)
	s.Moves = moves.New(r, s.Disk, o.Log, o.At)
	caller := outbound.New(o.Outside)
	s.Outbox = outbox.New(outbox.Needs{Records: r, Disk: s.Disk, Caller: caller, Bounds: b, Log: o.Log, Address: o.Address, Tried: s.Metrics.Delivered})
	s.Access = accounts.NewAccess(r, o.Log)
	s.People = accounts.NewPeople(r, s.Access)
	s.Rulebook = rulebook.New(r, s.Disk, memory, o.Log)
	s.Facts = facts.New(r, s.Disk, s.Rulebook, memory, o.Doubt)
	s.Metrics.CountGates(s.Facts.Counts)
	s.Freezes = freezes.New(r, o.Address)
	s.Tickets = tickets.New(r, s.Facts, caller, o.Log)
	s.Conflicts = conflicts.New(r, s.Disk, s.Facts, o.Log)
	s.Checks = checks.New(r, s.Disk, s.Rulebook, s.Facts, b, dir)
	s.Waivers = waivers.New(r, s.Disk, s.Moves, s.Rulebook, s.Facts)
	s.Queues = queues.New(r, s.Disk, s.Moves, s.Facts, s.Checks)
	s.Changes, s.Threads = changes.New(changes.Needs{
		Records: r, Disk: s.Disk, Moves: s.Moves, Rulebook: s.Rulebook, Facts: s.Facts, Checks: s.Checks, Queues: s.Queues, Conflicts: s.Conflicts,
		Memory: memory, Bounds: b, Log: o.Log,
	})
	s.Reading = reading.New(r, s.Disk, s.Facts, memory)
	s.Repositories = repositories.New(repositories.Needs{
		Records: r, Disk: s.Disk, Moves: s.Moves, Access: s.Access, Rulebook: s.Rulebook, Facts: s.Facts, Reading: s.Reading,
		Memory: memory, Bounds: b, Log: o.Log, Imports: o.Imports,
	})
	s.Intake = intake.New(intake.Needs{
		Records: r, Disk: s.Disk, Moves: s.Moves, Access: s.Access, Rulebook: s.Rulebook, Waivers: s.Waivers, Changes: s.Changes,
		Threads: s.Threads, Checks: s.Checks, Conflicts: s.Conflicts, Bounds: b, Log: o.Log,
	})
	s.Landing = landing.New(landing.Needs{
		Records: r, Disk: s.Disk, Moves: s.Moves, Rulebook: s.Rulebook, Facts: s.Facts, Checks: s.Checks, Waivers: s.Waivers,
		Queues: s.Queues, Changes: s.Changes, Intake: s.Intake, Bounds: b, Key: key, SignCommits: o.SignCommits, Log: o.Log,
	})
	s.Forecasts = forecasts.New(r, s.Rulebook)
	s.Tasks = tasks.New(r)
	s.Trials = trials.New(r, s.Disk, s.Rulebook, s.Facts, s.Forecasts)
	s.Desk = desk.New(r, s.Facts, s.Checks, s.Rulebook, s.Disk, memory)
	s.Notifications = desk.NewNotifications(r, s.Desk)
	s.Mail = mail.New(r, s.Notifications, o.Relay, o.Address, o.Log)
	s.Audit = audit.New(r, s.Disk, s.Moves, key, dir, o.Log)

	s.Access.OnEnd(checks.EndLeases)
	s.Rulebook.OnChange(func(tx *records.Tx, repo *records.Repository, changes []records.Change) error {
		return errors.Join(s.Tickets.RulesChanged(tx, repo), s.Checks.AskUnderNewRules(tx, repo, changes))
	})
	return s
}

// settle brings the folder, the records and the repositories into agreement.
func (s *Service) settle(ctx context.Context) error {
	if err := s.folder.Run(ctx, s.Records, s.Disk.Path, s.log); err != nil {
		return err
	}
	if err := s.Moves.SettleAll(ctx); err != nil {
		return fmt.Errorf("settle what the last run left: %w", err)
	}
	return nil
}

// endings ends what ends by itself.
func (s *Service) endings(ctx context.Context) error {
	return errors.Join(s.Checks.DropSilentLeases(ctx), s.Checks.EndSilentChecks(ctx), s.Rulebook.EndSuspensions(ctx),
		s.Waivers.EndWaivers(ctx), s.Freezes.TellDue(ctx))
}

// every does some work regularly until the context ends.
func (s *Service) every(ctx context.Context, pause time.Duration, what string, work func(context.Context) error) {
	timer := time.NewTicker(pause)
	defer timer.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-timer.C:
			if err := work(ctx); err != nil && ctx.Err() == nil {
				s.log.Error(what+" could not be looked at", "error", err)
			}
		}
	}
}

// Close stops the queues, waits for what they are doing, and closes the records.
func (s *Service) Close() error {
	s.stop()
	s.Forecasts.Close()
	s.Tasks.Close()
	s.tasks.Wait()
	s.Disk.Git.Close()
	s.Records.EndStreams()
	if err := s.folder.Rest(); err != nil {
		s.log.Warn("the folder could not be marked", "error", err)
	}
	err := s.Records.Close()
	return cmp.Or(err, s.folder.Leave(err == nil))
}

// giveUp closes what a start that failed had opened.
func (s *Service) giveUp() error {
	var errs []error
	if s.Records != nil {
		errs = append(errs, s.folder.Rest(), s.Records.Close())
	}
	return errors.Join(append(errs, s.folder.Leave(false))...)
}

// NoteNewKey puts on record that the service signs with another key from now on, and returns its public part.
func (s *Service) NoteNewKey(ctx context.Context) (string, error) {
	return folder.NoteNewKey(ctx, s.Records, s.key)
}
