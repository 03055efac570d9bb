package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"tavrin/internal/service"
	"tavrin/wire"
)

// trunk is rules with one protection of main, with these lines in it.
func trunk(settings string) string {
	return "tavrin: rules/1\nprotect:\n  - name: trunk\n    branches: main\n" + settings
}

// requiring is rules that ask one thing of main.
func requiring(requirement string) string {
	return trunk("    require:\n      - " + requirement + "\n")
}

// requirement finds a requirement of a change's gate by the beginning of its key.
func (w *town) requirement(k wire.Change, key string) wire.Requirement {
	w.t.Helper()
	r, err := w.as("ines").Gate(w.t.Context(), repo, k.Number)
	w.ok(err)
	for _, q := range r.Requirements {
		if strings.HasPrefix(q.Key, key) {
			return q
		}
	}
	w.t.Fatalf("the gate has no requirement %s: %+v", key, r.Requirements)
	return wire.Requirement{}
}

// told is all that a line of the gate says is missing and to be done, in words and as steps.
func told(q wire.Requirement) string {
	text := q.Told() + " " + q.Title
	for _, step := range q.Steps {
		text += fmt.Sprintf(" [%s]", step.Action)
	}
	return text
}

// stands fails the test unless a requirement is in a state and says certain words.
func (w *town) stands(k wire.Change, key, state, says string) {
	w.t.Helper()
	q := w.requirement(k, key)
	if string(q.State) != state || !strings.Contains(told(q), says) {
		w.t.Errorf("%s is %s: %q (%s); want %s and %q", q.Key, q.State, told(q), q.Title, state, says)
	}
}

// Every setting about approvals, through the API.
func TestApprovalSettings(t *testing.T) {
	w := newTown(t)
	w.begin(requiring("approvals: 1"))
	k := w.propose("tamsin", "topic", "a", "a\n")
	// Wren pushes one more commit: tamsin opened it, both brought commits, wren was the last to push.
	dir := w.clone("wren")
	w.must("wren", dir, "checkout", "-q", "topic")
	w.commit("wren", dir, "b", "b\n", "add b")
	w.must("wren", dir, "push", "-q", "origin", "topic")
	k = w.until(k, "at revision 2", func(k wire.Change) bool { return k.Revision == 2 })
	for _, login := range []string{"wren", "odo"} {
		w.approve(login, k)
	}
	cases := []struct{ requirement, state, says string }{
		{"approvals: 1", "met", ""},
		{"approvals: 2", "missing", "wren's approval does not count: an author"},
		{"{approvals: 2, own: counts}", "met", "an author's own counting"},
		{"{approvals: 2, not_from: last_pusher, own: counts}", "missing", "the last to push"},
		{"{approvals: 2, not_from: commit_authors, own: counts}", "missing", "brought or wrote a commit"},
		{"{approvals: 1, from: team:hydraulics}", "met", "from team:hydraulics"},
		{"{approvals: 1, from: person:pavo}", "missing", "pavo could give it"},
		{"{approvals: 1, from: role:maintainer}", "missing", "ines could give it"},
		{"{approvals: 1, on: newest_revision}", "met", "on the newest revision"},
		{"{approvals: 1, called: two pairs of eyes}", "met", "two pairs of eyes: 1 approval"},
		{"{approvals: 9, level: advisory}", "missing", "only admin or ines"},
	}
	for _, c := range cases {
		w.apply(requiring(c.requirement))
		w.stands(k, "approvals", c.state, c.says)
	}
	if r, err := w.as("ines").Gate(t.Context(), repo, k.Number); err != nil || !r.Ready {
		t.Errorf("an advisory requirement blocks: %+v, %v", r, err)
	}
	// A clean rebase keeps an approval of the unchanged difference, but not where the newest revision is asked for.
	w.land2(t, "elsewhere")
	w.must("wren", dir, "fetch", "-q")
	w.must("wren", dir, "rebase", "-q", "origin/main")
	w.must("wren", dir, "push", "-q", "--force", "origin", "topic")
	k = w.until(k, "at revision 3", func(k wire.Change) bool { return k.Revision == 3 })
	for stay, state := range map[string]string{"never": "missing", "if_unchanged": "met", "always": "met"} {
		w.apply(requiring("approvals: 1") + "    after_push: {approvals_stay: " + stay + "}\n")
		w.stands(k, "approvals", state, "")
	}
	w.apply(requiring("{approvals: 1, on: newest_revision}"))
	w.stands(k, "approvals", "missing", "approved revision 2, and the newest is asked for")
}

