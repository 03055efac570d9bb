package e2e

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"tavrin/wire"
)

const withDuty = `tavrin: rules/1
protect:
  - name: trunk
    branches: main
    push: nobody
    require:
      - approvals: 1
      - checks: [unit]
    waive: person:wren
  - name: floor
    branches: main
    push: nobody
    require:
      - objections: none
    waive: [person:wren, person:ines]
    queue: {planner: one-at-a-time, reruns: 0}
`

// keysOf lists the keys of what is waived.
func keysOf(waives []wire.Waived) string {
	var keys []string
	for _, r := range waives {
		keys = append(keys, r.Key)
	}
	return strings.Join(keys, " ")
}

// A change lands against named requirements only by somebody with the right, who confirmed exactly those, and somebody
// else has to acknowledge it (P1).
func TestP1WaiverLanding(t *testing.T) {
	w := newTown(t)
	w.begin(withDuty)
	ctx := t.Context()
	k := w.propose("tamsin", "flood", "pumps", "off\n")
	other := w.propose("tamsin", "calm", "docs", "calm\n")
	w.approve("odo", other)
	w.join("tamsin", other, "")
	w.rehearsed(other) // it is at work when the emergency comes

	_, err := w.as("odo").PlanWaiver(ctx, repo, k.Number, nil)
	problem(t, err, 403, "nothing of what is missing may be waived by you", `"trunk"`, "gives the right to person:wren")
	_, err = w.as("pavo").PlanWaiver(ctx, repo, k.Number, nil)
	problem(t, err, 403, "pavo")
	_, err = w.as("ines").Waive(ctx, repo, k.Number, wire.NewWaiver{Requirements: []string{"approvals"}, Reason: "x"})
	problem(t, err, 403, "approvals may not be waived by you")
	duty := w.as("wren")
	_, err = duty.PlanWaiver(ctx, repo, k.Number, []string{"owners"})
	problem(t, err, 422, `nothing called "owners" is missing; missing are approvals, check/unit@rehearsal`)
	_, err = duty.Waive(ctx, repo, k.Number, wire.NewWaiver{Reason: "  "})
	problem(t, err, 422, "a waiver needs a reason")
	_, err = duty.Waive(ctx, repo, k.Number, wire.NewWaiver{Reason: "x", ForSeconds: 100000})
	problem(t, err, 422, "from 1m to 24h")
	_, err = duty.Waive(ctx, repo, k.Number, wire.NewWaiver{Reason: "x"})
	problem(t, err, 409, "would waive: 1 approval; check unit passes on the rehearsal", "Confirm exactly that with")

	plan, err := duty.PlanWaiver(ctx, repo, k.Number, []string{"approvals"})
	w.ok(err)
	if keysOf(plan.Waives) != "approvals" || len(plan.Left) != 1 || plan.Left[0].Key != "check/unit@rehearsal" || plan.Left[0].Why != "" {
		t.Errorf("plan is %+v", plan)
	}
	_, err = duty.Waive(ctx, repo, k.Number, wire.NewWaiver{Reason: "x", Confirm: plan.Confirm}) // names more than was confirmed
	problem(t, err, 409, "not what you confirmed")
	o, err := duty.Waive(ctx, repo, k.Number, wire.NewWaiver{Requirements: []string{"approvals"}, Reason: "the pumps run dry", Confirm: plan.Confirm})
	w.ok(err)
	if o.State != "open" || o.By != "wren" || keysOf(o.Waives) != "approvals" {
		t.Errorf("waiver is %+v", o)
	}
	w.join("tamsin", k, "")
	commit := w.rehearsed(k) // before the one that was ahead
	report, err := duty.Gate(ctx, repo, k.Number)
	w.ok(err)
	for _, q := range report.Requirements {
		if want := map[string]string{"approvals": "waived", "check/unit@rehearsal": "pending"}[q.Key]; want != "" && string(q.State) != want {
			t.Errorf("%s is %s, not %s", q.Key, q.State, want)
		}
	}
	w.report(commit, "unit", "passed") // it was not waived, so it has to pass
	now := w.landed(k)
	if len(now.Waivers) != 1 || now.Waivers[0].State != "used" || now.Waivers[0].UsedAs != now.LandedCommit || now.Waivers[0].AcknowledgedBy != "" {
		t.Errorf("after landing: %+v", now.Waivers)
	}
	history, err := w.as("pavo").History(ctx, repo, "main", 5)
	w.ok(err)
	if history[0].ID != now.LandedCommit || history[0].Waiver == nil || history[0].Waiver.Reason != "the pumps run dry" {
		t.Errorf("history begins with %+v", history[0])
	}
	landing, err := w.as("pavo").Landing(ctx, repo, k.Number)
	w.ok(err)
	if fmt.Sprint(landing.Report.Waivers) != fmt.Sprint([]int64{o.ID}) || !landing.Report.Clear {
		t.Errorf("the landing's report is %+v", landing.Report)
	}

	onDesk := func(login string) bool {
		t.Helper()
		desk, err := w.as(login).Desk(ctx)
		w.ok(err)
		return slices.ContainsFunc(desk, func(i wire.DeskItem) bool {
			return i.Kind == "acknowledge" && strings.Contains(i.What, "the pumps run dry")
		})
	}
	if !onDesk("ines") || onDesk("wren") || onDesk("odo") {
		t.Error("the acknowledgement is not on the desk of the maintainer alone")
	}
	_, err = duty.Acknowledge(ctx, repo, o.ID, "fine")
	problem(t, err, 403, "yours; somebody else has to acknowledge it")
	_, err = w.as("ines").Acknowledge(ctx, repo, o.ID, " ")
	problem(t, err, 422, "say what you found")
	_, err = w.as("ines").Acknowledge(ctx, repo, 99, "fine")
	problem(t, err, 404, "no waiver 99")
	_, err = w.as("pavo").Acknowledge(ctx, repo, o.ID, "fine")
	problem(t, err, 403, "pavo")
	looked, err := w.as("ines").Acknowledge(ctx, repo, o.ID, "right to stop the pumps")
	w.ok(err)
	if looked.AcknowledgedBy != "ines" || looked.Number != k.Number || onDesk("ines") {
		t.Errorf("looked at: %+v", looked)
	}
	_, err = w.as("odo").Acknowledge(ctx, repo, o.ID, "me too")
	problem(t, err, 409, "ines has acknowledged waiver 1 already")
	w.report(w.rehearsed(other), "unit", "passed")
	w.landed(other)
	kinds := strings.Join(w.kinds(), " ")
	has(t, kinds, "waiver.made", "waiver.used", "waiver.acknowledged")
	if _, err := w.admin.VerifyJournal(ctx, nil, true, nil); err != nil {
		t.Error(err)
	}
}

