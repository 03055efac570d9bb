// Package service holds the use cases: everything that people, robots and clients can ask of Tavrin.
//
// It is the only place where the deciding code in core, the Git repositories and the records meet. It promises
// that one repository has one writer at a time, that every decision is in the journal in the same transaction as
// its effect, and that a process killed at any instant and started again goes on where the records say.
package service

import (
	"cmp"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"gorm.io/gorm"

	"tavrin/internal/bounds"
	"tavrin/internal/core/journal"
	"tavrin/internal/git"
	"tavrin/internal/store"
)

// Options is what a service is started with.
type Options struct {
	Dir string // the service's folder: records, repositories, key
	// Imports lists the URL prefixes from which repositories may be imported.
	Imports []string
	Log     *slog.Logger
	// Now is the clock; nil: the system's.
	Now func() time.Time
	// At is called at each named step of a landing or of a recorded push. Tests use it to stop the process there.
	At func(step string)
	// Doubt has every remembered gate judged anew, and is told of those that were remembered wrongly. Tests use it.
	Doubt func(what string)
	// Queries is told of every statement on the records, as SQL. Tests use it.
	Queries func(sql string)
	// Bounds say how much is taken; the zero value stands for the defaults.
	Bounds bounds.Bounds
}

// Service is a running service. Its methods may be called concurrently.
type Service struct {
	store   *store.Store
	git     *git.Program
	dir     string
	log     *slog.Logger
	now     func() time.Time
	at      func(string)
	key     ed25519.PrivateKey
	lock    *folderLock
	bounds  *bounds.Bounds
	imports []string
	broker  *broker
	wake    chan struct{}
	tasks   sync.WaitGroup // what runs until the service stops
	stop    context.CancelFunc

	mu    sync.Mutex
	locks map[int64]*sync.Mutex // one writer per repository

	movers movers
	rests  rests
	tries  tries

	marks    marks
	refusals refusals
	doubt    func(string)
	cache    cache
	editions editions
	sets     sync.Map // pair → *rules.Set: rules put together before
}

// maxCached is how much of what was worked out is remembered, in kilobytes or so.
const maxCached = 32 << 10

// tick is how often the queue is looked at when nothing happens, for leases and expiries.
const tick = 2 * time.Second

// ErrInUse is returned when another process keeps the service's folder.
var ErrInUse = errors.New("another tavrin service is running on this folder")

// Open opens the service's folder, making it when there is none, repairs what a killed process left, and starts
// the queue.
func Open(ctx context.Context, o Options) (*Service, error) {
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	if o.Now == nil {
		o.Now = time.Now
	}
	if o.At == nil {
		o.At = func(string) {}
	}
	if o.Bounds == (bounds.Bounds{}) {
		o.Bounds = bounds.Default()
	}
	var err error
	if o.Dir, err = filepath.Abs(o.Dir); err != nil { // git runs in other folders
		return nil, err
	}
	for _, dir := range []string{o.Dir, filepath.Join(o.Dir, "repositories"), filepath.Join(o.Dir, "home")} {
		if err := os.MkdirAll(dir, 0o700); err != nil {
			return nil, fmt.Errorf("make the service's folder: %w", err)
		}
	}
	lock, err := lockDir(o.Dir)
	if err != nil {
		return nil, err
	}
	s := &Service{
		git: &git.Program{Home: filepath.Join(o.Dir, "home"), Bounds: o.Bounds}, bounds: &o.Bounds, dir: o.Dir, log: o.Log, doubt: o.Doubt,
		now: func() time.Time { return o.Now().UTC() }, at: o.At, lock: lock, imports: o.Imports,
		broker: newBroker(), cache: cache{max: maxCached}, wake: make(chan struct{}, 1), locks: map[int64]*sync.Mutex{},
	}
	if err = inCondition(o.Dir); err == nil {
		err = checked(o.Dir)
	}
	if err == nil {
		err = backUpFirst(ctx, o)
	}
	if err == nil {
		s.key, err = signingKey(filepath.Join(o.Dir, keyName))
	}
	if err == nil {
		s.store, err = store.Open(ctx, filepath.Join(o.Dir, recordsName))
	}
	if err != nil {
		lock.Close()
		return nil, err
	}
	if o.Queries != nil {
		err = s.store.Observe(o.Queries)
	}
	if err == nil {
		err = s.compareMarks(ctx)
	}
	if err == nil {
		err = s.marks.begin(o.Dir)
	}
	if err == nil {
		err = s.noteRestored(ctx)
	}
	if err == nil {
		if err = s.settleAll(ctx); err != nil {
			err = fmt.Errorf("settle what the last run left: %w", err)
		}
	}
	if err != nil {
		checked(o.Dir)
		s.store.Close()
		lock.Close()
		return nil, err
	}
	running, stop := context.WithCancel(context.WithoutCancel(ctx))
	s.stop = stop
	s.tasks.Go(func() { s.conduct(running) })
	s.tasks.Go(func() { s.tidyUp(running) })
	return s, nil
}

// Close stops the queue, waits for what it is doing, and closes the records.
func (s *Service) Close() error {
	s.stop()
	s.tasks.Wait()
	s.broker.close()
	if err := checked(s.dir); err != nil { // a kill from here on would be taken for a loss, and no more than that
		s.log.Warn("the folder could not be marked", "error", err)
	}
	err := s.store.Close()
	if err == nil {
		s.marks.end()
	}
	s.lock.Close()
	return err
}