// land2 moves main on by a push, under rules that let it.
func (w *town) land2(t *testing.T, path string) {
	t.Helper()
	w.apply(trunk("    push: role:maintainer\n"))
	dir := w.clone("ines")
	w.commit("ines", dir, path, "x\n", "move main")
	w.must("ines", dir, "push", "-q", "origin", "main")
}

func TestObjectionsStaySettings(t *testing.T) {
	w := newTown(t)
	w.begin(requiring("objections: none"))
	k := w.propose("tamsin", "topic", "a", "a\n")
	_, err := w.as("odo").Review(t.Context(), repo, k.Number, wire.NewReview{Verdict: "object", Revision: 1, Text: "not like this"})
	w.ok(err)
	w.stands(k, "objections", "missing", "odo objects")
	dir := w.clone("tamsin")
	w.must("tamsin", dir, "checkout", "-q", "topic")
	w.commit("tamsin", dir, "a", "better\n", "do it otherwise")
	w.must("tamsin", dir, "push", "-q", "origin", "topic")
	for stay, state := range map[string]string{"always": "missing", "if_unchanged": "met", "never": "met"} {
		w.apply(requiring("objections: none") + "    after_push: {objections_stay: " + stay + "}\n")
		w.stands(k, "objections", state, "")
	}
}

// Settings about what a change holds: tasks, ticket, fixups, history, messages, signatures, threads.
func TestContentSettings(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	dir := w.clone("tamsin")
	w.must("tamsin", dir, "checkout", "-q", "-b", "fen-7-topic")
	w.commit("tamsin", dir, "a", "a\n", "valves: begin")
	w.commit("tamsin", dir, "a", "b\n", "fixup! valves: begin")
	w.must("tamsin", dir, "push", "-q", "origin", "fen-7-topic")
	k, err := w.as("tamsin").OpenChange(t.Context(), repo, wire.NewChange{Source: "fen-7-topic", Title: "Open slowly", Description: new("- [x] measured\n- [ ] written up\n")})
	w.ok(err)
	cases := []struct{ requirement, key, state, says string }{
		{"tasks: done", "tasks", "missing", `still to do: "written up"`},
		{"threads: resolved", "threads", "not-asked", "no discussion to resolve"},
		{"{threads: resolved, resolved_by: role:maintainer}", "threads", "not-asked", "by role:maintainer"},
		{"ticket: FEN-[0-9]+", "ticket", "missing", "name the ticket in the title, description, branch or commits"},
		{"ticket: fen-[0-9]+", "ticket", "met", ""},
		{"{ticket: 'fen-[0-9]+', in: [title, commits], example: fen-7}", "ticket", "missing", `such as "fen-7"`},
		{"fixups: none", "fixups", "missing", "fold what is left"},
		{"{messages: '^valves: ', example: 'valves: open'}", "messages", "missing", `not of the form ^valves: ; one that fits is "valves: open"`},
		{"messages: '^(fixup! )?valves: '", "messages", "met", ""},
		{"signed: every commit", "signed", "missing", "is not signed"},
		{"history: linear", "history", "met", ""},
	}
	for _, c := range cases {
		w.apply(requiring(c.requirement) + "    land: {strategies: [rebase, squash, merge], default: rebase}\n")
		w.stands(k, c.key, c.state, c.says)
	}
	w.apply(requiring("fixups: none") + "    land: {strategies: squash}\n")
	w.stands(k, "fixups", "not-asked", "squash leaves one commit")
	w.apply(requiring("messages: '^Open'") + "    land: {strategies: squash}\n") // a squash has the title for its message
	w.stands(k, "messages", "met", "")
	w.apply(requiring("history: linear") + "    land: {strategies: [merge, squash], default: merge}\n")
	w.stands(k, "history", "missing", "land by squash")
	w.apply(requiring("tasks: done"))
	title, text := "Open slowly", "- [x] measured\n- [x] written up"
	_, err = w.as("tamsin").EditChange(t.Context(), repo, k.Number, wire.ChangeEdit{Title: &title, Description: &text})
	w.ok(err)
	w.stands(k, "tasks", "met", "")
}

