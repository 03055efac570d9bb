package waivers_test

import (
	"testing"
	"time"

	"tavrin/internal/lab"
	"tavrin/internal/problem"
	"tavrin/internal/records"
	"tavrin/internal/waivers"
)

const guarded = "tavrin: rules/1\nprotect:\n  - name: trunk\n    branches: main\n    push: nobody\n    require: [{approvals: 1}]\n    waive: role:maintainer\n"

func guardedLab(t *testing.T) *lab.Lab {
	l := lab.New(t)
	l.Rules(guarded)
	l.Commit("main", "", "a=1")
	l.Commit("topic", "main", "a=2")
	l.Open(l.Admin, "topic")
	return l
}

// Exactly what was looked at is waived, by who may, and used once (P1).
func TestP1SetAsideAsConfirmed(t *testing.T) {
	l := guardedLab(t)
	ctx := t.Context()
	n := waivers.NewWaiver{Reason: "the pumps stand still"}
	_, err := l.Waivers.Waive(ctx, l.Admin, lab.Name, 1, n)
	l.Is(err, problem.Conflict, "this would waive: 1 approval")
	plan, err := l.Waivers.PlanWaiver(ctx, l.Admin, lab.Name, 1, nil)
	l.Ok(err)
	n.Confirm = plan.Confirm
	wren := l.Person("wren", "writer")
	_, err = l.Waivers.Waive(ctx, wren, lab.Name, 1, n)
	l.Is(err, problem.Forbidden, "may be waived by you")
	l.Commit("main", "main", "z=1") // another tip: it is no longer what was confirmed
	_, err = l.Waivers.Waive(ctx, l.Admin, lab.Name, 1, n)
	l.Is(err, problem.Conflict, "is not what you confirmed any more")
	plan, err = l.Waivers.PlanWaiver(ctx, l.Admin, lab.Name, 1, nil)
	l.Ok(err)
	n.Confirm = plan.Confirm
	made, err := l.Waivers.Waive(ctx, l.Admin, lab.Name, 1, n)
	l.Ok(err)
	_, err = l.Waivers.Acknowledge(ctx, wren, lab.Name, made.ID, "fine")
	l.Is(err, problem.Conflict, "let nothing through")
	l.Ok(l.Records.Write(ctx, func(tx *records.Tx) error { return l.Waivers.Use(tx, l.Repo, []int64{made.ID}, 1, l.Tip("topic")) }))
	_, err = l.Waivers.Acknowledge(ctx, l.Admin, lab.Name, made.ID, "fine")
	l.Is(err, problem.Forbidden, "somebody else has to acknowledge it")
	_, err = l.Waivers.Acknowledge(ctx, wren, lab.Name, made.ID, "it was right")
	l.Ok(err)
	if got := l.Kinds(3); got != "waiver.made waiver.used waiver.acknowledged" {
		t.Errorf("the journal says %s", got)
	}
}

// A waiver ends with its time, with another tip, and with its change, and says why.
func TestWaiversLapse(t *testing.T) {
	for why, happen := range map[string]func(l *lab.Lab){
		"its time is over":      func(l *lab.Lab) { l.Wait(time.Hour) },
		"main has moved since":  func(l *lab.Lab) { l.Commit("main", "main", "z=1") },
		"the change was closed": func(l *lab.Lab) { _, err := l.Changes.CloseChange(l.T.Context(), l.Admin, lab.Name, 1); l.Ok(err) },
	} {
		l := guardedLab(t)
		plan, err := l.Waivers.PlanWaiver(t.Context(), l.Admin, lab.Name, 1, nil)
		l.Ok(err)
		made, err := l.Waivers.Waive(t.Context(), l.Admin, lab.Name, 1, waivers.NewWaiver{Reason: "it burns", Confirm: plan.Confirm})
		l.Ok(err)
		l.Ok(l.Waivers.EndWaivers(t.Context()))
		happen(l)
		l.Ok(l.Waivers.EndWaivers(t.Context()))
		var row records.Waiver
		l.Ok(l.Records.Read(t.Context()).First(&row, made.ID).Error)
		if row.EndedAt == nil || row.EndedWhy == "" {
			t.Errorf("%s: it goes on: %+v", why, row)
		}
		if l.Kinds(1) != "waiver.lapsed" {
			t.Errorf("%s: the journal ends with %s", why, l.Kinds(1))
		}
	}
}
