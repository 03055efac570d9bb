package checks

import (
	"context"
	"errors"
	"fmt"
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
	if err := s.records.Read(ctx).Where("state IN ('waiting', 'running') AND command = ''").Find(&open).Error; err != nil {
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

// SilentChecks lists the checks of a repository that were asked for and are not answered: those that have used up half
// of their time, those asked for once more, and commands that no runner takes.
func (s *Checks) SilentChecks(db *gorm.DB, repo *records.Repository) ([]wire.SilentCheck, error) {
	var open []struct {
		records.CheckRun `gorm:"embedded"`
		SilentSince      *time.Time // when the attempt before was asked for, if nobody answered that
	}
	if err := db.Raw("SELECT r.*, before.created_at AS silent_since FROM check_runs r LEFT JOIN check_runs before "+
		"ON before.repository_id = r.repository_id AND before.commit_id = r.commit_id AND before.name = r.name "+
		"AND before.attempt = r.attempt - 1 AND before.silent WHERE r.repository_id = ? "+
		"AND r.state IN ('waiting', 'running') AND r.asked_for <> '' AND (r.command = '' OR r.state = 'waiting') "+
		"ORDER BY r.id", repo.ID).Scan(&open).Error; err != nil {
		return nil, err
	}
	out := []wire.SilentCheck{}
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
		out = append(out, c)
	}
	return out, nil
}
