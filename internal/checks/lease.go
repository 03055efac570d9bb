package checks

import (
	"context"
	"crypto/rand"
	"database/sql"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"
	"unicode/utf8"

	"gorm.io/gorm"

	"tavrin/internal/accounts"
	"tavrin/internal/core/change"
	"tavrin/internal/core/event"
	"tavrin/internal/problem"
	"tavrin/internal/records"
	"tavrin/internal/typed"
	"tavrin/wire"
)

// Lease gives the oldest waiting command check to a runner, or nil when there is none.
func (s *Checks) Lease(ctx context.Context, a accounts.Actor) (*wire.Job, error) {
	if a.Scope() != accounts.ScopeRunner {
		return nil, problem.New(problem.Forbidden, "this token is not a runner's: tavrin token create ROBOT "+
			"--runner HOUSE/NAME makes one")
	}
	bound, ids := []int64{}, []int64{}
	for _, b := range a.Bindings() {
		bound = append(bound, b.RepositoryID)
	}
	err := records.Going(s.records.Read(ctx)).Model(&records.Repository{}).Where("id IN ?", bound).Pluck("id", &ids).Error
	if err != nil {
		return nil, err
	}
	var probe int64
	err = s.records.Read(ctx).Model(&records.CheckRun{}).Where("repository_id IN ? AND state = 'waiting' AND "+
		"command <> ''", ids).Count(&probe).Error
	if err != nil || probe == 0 {
		return nil, err
	}
	var job *wire.Job
	err = s.records.Write(ctx, func(tx *records.Tx) error {
		var run records.CheckRun
		err := tx.Where("repository_id IN ? AND state = 'waiting' AND command <> ''",
			ids).Order("id").Limit(1).Find(&run).Error
		if err != nil || run.ID == 0 {
			return err
		}
		var repo records.Repository
		if err := tx.First(&repo, run.RepositoryID).Error; err != nil {
			return err
		}
		lease := accounts.Secret()
		until := s.records.Now().Add(leaseLength)
		run.LeaseHash, run.LeaseUntil, run.ReportedBy, run.Runner = accounts.Digest(lease), &until, a.Login(), true
		run.LeaseToken = a.Token()
		job = &wire.Job{ID: run.ID, Repository: repo.Name, Commit: run.CommitID, Check: run.Name, Attempt: run.Attempt,
			Command:        run.Command,
			TimeoutSeconds: run.TimeoutSeconds, Lease: lease, LeaseSeconds: int(leaseLength / time.Second)}
		_, err = s.saveReport(tx, &repo, &run, wire.NewReport{State: change.Running})
		return err
	})
	return job, err
}

// leased finds the attempt that a lease is for. Late and foreign answers end here (P7).
func (s *Checks) leased(db *gorm.DB, id int64, lease string) (records.CheckRun, error) {
	var run records.CheckRun
	err := db.Where("id = ? AND lease_hash = ? AND state = 'running'", id, accounts.Digest(lease)).First(&run).Error
	if err == nil && run.LeaseUntil != nil && s.records.Now().After(*run.LeaseUntil) {
		err = records.ErrNotFound
	}
	if err == nil { // it ends with the token it was taken with
		var good bool
		if good, err = accounts.GoodToken(db, run.LeaseToken, s.records.Now()); err == nil && !good {
			err = records.ErrNotFound
		}
	}
	if records.OrUnknown(err, "") != err {
		return run, problem.New(problem.Conflict, "this lease is over: the job was given up, cancelled or given to "+
			"another runner")
	}
	return run, err
}

// JobAlive is a runner's sign of life; it prolongs the lease.
func (s *Checks) JobAlive(ctx context.Context, id int64, lease string) error {
	return s.records.Note(ctx, func(tx *records.Tx) error {
		run, err := s.leased(tx.DB, id, lease)
		if err != nil {
			return err
		}
		return tx.Model(&run).Update("lease_until", s.records.Now().Add(leaseLength)).Error
	})
}