// signingKey reads the service's key, or makes it at the first start.
func signingKey(path string) (ed25519.PrivateKey, error) {
	seed, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		seed = make([]byte, ed25519.SeedSize)
		rand.Read(seed)
		err = os.WriteFile(path, seed, 0o600)
	}
	if err != nil {
		return nil, fmt.Errorf("read the signing key: %w", err)
	}
	if len(seed) != ed25519.SeedSize {
		return nil, fmt.Errorf("the signing key in %s has %d bytes, not %d", path, len(seed), ed25519.SeedSize)
	}
	return ed25519.NewKeyFromSeed(seed), nil
}

// tx is one write transaction: the records and the journal lines that go with them.
type tx struct {
	*gorm.DB
	service *Service
	lines   int
	touched touched
	head    journal.Head    // the newest line
	moved   map[int64]int64 // the line of the newest move of a branch, by repository
}

// write runs f in a write transaction; afterwards, when it was committed, listeners hear of its journal lines and
// the queue is looked at.
func (s *Service) write(ctx context.Context, f func(tx *tx) error) error {
	t := &tx{service: s}
	err := s.store.Write(ctx, func(db *gorm.DB) error {
		t.DB, t.lines, t.touched, t.moved = db, 0, touched{}, nil
		return f(t)
	})
	if err == nil {
		s.editions.written(t.touched)
	}
	if err == nil && t.lines > 0 {
		s.mark(t)
		s.broker.announce()
		s.nudge()
	}
	return err
}

// mark leaves the marks of what was committed.
func (s *Service) mark(t *tx) {
	err := s.marks.reached(t.head)
	for repo, seq := range t.moved {
		err = cmp.Or(err, s.marks.moved(s.bareDir(&store.Repository{ID: repo}), seq))
	}
	if err != nil {
		s.log.Error("a mark could not be left of what was written", "line", t.head.Seq, "error", err)
	}
}

// note runs f in a write transaction that no gate depends on and that leaves no line in the journal: what somebody has read
// or wants to hear of.
func (s *Service) note(ctx context.Context, f func(tx *tx) error) error {
	return s.store.Write(ctx, func(db *gorm.DB) error { return f(&tx{DB: db, service: s}) })
}

// nudge makes the queue look again.
func (s *Service) nudge() {
	select {
	case s.wake <- struct{}{}:
	default:
	}
}

// event is what record puts into the journal.
type event struct {
	actor   string // login; "tavrin" for the service itself
	kind    string
	repo    *store.Repository // nil: not about one repository
	subject string
	text    string
	data    any
}

// itself is the actor of what the service does of its own accord.
const itself = "tavrin"

// touches says that what is written concerns a repository, for a write that leaves no line about it in the journal.
func (t *tx) touches(repo *store.Repository) { t.touched.by(event{repo: repo}) }

// record adds a line to the journal within the transaction. Of a repository that is set apart nothing is recorded but what
// the service does itself: it is only to be read.
func (t *tx) record(e event) error {
	if e.repo != nil && e.repo.Trouble != "" && e.actor != itself && e.kind != "repository.settled" {
		return apart(e.repo)
	}
	var last store.JournalLine
	if err := t.Order("seq DESC").Limit(1).Find(&last).Error; err != nil {
		return err
	}
	line := journal.Line{
		Seq: last.Seq + 1, At: t.service.now(), Actor: e.actor, Kind: e.kind, Subject: e.subject, Text: e.text, Prev: last.Hash,
	}
	row := store.JournalLine{Seq: line.Seq, At: line.At.Format(time.RFC3339Nano), Actor: e.actor, Kind: e.kind,
		Subject: e.subject, Text: e.text, Prev: last.Hash}
	if e.repo != nil {
		line.Repository, row.Repository, row.RepositoryID = e.repo.Name, e.repo.Name, e.repo.ID
	}
	if e.data != nil {
		data, err := json.Marshal(e.data)
		if err != nil {
			return fmt.Errorf("journal %s: %w", e.kind, err)
		}
		line.Data, row.Data = data, string(data)
	}
	row.Hash = journal.Sum(line)
	t.lines++
	t.head = journal.Head{Seq: row.Seq, Hash: row.Hash}
	if kind, _, _ := strings.Cut(e.kind, "."); e.repo != nil && (kind == "branch" || kind == "tag" || e.kind == "change.landed") {
		if t.moved == nil {
			t.moved = map[int64]int64{}
		}
		t.moved[e.repo.ID] = row.Seq
	}
	t.touched.by(e)
	return t.Create(&row).Error
}

// repoLock returns the lock that makes one writer per repository.
func (s *Service) repoLock(id int64) *sync.Mutex {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.locks[id] == nil {
		s.locks[id] = &sync.Mutex{}
	}
	return s.locks[id]
}

// bare returns the Git side of a repository.
func (s *Service) bare(r *store.Repository) *git.Repo {
	return s.git.Open(s.bareDir(r))
}

func (s *Service) bareDir(r *store.Repository) string {
	return filepath.Join(s.dir, "repositories", fmt.Sprintf("%d.git", r.ID))
}
