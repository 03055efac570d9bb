package landing

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"tavrin/internal/core/event"

	"gorm.io/gorm"

	"tavrin/internal/accounts"
	"tavrin/internal/changes"
	"tavrin/internal/core/gate"
	"tavrin/internal/core/queue"
	"tavrin/internal/core/rules"
	"tavrin/internal/facts"
	"tavrin/internal/git"
	"tavrin/internal/queues"
	"tavrin/internal/records"
)

// build makes an entry's rehearsal. Everything that its commit depends on is on record before it is built, so that
// after a crash the same commit is built again.
func (s *Conductor) build(ctx context.Context, repo *records.Repository, g *facts.Gathered, tip string) error {
	same, err := s.sameOn(ctx, repo, g, tip)
	if err != nil {
		return s.notBuilt(ctx, repo, g, tip, err)
	}
	if lost := onBase(g, same); len(lost) > 0 && !g.Judge().Ready {
		return s.records.Write(ctx, func(tx *records.Tx) error {
			return s.queues.EndEntry(tx, repo, g.Change, g.Entry, queue.Ejected, records.Itself, queue.ApprovalsLost(lost, g.Change.Number, g.Change.Target, tip))
		})
	}
	r, err := s.plannedRehearsal(ctx, repo, g, tip, same)
	if err != nil {
		return err
	}
	s.moves.At("rehearsal:planned")
	bare := s.disk.Bare(repo)
	plan, err := s.planOf(ctx, repo, g, r)
	if err != nil {
		return err
	}
	built, err := bare.Build(ctx, plan)
	if err == nil {
		err = bare.Keep(ctx, rehearsalRef(r), built.Commit)
	}
	if err != nil {
		return s.notBuilt(ctx, repo, g, tip, err)
	}
	s.queues.Rests.Over(g.Entry.ID)
	s.moves.At("rehearsal:built")
	r.CommitID, r.Tree = built.Commit, built.Tree
	return s.records.Write(ctx, func(tx *records.Tx) error {
		if err := tx.Model(&r).Updates(map[string]any{"commit_id": r.CommitID, "tree": r.Tree}).Error; err != nil {
			return err
		}
		now, err := s.facts.Gather(tx.DB, repo, g.Change) // by the rules of this moment; later ones ask for themselves
		if err != nil {
			return err
		}
		err = tx.Record(records.Itself, repo, event.RehearsalBuilt{OfChange: event.OfChange{Number: g.Change.Number},
			Rehearsal: r.ID, Target: g.Entry.Target, Commit: r.CommitID, Base: r.Base, Tree: r.Tree, Strategy: r.Strategy, Revision: r.Revision})
		if err != nil {
			return err
		}
		if err := s.checks.AskRehearsal(tx, repo, now, r, true); err != nil {
			return err
		}
		return queues.Move(tx, repo, g, queue.Rehearsing, "the rehearsal is built")
	})
}

// onBase takes into account which earlier revisions bring the same to the base, and returns the approvals that are not for
// what would land there.
func onBase(g *facts.Gathered, same []int) (lost []gate.Review) {
	g.Facts.Reviews = slices.Clone(g.Facts.Reviews)
	for i := range g.Facts.Reviews {
		r := &g.Facts.Reviews[i]
		if r.Verdict == gate.Approve && r.SameDifference && r.Revision != g.Revision.Number && !slices.Contains(same, r.Revision) {
			r.SameDifference = false
			lost = append(lost, *r)
		}
	}
	return lost
}

// planOf is the plan of a rehearsal on record.
func (s *Conductor) planOf(ctx context.Context, repo *records.Repository, g *facts.Gathered, r records.Rehearsal) (git.Plan, error) {
	ids := make([]string, len(g.Revision.Commits))
	for i, c := range g.Revision.Commits {
		ids[i] = c.ID
	}
	db := s.records.Read(ctx)
	genuine, err := facts.LandedAmong(db, repo.ID, ids)
	if err != nil {
		return git.Plan{}, err
	}
	landed := map[string]bool{}
	for chunk := range slices.Chunk(ids, 500) {
		var some []string
		err := db.Model(&records.LandedSource{}).Joins("JOIN landings l ON l.id = landed_sources.landing_id").Joins("JOIN changes c ON c.id = l.change_id AND c.target = ? AND c.id <> ?", g.Change.Target, g.Change.ID).
			Where("landed_sources.repository_id = ? AND commit_id IN ?", repo.ID, chunk).Pluck("commit_id", &some).Error
		if err != nil {
			return git.Plan{}, err
		}
		for _, id := range some {
			landed[id] = true
		}
	}
	return git.Plan{
		Base: r.Base, Head: r.Head, Shown: g.Revision.Base, Strategy: git.Strategy(r.Strategy), Message: r.Message, Landed: landed, Genuine: genuine,
		Author:    git.Signature{Name: r.AuthorName, Email: r.AuthorEmail, When: r.AuthoredAt},
		Committer: git.Signature{Name: "Tavrin", Email: "landing@tavrin.invalid", When: r.CommittedAt},
	}, nil
}

func rehearsalRef(r records.Rehearsal) string { return fmt.Sprintf("rehearsals/%d", r.ID) }

