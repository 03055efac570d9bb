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
	at    map[work]context.CancelFunc
	slots chan struct{}
}

// work is what a worker is at: one rehearsal of one queue.
type work struct {
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
		at := work{repo.ID, target, r.ID}
		if r.Ended != "" || r.Commit != "" || b.at[at] != nil {
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

// errNotWanted says that a rehearsal is of no more use: its queue does not wait for it.
var errNotWanted = errors.New("the rehearsal is of no more use")

// rehearse makes a rehearsal, and tells its queue what came of it. Everything that its commit depends on is on record
// before it is built, so that after a crash the same commit is built again. An error is trouble with the records.
func (s *Conductor) rehearse(ctx context.Context, repo *records.Repository, target string,
	wanted queue.Rehearsal) error {
	g, err := s.gathered(s.records.Read(ctx), repo, wanted.Entry)
	if err != nil || g.Revision.Number != wanted.Revision {
		return err // with another revision the next round wants another rehearsal
	}
	trouble, err := s.rehearseNow(ctx, repo, &g, wanted)
	if errors.Is(err, errNotWanted) {
		return nil
	}
	if err != nil || trouble == nil {
		return err
	}
	if ctx.Err() != nil {
		return nil // it was called off, or the service stops: what was begun is begun again
	}
	told := s.whyNotBuilt(ctx, repo, &g, wanted, trouble)
	return s.records.Write(ctx, func(tx *records.Tx) error { return s.queues.Tell(tx, repo, target, told) })
}

// rehearseNow builds a rehearsal. What stands in the way of building comes first, trouble with the records second.
func (s *Conductor) rehearseNow(ctx context.Context, repo *records.Repository, g *facts.Gathered,
	wanted queue.Rehearsal) (trouble, err error) {
	same, trouble := s.sameOn(ctx, repo, g, wanted.Base)
	if trouble != nil {
		return trouble, nil
	}
	if lost := onBase(g, same); len(lost) > 0 && !g.Judge().Ready {
		return lostError(queue.ApprovalsLost(lost, g.Change.Number, g.Change.Target, wanted.Base)), nil
	}
	r, trouble, err := s.plannedRehearsal(ctx, repo, g, wanted, same)
	if trouble != nil || err != nil {
		return trouble, err
	}
	s.moves.At("rehearsal:planned")
	plan, err := s.planOf(s.records.Read(ctx), repo, g, r)
	if err != nil {
		return nil, err
	}
	bare := s.disk.Bare(repo)
	built, trouble := rehearsal.Build(ctx, bare, plan)
	if trouble == nil {
		trouble = bare.Keep(ctx, rehearsalRef(r), built.Commit)
	}
	if trouble != nil {
		return trouble, nil
	}
	s.moves.At("rehearsal:built")
	r.CommitID, r.Tree, r.LeftOut = built.Commit, built.Tree, built.Left
	return nil, s.records.Write(ctx, func(tx *records.Tx) error { return s.recordBuilt(tx, repo, g, wanted, r) })
}

// recordBuilt records a rehearsal that is built, and asks for its checks.
func (s *Conductor) recordBuilt(tx *records.Tx, repo *records.Repository, g *facts.Gathered, wanted queue.Rehearsal,
	r records.Rehearsal) error {
	if err := s.stillWanted(tx.DB, r.ID); err != nil {
		return err
	}
	if err := tx.Model(&r).Updates(map[string]any{"commit_id": r.CommitID, "tree": r.Tree, "left_out": r.LeftOut}).Error; err != nil {
		return err
	}
	now, err := s.gathered(tx.DB, repo, g.Entry.ID) // by the rules of this moment; later ones ask for themselves
	if err != nil {
		return err
	}
	if now.Revision.Number != wanted.Revision {
		return errNotWanted
	}
	err = tx.Record(records.Itself, repo, event.RehearsalBuilt{OfChange: event.OfChange{Number: g.Change.Number},
		Rehearsal: r.ID, Target: g.Entry.Target, Commit: r.CommitID, Base: r.Base, Tree: r.Tree, Strategy: r.Strategy, Revision: r.Revision})
	if err != nil {
		return err
	}
	if err := s.checks.AskRehearsal(tx, repo, now, r, true); err != nil {
		return err
	}
	return s.queues.Tell(tx, repo, g.Entry.Target, queue.Built{At: queue.At{At: tx.Now()}, Rehearsal: wanted.ID,
		Commit: r.CommitID})
}

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

// planOf is the plan of a rehearsal on record.
func (s *Conductor) planOf(db *gorm.DB, repo *records.Repository, g *facts.Gathered, r records.Rehearsal) (rehearsal.Plan, error) {
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
	wanted queue.Rehearsal, err error) queue.Event {
	at := queue.At{At: s.records.Now()}
	why := queue.Obstacle{Text: err.Error(), Number: g.Change.Number, Source: g.Change.Source, Target: g.Change.Target}
	switch {
	case isA[lostError](err):
		return queue.NotBuilt{At: at, Rehearsal: wanted.ID, Why: err.Error()}
	case isA[*rehearsal.ConflictError](err):
		why.Kind = queue.Conflicts
	case isA[*rehearsal.DifferentError](err):
		why.Kind, why.Others = queue.Differs, s.otherWays(ctx, repo, g, wanted.Base)
	case isA[rehearsal.NothingError](err):
		why.Kind = queue.Empty
	case changes.AboutTheChange(err):
		why.Kind = queue.TooMuch
	default:
		s.log.Error("a rehearsal could not be built", "repository", repo.Name, "change", g.Change.Number, "error", err)
		return queue.BuildFailed{At: at, Rehearsal: wanted.ID, Trouble: typed.Shortened(err.Error())}
	}
	return queue.NotBuilt{At: at, Rehearsal: wanted.ID, Why: why.Reason()}
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

// plannedRehearsal returns the rehearsal on record that was not built yet, or records a new plan. Trouble with Git
// comes second, with the records third.
func (s *Conductor) plannedRehearsal(ctx context.Context, repo *records.Repository, g *facts.Gathered,
	wanted queue.Rehearsal, same []int) (r records.Rehearsal, trouble, err error) {
	if r := g.Rehearsal; r != nil && r.Number == wanted.ID && r.CommitID == "" && r.Base == wanted.Base &&
		r.Head == g.Revision.Head &&
		r.Strategy == g.Entry.Strategy && slices.Equal(r.Approvers, approversNamed(*g, change.Strategy(g.Entry.Strategy))) &&
		slices.Equal(r.SameAs, same) {
		return *r, nil, nil
	}
	log, trouble := s.disk.Bare(repo).LogAll(ctx, g.Revision.Head, []string{g.Revision.Base}, "change.commits")
	if trouble != nil {
		return r, trouble, nil
	}
	now := s.records.Now().Truncate(time.Second)
	r = records.Rehearsal{
		EntryID: g.Entry.ID, Number: wanted.ID, Revision: g.Revision.Number, Base: wanted.Base, Head: g.Revision.Head, Strategy: g.Entry.Strategy,
		CommittedAt: now, AuthoredAt: now, Approvers: approversNamed(*g, change.Strategy(g.Entry.Strategy)), SameAs: same, CreatedAt: now,
	}
	err = s.records.Write(ctx, func(tx *records.Tx) error {
		tx.TouchesNothing() // it is none of the gate's facts before it is built
		q, _, err := s.queues.Loaded(tx.DB, repo, g.Entry.Target)
		if err != nil {
			return err
		}
		if r := q.Rehearsal(wanted.ID); r == nil || r.Commit != "" {
			return errNotWanted // or another worker has built it, begun by a round that looked before that
		}
		if err := tx.Model(&records.Rehearsal{}).Where("entry_id = ? AND ended = ''", g.Entry.ID).Update("ended",
			"another was planned").Error; err != nil {
			return err
		}
		opener, err := accounts.AccountByLogin(tx.DB, g.Change.OpenedBy)
		if err != nil {
			return err
		}
		r.AuthorName, r.AuthorEmail = opener.Name, opener.Email
		if r.Message, err = finalMessage(tx.DB, repo, g, change.Strategy(g.Entry.Strategy), log, opener.Email); err != nil {
			return err
		}
		return tx.Create(&r).Error
	})
	return r, nil, err
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