// JobPack writes the pack of the one commit that a lease is for.
func (s *Checks) JobPack(ctx context.Context, id int64, lease string, w io.Writer) error {
	db := s.records.Read(ctx)
	run, err := s.leased(db, id, lease)
	if err != nil {
		return err
	}
	var repo records.Repository
	if err := db.First(&repo, run.RepositoryID).Error; err != nil {
		return err
	}
	return s.disk.Bare(&repo).PackOfCommit(ctx, run.CommitID, w)
}

// FinishJob records a runner's answer and ends the lease.
func (s *Checks) FinishJob(ctx context.Context, id int64, lease string, r wire.JobResult) error {
	if !r.State.Final() {
		return problem.Wrong("state", "a job ends as passed, failed, errored, skipped or cancelled, not as %q", r.State)
	}
	r.Summary = strings.ToValidUTF8(typed.Mask(r.Summary), "\uFFFD")
	if utf8.RuneCountInString(r.Summary) > maxSummary {
		r.Summary = string([]rune(r.Summary)[:maxSummary])
	}
	return s.records.Write(ctx, func(tx *records.Tx) error {
		run, err := s.leased(tx.DB, id, lease)
		if err != nil {
			return err
		}
		var repo records.Repository
		if err := tx.First(&repo, run.RepositoryID).Error; err != nil {
			return err
		}
		run.Log = tail(r.Log)
		run.LeaseHash, run.LeaseUntil = "", nil
		_, err = s.saveReport(tx, &repo, &run, wire.NewReport{State: r.State, Summary: r.Summary})
		return err
	})
}

// DropSilentLeases puts jobs back whose runner fell silent; its late answer will be refused.
func (s *Checks) DropSilentLeases(ctx context.Context) error {
	var rows []records.CheckRun
	err := s.records.Read(ctx).Where("state = 'running' AND lease_hash <> '' AND (lease_until < @now OR lease_token "+
		"NOT IN ("+accounts.GoodTokens+"))", sql.Named("now", s.records.Now())).Find(&rows).Error
	if err != nil || len(rows) == 0 {
		return err
	}
	return s.records.Write(ctx, func(tx *records.Tx) error {
		for _, run := range rows {
			why := "its runner fell silent"
			if run.LeaseUntil != nil && !run.LeaseUntil.Before(s.records.Now()) {
				why = "the token of its runner has ended"
			}
			if err := giveBack(tx, run, why); err != nil {
				return err
			}
		}
		return nil
	})
}

// giveBack ends a lease, so that another runner may take the job.
func giveBack(tx *records.Tx, run records.CheckRun, why string) error {
	var repo records.Repository
	if err := tx.First(&repo, run.RepositoryID).Error; err != nil {
		return err
	}
	err := tx.Model(&records.CheckRun{}).Where("id = ? AND lease_hash = ?", run.ID, run.LeaseHash).
		Updates(map[string]any{"state": "waiting", "lease_hash": "", "lease_until": nil, "started_at": nil}).Error
	if err != nil {
		return err
	}
	return tx.Record(records.Itself, &repo, event.CheckGivenBack{OfCheck: ofCheck(run), Why: why})
}

// placeFile is the file by which a runner finds out whether it can read the service's folder.
const placeFile = "not-for-runners"

// RunnerPlace tells a runner which file it must not be able to read.
func (s *Checks) RunnerPlace(a accounts.Actor) (wire.RunnerPlace, error) {
	if a.Scope() != accounts.ScopeRunner {
		return wire.RunnerPlace{}, problem.New(problem.Forbidden, "this is for runners")
	}
	path, err := filepath.Abs(filepath.Join(s.dir, placeFile))
	if err != nil {
		return wire.RunnerPlace{}, err
	}
	content, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		content = []byte(rand.Text())
		err = os.WriteFile(path, content, 0o600)
	}
	return wire.RunnerPlace{Path: path, SHA256: accounts.Digest(string(content))}, err
}

// EndLeases gives the jobs back that were leased with some tokens.
func EndLeases(tx *records.Tx, tokens []int64) (int, error) {
	var runs []records.CheckRun
	if err := tx.Where("state = 'running' AND lease_hash <> '' AND lease_token IN ?",
		tokens).Find(&runs).Error; err != nil {
		return 0, err
	}
	for _, run := range runs {
		if err := giveBack(tx, run, "the token of its runner has ended"); err != nil {
			return 0, err
		}
	}
	return len(runs), nil
}
