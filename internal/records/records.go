package records

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"gorm.io/gorm"

	"tavrin/internal/core/event"
	"tavrin/internal/core/journal"
	"tavrin/internal/problem"
)

// Records is an open records file. Its methods may be called concurrently.
type Records struct {
	writer, reader *gorm.DB
	now            func() time.Time
	readers        broker
	listeners      []Listener
	recorded       []func(tx *Tx, repo *Repository, line journal.Line, e event.Event) error
	writing        chan struct{} // holds one while there is a writer
	commits        atomic.Uint64
	nested         func()
	knowledge      knowledge
	recent         recent
}

// Commit is what a write transaction has brought, for those who go by it.
type Commit struct {
	Seq     uint64       // counted since the start
	Lines   int          // that it added to the journal
	Head    journal.Head // the newest of them
	Touched Touched
	Moved   map[int64]int64 // the line of the newest move of a branch, by repository
	Done    bool            // it was committed; known afterwards only
}

// Now is the time, in UTC: the one clock of the service.
func (r *Records) Now() time.Time { return r.now().UTC() }

// Listener goes by what is written.
type Listener struct {
	Before func(Commit) // it is about to be committed; nil: nothing to do
	After  func(Commit) // it was committed, or was not after all: the request had ended, the disk was full
}

// Listen has a listener told of every write transaction, before anybody else is. It is for the start, before anything
// is written.
func (r *Records) Listen(l Listener) { r.listeners = append(r.listeners, l) }

// OnRecord has one more function told of every line of the journal within the transaction that adds it, so that what it writes is
// there exactly when the line is. It is for the start, before anything is written.
func (r *Records) OnRecord(f func(tx *Tx, repo *Repository, line journal.Line, e event.Event) error) {
	r.recorded = append(r.recorded, f)
}

// Tx is one write transaction: the records and the journal lines that go with them. It gives no way to begin another.
type Tx struct {
	*gorm.DB
	records *Records
	commit  Commit
	told    []*Told
}

// Now is the time, as Records.Now.
func (t *Tx) Now() time.Time { return t.records.Now() }

// Write runs f in a write transaction, and commits it when f returns nil; afterwards listeners hear of its journal
// lines. There is one writer: what takes long, Git above all, is done before or after.
func (r *Records) Write(ctx context.Context, f func(tx *Tx) error) error {
	// One after the other, what follows the commit too: the numbers of transactions are in the order in which they are
	// done.
	select {
	case r.writing <- struct{}{}:
		defer func() { <-r.writing }()
	case <-ctx.Done():
		return ctx.Err()
	}
	t := &Tx{records: r}
	begun := false
	err := r.writer.WithContext(ctx).Transaction(func(db *gorm.DB) error {
		t.commit, t.told = Commit{}, nil
		t.DB = db.WithContext(seen{records: r, tx: t}.in(ctx))
		if err := f(t); err != nil {
			return err
		}
		t.commit.Seq = r.commits.Load() + 1 // there is one writer
		begun = true
		r.knowledge.touched(t.commit.Touched, committing)
		for _, l := range r.listeners {
			if l.Before != nil {
				l.Before(t.commit)
			}
		}
		return nil
	})
	if t.commit.Done = err == nil; t.commit.Done {
		r.recent.add(t.told)
	}
	for _, l := range r.listeners {
		if begun {
			l.After(t.commit)
		}
	}
	if begun {
		r.commits.Store(t.commit.Seq)
		r.knowledge.touched(t.commit.Touched, t.commit.Seq)
	}
	if err == nil && t.commit.Lines > 0 {
		r.readers.announce()
	}
	return err
}

// Note runs f in a write transaction that no gate depends on and that leaves no line in the journal: what somebody has
// read or wants to hear of.
func (r *Records) Note(ctx context.Context, f func(tx *Tx) error) error {
	return r.writer.WithContext(ctx).Transaction(func(db *gorm.DB) error { return f(&Tx{DB: db, records: r}) })
}

// Read returns a handle for one query. More than one belong to a View.
func (r *Records) Read(ctx context.Context) *gorm.DB {
	r.reading(ctx, 0)
	return r.reader.WithContext(seen{records: r}.in(ctx))
}

// View is one snapshot of the records: nothing is torn between two queries. It holds nothing that others wait for but
// one of the connections that read, so that whoever has one begins no other: it is handed down.
type View struct {
	*gorm.DB
	records *Records
	since   uint64 // commits before it
	leave   func()
}

// View begins a snapshot. It has to be closed.
func (r *Records) View(ctx context.Context) *View {
	r.reading(ctx, 1)
	v := &View{records: r, since: r.commits.Load(), leave: func() { r.reading(ctx, -1) }}
	v.DB = r.reader.WithContext(seen{records: r, view: v}.in(ctx)).Begin() // an error is that of every query
	return v
}

// Close ends a snapshot.
func (v *View) Close() {
	v.Rollback() // it only read; whether its end is an error changes nothing
	v.leave()
}

