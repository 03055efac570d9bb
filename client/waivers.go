package client

import (
	"context"

	"tavrin/wire"
)

// waivers is the part of the client about waivers.
type waivers struct{ *connection }

// Waivers lists a repository's waivers, newest first.
func (c waivers) Waivers(ctx context.Context, repo string, open bool) ([]wire.Waiver, error) {
	return do(ctx, c.connection, wire.ListWaivers, wire.WaiverQuery{InRepo: inRepo(repo), Open: open})
}

// PlanWaiver says exactly what a waiver would waive.
func (c waivers) PlanWaiver(ctx context.Context, repo string, number int, keys []string) (wire.WaiverPlan, error) {
	return do(ctx, c.connection, wire.PlanWaiver, onChange(repo, number, wire.WaiverWish{Requirements: keys}))
}

// Waive waives requirements of a change for one landing.
func (c waivers) Waive(ctx context.Context, repo string, number int, n wire.NewWaiver) (wire.Waiver, error) {
	return do(ctx, c.connection, wire.CreateWaiver, onChange(repo, number, n))
}

// PlanPushWaiver says exactly what the rules hold against a push.
func (c waivers) PlanPushWaiver(ctx context.Context, repo, branch, commit string) (wire.WaiverPlan, error) {
	return do(ctx, c.connection, wire.PlanPushWaiver, onRepo(repo, wire.PushWish{Branch: branch, Commit: commit}))
}

// WaivePush allows the caller one push against the rules.
func (c waivers) WaivePush(ctx context.Context, repo string, n wire.NewPushWaiver) (wire.Waiver, error) {
	return do(ctx, c.connection, wire.CreatePushWaiver, onRepo(repo, n))
}

// Acknowledge acknowledges what a waiver let through.
func (c waivers) Acknowledge(ctx context.Context, repo string, waiver int64, text string) (wire.Waiver, error) {
	return do(ctx, c.connection, wire.AcknowledgeWaiver, wire.WaiverAcknowledged{InRepo: inRepo(repo), Waiver: waiver,
		Body: wire.Acknowledging{Text: text}})
}
