package landing

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"gorm.io/gorm"

	"tavrin/internal/accounts"
	"tavrin/internal/changes"
	"tavrin/internal/conflicts"
	"tavrin/internal/core/change"
	"tavrin/internal/core/event"
	"tavrin/internal/core/gate"
	"tavrin/internal/core/queue"
	"tavrin/internal/facts"
	"tavrin/internal/git"
	"tavrin/internal/git/rehearsal"
	"tavrin/internal/records"
	"tavrin/internal/typed"
)

// builders is how many rehearsals are built at once, in all repositories together.
const builders = 2

// building is the rehearsals that workers are at.
type building struct {
	mu    sync.Mutex
	at    map[job]context.CancelFunc
	slots chan struct{}
}

// job is what a worker is at: one rehearsal of one queue.
type job struct {
	repo   int64
	target string
	number int64
}

// build has workers build the rehearsals that a queue wants and nobody is at, and calls off those that it does not want
// any more. It does not wait for them.
func (s *Conductor) build(ctx context.Context, repo *records.Repository, target string, state queue.State) {
	b := &s.building
	b.mu.Lock()
	defer b.mu.Unlock()
	for at, callOff := range b.at {
		if r := state.Rehearsal(at.number); at.repo == repo.ID && at.target == target && r == nil {
			callOff()
		}
	}
	for _, r := range state.Rehearsals {
		at := job{repo.ID, target, r.ID}
		if r.Ended != "" || len(r.Commits) > 0 || b.at[at] != nil {
			continue
		}
		working, callOff := context.WithCancel(ctx)
		b.at[at] = callOff
		s.tasks.Go(func() {
			defer s.moves.Nudge() // it may be wanted again
			defer func() {
				b.mu.Lock()
				defer b.mu.Unlock()
				delete(b.at, at)
				callOff()
			}()
			select {
			case b.slots <- struct{}{}:
				defer func() { <-b.slots }()
			case <-working.Done():
				return
			}
			if err := safely(func() error { return s.rehearse(working, repo, target, r) }); err != nil &&
				working.Err() == nil {
				s.log.Error("a rehearsal could not be built", "repository", repo.Name, "rehearsal", r.ID, "error", err)
				s.queues.Rests.Rest(repo.ID, s.records.Now(), err)
			}
		})
	}
}

// rehearse makes a rehearsal: each entry of its path on the one before, the first on the tip. It tells the queue what came
// of it. Everything that a commit depends on is on record before it is built, so that after a crash the same commit is built
// again. An error is trouble with the records.
func (s *Conductor) rehearse(ctx context.Context, repo *records.Repository, target string,
	wanted queue.Rehearsal) error {
	w := &work{conductor: s, repo: repo, target: target, wanted: wanted}
	trouble, err := w.parts(ctx)
	if errors.Is(err, errNotWanted) {
		return nil
	}
	if err != nil || trouble == nil {
		return err
	}
	if ctx.Err() != nil {
		return nil // it was called off, or the service stops: what was begun is begun again
	}
	told := s.whyNotBuilt(ctx, repo, w.at, wanted, w.base, trouble)
	if not, is := told.(queue.NotBuilt); is && len(w.ahead) > 0 {
		not.Why = trouble.Error() // nothing is to be done about it before it is known what lands
		told = not
	}
	return s.records.Write(ctx, func(tx *records.Tx) error { return s.queues.Tell(tx, repo, target, told) })
}

// work is the making of one rehearsal.
type work struct {
	conductor *Conductor
	repo      *records.Repository
	target    string
	wanted    queue.Rehearsal
	queue     int64               // its number
	base      string              // what comes next stands on
	at        *facts.Gathered     // the entry that is at hand
	ahead     []facts.Gathered    // those that are built
	made      []records.Rehearsal // their parts
}

// parts makes the parts of a rehearsal, one on the other. What stands in the way of building comes first, trouble with the
// records second.
func (w *work) parts(ctx context.Context) (trouble, err error) {
	s := w.conductor
	q, err := s.queues.Loaded(s.records.Read(ctx), w.repo, w.target)
	if err != nil {
		return nil, err
	}
	w.queue, w.base = q.ID, w.wanted.Base
	for i, id := range w.wanted.Path {
		g, err := s.gathered(s.records.Read(ctx), w.repo, id)
		if err != nil {
			return nil, err
		}
		if g.Revision.Number != w.wanted.Revisions[i] {
			return nil, errNotWanted // with another revision the next round wants another rehearsal
		}
		g = g.Unrehearsed()
		w.at = &g
		part, trouble, err := w.part(ctx, i)
		if trouble != nil || err != nil {
			return trouble, err
		}
		w.base, w.ahead, w.made = part.CommitID, append(w.ahead, g), append(w.made, part)
	}
	return nil, s.records.Write(ctx, func(tx *records.Tx) error { return w.record(tx) })
}

