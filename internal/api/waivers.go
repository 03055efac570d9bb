package api

import (
	"context"
	"time"

	"tavrin/internal/accounts"
	"tavrin/internal/waivers"
	"tavrin/wire"
)

// waivers: waiving requirements, in the open, and acknowledging it afterwards.
func (s *server) waivers() {
	const all = repoPath + "/waivers"
	call(s, "GET", all, "list-waivers", "Waivers, newest first",
		func(ctx context.Context, a accounts.Actor, q *struct {
			InRepo
			Open bool `query:"open" doc:"only those that may still be used, and those not acknowledged yet"`
		}) ([]wire.Waiver, error) {
			return s.Service.Waivers.Waivers(ctx, a, q.repository(), q.Open)
		})
	call(s, "POST", changePath+"/waivers/plan", "plan-waiver",
		"Say exactly what a waiver of a change would waive", func(ctx context.Context, a accounts.Actor,
			q *struct {
				InChange
				Body struct {
					Requirements []string `json:"requirements,omitempty" doc:"keys; absent: everything that you may waive"`
				}
			}) (wire.WaiverPlan, error) {
			return s.Service.Waivers.PlanWaiver(ctx, a, q.repository(), q.Number, q.Body.Requirements)
		})
	call(s, "POST", changePath+"/waivers", "create-waiver", "Waive requirements for one landing",
		func(ctx context.Context, a accounts.Actor, q *struct {
			InChange
			Body struct {
				Requirements []string `json:"requirements,omitempty" doc:"keys; absent: everything that you may waive"`
				Because      string   `json:"because"`
				ForSeconds   int64    `json:"for_seconds,omitempty" minimum:"0" doc:"absent: an hour; at most a day"`
				Confirm      string   `json:"confirm,omitempty" doc:"from the plan"`
			}
		}) (wire.Waiver, error) {
			return s.Service.Waivers.Waive(ctx, a, q.repository(), q.Number,
				waivers.NewWaiver{Keys: q.Body.Requirements, Because: q.Body.Because,
					Length: time.Duration(q.Body.ForSeconds) * time.Second, Confirm: q.Body.Confirm})
		})
	call(s, "POST", all+"/push/plan", "plan-push-waiver", "Say exactly what the rules hold against a push",
		func(ctx context.Context, a accounts.Actor, q *struct {
			InRepo
			Body struct {
				Branch string `json:"branch"`
				Commit string `json:"commit" doc:"one that the repository has already"`
			}
		}) (wire.WaiverPlan, error) {
			return s.Service.Waivers.PlanPushWaiver(ctx, a, q.repository(), q.Body.Branch, q.Body.Commit)
		})
	call(s, "POST", all+"/push", "create-push-waiver", "Allow yourself one push against the rules",
		func(ctx context.Context, a accounts.Actor, q *struct {
			InRepo
			Body struct {
				Branch     string `json:"branch"`
				Commit     string `json:"commit" doc:"one that the repository has already"`
				Because    string `json:"because"`
				ForSeconds int64  `json:"for_seconds,omitempty" minimum:"0" doc:"absent: an hour; at most a day"`
				Confirm    string `json:"confirm,omitempty" doc:"from the plan"`
			}
		}) (wire.Waiver, error) {
			return s.Service.Waivers.WaivePush(ctx, a, q.repository(),
				waivers.PushWaiver{Branch: q.Body.Branch, Commit: q.Body.Commit,
					NewWaiver: waivers.NewWaiver{Because: q.Body.Because,
						Length: time.Duration(q.Body.ForSeconds) * time.Second, Confirm: q.Body.Confirm}})
		})
	call(s, "POST", all+"/{waiver}/acknowledge", "acknowledge-waiver", "Acknowledge what a waiver let through",
		func(ctx context.Context, a accounts.Actor, q *struct {
			InRepo
			Waiver int64 `path:"waiver" minimum:"1"`
			Body   struct {
				Text string `json:"text" doc:"what you found"`
			}
		}) (wire.Waiver, error) {
			return s.Service.Waivers.Acknowledge(ctx, a, q.repository(), q.Waiver, q.Body.Text)
		})
}
