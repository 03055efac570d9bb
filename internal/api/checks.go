package api

import (
	"context"
	"net/http"

	"tavrin/internal/accounts"
	"tavrin/internal/checks"
	"tavrin/internal/core/change"
	"tavrin/wire"
)

// checks: reports of check robots, and the jobs of runners.
func (s *server) checks() {
	call(s, "POST", repoPath+"/checks", "create-check-report", "Report a check",
		func(ctx context.Context, a accounts.Actor, q *struct {
			InRepo
			Body struct {
				Commit  string `json:"commit"`
				Name    string `json:"name"`
				State   string `json:"state" enum:"waiting,running,passed,failed,errored,skipped,cancelled"`
				Link    string `json:"link,omitempty"`
				Summary string `json:"summary,omitempty"`
				Attempt int    `json:"attempt,omitempty" minimum:"0" doc:"which attempt is answered; needed from the second on"`
			}
		}) (wire.Check, error) {
			b := q.Body
			return s.Service.Checks.ReportCheck(ctx, a, q.repository(),
				checks.NewReport{Commit: b.Commit, Name: b.Name, State: change.CheckState(b.State), Link: b.Link,
					Summary: b.Summary, Attempt: b.Attempt})
		})
	call(s, "GET", repoPath+"/checks", "list-check-names", "Checks seen so far, and those that the rules name",
		func(ctx context.Context, a accounts.Actor, q *InRepo) ([]wire.CheckName, error) {
			return s.Service.Checks.CheckNames(ctx, a, q.repository())
		})
	call(s, "GET", repoPath+"/checks/wanted", "list-wanted-checks", "Checks that wait for a report",
		func(ctx context.Context, a accounts.Actor, q *InRepo) ([]wire.Check, error) {
			return s.Service.Checks.Wanted(ctx, a, q.repository())
		})
	call(s, "GET", repoPath+"/commits/{commit}/checks", "list-checks", "The checks of a commit",
		func(ctx context.Context, a accounts.Actor, q *struct {
			InRepo
			Commit string `path:"commit"`
		}) ([]wire.Check, error) {
			return s.Service.Checks.Checks(ctx, a, q.repository(), q.Commit)
		})
	call(s, "POST", repoPath+"/commits/{commit}/checks/rerun", "ask-check-again", "Ask for another attempt",
		func(ctx context.Context, a accounts.Actor, q *struct {
			InRepo
			Commit string `path:"commit"`
			Body   struct {
				Name string `json:"name"`
			}
		}) (wire.Check, error) {
			return s.Service.Checks.Rerun(ctx, a, q.repository(), q.Commit, q.Body.Name)
		})
	call(s, "POST", base+"/jobs/lease", "lease-job", "Take the oldest waiting command check",
		func(ctx context.Context, a accounts.Actor, _ *in) ([]wire.Job, error) {
			jobs := []wire.Job{}
			job, err := s.Service.Checks.Lease(ctx, a)
			if job != nil {
				jobs = append(jobs, *job)
			}
			return jobs, err
		})
	call(s, "GET", base+"/jobs/place", "get-runner-place", "How a runner finds out whether it could read the "+
		"service's data", func(_ context.Context, a accounts.Actor, _ *in) (wire.RunnerPlace, error) {
		return s.Service.Checks.RunnerPlace(a)
	})
	type Job struct {
		ID            int64  `path:"id"`
		Authorization string `header:"Authorization" doc:"Bearer and the job's lease"`
	}
	lease := func(j Job) string {
		return credential(&http.Request{Header: http.Header{"Authorization": {j.Authorization}}})
	}
	call(s, "POST", base+"/jobs/{id}/alive", "keep-job", "A runner's sign of life",
		func(ctx context.Context, _ accounts.Actor, q *Job) (done, error) {
			return done{true}, s.Service.Checks.JobAlive(ctx, q.ID, lease(*q))
		})
	call(s, "POST", base+"/jobs/{id}/result", "finish-job", "A runner's answer",
		func(ctx context.Context, _ accounts.Actor, q *struct {
			Job
			Body struct {
				State   string `json:"state" enum:"passed,failed,errored,skipped,cancelled"`
				Summary string `json:"summary,omitempty"`
				Log     string `json:"log,omitempty"`
			}
		}) (done, error) {
			return done{true}, s.Service.Checks.FinishJob(ctx, q.ID, lease(q.Job),
				checks.JobResult{State: change.CheckState(q.Body.State), Summary: q.Body.Summary, Log: q.Body.Log})
		})
}