// part makes the part of the entry at hand.
func (w *work) part(ctx context.Context, position int) (r records.Rehearsal, trouble, err error) {
	s, g := w.conductor, w.at
	same, trouble := s.sameOn(ctx, w.repo, g, w.base)
	if trouble != nil {
		return r, trouble, nil
	}
	if lost := onBase(g, same); len(lost) > 0 && !g.Judge().Ready {
		return r, lostError(queue.ApprovalsLost(lost, g.Change.Number, g.Change.Target, w.base)), nil
	}
	r, trouble, err = w.planned(ctx, position, same)
	if trouble != nil || err != nil {
		return r, trouble, err
	}
	s.moves.At("rehearsal:planned")
	bare := s.disk.Bare(w.repo)
	if r.CommitID == "" {
		plan, err := s.planOf(s.records.Read(ctx), w.repo, g, r, w.ahead...)
		if err != nil {
			return r, nil, err
		}
		built, trouble := rehearsal.Build(ctx, bare, plan)
		if trouble != nil {
			return r, trouble, nil
		}
		r.CommitID, r.Tree, r.LeftOut = built.Commit, built.Tree, built.Left
	}
	if trouble := bare.Keep(ctx, rehearsalRef(r), r.CommitID); trouble != nil {
		return r, trouble, nil
	}
	s.moves.At("rehearsal:built")
	return r, nil, s.records.Write(ctx, func(tx *records.Tx) error {
		tx.TouchesNothing() // it is none of the gate's facts before the whole is built
		if err := s.stillWanted(tx.DB, r.ID); err != nil {
			return err
		}
		if err := facts.KeepTree(tx.DB, w.repo.ID, r.CommitID, r.Tree); err != nil {
			return err
		}
		return tx.Model(&r).Updates(map[string]any{"commit_id": r.CommitID, "tree": r.Tree, "left_out": r.LeftOut}).Error
	})
}

// record records a rehearsal whose parts are built, and asks for its checks.
func (w *work) record(tx *records.Tx) error {
	s := w.conductor
	q, err := s.queues.Loaded(tx.DB, w.repo, w.target)
	if err != nil {
		return err
	}
	r := q.State.Rehearsal(w.wanted.ID)
	if r == nil || len(r.Commits) > 0 || !slices.Equal(r.Path, w.wanted.Path) {
		return errNotWanted
	}
	last := w.made[len(w.made)-1]
	tested := last.CommitID
	if r.Of != 0 {
		if tested, err = testedBy(tx.DB, w.queue, r.Of); err != nil {
			return err
		}
	}
	built := queue.Built{At: queue.At{At: tx.Now()}, Rehearsal: r.ID}
	for i := range w.made {
		if err := s.stillWanted(tx.DB, w.made[i].ID); err != nil {
			return err
		}
		w.made[i].Tested = tested
		if err := tx.Model(&w.made[i]).Update("tested", tested).Error; err != nil {
			return err
		}
		built.Commits = append(built.Commits, w.made[i].CommitID)
	}
	if err := s.queues.Tell(tx, w.repo, w.target, built); err != nil || r.Of != 0 {
		return err
	}
	said := event.RehearsalBuilt{OfChange: event.OfChange{Number: w.at.Change.Number}, Rehearsal: last.ID, Target: w.target,
		Commit: last.CommitID, Base: last.Base, Tree: last.Tree, Strategy: last.Strategy, Revision: last.Revision}
	for _, g := range w.ahead[:len(w.ahead)-1] {
		said.With = append(said.With, g.Change.Number)
	}
	if err := tx.Record(records.Itself, w.repo, said); err != nil {
		return err
	}
	// By the rules of this moment; later ones ask for themselves. The last one's first: it is for this one that the checks are
	// named.
	for i := len(w.made) - 1; i >= 0; i-- {
		now, err := s.gathered(tx.DB, w.repo, w.wanted.Path[i])
		if err != nil {
			return err
		}
		if now.Revision.Number != w.wanted.Revisions[i] {
			return errNotWanted
		}
		if err := s.checks.AskRehearsal(tx, w.repo, now.On(w.made[i], nil), w.made[i], true); err != nil {
			return err
		}
	}
	return nil
}