// Settings that hold for direct pushes too: what one is told, and that it is refused.
func TestPushSettings(t *testing.T) {
	w := newTown(t)
	dir := w.begin(simple)
	push := func(login string, refused string, args ...string) {
		t.Helper()
		out, err := w.gitAs(login, dir, append([]string{"push", "origin"}, args...)...)
		if (err != nil) != (refused != "") || !strings.Contains(strings.Join(strings.Fields(strings.ReplaceAll(out, "remote:", "")), " "), refused) {
			t.Errorf("push %v by %s: %v, want %q in\n%s", args, login, err, refused, out)
		}
	}
	start := w.tip("main")
	w.commit("ines", dir, "a", "a\n", "no form")
	w.apply(requiring("{messages: '^[a-z]+: ', example: 'docs: spell'}") + "    push: role:maintainer\n")
	push("ines", `one that fits is "docs: spell"`, "HEAD:main")
	w.apply(requiring("signed: every commit") + "    push: role:maintainer\n")
	push("ines", "is not signed", "HEAD:main")
	w.must("ines", dir, "checkout", "-q", "-b", "side", start)
	w.commit("ines", dir, "side", "s\n", "side")
	w.must("ines", dir, "merge", "-q", "--no-ff", "-m", "merge", "main")
	w.apply(requiring("history: linear") + "    push: role:maintainer\n")
	push("ines", "is a merge commit, and the history stays linear", "HEAD:main")
	push("odo", "only role:maintainer may push", "main:main")
	push("ines", "", "main:main")

	// Creating a matching branch: from what a protected branch holds already, by those named; others who may push, freely.
	w.apply("tavrin: rules/1\nbranches: {trunk: main, release: release/**}\nprotect:\n  - {name: lines, branches: [trunk, release], push: nobody, create: team:hydraulics}\n")
	push("wren", "release/1 may be created by team:hydraulics", "main:release/1")
	push("odo", "it brings new commits", "side:release/1")
	push("odo", "", "main:release/1")
	push("odo", "nobody pushes to it directly", "side:release/1")
	// Rewriting and deletion.
	w.apply("tavrin: rules/1\nprotect:\n  - {name: lines, branches: release/**, push: role:writer, rewrite: allowed, delete: allowed}\n")
	push("odo", "", "--force", start+":refs/heads/release/1")
	push("odo", "", ":release/1")
	w.apply("tavrin: rules/1\nprotect:\n  - {name: lines, branches: release/**, push: role:writer}\n")
	push("odo", "", "main:release/2")
	push("odo", "history is not rewritten", "--force", start+":refs/heads/release/2")
	push("odo", "is not deleted", ":release/2")
	// Exempt: the use is told and recorded; administrators are bound like everybody.
	w.apply("tavrin: rules/1\nprotect:\n  - {name: lines, branches: release/**, push: nobody, exempt: person:odo}\n")
	push("ines", "nobody pushes", "side:release/2")
	push("admin", "nobody pushes", "side:release/2")
	has(t, w.must("odo", dir, "push", "origin", "side:release/2"), `odo is exempt from "lines"`)
	has(t, strings.Join(w.kinds(), " "), "rules.exempted")
}