// A waiver counts for one revision, on one tip, for a time, and once (P1).
func TestP1WaiverLapses(t *testing.T) {
	w := newTown(t)
	w.begin(withDuty)
	ctx := t.Context()
	duty := w.as("wren")
	make := func(k wire.Change) wire.Waiver {
		t.Helper()
		plan, err := duty.PlanWaiver(ctx, repo, k.Number, nil)
		w.ok(err)
		o, err := duty.Waive(ctx, repo, k.Number, wire.NewWaiver{Reason: "it floods", Confirm: plan.Confirm})
		w.ok(err)
		return o
	}
	lapsed := func(o wire.Waiver, why string) {
		t.Helper()
		for range 400 {
			all, err := duty.Waivers(ctx, repo, false)
			w.ok(err)
			i := slices.IndexFunc(all, func(x wire.Waiver) bool { return x.ID == o.ID })
			if all[i].State == "lapsed" {
				has(t, all[i].Why, why)
				return
			}
			pause()
		}
		t.Fatalf("waiver %d never lapsed", o.ID)
	}
	ready := func(k wire.Change) bool {
		t.Helper()
		now, err := duty.Change(ctx, repo, k.Number)
		w.ok(err)
		return now.Ready
	}
	dir := w.clone("tamsin")
	w.must("tamsin", dir, "checkout", "-q", "-b", "topic")
	w.commit("tamsin", dir, "a", "a\n", "one")
	w.must("tamsin", dir, "push", "-q", "origin", "topic")
	k := w.openChange("tamsin", "topic")

	o := make(k)
	if !ready(k) {
		t.Error("the gate is not ready although what it lacks is waived")
	}
	w.commit("tamsin", dir, "a", "b\n", "two")
	w.must("tamsin", dir, "push", "-q", "origin", "topic")
	if ready(k) {
		t.Error("the waiver counts for a revision that came after it")
	}
	lapsed(o, "it was for revision 1")

	other := w.propose("tamsin", "other", "b", "b\n")
	o, p := make(k), make(other)
	w.join("tamsin", other, "")
	w.landed(other) // everything was waived, the check too
	if ready(k) {
		t.Error("the waiver counts for a tip that came after it")
	}
	lapsed(o, "the target has moved on")
	if all, _ := duty.Waivers(ctx, repo, true); len(all) != 1 || all[0].ID != p.ID {
		t.Errorf("open ones are %+v", all) // used, and not acknowledged
	}
	o = make(k)
	w.apply(strings.ReplaceAll(withDuty, "person:wren", "person:odo"))
	if ready(k) {
		t.Error("the waiver outlives the right to it")
	}
	_, err := w.as("tamsin").CloseChange(ctx, repo, k.Number)
	w.ok(err)
	lapsed(o, "the change was closed")
	_, err = duty.PlanWaiver(ctx, repo, k.Number, nil)
	problem(t, err, 409, "is closed, so there is nothing to waive")
}

