package api

import (
	"context"
	"time"

	"tavrin/internal/accounts"
	"tavrin/internal/waivers"
	"tavrin/wire"
)

// overrides: setting requirements aside, in the open, and looking at it afterwards.
func (s *server) overrides() {
	const all = repoPath + "/overrides"
	call(s, "GET", all, "list-overrides", "Overrides, newest first",
		func(ctx context.Context, a accounts.Actor, q *struct {
			InRepo
			Open bool `query:"open" doc:"only those that may still be used, and those nobody has looked at yet"`
		}) ([]wire.Override, error) {
			return s.Service.Waivers.Overrides(ctx, a, q.repository(), q.Open)
		})
	call(s, "POST", changePath+"/overrides/plan", "plan-override",
		"Say exactly what an override of a change would set aside", func(ctx context.Context, a accounts.Actor,
			q *struct {
				InChange
				Body struct {
					Requirements []string `json:"requirements,omitempty" doc:"keys; absent: everything that you may set aside"`
				}
			}) (wire.OverridePlan, error) {
			return s.Service.Waivers.PlanOverride(ctx, a, q.repository(), q.Number, q.Body.Requirements)
		})
	call(s, "POST", changePath+"/overrides", "create-override", "Set requirements aside for one landing",
		func(ctx context.Context, a accounts.Actor, q *struct {
			InChange
			Body struct {
				Requirements []string `json:"requirements,omitempty" doc:"keys; absent: everything that you may set aside"`
				Because      string   `json:"because"`
				ForSeconds   int64    `json:"for_seconds,omitempty" minimum:"0" doc:"absent: an hour; at most a day"`
				Confirm      string   `json:"confirm,omitempty" doc:"from the plan"`
			}
		}) (wire.Override, error) {
			return s.Service.Waivers.Override(ctx, a, q.repository(), q.Number,
				waivers.NewOverride{Keys: q.Body.Requirements, Because: q.Body.Because,
					Length: time.Duration(q.Body.ForSeconds) * time.Second, Confirm: q.Body.Confirm})
		})
	call(s, "POST", all+"/push/plan", "plan-push-override", "Say exactly what the rules hold against a push",
		func(ctx context.Context, a accounts.Actor, q *struct {
			InRepo
			Body struct {
				Branch string `json:"branch"`
				Commit string `json:"commit" doc:"one that the repository has already"`
			}
		}) (wire.OverridePlan, error) {
			return s.Service.Waivers.PlanPushOverride(ctx, a, q.repository(), q.Body.Branch, q.Body.Commit)
		})
	call(s, "POST", all+"/push", "create-push-override", "Allow yourself one push against the rules",
		func(ctx context.Context, a accounts.Actor, q *struct {
			InRepo
			Body struct {
				Branch     string `json:"branch"`
				Commit     string `json:"commit" doc:"one that the repository has already"`
				Because    string `json:"because"`
				ForSeconds int64  `json:"for_seconds,omitempty" minimum:"0" doc:"absent: an hour; at most a day"`
				Confirm    string `json:"confirm,omitempty" doc:"from the plan"`
			}
		}) (wire.Override, error) {
			return s.Service.Waivers.OverridePush(ctx, a, q.repository(),
				waivers.PushOverride{Branch: q.Body.Branch, Commit: q.Body.Commit,
					NewOverride: waivers.NewOverride{Because: q.Body.Because,
						Length: time.Duration(q.Body.ForSeconds) * time.Second, Confirm: q.Body.Confirm}})
		})
	call(s, "POST", all+"/{override}/look", "look-at-override", "Have the second look at what an override let through",
		func(ctx context.Context, a accounts.Actor, q *struct {
			InRepo
			Override int64 `path:"override" minimum:"1"`
			Body     struct {
				Text string `json:"text" doc:"what you found"`
			}
		}) (wire.Override, error) {
			return s.Service.Waivers.LookAt(ctx, a, q.repository(), q.Override, q.Body.Text)
		})
}
