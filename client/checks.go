package client

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"time"

	"tavrin/wire"
)

// checks is the part of the client about checks and those who run them.
type checks struct{ *connection }

// ReportCheck reports a check.
func (c checks) ReportCheck(ctx context.Context, repo string, r wire.NewReport) (wire.Check, error) {
	return do(ctx, c.connection, wire.CreateReport, onRepo(repo, r))
}

// ReportChecks reports several checks: all, or none.
func (c checks) ReportChecks(ctx context.Context, repo string, all []wire.NewReport) ([]wire.Check, error) {
	return do(ctx, c.connection, wire.CreateReports, onRepo(repo, wire.NewReports{Reports: all}))
}

// Checks lists the checks of a commit.
func (c checks) Checks(ctx context.Context, repo, commit string) ([]wire.Check, error) {
	return do(ctx, c.connection, wire.ListChecks, wire.InCommit{InRepo: inRepo(repo), Commit: commit})
}

// CheckNames lists the checks seen so far and those the rules name.
func (c checks) CheckNames(ctx context.Context, repo string) ([]wire.CheckName, error) {
	return do(ctx, c.connection, wire.ListCheckNames, inRepo(repo))
}

// Wanted lists checks that wait for a report.
func (c checks) Wanted(ctx context.Context, repo string) ([]wire.Check, error) {
	return do(ctx, c.connection, wire.ListWantedChecks, wire.WantedQuery{InRepo: inRepo(repo)})
}

// TakenOn lists checks that a worker has taken on and not answered yet.
func (c checks) TakenOn(ctx context.Context, repo string) ([]wire.Check, error) {
	return do(ctx, c.connection, wire.ListWantedChecks, wire.WantedQuery{InRepo: inRepo(repo), Taken: true})
}

// ClaimCheck takes the oldest check that waits, of the given name if one is given, so that no other worker does. It is nil
// when none waits, or comes within wait, of at most 25 s.
func (c checks) ClaimCheck(ctx context.Context, repo, name string, wait time.Duration) (*wire.Check, error) {
	taken, err := do(ctx, c.connection, wire.ClaimCheck, onRepo(repo, wire.CheckClaim{Name: name, Wait: int(wait / time.Second)}))
	if err != nil || len(taken) == 0 {
		return nil, err
	}
	return &taken[0], nil
}

// ConnectCheck gives a robot, made where there is none of that login, a token for one check; the answer has it, this once.
func (c checks) ConnectCheck(ctx context.Context, repo, check, robot string) (wire.Token, error) {
	return do(ctx, c.connection, wire.ConnectCheck, onRepo(repo, wire.NewConnection{Check: check, Robot: robot}))
}

// Snippets are what a checks system does to answer for a check, ready to paste.
func (c checks) Snippets(ctx context.Context, repo, check string) ([]wire.Snippet, error) {
	return do(ctx, c.connection, wire.ListSnippets, wire.CheckQuery{InRepo: inRepo(repo), Check: check})
}

// CheckProgress says how far the newest attempt of a check has come.
func (c checks) CheckProgress(ctx context.Context, repo, check string) (wire.CheckProgress, error) {
	return do(ctx, c.connection, wire.GetProgress, wire.CheckQuery{InRepo: inRepo(repo), Check: check})
}

// Rerun asks for another attempt of a check.
func (c checks) Rerun(ctx context.Context, repo, commit, name string) (wire.Check, error) {
	return do(ctx, c.connection, wire.RerunCheck, wire.CheckRerun{InCommit: wire.InCommit{InRepo: inRepo(repo), Commit: commit},
		Body: wire.CheckNamed{Name: name}})
}

// RunnerPlace tells a runner how to find out whether it could read the service's data.
func (c checks) RunnerPlace(ctx context.Context) (wire.RunnerPlace, error) {
	return do(ctx, c.connection, wire.GetRunnerPlace, wire.Nothing{})
}

// Lease takes the oldest waiting command check; nil when there is none.
func (c checks) Lease(ctx context.Context) (*wire.Job, error) {
	jobs, err := do(ctx, c.connection, wire.LeaseJob, wire.Nothing{})
	if err != nil || len(jobs) == 0 {
		return nil, err
	}
	return &jobs[0], nil
}

// inJob names a job and shows its lease, which stands in for the runner's own token.
func inJob(j wire.Job) wire.InJob { return wire.InJob{ID: j.ID, Authorization: "Bearer " + j.Lease} }

// JobAlive prolongs a job's lease.
func (c checks) JobAlive(ctx context.Context, j wire.Job) error {
	return none(do(ctx, c.connection, wire.KeepJob, inJob(j)))
}

// JobPack returns the pack of the job's commit; the caller closes it.
func (c checks) JobPack(ctx context.Context, j wire.Job) (io.ReadCloser, error) {
	resp, err := c.send(ctx, http.MethodGet, fmt.Sprintf("/jobs/%d/pack", j.ID), j.Lease, nil, nil)
	if err != nil {
		return nil, err
	}
	return resp.Body, nil
}

// FinishJob sends a job's answer.
func (c checks) FinishJob(ctx context.Context, j wire.Job, r wire.JobResult) error {
	return none(do(ctx, c.connection, wire.FinishJob, wire.JobFinished{InJob: inJob(j), Body: r}))
}