// notBuilt ejects an entry whose change cannot be rehearsed, with words that help. Trouble of the service's own ejects
// nobody: the entry keeps its place and rests for a while.
func (s *Conductor) notBuilt(ctx context.Context, repo *records.Repository, g *facts.Gathered, tip string, err error) error {
	var conflict *git.ConflictError
	var different *git.DifferentError
	if ctx.Err() != nil {
		return err
	}
	why := queue.NotBuilt{Number: g.Change.Number, Source: g.Change.Source, Target: g.Change.Target}
	switch {
	case errors.As(err, &conflict):
		why.Kind, why.Text = queue.Conflicts, err.Error()
	case errors.As(err, &different):
		why.Kind, why.Text = queue.Differs, err.Error()
		why.Others = s.otherWays(ctx, repo, g, tip)
	case errors.As(err, new(git.NothingError)):
		why.Kind, why.Text = queue.Empty, err.Error()
	case changes.AboutTheChange(err):
		why.Kind, why.Text = queue.TooMuch, err.Error()
	default:
		s.log.Error("a rehearsal could not be built", "repository", repo.Name, "change", g.Change.Number, "error", err)
		s.queues.Rests.Rest(g.Entry.ID, s.records.Now(), "its rehearsal could not be built", err)
		return nil
	}
	return s.records.Write(ctx, func(tx *records.Tx) error {
		return s.queues.EndEntry(tx, repo, g.Change, g.Entry, queue.Ejected, records.Itself, why.Reason())
	})
}

// otherWays lists the other strategies that the rules allow and by which the change would land as it was shown.
func (s *Conductor) otherWays(ctx context.Context, repo *records.Repository, g *facts.Gathered, tip string) []string {
	ways := []string{}
	for _, strategy := range g.Set.Without(g.Facts.Suspended).For(g.Change.Target).With {
		if string(strategy) == g.Entry.Strategy {
			continue
		}
		plan, err := s.planOf(ctx, repo, g, records.Rehearsal{Base: tip, Head: g.Revision.Head, Strategy: string(strategy)})
		if err == nil && s.disk.Bare(repo).Try(ctx, plan) == nil {
			ways = append(ways, string(strategy))
		}
	}
	return ways
}

// plannedRehearsal returns the rehearsal on record that was not built yet, or records a new plan.
func (s *Conductor) plannedRehearsal(ctx context.Context, repo *records.Repository, g *facts.Gathered, tip string, same []int) (records.Rehearsal, error) {
	if r := g.Rehearsal; r != nil && r.CommitID == "" && r.Base == tip && r.Head == g.Revision.Head && r.Strategy == g.Entry.Strategy &&
		slices.Equal(r.Approvers, approversNamed(*g)) && slices.Equal(r.SameAs, same) {
		return *r, nil
	}
	log, err := s.disk.Bare(repo).LogAll(ctx, g.Revision.Head, []string{g.Revision.Base}, "change.commits")
	if err != nil {
		return records.Rehearsal{}, err
	}
	now := s.records.Now().Truncate(time.Second)
	r := records.Rehearsal{EntryID: g.Entry.ID, Revision: g.Revision.Number, Base: tip, Head: g.Revision.Head, Strategy: g.Entry.Strategy,
		CommittedAt: now, AuthoredAt: now, Approvers: approversNamed(*g), SameAs: same, CreatedAt: now}
	err = s.records.Write(ctx, func(tx *records.Tx) error {
		if err := s.queues.EndRehearsals(tx, *g.Entry, "another was planned"); err != nil {
			return err
		}
		opener, err := accounts.AccountByLogin(tx.DB, g.Change.OpenedBy)
		if err != nil {
			return err
		}
		r.AuthorName, r.AuthorEmail = opener.Name, opener.Email
		if r.Message, err = finalMessage(tx.DB, repo, g, log, opener.Email); err != nil {
			return err
		}
		return tx.Create(&r).Error
	})
	return r, err
}

// approversNamed lists the approvals that the final message names: none for a rebase, which keeps its messages.
func approversNamed(g facts.Gathered) []string {
	if g.Entry.Strategy == string(rules.Rebase) {
		return []string{}
	}
	return g.Judge().Approvers
}

// finalMessage writes the message of a squash or merge commit with its trailers.
func finalMessage(db *gorm.DB, repo *records.Repository, g *facts.Gathered, log []git.Commit, authorEmail string) (string, error) {
	if g.Entry.Strategy == string(rules.Rebase) {
		return "", nil
	}
	e := g.Set.Without(g.Facts.Suspended).For(g.Change.Target)
	text := gate.FinalText(e, g.Facts)
	var trailers strings.Builder
	for _, line := range gate.Trailers(e, g.Facts) {
		trailers.WriteString(line + "\n")
	}
	fmt.Fprintf(&trailers, "Landed-change: %s %d\n", repo.Name, g.Change.Number)
	for _, login := range approversNamed(*g) {
		account, err := accounts.AccountByLogin(db, login)
		if err != nil {
			return "", err
		}
		fmt.Fprintf(&trailers, "Approved-by: %s <%s>\n", account.Name, account.Email)
	}
	if g.Entry.Strategy == string(rules.Squash) {
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
func (s *Conductor) sameOn(ctx context.Context, repo *records.Repository, g *facts.Gathered, base string) ([]int, error) {
	same := []int{}
	for _, r := range g.Facts.Reviews {
		if r.Revision == g.Revision.Number || slices.Contains(same, r.Revision) || !slices.Contains(g.Revision.SameAs, r.Revision) {
			continue
		}
		var then records.Revision
		if err := s.records.Read(ctx).Where("change_id = ? AND number = ?", g.Change.ID, r.Revision).First(&then).Error; err != nil {
			return nil, err
		}
		if ok, err := s.disk.Bare(repo).Same(ctx, facts.ShownBy(then), facts.ShownBy(g.Revision), base); err != nil {
			return nil, err
		} else if ok {
			same = append(same, r.Revision)
		}
	}
	return same, nil
}