// testedBy is the commit that a rehearsal's checks ran on.
func testedBy(db *gorm.DB, queueID, number int64) (string, error) {
	var part records.Rehearsal
	err := db.Where("queue_id = ? AND number = ? AND tested <> '' AND ended = ''", queueID, number).First(&part).Error
	if errors.Is(err, records.ErrNotFound) {
		return "", errNotWanted
	}
	return part.Tested, err
}

// errNotWanted says that a rehearsal is of no more use: its queue does not wait for it.
var errNotWanted = errors.New("the rehearsal is of no more use")

// stillWanted refuses a rehearsal that ended while it was built.
func (s *Conductor) stillWanted(db *gorm.DB, id int64) error {
	var alive int64
	err := db.Model(&records.Rehearsal{}).Where("id = ? AND ended = ''", id).Count(&alive).Error
	if err == nil && alive == 0 {
		err = errNotWanted
	}
	return err
}

// lostError says that approvals were for something else than would land.
type lostError string

func (e lostError) Error() string { return string(e) }

// onBase takes into account which earlier revisions bring the same to the base, and returns the approvals that are not
// for what would land there.
func onBase(g *facts.Gathered, same []int) (lost []change.Review) {
	g.Facts.Reviews = slices.Clone(g.Facts.Reviews)
	for i := range g.Facts.Reviews {
		r := &g.Facts.Reviews[i]
		if r.Verdict == change.Approve && r.SameDifference && r.Revision != g.Revision.Number &&
			!slices.Contains(same, r.Revision) {
			r.SameDifference = false
			lost = append(lost, *r)
		}
	}
	return lost
}

// planOf is the plan of an entry's part of a rehearsal. What those ahead of it bring from the same commits is not brought again.
func (s *Conductor) planOf(db *gorm.DB, repo *records.Repository, g *facts.Gathered, r records.Rehearsal,
	ahead ...facts.Gathered) (rehearsal.Plan, error) {
	ids := make([]string, len(g.Revision.Commits))
	for i, c := range g.Revision.Commits {
		ids[i] = c.ID
	}
	genuine, err := facts.LandedAmong(db, repo.ID, ids)
	if err != nil {
		return rehearsal.Plan{}, err
	}
	landed := map[string]bool{}
	for chunk := range slices.Chunk(ids, 500) {
		var some []string
		err := db.Model(&records.LandedSource{}).Joins("JOIN landings l ON l.id = landed_sources.landing_id").Joins("JOIN changes c ON c.id = l.change_id AND c.target = ? AND c.id <> ?", g.Change.Target, g.Change.ID).
			Where("landed_sources.repository_id = ? AND commit_id IN ?", repo.ID, chunk).Pluck("commit_id", &some).Error
		if err != nil {
			return rehearsal.Plan{}, err
		}
		for _, id := range some {
			landed[id] = true
		}
	}
	for _, before := range ahead {
		for _, c := range before.Revision.Commits {
			landed[c.ID] = landed[c.ID] || slices.Contains(ids, c.ID)
		}
	}
	plan := rehearsal.Plan{
		Base: r.Base, Head: r.Head, Shown: g.Revision.Base, Order: ids, Strategy: rehearsal.Strategy(r.Strategy), Message: r.Message, Landed: landed, Genuine: genuine,
		Author:    git.Signature{Name: r.AuthorName, Email: r.AuthorEmail, When: r.AuthoredAt},
		Committer: git.Signature{Name: "Tavrin", Email: "landing@tavrin.invalid", When: r.CommittedAt},
	}
	plan.KeepEmpty = keepsEmpty(g)
	if s.signs {
		plan.Sign = s.key.Commit
	}
	return plan, nil
}

// keepsEmpty says whether the rules of the target want no commit left out that changes nothing.
func keepsEmpty(g *facts.Gathered) bool {
	return !g.Set.Without(g.Facts.Suspended).For(g.Change.Target).DropEmpty.Value
}

func rehearsalRef(r records.Rehearsal) string { return fmt.Sprintf("rehearsals/%d", r.ID) }

