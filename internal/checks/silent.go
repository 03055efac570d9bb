package checks

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"gorm.io/gorm"

	"tavrin/internal/core/change"
	"tavrin/internal/core/event"
	"tavrin/internal/core/grammar"
	"tavrin/internal/core/require"
	"tavrin/internal/records"
	"tavrin/wire"
)

// timeLimit is how long an attempt may go without an answer.
func timeLimit(r records.CheckRun) time.Duration {
	if r.TimeoutSeconds > 0 {
		return time.Duration(r.TimeoutSeconds) * time.Second
	}
	return require.DefaultAnswer
}

// EndSilentChecks ends the attempts of checks from outside that nobody answered in time: each is asked for once more,
// and the second time stays without a pass, so that what waits for it goes on without it.
func (s *Checks) EndSilentChecks(ctx context.Context) error {
	var open []records.CheckRun
	if err := s.records.Read(ctx).Where("state IN ('waiting', 'running') AND command = '' AND "+waitedFor(1), s.records.Now()).Find(&open).Error; err != nil {
		return err
	}
	var errs []error
	for _, r := range open {
		if s.records.Now().Sub(r.CreatedAt) >= timeLimit(r) {
			errs = append(errs, s.endSilent(ctx, r.ID))
		}
	}
	return errors.Join(errs...)
}

func (s *Checks) endSilent(ctx context.Context, id int64) error {
	return s.records.Write(ctx, func(tx *records.Tx) error {
		var run records.CheckRun
		var repo records.Repository
		// it was answered meanwhile
		if err := tx.First(&run, id).Error; err != nil || change.CheckState(run.State).Final() {
			return err
		}
		if err := tx.First(&repo, run.RepositoryID).Error; err != nil {
			return err
		}
		now := s.records.Now()
		run.State, run.Silent, run.FinishedAt = string(change.Errored), true, &now
		run.Summary = fmt.Sprintf("no answer within %s", grammar.Brief(timeLimit(run)))
		if err := tx.Save(&run).Error; err != nil {
			return err
		}
		err := tx.Record(records.Itself, &repo, event.CheckTimedOut{OfCheck: ofCheck(run),
			Within: grammar.Brief(timeLimit(run))})
		if err != nil || run.AskedFor == "" {
			return err
		}
		var before records.CheckRun
		if err := tx.Where("repository_id = ? AND commit_id = ? AND name = ? AND attempt = ?", repo.ID, run.CommitID,
			run.Name, run.Attempt-1).Limit(1).Find(&before).Error; err != nil || before.Silent {
			return err
		}
		force, err := s.rulebook.RulesOf(tx.DB, &repo)
		if err != nil {
			return err
		}
		_, err = s.nextAttempt(tx, &repo, force.Set.Check(run.Name), run, records.Itself)
		return err
	})
}

// waitedFor is a condition on attempts of checks: that one n-th of the time that there is for an answer has gone by at a time. Where
// it is nearly so, they may be told of too.
func waitedFor(n int) string {
	return fmt.Sprintf("(unixepoch(?) - unixepoch(created_at) + 1) * %d >= CASE WHEN timeout_seconds > 0 THEN timeout_seconds ELSE %d END",
		n, int(require.DefaultAnswer/time.Second))
}

// Silent is a check that is not answered, in a repository.
type Silent struct {
	wire.SilentCheck
	Repo int64
}

// SilentIn lists the checks of repositories that were asked for and are not answered: those that have used up half of their time, those
// asked for once more, and commands that no runner takes.
func (s *Checks) SilentIn(db *gorm.DB, repos map[int64]*records.Repository) ([]Silent, error) {
	var open []struct {
		records.CheckRun `gorm:"embedded"`
		SilentSince      *time.Time // when the attempt before was asked for, if nobody answered that
	}
	if len(repos) == 0 {
		return nil, nil
	}
	query := "WITH r AS (SELECT * FROM check_runs WHERE repository_id IN ? AND state IN ('waiting', 'running') AND asked_for <> '' " +
		"AND (command = '' OR state = 'waiting') AND (attempt > 1 OR " + waitedFor(2) + ")) " +
		"SELECT r.*, before.created_at AS silent_since FROM r LEFT JOIN check_runs before " +
		"ON before.repository_id = r.repository_id AND before.commit_id = r.commit_id AND before.name = r.name " +
		"AND before.attempt = r.attempt - 1 AND before.silent ORDER BY r.repository_id, r.id"
	if err := db.Raw(query, slices.Sorted(maps.Keys(repos)), s.records.Now()).Scan(&open).Error; err != nil {
		return nil, err
	}
	var out []Silent
	for _, r := range open {
		since := r.CreatedAt
		if r.SilentSince != nil {
			since = *r.SilentSince
		} else if s.records.Now().Sub(since) < timeLimit(r.CheckRun)/2 {
			continue
		}
		c := wire.SilentCheck{Name: r.Name, Commit: r.CommitID, For: r.AskedFor, Attempt: r.Attempt, Since: since,
			Runner: r.Command != ""}
		if !c.Runner {
			until := r.CreatedAt.Add(timeLimit(r.CheckRun))
			c.Until = &until
		}
		out = append(out, Silent{c, r.RepositoryID})
	}
	return out, nil
}

// SilentChecks is SilentIn for one repository.
func (s *Checks) SilentChecks(db *gorm.DB, repo *records.Repository) ([]wire.SilentCheck, error) {
	all, err := s.SilentIn(db, map[int64]*records.Repository{repo.ID: repo})
	out := []wire.SilentCheck{}
	for _, c := range all {
		out = append(out, c.SilentCheck)
	}
	return out, err
}