// Settings about checks: where, which, how many, how fresh, by whom, and what skipped means.
func TestCheckSettings(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	k := w.propose("tamsin", "topic", "a", "a\n")
	report := func(name, state string) { w.report(k.Head, name, state) }
	w.apply(requiring("{checks: [unit, lint], at: [head, rehearsal]}"))
	w.stands(k, "check/unit@head", "pending", "a robot that reports unit")
	w.stands(k, "check/lint@rehearsal", "pending", "[join]")
	report("unit", "passed")
	report("lint", "skipped")
	w.stands(k, "check/unit@head", "met", "")
	w.stands(k, "check/lint@head", "missing", "skipped, which does not count")
	cases := []struct{ rules, key, state, says string }{
		{requiring("{checks: lint, at: head, skipped: counts}"), "check/lint@head", "met", ""},
		{requiring("{checks: '*i*', at: head}"), "check/unit@head", "met", ""},
		{requiring("{checks: 'bench*', at: head}"), "checks/bench*@head", "pending", "no check that matches bench*"},
		{requiring("{checks: [unit, lint, bench], at: head, at_least: 1}"), "checks@head", "met", "at least 1 of unit, lint, bench"},
		{requiring("{checks: [unit, lint, bench], at: head, at_least: 3}"), "checks@head", "missing", "lint skipped"},
		{requiring("{checks: [unit, lint, bench], at: head, at_least: 2}"), "checks@head", "pending", "waiting for a robot that reports bench"},
		{requiring("{checks: unit, at: head, reported_by: robot:builder}"), "check/unit@head", "met", ""},
		{requiring("{checks: unit, at: head, reported_by: robot:another}"), "check/unit@head", "missing", "reported_by robot:another"},
		{requiring("{checks: unit, at: head, max_age: 1h}"), "check/unit@head", "met", ""},
		{"tavrin: rules/1\nchecks: {unit: {reported_by: robot:builder, kind: deployment, environment: field}}\n" + strings.TrimPrefix(requiring("{deployment: field, at: head}"), "tavrin: rules/1\n"), "deployment/field@head", "met", "a deployment to field"},
		{requiring("{deployment: field, at: head}"), "deployment/field@head", "pending", "no check deploys to field"},
		{requiring("{checks: lint, at: head, level: advisory}"), "check/lint@head", "missing", ""},
	}
	for _, c := range cases {
		w.apply(c.rules)
		w.stands(k, c.key, c.state, c.says)
	}
	if r, err := w.as("ines").Gate(t.Context(), repo, k.Number); err != nil || !r.Ready {
		t.Errorf("an advisory check blocks: %+v, %v", r, err)
	}
	// A check robot whose token is revoked: what it said stays said; nothing new comes, and the gate says who it waits for.
	w.apply(requiring("{checks: [unit, bench], at: head}"))
	tokens, err := w.admin.Tokens(t.Context())
	w.ok(err)
	for _, token := range tokens {
		if token.Login == "builder" {
			w.ok(w.admin.RevokeToken(t.Context(), token.ID))
		}
	}
	w.stands(k, "check/bench@head", "pending", "waiting for a robot that reports bench")
	checked, err := w.as("ines").LintRules(t.Context(), repo, requiring("{checks: bench, at: head}"))
	w.ok(err)
	if len(checked.Advice) == 0 || !strings.Contains(checked.Advice[0].Text, "can be reported by nobody") {
		t.Errorf("lint says %+v", checked.Advice)
	}
}

