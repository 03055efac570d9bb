package client

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"

	"tavrin/wire"
)

// checks is the part of the client about checks and those who run them.
type checks struct{ *connection }

// NewReport is what a check robot says of a check.
type NewReport struct {
	Commit  string `json:"commit"`
	Name    string `json:"name"`
	State   string `json:"state"`
	Link    string `json:"link,omitempty"`
	Summary string `json:"summary,omitempty"`
	Attempt int    `json:"attempt,omitempty"`
}

// ReportCheck reports a check.
func (c checks) ReportCheck(ctx context.Context, repo string, r NewReport) (wire.Check, error) {
	return post[wire.Check](ctx, c, repoPath(repo)+"/checks", r)
}

// Checks lists the checks of a commit.
func (c checks) Checks(ctx context.Context, repo, commit string) ([]wire.Check, error) {
	return get[[]wire.Check](ctx, c, repoPath(repo)+"/commits/"+url.PathEscape(commit)+"/checks")
}

// CheckNames lists the checks seen so far and those the rules name.
func (c checks) CheckNames(ctx context.Context, repo string) ([]wire.CheckName, error) {
	return get[[]wire.CheckName](ctx, c, repoPath(repo)+"/checks")
}

// Wanted lists checks that wait for a report.
func (c checks) Wanted(ctx context.Context, repo string) ([]wire.Check, error) {
	return get[[]wire.Check](ctx, c, repoPath(repo)+"/checks/wanted")
}

// Rerun asks for another attempt of a check.
func (c checks) Rerun(ctx context.Context, repo, commit, name string) (wire.Check, error) {
	return post[wire.Check](ctx, c, repoPath(repo)+"/commits/"+url.PathEscape(commit)+"/checks/rerun",
		map[string]string{"name": name})
}

// RunnerPlace tells a runner how to find out whether it could read the service's data.
func (c checks) RunnerPlace(ctx context.Context) (wire.RunnerPlace, error) {
	return get[wire.RunnerPlace](ctx, c, "/jobs/place")
}

// Lease takes the oldest waiting command check; nil when there is none.
func (c checks) Lease(ctx context.Context) (*wire.Job, error) {
	jobs, err := post[[]wire.Job](ctx, c, "/jobs/lease", nil)
	if err != nil || len(jobs) == 0 {
		return nil, err
	}
	return &jobs[0], nil
}

// JobAlive prolongs a job's lease.
func (c checks) JobAlive(ctx context.Context, j wire.Job) error {
	resp, err := c.send(ctx, http.MethodPost, fmt.Sprintf("/jobs/%d/alive", j.ID), j.Lease, nil, nil)
	if err == nil {
		resp.Body.Close()
	}
	return err
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
func (c checks) FinishJob(ctx context.Context, j wire.Job, state, summary, log string) error {
	data, err := json.Marshal(map[string]string{"state": state, "summary": summary, "log": log})
	if err != nil {
		return err
	}
	resp, err := c.send(ctx, http.MethodPost, fmt.Sprintf("/jobs/%d/result", j.ID), j.Lease, nil, bytes.NewReader(data))
	if err == nil {
		resp.Body.Close()
	}
	return err
}