// whyNotBuilt tells a queue why a rehearsal was not built: an obstacle of the change's, with words that help, or
// trouble of the service's own, which ejects nobody.
func (s *Conductor) whyNotBuilt(ctx context.Context, repo *records.Repository, g *facts.Gathered,
	wanted queue.Rehearsal, base string, err error) queue.Event {
	at := queue.At{At: s.records.Now()}
	why := queue.Obstacle{Text: err.Error(), Number: g.Change.Number, Source: g.Change.Source, Target: g.Change.Target}
	switch {
	case isA[lostError](err):
		return queue.NotBuilt{At: at, Rehearsal: wanted.ID, Entry: g.Entry.ID, Cause: queue.ByApprovals, Why: err.Error()}
	case isA[*rehearsal.ConflictError](err):
		why.Kind, why.With = queue.Conflicts, s.landedSince(ctx, repo, g, base)
	case isA[*rehearsal.DifferentError](err):
		why.Kind, why.Others = queue.Differs, s.otherWays(ctx, repo, g, base)
	case isA[rehearsal.NothingError](err):
		why.Kind = queue.Empty
	case changes.AboutTheChange(err):
		why.Kind = queue.TooMuch
	default:
		s.log.Error("a rehearsal could not be built", "repository", repo.Name, "change", g.Change.Number, "error", err)
		return queue.BuildFailed{At: at, Rehearsal: wanted.ID, Trouble: typed.Shortened(err.Error())}
	}
	return queue.NotBuilt{At: at, Rehearsal: wanted.ID, Entry: g.Entry.ID, Cause: queue.Cause(why.Kind), Why: why.Reason()}
}

// landedSince lists the changes that touched the files in which a change conflicts with a commit, since it was begun. It is words
// only: what cannot be found out is left out.
func (s *Conductor) landedSince(ctx context.Context, repo *records.Repository, g *facts.Gathered, base string) (numbers []int) {
	found, err := conflicts.Where(ctx, s.disk.Bare(repo), s.facts, s.records.Read(ctx), repo, g.Change, g.Revision, base)
	if err != nil {
		return nil
	}
	for _, f := range found {
		numbers = append(numbers, f.With...)
	}
	slices.Sort(numbers)
	return slices.Compact(numbers)
}

func isA[E error](err error) bool {
	_, ok := errors.AsType[E](err)
	return ok
}

// otherWays lists the other strategies that the rules allow and by which the change would land as it was shown.
func (s *Conductor) otherWays(ctx context.Context, repo *records.Repository, g *facts.Gathered, tip string) []string {
	ways := []string{}
	for _, strategy := range g.Set.Without(g.Facts.Suspended).For(g.Change.Target).With {
		if string(strategy) == g.Entry.Strategy {
			continue
		}
		plan, err := s.planOf(s.records.Read(ctx), repo, g, records.Rehearsal{Base: tip, Head: g.Revision.Head,
			Strategy: string(strategy)})
		if err == nil && rehearsal.Try(ctx, s.disk.Bare(repo), plan) == nil {
			ways = append(ways, string(strategy))
		}
	}
	return ways
}

// planned returns the part on record that was not built yet, or records a new plan: where the same was built before, for
// another rehearsal, as that was. Trouble with Git comes second, with the records third.
func (w *work) planned(ctx context.Context, position int, same []int) (r records.Rehearsal, trouble, err error) {
	s, g, by := w.conductor, w.at, change.Strategy(w.at.Entry.Strategy)
	log, trouble := s.disk.Bare(w.repo).LogAll(ctx, g.Revision.Head, []string{g.Revision.Base}, "change.commits")
	if trouble != nil {
		return r, trouble, nil
	}
	now := s.records.Now().Truncate(time.Second)
	r = records.Rehearsal{QueueID: w.queue, Number: w.wanted.ID, Position: position,
		EntryID: g.Entry.ID, Revision: g.Revision.Number, Base: w.base, Head: g.Revision.Head, Strategy: g.Entry.Strategy,
		CommittedAt: now, AuthoredAt: now, Approvers: approversNamed(*g, by), SameAs: same, CreatedAt: now,
	}
	err = s.records.Write(ctx, func(tx *records.Tx) error {
		tx.TouchesNothing() // it is none of the gate's facts before it is built
		q, err := s.queues.Loaded(tx.DB, w.repo, w.target)
		if err != nil {
			return err
		}
		if x := q.State.Rehearsal(w.wanted.ID); x == nil || len(x.Commits) > 0 {
			return errNotWanted // or another worker has built it, begun by a round that looked before that
		}
		opener, err := accounts.AccountByLogin(tx.DB, g.Change.OpenedBy)
		if err != nil {
			return err
		}
		r.AuthorName, r.AuthorEmail = opener.Name, opener.Email
		if r.Message, err = finalMessage(tx.DB, w.repo, g, by, log, opener.Email); err != nil {
			return err
		}
		return begin(tx, &r, keepsEmpty(g))
	})
	return r, nil, err
}