// A pass that has grown too old is asked for again by itself, and lands only when the new one passed.
func TestFreshnessOnTheRehearsal(t *testing.T) {
	w := newTown(t)
	now := time.Now()
	w.close()
	w.open(service.Options{Now: func() time.Time { return now }})
	w.admin = w.as("admin")
	w.begin("tavrin: rules/1\nchecks: {unit: {max_age: 1h}, lint: {timeout: 24h}}\nprotect:\n  - {name: trunk, branches: main, require: [{checks: unit}, {checks: lint}]}\n")
	k := w.propose("tamsin", "topic", "a", "a\n")
	w.join("tamsin", k, "rebase")
	commit := w.rehearsed(k)
	w.report(commit, "unit", "passed")
	now = now.Add(2 * time.Hour)
	w.until(k, "waiting for unit again", func(k wire.Change) bool {
		return k.Entry.Rehearsal != nil && len(k.Entry.Rehearsal.Checks) == 2 && k.Entry.Rehearsal.Checks[1].Attempt == 2
	})
	w.report(commit, "lint", "passed")
	if got := w.until(k, "still rehearsing", func(k wire.Change) bool { return k.Entry.State == "rehearsing" }); got.State != "open" {
		t.Errorf("it is %s with an old pass", got.State)
	}
	_, err := w.as("builder").ReportCheck(t.Context(), repo, wire.NewReport{Commit: commit, Name: "unit", State: "passed", Attempt: 2})
	w.ok(err)
	w.landed(k)
}

// Every key of a condition, and that it narrows its own requirement only.
func TestConditions(t *testing.T) {
	w := newTown(t)
	_, err := w.admin.CreateTeam(t.Context(), wire.NewTeam{Name: "contractors", Members: []string{"tamsin"}})
	w.ok(err)
	w.begin(simple)
	k := w.propose("tamsin", "hotfix/leak", "valves/a", lines(30, nil))
	const head = "tavrin: rules/1\nbranches: {hotfix: hotfix/**}\nlabels: {urgent: {set_by: team:hydraulics}}\nareas: {valves: {paths: valves/**, owners: team:hydraulics}, docs: {paths: docs/**, owners: team:hydraulics}}\n"
	under := func(when string) string {
		return head + strings.TrimPrefix(requiring("{approvals: 1, when: {"+when+"}}\n      - objections: none"), "tavrin: rules/1\n")
	}
	cases := map[string]bool{
		"paths: valves/**": true, "paths: ['docs/**', '!x']": false, "areas: valves": true, "areas: docs": false, "lines: over 29": true, "lines: over 30": false,
		"lines: under 31": true, "files: under 2": true, "files: over 1": false, "source: hotfix": true, "source: feature/**": false, "author: team:contractors": true,
		"author: person:wren": false, "label: urgent": false, "cel: 'lines > 20 && \"valves\" in areas'": true, "cel: 'size(paths) > 1'": false,
		"lines: over 10, paths: docs/**": false, "cel: 'paths[5] == \"x\"'": true, // it cannot be worked out, so it is asked for
	}
	for when, asked := range cases {
		w.apply(under(when))
		q := w.requirement(k, "approvals")
		if (q.State == "missing") != asked || (!asked && (q.State != "not-asked" || !strings.HasPrefix(q.Next, "asked when"))) {
			t.Errorf("when %s: %s, %q", when, q.State, q.Next)
		}
		w.stands(k, "objections", "met", "")
	}
	// Labels are set by those whom the rules name, and nobody else; then the condition holds.
	w.apply(under("label: urgent"))
	_, err = w.as("tamsin").SetLabels(t.Context(), repo, k.Number, []string{"urgent"}, nil)
	problem(t, err, 403, "set and removed by team:hydraulics")
	_, err = w.as("odo").SetLabels(t.Context(), repo, k.Number, []string{"nosuch"}, nil)
	problem(t, err, 422, `no label "nosuch"`)
	labelled, err := w.as("odo").SetLabels(t.Context(), repo, k.Number, []string{"urgent"}, nil)
	w.ok(err)
	if fmt.Sprint(labelled.Labels) != "[urgent]" {
		t.Errorf("labels are %v", labelled.Labels)
	}
	w.stands(k, "approvals", "missing", "")
	_, err = w.as("odo").SetLabels(t.Context(), repo, k.Number, nil, []string{"urgent"})
	w.ok(err)
	w.stands(k, "approvals", "not-asked", "labelled urgent")
	// An author who lost their access keeps their teams for conditions: nothing opens by that.
	w.apply(under("author: team:contractors"))
	w.disable("tamsin", true)
	w.stands(k, "approvals", "missing", "")
}

