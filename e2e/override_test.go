package e2e

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"tavrin/client"
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
    override: person:wren
  - name: floor
    branches: main
    push: nobody
    require:
      - objections: none
    override: [person:wren, person:ines]
`

// keysOf lists the keys of what is set aside.
func keysOf(aside []wire.SetAside) string {
	var keys []string
	for _, r := range aside {
		keys = append(keys, r.Key)
	}
	return strings.Join(keys, " ")
}

// A change lands against named requirements only by somebody with the right, who confirmed exactly those, and somebody
// else has to look at it (P1).
func TestP1OverrideLanding(t *testing.T) {
	w := newTown(t)
	w.begin(withDuty)
	ctx := t.Context()
	k := w.propose("tamsin", "flood", "pumps", "off\n")
	other := w.propose("tamsin", "calm", "docs", "calm\n")
	w.approve("odo", other)
	w.join("tamsin", other, "")
	w.rehearsed(other) // it is at work when the emergency comes

	_, err := w.as("odo").PlanOverride(ctx, repo, k.Number, nil)
	problem(t, err, 403, "nothing of what is missing may be set aside by you", `"trunk"`, "gives the right to person:wren")
	_, err = w.as("pavo").PlanOverride(ctx, repo, k.Number, nil)
	problem(t, err, 403, "pavo")
	_, err = w.as("ines").Override(ctx, repo, k.Number, client.NewOverride{Requirements: []string{"approvals"}, Because: "x"})
	problem(t, err, 403, "approvals may not be set aside by you")
	duty := w.as("wren")
	_, err = duty.PlanOverride(ctx, repo, k.Number, []string{"owners"})
	problem(t, err, 422, `nothing called "owners" is missing; missing are approvals, check/unit@rehearsal`)
	_, err = duty.Override(ctx, repo, k.Number, client.NewOverride{Because: "  "})
	problem(t, err, 422, "an override needs a reason")
	_, err = duty.Override(ctx, repo, k.Number, client.NewOverride{Because: "x", ForSeconds: 100000})
	problem(t, err, 422, "from 1m to 24h")
	_, err = duty.Override(ctx, repo, k.Number, client.NewOverride{Because: "x"})
	problem(t, err, 409, "would set aside: 1 approval; check unit passes on the rehearsal", "Confirm exactly that with")

	plan, err := duty.PlanOverride(ctx, repo, k.Number, []string{"approvals"})
	w.ok(err)
	if keysOf(plan.Aside) != "approvals" || len(plan.Left) != 1 || plan.Left[0].Key != "check/unit@rehearsal" || plan.Left[0].Why != "" {
		t.Errorf("plan is %+v", plan)
	}
	_, err = duty.Override(ctx, repo, k.Number, client.NewOverride{Because: "x", Confirm: plan.Confirm}) // names more than was confirmed
	problem(t, err, 409, "not what you confirmed")
	o, err := duty.Override(ctx, repo, k.Number, client.NewOverride{Requirements: []string{"approvals"}, Because: "the pumps run dry", Confirm: plan.Confirm})
	w.ok(err)
	if o.State != "open" || o.By != "wren" || keysOf(o.Aside) != "approvals" {
		t.Errorf("override is %+v", o)
	}
	w.join("tamsin", k, "")
	commit := w.rehearsed(k) // before the one that was ahead
	report, err := duty.Gate(ctx, repo, k.Number)
	w.ok(err)
	for _, q := range report.Requirements {
		if want := map[string]string{"approvals": "overridden", "check/unit@rehearsal": "pending"}[q.Key]; want != "" && string(q.State) != want {
			t.Errorf("%s is %s, not %s", q.Key, q.State, want)
		}
	}
	w.report(commit, "unit", "passed") // it was not set aside, so it has to pass
	now := w.landed(k)
	if len(now.Overrides) != 1 || now.Overrides[0].State != "used" || now.Overrides[0].UsedAs != now.LandedCommit || now.Overrides[0].LookedBy != "" {
		t.Errorf("after landing: %+v", now.Overrides)
	}
	history, err := w.as("pavo").History(ctx, repo, "main", 5)
	w.ok(err)
	if history[0].ID != now.LandedCommit || history[0].Override == nil || history[0].Override.Because != "the pumps run dry" {
		t.Errorf("history begins with %+v", history[0])
	}
	landing, err := w.as("pavo").Landing(ctx, repo, k.Number)
	w.ok(err)
	if fmt.Sprint(landing.Report.Overrides) != fmt.Sprint([]int64{o.ID}) || !landing.Report.Clear {
		t.Errorf("the landing's report is %+v", landing.Report)
	}

	onDesk := func(login string) bool {
		t.Helper()
		desk, err := w.as(login).Desk(ctx)
		w.ok(err)
		return slices.ContainsFunc(desk, func(i wire.DeskItem) bool {
			return i.Kind == "second-look" && strings.Contains(i.What, "the pumps run dry")
		})
	}
	if !onDesk("ines") || onDesk("wren") || onDesk("odo") {
		t.Error("the second look is not on the desk of the maintainer alone")
	}
	_, err = duty.LookAt(ctx, repo, o.ID, "fine")
	problem(t, err, 403, "yours; somebody else has to look")
	_, err = w.as("ines").LookAt(ctx, repo, o.ID, " ")
	problem(t, err, 422, "say what you found")
	_, err = w.as("ines").LookAt(ctx, repo, 99, "fine")
	problem(t, err, 404, "no override 99")
	_, err = w.as("pavo").LookAt(ctx, repo, o.ID, "fine")
	problem(t, err, 403, "pavo")
	looked, err := w.as("ines").LookAt(ctx, repo, o.ID, "right to stop the pumps")
	w.ok(err)
	if looked.LookedBy != "ines" || looked.Number != k.Number || onDesk("ines") {
		t.Errorf("looked at: %+v", looked)
	}
	_, err = w.as("odo").LookAt(ctx, repo, o.ID, "me too")
	problem(t, err, 409, "ines has looked at override 1 already")
	w.report(w.rehearsed(other), "unit", "passed")
	w.landed(other)
	kinds := strings.Join(w.kinds(), " ")
	has(t, kinds, "override.made", "override.used", "override.looked")
	if _, err := w.admin.VerifyJournal(ctx, nil); err != nil {
		t.Error(err)
	}
}

// An override counts for one revision, on one tip, for a time, and once (P1).
func TestP1OverrideLapses(t *testing.T) {
	w := newTown(t)
	w.begin(withDuty)
	ctx := t.Context()
	duty := w.as("wren")
	make := func(k wire.Change) wire.Override {
		t.Helper()
		plan, err := duty.PlanOverride(ctx, repo, k.Number, nil)
		w.ok(err)
		o, err := duty.Override(ctx, repo, k.Number, client.NewOverride{Because: "it floods", Confirm: plan.Confirm})
		w.ok(err)
		return o
	}
	lapsed := func(o wire.Override, why string) {
		t.Helper()
		for range 400 {
			all, err := duty.Overrides(ctx, repo, false)
			w.ok(err)
			i := slices.IndexFunc(all, func(x wire.Override) bool { return x.ID == o.ID })
			if all[i].State == "lapsed" {
				has(t, all[i].Why, why)
				return
			}
			pause()
		}
		t.Fatalf("override %d never lapsed", o.ID)
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
		t.Error("the gate is not ready although what it lacks is set aside")
	}
	w.commit("tamsin", dir, "a", "b\n", "two")
	w.must("tamsin", dir, "push", "-q", "origin", "topic")
	if ready(k) {
		t.Error("the override counts for a revision that came after it")
	}
	lapsed(o, "it was for revision 1")

	other := w.propose("tamsin", "other", "b", "b\n")
	o, p := make(k), make(other)
	w.join("tamsin", other, "")
	w.landed(other) // everything was set aside, the check too
	if ready(k) {
		t.Error("the override counts for a tip that came after it")
	}
	lapsed(o, "the target has moved on")
	if all, _ := duty.Overrides(ctx, repo, true); len(all) != 1 || all[0].ID != p.ID {
		t.Errorf("open ones are %+v", all) // used, and not looked at
	}
	o = make(k)
	w.apply(strings.ReplaceAll(withDuty, "person:wren", "person:odo"))
	if ready(k) {
		t.Error("the override outlives the right to it")
	}
	_, err := w.as("tamsin").CloseChange(ctx, repo, k.Number)
	w.ok(err)
	lapsed(o, "the change was closed")
	_, err = duty.PlanOverride(ctx, repo, k.Number, nil)
	problem(t, err, 409, "is closed, so there is nothing to set aside")
}

// A push against the rules goes through once, for the commit and the tip that were confirmed, and is on record (P1).
func TestP1OverridePush(t *testing.T) {
	w := newTown(t)
	w.begin(withDuty)
	ctx := t.Context()
	dir := w.clone("wren")
	commit := w.commit("wren", dir, "pumps", "off\n", "stop the pumps")
	out, err := w.gitAs("wren", dir, "push", "origin", "HEAD:main")
	if err == nil {
		t.Fatal("main was pushed to")
	}
	has(t, out, "nobody pushes to it directly", "tavrin override push main --repo growers/irrigation --commit "+commit)
	duty := w.as("wren")
	_, err = duty.PlanPushOverride(ctx, repo, "main", commit)
	problem(t, err, 422, "push it to a branch of its own first")
	w.must("wren", dir, "push", "-q", "origin", "HEAD:wren/flood")
	_, err = w.as("odo").PlanPushOverride(ctx, repo, "main", commit)
	problem(t, err, 403, "gives the right to")
	_, err = duty.PlanPushOverride(ctx, repo, "nowhere", commit)
	problem(t, err, 404, "no branch nowhere")
	_, err = w.as("ines").OverridePush(ctx, repo, client.NewPushOverride{Branch: "main", Commit: commit, Because: "x"})
	problem(t, err, 403, "stands in the way as well", "trunk: nobody pushes to it directly")

	said := []string{"override", "push", "main", "--repo", repo, "--commit", commit, "--because", "the pumps run dry"}
	_, asked, status := w.run("wren", w.dir, said...)
	if status != 3 {
		t.Fatalf("unconfirmed, it ended with %d", status)
	}
	has(t, asked, "This would set aside:", "<o> floor: nobody pushes to it directly", "<o> trunk: nobody pushes to it directly", "--confirm")
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
	if history[0].Override == nil || history[0].Override.By != "wren" {
		t.Errorf("history begins with %+v", history[0])
	}
	has(t, w.says("odo", 0, "nobody has looked at it yet", "override", "list", "--repo", repo), "push of "+commit[:10])
	w.says("odo", 0, "looked at by odo", "override", "look", "1", "--repo", repo, "--text", "the pumps had to stop")
}
