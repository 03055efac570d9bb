package api

import (
	"context"
	"net/http"
	"time"

	"tavrin/internal/accounts"
	"tavrin/internal/core/change"
	"tavrin/wire"
)

// checks: reports of check robots, and the jobs of runners.
func (s *server) checks() {
	serve(s, wire.CreateReport, func(ctx context.Context, a accounts.Actor, q *wire.RepoBody[wire.NewReport]) (wire.Check, error) {
		return s.Service.Checks.ReportCheck(ctx, a, q.Repository(), q.Body)
	})
	serve(s, wire.CreateReports, func(ctx context.Context, a accounts.Actor, q *wire.RepoBody[wire.NewReports]) ([]wire.Check, error) {
		return s.Service.Checks.ReportChecks(ctx, a, q.Repository(), q.Body.Reports)
	})
	serve(s, wire.ListCheckNames, func(ctx context.Context, a accounts.Actor, q *wire.InRepo) ([]wire.CheckName, error) {
		return s.Service.Checks.CheckNames(ctx, a, q.Repository())
	})
	serve(s, wire.ListWantedChecks, func(ctx context.Context, a accounts.Actor, q *wire.WantedQuery) ([]wire.Check, error) {
		return s.Service.Checks.Wanted(ctx, a, q.Repository(), q.Taken)
	})
	serve(s, wire.ClaimCheck, func(ctx context.Context, a accounts.Actor, q *wire.RepoBody[wire.CheckClaim]) ([]wire.Check, error) {
		return s.Service.Checks.Claim(ctx, a, q.Repository(), q.Body.Name, time.Duration(q.Body.Wait)*time.Second)
	})
	serve(s, wire.ConnectCheck, func(ctx context.Context, a accounts.Actor, q *wire.RepoBody[wire.NewConnection]) (wire.Token, error) {
		return s.Service.Access.ConnectCheck(ctx, a, q.Repository(), q.Body.Check, q.Body.Robot)
	})
	serve(s, wire.ListSnippets, func(ctx context.Context, a accounts.Actor, q *wire.CheckQuery) ([]wire.Snippet, error) {
		return s.Service.Checks.Snippets(ctx, a, s.Address, q.Repository(), q.Check)
	})
	serve(s, wire.GetProgress, func(ctx context.Context, a accounts.Actor, q *wire.CheckQuery) (wire.CheckProgress, error) {
		return s.Service.Checks.Progress(ctx, a, q.Repository(), q.Check)
	})
	serve(s, wire.ListChecks, func(ctx context.Context, a accounts.Actor, q *wire.InCommit) ([]wire.Check, error) {
		return s.Service.Checks.Checks(ctx, a, q.Repository(), q.Commit)
	})
	serve(s, wire.RerunCheck, func(ctx context.Context, a accounts.Actor, q *wire.CheckRerun) (wire.Check, error) {
		return s.Service.Checks.Rerun(ctx, a, q.Repository(), q.Commit, q.Body.Name)
	})
	serve(s, wire.LeaseJob, func(ctx context.Context, a accounts.Actor, _ *wire.Nothing) ([]wire.Job, error) {
		jobs := []wire.Job{}
		job, err := s.Service.Checks.Lease(ctx, a)
		if job != nil {
			jobs = append(jobs, *job)
		}
		return jobs, err
	})
	serve(s, wire.GetRunnerPlace, func(_ context.Context, a accounts.Actor, _ *wire.Nothing) (wire.RunnerPlace, error) {
		return s.Service.Checks.RunnerPlace(a)
	})
	lease := func(j wire.InJob) string {
		return credential(&http.Request{Header: http.Header{"Authorization": {j.Authorization}}})
	}
	serve(s, wire.KeepJob, func(ctx context.Context, _ accounts.Actor, q *wire.InJob) (wire.Done, error) {
		return wire.Done{Done: true}, s.Service.Checks.JobAlive(ctx, q.ID, lease(*q))
	})
	serve(s, wire.FinishJob, func(ctx context.Context, _ accounts.Actor, q *wire.JobFinished) (wire.Done, error) {
		return wire.Done{Done: true}, s.Service.Checks.FinishJob(ctx, q.ID, lease(q.InJob),
			wire.JobResult{State: change.CheckState(q.Body.State), Summary: q.Body.Summary, Log: q.Body.Log})
	})
}