// Settings about landing: by whom, how, with which message and trailers, and whether joining early is allowed.
func TestLandSettings(t *testing.T) {
	w := newTown(t)
	w.begin(trunk("    require: [{approvals: 1}]\n    land: {who: role:maintainer, strategies: [squash, merge], default: squash, join_early: false, delete_source: true,\n" +
		"      message: \"{title} ({source})\", trailers: [\"Proposed-by: {author}\", \"Number: {number}\"]}\n"))
	k := w.propose("tamsin", "topic", "a", "a\n")
	_, err := w.as("tamsin").Join(t.Context(), repo, k.Number, wire.NewEntry{})
	problem(t, err, 409, "only when its gate is ready", `says "trunk"`, "1 approval")
	w.approve("odo", k)
	_, err = w.as("ines").Join(t.Context(), repo, k.Number, wire.NewEntry{Strategy: "rebase"})
	problem(t, err, 422, "one of squash, merge")
	w.join("tamsin", k, "")
	w.stands(k, "lander", "missing", "landing is for role:maintainer")
	_, err = w.as("tamsin").Leave(t.Context(), repo, k.Number)
	w.ok(err)
	w.join("ines", k, "")
	done := w.landed(k)
	dir := w.clone("ines")
	message := w.must("ines", dir, "log", "-1", "--format=%B", done.LandedCommit)
	has(t, message, "Bring topic (topic)\n\n", "\nNumber: 1\nProposed-by: tamsin\nLanded-change: growers/irrigation 1\nApproved-by: Odo")
	if w.tip("topic") != "" {
		t.Error("the source branch is still there")
	}
	if got := w.must("ines", dir, "log", "-1", "--format=%(trailers:key=Proposed-by,valueonly)", done.LandedCommit); strings.TrimSpace(got) != "tamsin" {
		t.Errorf("git reads the trailer as %q", got)
	}
}

// Who is exempt lands against the protection's requirements, which the gate and the record show.
func TestExemptLanding(t *testing.T) {
	w := newTown(t)
	w.begin(trunk("    exempt: person:odo\n    require: [{approvals: 2}, {checks: unit}]\n"))
	k := w.propose("tamsin", "topic", "a", "a\n")
	w.join("odo", k, "rebase")
	done := w.landed(k)
	if w.tip("main") != done.LandedCommit {
		t.Error("main did not move")
	}
	l, err := w.as("ines").Landing(t.Context(), repo, k.Number)
	w.ok(err)
	if len(l.Report.Exempted) != 1 || !strings.Contains(l.Report.Exempted[0], "trunk") {
		t.Errorf("the record does not say who was exempt: %+v", l.Report)
	}
	for _, q := range l.Report.Requirements {
		if strings.HasPrefix(q.Key, "approvals") && (q.State != "waived" || !strings.Contains(q.Next, "odo")) {
			t.Errorf("%s is %s: %s", q.Key, q.State, q.Next)
		}
	}
	has(t, strings.Join(w.kinds(), " "), "rules.exempted")
}

