package client

import (
	"context"
	"fmt"

	"tavrin/wire"
)

// waivers is the part of the client about waivers.
type waivers struct{ *connection }

// NewOverride is what somebody wants to set aside of a change's requirements.
type NewOverride struct {
	Requirements []string `json:"requirements,omitempty"` // keys; none: everything that they may
	Because      string   `json:"because"`
	ForSeconds   int64    `json:"for_seconds,omitempty"` // 0: an hour
	Confirm      string   `json:"confirm,omitempty"`     // from the plan
}

// NewPushOverride is a push that somebody wants to allow themselves.
type NewPushOverride struct {
	Branch     string `json:"branch"`
	Commit     string `json:"commit"` // one that the repository has already
	Because    string `json:"because"`
	ForSeconds int64  `json:"for_seconds,omitempty"`
	Confirm    string `json:"confirm,omitempty"`
}

// Overrides lists a repository's overrides, newest first.
func (c waivers) Overrides(ctx context.Context, repo string, open bool) ([]wire.Override, error) {
	query := ""
	if open {
		query = "true"
	}
	return get[[]wire.Override](ctx, c, repoPath(repo)+"/overrides", "open", query)
}

// PlanOverride says exactly what an override would set aside.
func (c waivers) PlanOverride(ctx context.Context, repo string, number int, keys []string) (wire.OverridePlan, error) {
	return post[wire.OverridePlan](ctx, c, changePath(repo, number)+"/overrides/plan",
		map[string]any{"requirements": append([]string{}, keys...)})
}

// Override sets requirements of a change aside for one landing.
func (c waivers) Override(ctx context.Context, repo string, number int, n NewOverride) (wire.Override, error) {
	return post[wire.Override](ctx, c, changePath(repo, number)+"/overrides", n)
}

// PlanPushOverride says exactly what the rules hold against a push.
func (c waivers) PlanPushOverride(ctx context.Context, repo, branch, commit string) (wire.OverridePlan, error) {
	return post[wire.OverridePlan](ctx, c, repoPath(repo)+"/overrides/push/plan",
		map[string]string{"branch": branch, "commit": commit})
}

// OverridePush allows the caller one push against the rules.
func (c waivers) OverridePush(ctx context.Context, repo string, n NewPushOverride) (wire.Override, error) {
	return post[wire.Override](ctx, c, repoPath(repo)+"/overrides/push", n)
}

// LookAt has the second look at what an override let through.
func (c waivers) LookAt(ctx context.Context, repo string, override int64, found string) (wire.Override, error) {
	return post[wire.Override](ctx, c, fmt.Sprintf("%s/overrides/%d/look", repoPath(repo), override),
		map[string]string{"text": found})
}