// Since is the number of the newest write transaction of which it is certain that the snapshot has it. It may have
// later ones.
func (v *View) Since() uint64 { return v.since }

// views counts the snapshots that are open on behalf of one request.
type views struct{ open atomic.Int32 }

type viewsKey struct{}

// Watched returns a context in which nested reading is told of, where anybody asked for that (Nested).
func Watched(ctx context.Context) context.Context {
	return context.WithValue(ctx, viewsKey{}, &views{})
}

// Nested has a function told when something is read beside an open snapshot of the same request: with all connections
// taken in this way nobody would go on. Tests use it.
func (r *Records) Nested(f func()) { r.nested = f }

func (r *Records) reading(ctx context.Context, more int32) {
	w, watched := ctx.Value(viewsKey{}).(*views)
	if !watched {
		return
	}
	if w.open.Load() > 0 && more >= 0 && r.nested != nil {
		r.nested()
	}
	w.open.Add(more)
}

// Itself is the actor of what the service does of its own accord.
const Itself = "tavrin"

// Touched is what a write touches: where it says nothing, everything.
type Touched struct {
	Said     bool
	All      bool
	About    [abouts]bool
	Repos    map[int64]bool
	Things   map[Thing]bool
	Concerns map[int64]bool // repositories of which anything at all is said
}

// ChangeKey names a change by its repository and number.
type ChangeKey struct {
	Repo   int64
	Number int
}

// Thing is something in a repository that gates depend on.
type Thing struct {
	Repo int64
	Of   string // change/4, the whole name of a branch, or commit/ and its id: the checks on it
}

// ChangeThing is a change.
func ChangeThing(repo int64, number int) Thing { return Thing{repo, fmt.Sprintf("change/%d", number)} }

// BranchThing is where a branch stands.
func BranchThing(repo int64, branch string) Thing { return Thing{repo, "refs/heads/" + branch} }

// QueueThing is what the queues of a repository know.
func QueueThing(repo int64) Thing { return Thing{repo, "queue"} }

// CommitThing is the checks on a commit.
func CommitThing(repo int64, commit string) Thing { return Thing{repo, "commit/" + commit} }

// by adds what an event in a repository, or in none, touches.
func (t *Touched) by(repo *Repository, touch event.Touch, e event.Event) {
	number := event.ChangeOf(e)
	commit, asked := event.CheckedOn(e)
	t.Said = true
	if repo != nil {
		t.concerns(repo)
	}
	switch {
	case touch == event.Nothing:
	case touch == event.Everything || repo == nil:
		t.All = true
	case touch == event.Own && number != 0:
		t.thing(ChangeThing(repo.ID, number))
	case touch == event.Branch:
		t.thing(Thing{repo.ID, e.Subject()})
	case touch == event.Commit && asked != 0:
		t.thing(CommitThing(repo.ID, commit))
	default:
		if t.Repos == nil {
			t.Repos = map[int64]bool{}
		}
		t.Repos[repo.ID] = true
		if number != 0 {
			t.thing(ChangeThing(repo.ID, number)) // which it is mostly the end of
		}
	}
}

func (t *Touched) thing(x Thing) {
	if t.Things == nil {
		t.Things = map[Thing]bool{}
	}
	t.Things[x] = true
}

// concerns notes that something was said of a repository.
func (t *Touched) concerns(repo *Repository) {
	t.Said = true
	if t.Concerns == nil {
		t.Concerns = map[int64]bool{}
	}
	t.Concerns[repo.ID] = true
}

// Touches says that what is written concerns a repository, for a write that leaves no line about it in the journal.
func (t *Tx) Touches(repo *Repository) { t.commit.Touched.by(repo, event.Repository, nil) }

// TouchesChange says that the gate of one change depends on what is written, for a write that leaves no line in the journal.
func (t *Tx) TouchesChange(repo *Repository, number int) {
	t.commit.Touched.concerns(repo)
	t.commit.Touched.thing(ChangeThing(repo.ID, number))
}

// TouchesNothing says that no gate depends on what is written, for a write that leaves no line in the journal.
func (t *Tx) TouchesNothing() { t.commit.Touched.Said = true }

// Concerns says that what is written is about a repository, although no gate depends on it.
func (t *Tx) Concerns(repo *Repository) { t.commit.Touched.concerns(repo) }

// TouchesQueue says that a queue of a repository has been told something.
func (t *Tx) TouchesQueue(repo *Repository) {
	t.commit.Touched.concerns(repo)
	t.commit.Touched.thing(QueueThing(repo.ID))
}

// Done is the number of the newest write transaction that is done, with everything before it.
func (r *Records) Done() uint64 { return r.commits.Load() }