// Areas ask for reviews when a change is opened, and their own approvals and checks; all that match apply.
func TestAreaSettings(t *testing.T) {
	w := newTown(t)
	w.begin("tavrin: rules/1\nareas:\n  valves: {paths: [\"valves/**\", \"!**/*.md\"], owners: team:hydraulics, require: [{approvals: 1}, {checks: bench}], reviewers: [\"team:hydraulics\", \"person:tamsin\"], optional: person:pavo}\n" +
		"  all: {paths: '**', owners: [\"person:ines\", \"person:wren\"], require: [{approvals: 2}]}\nprotect:\n  - {name: trunk, branches: main}\n")
	k := w.propose("tamsin", "topic", "valves/a", "a\n")
	var asked []string
	for _, r := range k.Reviewers {
		asked = append(asked, fmt.Sprintf("%s %v", r.Who, r.Optional))
	}
	if fmt.Sprint(asked) != "[team:hydraulics false person:pavo true]" {
		t.Errorf("reviewers are %v", asked)
	}
	w.stands(k, "owners/valves", "missing", "odo could give it")
	w.stands(k, "owners/all", "missing", "2 approvals by an owner of all")
	w.stands(k, "check/bench@rehearsal", "pending", "")
	at, err := w.as("pavo").ChangeAreas(t.Context(), repo, k.Number)
	w.ok(err)
	if fmt.Sprint(at.Enough, at.Exact, at.Hopeless, at.Unowned) != "[ines odo wren] true [] []" || len(at.Areas) != 2 {
		t.Errorf("areas of the change: %+v", at)
	}
	owns, err := w.as("pavo").WhoOwns(t.Context(), repo, "valves/README.md")
	w.ok(err)
	if len(owns.Areas) != 1 || owns.Areas[0].Area != "all" || owns.Areas[0].Pattern != "**" || owns.Files != 0 {
		t.Errorf("owners of valves/README.md: %+v", owns)
	}
	// A person removed while an area names them, a team emptied: the gate says so, and nothing opens.
	w.ok(w.admin.SetTeam(t.Context(), "hydraulics", []string{}, nil))
	w.stands(k, "owners/valves", "missing", "nobody could give one")
	w.disable("wren", true)
	w.stands(k, "owners/all", "missing", "only ines could give one")
	at, err = w.as("pavo").ChangeAreas(t.Context(), repo, k.Number)
	w.ok(err)
	if len(at.Hopeless) != 2 {
		t.Errorf("hopeless are %v", at.Hopeless)
	}
	loads, err := w.as("ines").ReviewLoads(t.Context(), repo)
	w.ok(err)
	if len(loads) != 2 || loads[0].Login != "ines" || loads[0].Could != 1 || loads[1].Login != "pavo" && loads[1].Login != "odo" {
		t.Logf("loads are %+v", loads)
	}
}

// The command line answers who owns what, and what nobody owns.
func TestAreaCommands(t *testing.T) {
	w := newTown(t)
	dir := w.begin("tavrin: rules/1\nareas:\n  docs: {paths: [docs/**, nowhere/**], owners: team:hydraulics}\nprotect:\n  - {name: trunk, branches: main, push: role:writer}\n")
	w.commit("ines", dir, "docs/members.md", "m\n", "docs")
	w.must("ines", dir, "push", "-q", "origin", "main")
	k := w.propose("tamsin", "topic", "docs/a.md", "a\n")
	w.says("tamsin", 0, "docs/members.md is owned by team:hydraulics (odo)", "--repo", repo, "area", "owners", "docs/members.md")
	w.says("tamsin", 0, "nobody owns README.md", "--repo", repo, "area", "owners", "README.md")
	out := w.says("tamsin", 0, "area docs: nowhere/** matches nothing", "--repo", repo, "area", "gaps")
	has(t, strings.Join(strings.Fields(out), " "), "(all) 2 1 50 %", "docs/ 1 0 0 %")
	w.says("tamsin", 0, "docs/**, nowhere/**", "--repo", repo, "area", "list")
	w.says("tamsin", 0, "no approval is missing", "--repo", repo, "area", "change", fmt.Sprint(k.Number))
	w.says("tamsin", 0, "nobody was asked for a review", "--repo", repo, "area", "workload")
	w.says("tamsin", 0, "labels", "--repo", repo, "change", "label", "--help")
}

// file writes a file for a command and returns its path.
func (w *town) file(name, text string) string {
	w.t.Helper()
	path := filepath.Join(w.t.TempDir(), name)
	w.ok(os.WriteFile(path, []byte(text), 0o600))
	return path
}
