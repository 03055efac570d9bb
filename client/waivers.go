package client

import (
	"context"
	"fmt"

	"tavrin/wire"
)

// waivers is the part of the client about waivers.
type waivers struct{ *connection }

// NewWaiver is what somebody wants to waive of a change's requirements.
type NewWaiver struct {
	Requirements []string `json:"requirements,omitempty"` // keys; none: everything that they may
	Because      string   `json:"because"`
	ForSeconds   int64    `json:"for_seconds,omitempty"` // 0: an hour
	Confirm      string   `json:"confirm,omitempty"`     // from the plan
}

// NewPushWaiver is a push that somebody wants to allow themselves.
type NewPushWaiver struct {
	Branch     string `json:"branch"`
	Commit     string `json:"commit"` // one that the repository has already
	Because    string `json:"because"`
	ForSeconds int64  `json:"for_seconds,omitempty"`
	Confirm    string `json:"confirm,omitempty"`
}

// Waivers lists a repository's waivers, newest first.
func (c waivers) Waivers(ctx context.Context, repo string, open bool) ([]wire.Waiver, error) {
	query := ""
	if open {
		query = "true"
	}
	return get[[]wire.Waiver](ctx, c, repoPath(repo)+"/waivers", "open", query)
}

// PlanWaiver says exactly what a waiver would waive.
func (c waivers) PlanWaiver(ctx context.Context, repo string, number int, keys []string) (wire.WaiverPlan, error) {
	return post[wire.WaiverPlan](ctx, c, changePath(repo, number)+"/waivers/plan",
		map[string]any{"requirements": append([]string{}, keys...)})
}

// Waiver waives requirements of a change for one landing.
func (c waivers) Waive(ctx context.Context, repo string, number int, n NewWaiver) (wire.Waiver, error) {
	return post[wire.Waiver](ctx, c, changePath(repo, number)+"/waivers", n)
}

// PlanPushWaiver says exactly what the rules hold against a push.
func (c waivers) PlanPushWaiver(ctx context.Context, repo, branch, commit string) (wire.WaiverPlan, error) {
	return post[wire.WaiverPlan](ctx, c, repoPath(repo)+"/waivers/push/plan",
		map[string]string{"branch": branch, "commit": commit})
}

// WaivePush allows the caller one push against the rules.
func (c waivers) WaivePush(ctx context.Context, repo string, n NewPushWaiver) (wire.Waiver, error) {
	return post[wire.Waiver](ctx, c, repoPath(repo)+"/waivers/push", n)
}

// Acknowledge acknowledges what a waiver let through.
func (c waivers) Acknowledge(ctx context.Context, repo string, waiver int64, found string) (wire.Waiver, error) {
	return post[wire.Waiver](ctx, c, fmt.Sprintf("%s/waivers/%d/acknowledge", repoPath(repo), waiver),
		map[string]string{"text": found})
}