// begin records the plan of a part. What was planned for it before and is the same, it goes on with; what was built for
// another rehearsal and is the same, it takes; keepsEmpty: not if commits were left out of it.
func begin(tx *records.Tx, r *records.Rehearsal, keepsEmpty bool) error {
	var before []records.Rehearsal
	err := tx.Where("entry_id = ? AND revision = ? AND base = ? AND (ended = '' OR commit_id <> '')", r.EntryID, r.Revision,
		r.Base).Order("id DESC").Find(&before).Error
	if err != nil {
		return err
	}
	for _, x := range before {
		own := x.QueueID == r.QueueID && x.Number == r.Number && x.Position == r.Position && x.Ended == ""
		alike := x.Head == r.Head && x.Strategy == r.Strategy && x.Message == r.Message && x.AuthorName == r.AuthorName && x.AuthorEmail == r.AuthorEmail &&
			slices.Equal(x.Approvers, r.Approvers) && slices.Equal(x.SameAs, r.SameAs) && (x.LeftOut == 0 || !keepsEmpty)
		switch {
		case own && alike:
			*r = x
			return nil
		case own:
			if err := tx.Model(&x).Update("ended", "another was planned").Error; err != nil {
				return err
			}
		case alike && x.CommitID != "" && r.CommitID == "":
			r.AuthoredAt, r.CommittedAt, r.CommitID, r.Tree, r.LeftOut = x.AuthoredAt, x.CommittedAt, x.CommitID, x.Tree, x.LeftOut
		}
	}
	return tx.Create(r).Error
}

// approversNamed lists the approvals that the final message names: none where no message is written.
func approversNamed(g facts.Gathered, by change.Strategy) []string {
	if !by.Final() {
		return []string{}
	}
	return g.Judge().Approvers
}

// finalMessage writes the message of a strategy that makes a commit of its own, with its trailers.
func finalMessage(db *gorm.DB, repo *records.Repository, g *facts.Gathered, by change.Strategy, log []git.Commit,
	authorEmail string) (string, error) {
	if !by.Final() {
		return "", nil
	}
	e := g.Set.Without(g.Facts.Suspended).For(g.Change.Target)
	text := gate.FinalText(e, g.Facts)
	var trailers strings.Builder
	for _, line := range gate.Trailers(e, g.Facts) {
		trailers.WriteString(line + "\n")
	}
	fmt.Fprintf(&trailers, "Landed-change: %s %d\n", repo.Name, g.Change.Number)
	for _, login := range approversNamed(*g, by) {
		account, err := accounts.AccountByLogin(db, login)
		if err != nil {
			return "", err
		}
		fmt.Fprintf(&trailers, "Approved-by: %s <%s>\n", account.Name, account.Email)
	}
	if by.One() {
		seen := map[string]bool{strings.ToLower(authorEmail): true}
		for _, c := range log {
			if key := strings.ToLower(c.Author.Email); !seen[key] {
				seen[key] = true
				fmt.Fprintf(&trailers, "Co-authored-by: %s <%s>\n", c.Author.Name, c.Author.Email)
			}
		}
	}
	return text + "\n\n" + trailers.String(), nil
}

// sameOn lists the earlier revisions with a standing review that bring the same to a commit as the newest does.
func (s *Conductor) sameOn(ctx context.Context, repo *records.Repository, g *facts.Gathered,
	base string) ([]int, error) {
	same := []int{}
	for _, r := range g.Facts.Reviews {
		if r.Revision == g.Revision.Number || slices.Contains(same, r.Revision) ||
			!slices.Contains(g.Revision.SameAs, r.Revision) {
			continue
		}
		var then records.Revision
		if err := s.records.Read(ctx).Where("change_id = ? AND number = ?", g.Change.ID,
			r.Revision).First(&then).Error; err != nil {
			return nil, err
		}
		if ok, err := rehearsal.Same(ctx, s.disk.Bare(repo), facts.ShownBy(then), facts.ShownBy(g.Revision), base); err != nil {
			return nil, err
		} else if ok {
			same = append(same, r.Revision)
		}
	}
	return same, nil
}