// A push against the rules goes through once, for the commit and the tip that were confirmed, and is on record (P1).
func TestP1WaiverPush(t *testing.T) {
	w := newTown(t)
	w.begin(withDuty)
	ctx := t.Context()
	dir := w.clone("wren")
	commit := w.commit("wren", dir, "pumps", "off\n", "stop the pumps")
	out, err := w.gitAs("wren", dir, "push", "origin", "HEAD:main")
	if err == nil {
		t.Fatal("main was pushed to")
	}
	has(t, out, "nobody pushes to it directly", "tavrin waiver push main --repo growers/irrigation --commit "+commit)
	duty := w.as("wren")
	_, err = duty.PlanPushWaiver(ctx, repo, "main", commit)
	problem(t, err, 422, "push it to a branch of its own first")
	w.must("wren", dir, "push", "-q", "origin", "HEAD:wren/flood")
	_, err = w.as("odo").PlanPushWaiver(ctx, repo, "main", commit)
	problem(t, err, 403, "gives the right to")
	_, err = duty.PlanPushWaiver(ctx, repo, "nowhere", commit)
	problem(t, err, 404, "no branch nowhere")
	_, err = w.as("ines").WaivePush(ctx, repo, wire.NewPushWaiver{Branch: "main", Commit: commit, Reason: "x"})
	problem(t, err, 403, "stands in the way as well", "trunk: nobody pushes to it directly")

	said := []string{"waiver", "push", "main", "--repo", repo, "--commit", commit, "--reason", "the pumps run dry"}
	_, asked, status := w.run("wren", w.dir, said...)
	if status != 3 {
		t.Fatalf("unconfirmed, it ended with %d", status)
	}
	has(t, asked, "This would waive:", "<o>", "floor: nobody pushes to it directly", "trunk: nobody pushes to it directly", "--confirm")
	code := strings.Fields(asked[strings.LastIndex(asked, "--confirm ")+10:])[0]
	w.says("wren", 0, "git push origin "+commit+":refs/heads/main", append(said, "--confirm", code)...)
	more := w.commit("wren", dir, "pumps", "still off\n", "more")
	if out, err := w.gitAs("wren", dir, "push", "origin", more+":refs/heads/main"); err == nil {
		t.Errorf("another commit went through:\n%s", out)
	}
	if out, err := w.gitAs("ines", w.clone("ines"), "push", "origin", "origin/wren/flood:refs/heads/main"); err == nil {
		t.Errorf("it served somebody else:\n%s", out)
	}
	out = w.must("wren", dir, "push", "origin", commit+":refs/heads/main")
	has(t, out, "is used up by this push")
	if w.tip("main") != commit {
		t.Error("main did not move")
	}
	if out, err := w.gitAs("wren", dir, "push", "origin", more+":refs/heads/main"); err == nil {
		t.Errorf("it was used twice:\n%s", out)
	}
	history, err := duty.History(ctx, repo, "main", 5)
	w.ok(err)
	if history[0].Waiver == nil || history[0].Waiver.By != "wren" {
		t.Errorf("history begins with %+v", history[0])
	}
	has(t, w.says("odo", 0, "not acknowledged yet", "waiver", "list", "--repo", repo), "push of "+commit[:10])
	w.says("odo", 0, "acknowledged by odo", "waiver", "acknowledge", "1", "--repo", repo, "--text", "the pumps had to stop")
}