// Record adds a line to the journal within the transaction: who did it, in which repository (nil: it is not about one),
// and what. Of a repository that is stopped nothing is recorded but what the service does itself: it is only to be
// read.
func (t *Tx) Record(by string, repo *Repository, e event.Event) error {
	kind := event.KindOf(e)
	if repo != nil && by != Itself && !kind.Apart {
		if err := Writable(repo); err != nil {
			return err
		}
	}
	data, err := json.Marshal(e)
	if err != nil {
		return fmt.Errorf("journal %s: %w", kind.Name, err)
	}
	var last JournalLine
	if err := t.Order("seq DESC").Limit(1).Find(&last).Error; err != nil {
		return err
	}
	line := journal.Line{
		Seq: last.Seq + 1, At: t.Now(), Actor: by, Kind: kind.Name, Subject: e.Subject(), Text: e.Text(by), Data: data, Prev: last.Hash,
	}
	if repo != nil {
		line.Repository = repo.Name
	}
	row := JournalLine{
		Seq: line.Seq, At: line.At.Format(time.RFC3339Nano), Actor: by, Kind: line.Kind, Repository: line.Repository, Subject: line.Subject,
		Text: line.Text, Data: string(data), Prev: line.Prev, Hash: journal.Sum(line),
	}
	if repo != nil {
		row.RepositoryID = repo.ID
	}
	t.commit.Lines++
	t.commit.Head = journal.Head{Seq: row.Seq, Hash: row.Hash}
	if kind.Moves && repo != nil {
		if t.commit.Moved == nil {
			t.commit.Moved = map[int64]int64{}
		}
		t.commit.Moved[repo.ID] = row.Seq
	}
	t.commit.Touched.by(repo, kind.Touches, e)
	if err := t.Create(&row).Error; err != nil {
		return err
	}
	line.Hash = row.Hash
	told := &Told{Line: line}
	if repo != nil {
		as := *repo
		told.Repository = &as
	}
	t.told = append(t.told, told)
	for _, tell := range t.records.recorded {
		if err := tell(t, repo, line, e); err != nil {
			return err
		}
	}
	return nil
}

// Writable refuses what would write to a repository that is stopped, read-only or deleted.
func Writable(repo *Repository) error {
	switch {
	case repo.DeletedAt != nil:
		return problem.New(problem.Conflict, "%s is deleted: tavrin repo restore %s", repo.Name, repo.Name)
	case repo.Trouble != "":
		return stopped(repo)
	case repo.ReadOnly != "":
		return problem.New(problem.Conflict, "%s is read-only: %s. A maintainer may undo that: tavrin repo edit %s --writable",
			repo.Name, repo.ReadOnly, repo.Name)
	}
	return nil
}

// Going are the repositories in which something may happen: neither stopped nor read-only nor deleted.
func Going(db *gorm.DB) *gorm.DB {
	return db.Where("trouble = '' AND read_only = '' AND deleted_at IS NULL")
}

func stopped(repo *Repository) error {
	return problem.New(problem.Unavailable, "%s is stopped and read-only: %s. An administrator has to look: "+
		"tavrin repo resume %s",
		repo.Name, repo.Trouble, repo.Name)
}

// OrUnknown turns "no such record" into a problem with these words.
func OrUnknown(err error, format string, args ...any) error {
	if errors.Is(err, ErrNotFound) {
		return problem.New(problem.Unknown, format, args...)
	}
	return err
}

// OrElse turns "no such record" into another error.
func OrElse(err, instead error) error {
	if errors.Is(err, ErrNotFound) {
		return instead
	}
	return err
}

// OrTaken turns "there is one already" into a conflict with these words.
func OrTaken(err error, format string, args ...any) error {
	if errors.Is(err, ErrTaken) {
		return problem.New(problem.Conflict, format, args...)
	}
	return err
}

// JournalEnd returns the number of the newest line.
func (r *Records) JournalEnd(ctx context.Context) (int64, error) {
	var seq int64
	err := r.Read(ctx).Raw("SELECT ifnull(max(seq), 0) FROM journal_lines").Scan(&seq).Error
	return seq, err
}

// broker tells listeners that the journal has grown. They read the lines themselves, so none is ever missed.
type broker struct {
	mu     sync.Mutex
	grown  chan struct{} // closed at the next announcement
	closed chan struct{}
}

func newBroker() broker { return broker{grown: make(chan struct{}), closed: make(chan struct{})} }

func (b *broker) announce() {
	b.mu.Lock()
	defer b.mu.Unlock()
	close(b.grown)
	b.grown = make(chan struct{})
}

func (b *broker) next() <-chan struct{} {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.grown
}

func (b *broker) close() {
	b.mu.Lock()
	defer b.mu.Unlock()
	select {
	case <-b.closed:
	default:
		close(b.closed)
	}
}

// EndStreams makes every listener of the journal stop, before the server shuts down.
func (r *Records) EndStreams() { r.readers.close() }

// StreamsEnded is closed when listeners are to stop.
func (r *Records) StreamsEnded() <-chan struct{} { return r.readers.closed }

// Grown returns a channel that is closed when the journal next grows. Ask for it before reading, so that nothing is
// missed between reading and waiting.
func (r *Records) Grown() <-chan struct{} { return r.readers.next() }
