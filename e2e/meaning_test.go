package e2e

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"tavrin/wire"
)

// What a house or a repository begins to define is no other thing to the other, or it is said to loosen and how (P8).
func TestP8WhatBeginsElsewhere(t *testing.T) {
	w := newTown(t)
	w.begin("tavrin: rules/1\nprotect: [{name: own, branches: main}]\n")
	ctx := t.Context()
	const head, own, clause = "tavrin: rules/1\n", "protect: [{name: own, branches: main}]\n", "loosening: {agreed_by: person:odo}\n"
	asks := func(requirement string) string {
		return "protect: [{name: floor, branches: main, require: [{" + requirement + "}]}]\n"
	}
	apply := func(where, text string) wire.RulesApplied {
		t.Helper()
		a, err := w.admin.ApplyRules(ctx, where, wire.NewRules{Text: text, Reason: "to see"}, -1)
		w.ok(err)
		return a
	}
	settle := func(where, text string) {
		t.Helper()
		if a := apply(where, text); a.Proposal != nil {
			t.Fatalf("%s waits for somebody: %+v", where, a.Proposal)
		}
	}
	for _, c := range []struct {
		name, house, own string // what is in force
		where, adds      string
		loosens          string // how; empty: it does not
	}{
		{"a command for a check that the house asks for", asks("checks: unit"), own, repo, "checks: {unit: {command: 'true'}}\n", "a command of these rules, and the house asks for it"},
		{"a house's definition of a check that a repository defines", "", "checks: {unit: {command: make}}\n" + own, "growers", "checks: {unit: {reported_by: robot:builder}}\n", "defines check unit too"},
		{"a house's command for a check that a repository asks for", "", asks("checks: unit"), "growers", "checks: {unit: {command: 'true'}}\n", "and a repository asks for it"},
		{"a repository's area beside a house's expression", asks(`approvals: 1, when: {cel: "size(areas) < 1"}`), own, repo, "areas: {docs: {paths: '**', owners: team:hydraulics}}\n", ""},
		{"a house's area beside a repository's expression", "", asks(`approvals: 1, when: {cel: "size(areas) < 1"}`), "growers", "areas: {docs: {paths: '**', owners: team:hydraulics}}\n", "may come out otherwise"},
		{"a repository's label beside a house's expression", asks(`approvals: 1, when: {cel: "size(labels) < 1"}`), own, repo, "labels: {late: {set_by: role:writer}}\n", ""},
		{"a house's label beside a repository's expression", "", asks(`approvals: 1, when: {cel: "size(labels) < 1"}`), "growers", "labels: {late: {set_by: role:writer}}\n", "may come out otherwise"},
		{"a house's area of a repository's name", "", "areas: {docs: {paths: docs/**, owners: team:hydraulics}}\n" + own, "growers", "areas: {docs: {paths: '**', owners: team:hydraulics}}\n", "defines area docs too"},
		{"a longer timeout than absence gives", "", own, repo, "checks: {unit: {timeout: 3h}}\n", "may pass with more of it"},
		{"a description that ticks what is asked", asks("tasks: done"), own, repo, "changes: {description: '- [x] tried'}\n", "tasks is judged by descriptions"},
		{"squash alone, which is then the first allowed", asks("fixups: none"), own, repo, "protect: [{name: own, branches: main}, {name: more, branches: main, land: {strategies: squash}}]\n", "which is this one where nobody says another"},
		{"rebase alone", asks("fixups: none"), own, repo, "protect: [{name: own, branches: main}, {name: more, branches: main, land: {strategies: rebase}}]\n", ""},
	} {
		settle(repo, head+own)
		settle("growers", head+c.house)
		settle(repo, head+clause+c.own)
		settle("growers", head+clause+c.house)
		rest := map[string]string{repo: c.own, "growers": c.house}[c.where]
		if strings.Contains(c.adds, "protect:") {
			rest = ""
		}
		tried, err := w.admin.TryRules(ctx, c.where, head+clause+rest+c.adds, 0)
		w.ok(err)
		why := ""
		for _, d := range tried.Differences {
			why += d.Why
		}
		proposal := apply(c.where, head+clause+rest+c.adds).Proposal
		if tried.Loosens != (c.loosens != "") || (proposal != nil) != tried.Loosens || !strings.Contains(why, c.loosens) {
			t.Errorf("%s: loosens %v, proposal %v: %+v", c.name, tried.Loosens, proposal != nil, tried.Differences)
		}
		for _, where := range []string{"growers", repo} { // back to nothing, to which odo agrees
			if p := apply(where, head+map[string]string{repo: own}[where]).Proposal; p != nil {
				_, err := w.as("odo").DecideProposal(ctx, where, p.ID, true)
				w.ok(err)
			}
		}
	}
}

// A house's condition knows what the house defines: a kind, a label or an area that a repository begins to define lifts nothing.
func TestP8AHouseMeansWhatItSays(t *testing.T) {
	w := newTown(t)
	w.begin("tavrin: rules/1\nprotect: [{name: own, branches: main}]\n")
	ctx := t.Context()
	w.house("tavrin: rules/1\nprotect: [{name: floor, branches: main, require: [{tasks: done, when: {source: line}}, {objections: none, when: {source: ['**', '!line']}}, " +
		`{approvals: 2, when: {cel: "!('late' in labels) && size(areas) < 1"}}]}]` + "\n")
	k := w.propose("tamsin", "topic", "docs/a", "a\n")
	w.stands(k, "approvals", "missing", "2 approvals")
	w.apply("tavrin: rules/1\nbranches: {line: topic}\nlabels: {late: {set_by: role:writer}}\nareas: {docs: {paths: docs/**, owners: team:hydraulics}}\nprotect: [{name: own, branches: main, require: [{threads: resolved, when: {source: line}}]}]\n")
	_, err := w.as("tamsin").SetLabels(ctx, repo, k.Number, []string{"late"}, nil)
	w.ok(err)
	w.stands(k, "approvals", "missing", "2 approvals")
	w.stands(k, "objections", "met", "")
	w.stands(k, "tasks", "not-asked", "asked when the source branch is line")
	w.stands(k, "threads", "not-asked", "no discussion") // the repository's own kind
	_, err = w.admin.ApplyRules(ctx, "growers", wire.NewRules{Text: "tavrin: rules/1\nbranches: {line: hotfix/**}\n", Reason: "to see"}, -1)
	problem(t, err, 422, `"line" in the rules of growers/irrigation`, "stands for topic and would stand for hotfix/**")
	// A word of a repository's that would become a kind of the house's.
	w.house("tavrin: rules/1\n")
	w.apply("tavrin: rules/1\nprotect: [{name: own, branches: main, require: [{threads: resolved, when: {source: line}}]}]\n")
	_, err = w.admin.ApplyRules(ctx, "growers", wire.NewRules{Text: "tavrin: rules/1\nbranches: {line: hotfix/**}\n", Reason: "to see"}, -1)
	problem(t, err, 422, `"line" in the rules of growers/irrigation`, "stands for line and would stand for hotfix/**")
}

// What is only advised lends nothing to what is required, and holds nobody who is exempt from that.
func TestP8AdviceLendsNothing(t *testing.T) {
	w := newTown(t)
	const required = "{checks: unit, at: head}"
	with := func(advice string) string {
		return "tavrin: rules/1\nprotect:\n  - {name: trunk, branches: main, push: nobody, exempt: person:ines, require: [" + required + "]}\n  - {name: advice, branches: main, push: role:maintainer, require: [" + advice + "]}\n"
	}
	w.begin(with("{objections: none, level: advisory}"))
	k := w.propose("tamsin", "topic", "a", "a\n")
	w.report(k.Head, "unit", "passed")
	w.stands(k, "check/unit", "met", "")
	for _, advice := range []string{"{checks: unit, at: head, reported_by: robot:other, level: advisory}", "{checks: unit, at: head, max_age: 1m, level: advisory}", "{checks: unit, at: head, skipped: counts, level: advisory}"} {
		w.apply(with(advice))
		report, err := w.as("pavo").Gate(t.Context(), repo, k.Number)
		w.ok(err)
		if !report.Ready {
			t.Errorf("with %s beside it: %+v", advice, report.Requirements)
		}
	}
	k2 := w.propose("tamsin", "other", "b", "b\n")
	w.report(k2.Head, "unit", "skipped")
	if q := w.requirement(k2, "check/unit"); q.State == "met" {
		t.Errorf("a skipped check counts since it may in what is advised: %+v", q)
	}
	// The same demand, required by a protection that does not bind ines and advised by one that does: it does not stop her.
	w.apply(with(strings.TrimSuffix(required, "}") + ", level: advisory}"))
	w.join("ines", k2, "merge")
	w.landed(k2)
}

// An area asks by itself also where no protection binds; what was approved before a push that altered the difference is old.
func TestP6AnAreaAloneKeepsNoOldApprovals(t *testing.T) {
	w := newTown(t)
	w.begin("tavrin: rules/1\nareas: {valves: {paths: valves/**, owners: team:hydraulics, require: [{approvals: 1}]}}\nprotect: [{name: release, branches: release/**}]\n")
	k := w.propose("tamsin", "topic", "valves/a", "a\n")
	w.approve("odo", k)
	w.stands(k, "owners/valves", "met", "")
	dir := w.clone("tamsin")
	w.must("tamsin", dir, "checkout", "-q", "topic")
	w.commit("tamsin", dir, "valves/a", "b\n", "another")
	w.must("tamsin", dir, "push", "-q", "origin", "topic")
	w.stands(k, "owners/valves", "missing", "")
}

// What settings mean where it was not plain.
func TestMeaning(t *testing.T) {
	w := newTown(t)
	kinds := "tavrin: rules/1\nbranches: {line: hotfix/**, odd: ['odd/**', '!odd/x']}\n"
	w.begin(kinds + "protect: [{name: all, branches: ['**', '!line', '!topic*'], push: nobody, require: [{approvals: 2, when: {source: ['**', '!line']}}]}]\n")
	ctx := t.Context()
	dir := w.clone("tamsin")
	w.commit("tamsin", dir, "a", "a\n", "a")
	w.must("tamsin", dir, "push", "-q", "origin", "HEAD:hotfix/1") // !kind takes the kind out of the branches
	if out, err := w.gitAs("tamsin", dir, "push", "origin", "HEAD:other"); err == nil {
		t.Errorf("other is pushed to: %s", out)
	}
	w.stands(w.openChange("tamsin", "hotfix/1"), "approvals", "not-asked", "") // and out of a condition's sources
	check, err := w.as("ines").LintRules(ctx, repo, kinds+"protect: [{name: all, branches: ['**', '!odd']}]\n")
	w.ok(err)
	if check.Valid || !strings.Contains(check.Findings[0].Message, "takes out a kind that takes something out itself") {
		t.Errorf("a kind that takes out is taken out: %+v", check)
	}
	e, err := w.as("pavo").ExplainBranch(ctx, repo, "main")
	w.ok(err)
	text := ""
	for _, s := range e.Sentences {
		text += s.Text + "\n"
	}
	has(t, text, "when the source branch is **, but not line")
	// Escapes inside a class are as git's.
	w.must("tamsin", dir, "push", "-q", "origin", "HEAD:topic-a", "HEAD:topic]b")
	for pattern, want := range map[string]string{`topic[\-x]a`: "[topic-a]", `topic[\]]b`: "[topic]b]", `topic[!\-]b`: "[topic]b]"} {
		m, err := w.as("pavo").MatchBranches(ctx, repo, pattern)
		w.ok(err)
		if fmt.Sprint(m.Branches) != want {
			t.Errorf("%s matches %v", pattern, m.Branches)
		}
	}
	// A condition is about changes: what stands beside it holds for every push, and the refusal says so.
	for _, demand := range []string{"messages: '^docs: '", "signed: every commit", "history: linear"} {
		w.apply("tavrin: rules/1\nprotect: [{name: trunk, branches: main, push: role:writer, require: [{" + demand + ", when: {paths: nowhere/*}}]}]\n")
		w.must("tamsin", dir, "checkout", "-q", "-B", "work", "origin/main")
		w.must("tamsin", dir, "merge", "-q", "--no-ff", "-m", "b", "origin/hotfix/1")
		out, err := w.gitAs("tamsin", dir, "push", "origin", "HEAD:main")
		if err == nil {
			t.Fatalf("%s beside a condition stops no push", demand)
		}
		has(t, out, "Its condition is about changes; it holds for every push.")
	}
	// Messages are judged on what lands, under every strategy.
	w.apply(requiring("messages: '^docs: '"))
	k, err := w.as("tamsin").OpenChange(ctx, repo, wire.NewChange{Source: "topic-a", Title: "docs: a"})
	w.ok(err)
	for strategy, says := range map[string]string{"rebase": "\"a\": not of the form", "merge": "\"a\": not of the form", "squash": ""} {
		w.apply(requiring("messages: '^docs: '") + "    land: {default: " + strategy + "}\n")
		w.stands(k, "messages", map[bool]string{true: "met", false: "missing"}[says == ""], says)
	}
	// A glob that means no check is not met; a likely new name of a check is told.
	w.apply(requiring("{checks: 'bench *', at: head}"))
	w.stands(k, "checks/bench *", "pending", "no check that matches")
	w.apply("tavrin: rules/1\nchecks: {units: {reported_by: robot:builder}}\nprotect: [{name: trunk, branches: main, require: [{checks: units, at: head}]}]\n")
	w.report(k.Head, "unit", "passed")
	w.stands(k, "check/units", "pending", "unit was reported on the head: if that is its new name, a maintainer has to change the rules")
	// last_pusher is left out beside the authors, not in their place.
	w.apply(requiring("{approvals: 1, not_from: [last_pusher]}"))
	_, err = w.as("tamsin").Review(ctx, repo, k.Number, wire.NewReview{Verdict: "approve", Revision: k.Revision})
	w.ok(err)
	other := w.clone("wren")
	w.must("wren", other, "checkout", "-q", "topic-a")
	w.commit("wren", other, "b", "b\n", "docs: b")
	w.must("wren", other, "push", "-q", "origin", "topic-a")
	k = w.until(k, "at revision 2", func(k wire.Change) bool { return k.Revision == 2 })
	w.approve("tamsin", k)
	w.stands(k, "approvals", "missing", "")
	w.approve("odo", k)
	w.stands(k, "approvals", "met", "")
}

// What lint says of settings that are well formed and may not mean what was meant, to whoever asks it on the command line.
func TestLintTellsWhatWasNotMeant(t *testing.T) {
	w := newTown(t)
	w.begin("tavrin: rules/1\n")
	ctx := t.Context()
	w.person("dara")
	w.disable("dara", true)
	one := func(requirement string) string {
		return "protect: [{name: p, branches: main, require: [{" + requirement + "}]}]\n"
	}
	for _, c := range []struct{ rules, says string }{
		{"checks: {unit: {reported_by: robot:builder}}\n" + one("checks: unit, reported_by: robot:barn"), "so that nobody's does"},
		{"protect: [{name: p, branches: '**', push: nobody}]\n", "nobody can push one to propose"},
		{"protect: [{name: p, branches: main, land: {message: 'Change {number}'}, require: [{messages: '^[a-z]+: ', example: 'docs: a'}]}]\n", "does not fit the messages"},
		{"protect: [{name: p, branches: main, land: {default: merge}, require: [{history: linear}]}]\n", "by merge where nobody says another"},
		{"branches: {hotfix: hotfix/**}\n" + one("objections: none, when: {source: hotfx}"), "did you mean the kind hotfix?"},
		{"labels: {urgent: {set_by: role:writer}}\n" + one(`objections: none, when: {cel: "!('urgent' in labels)"}`), "may set that on a change of their own"},
		{"protect: [{name: p, branches: 'release/**', create: role:writer, create_from: main}]\n", "nothing there asks for a review"},
		{one("ticket: '^FEN-[0-9]+$'"), "bound to the ends of the whole text"},
		{"protect: [{name: p, branches: main, push: person:dara}]\n", "person:dara, whose account is disabled"},
		{"protect: [{name: p, branches: main, push: person:nobody-here}]\n", "person:nobody-here, which there is not"},
	} {
		_, errOut, status := w.run("ines", w.dir, "--repo", repo, "rules", "lint", w.file("lint.yaml", "tavrin: rules/1\n"+c.rules))
		if !strings.Contains(errOut, c.says) || strings.Contains(errOut, "blocked: ") != (status == 3) {
			t.Errorf("%s\nlint ends with %d and says %q; wanted %q", c.rules, status, errOut, c.says)
		}
	}
	// A house's protection is judged for the repositories it is for, and told when it is for none.
	house, err := w.admin.LintRules(ctx, "growers", "tavrin: rules/1\nprotect:\n  - {name: theirs, repositories: handbook, branches: main, require: [{approvals: 9}]}\n  - {name: ours, repositories: irrigation, branches: main, delete: never, require: [{approvals: 1}]}\n")
	w.ok(err)
	said := func(advice []wire.Advice, text string) bool {
		return slices.ContainsFunc(advice, func(a wire.Advice) bool { return strings.Contains(a.Text, text) })
	}
	if !said(house.Advice, `"theirs" is for no repository there is now`) || said(house.Advice, "asks for 9") {
		t.Errorf("the house is told %+v", house.Advice)
	}
	w.house("tavrin: rules/1\nprotect: [{name: ours, branches: main, delete: never}]\n")
	own, err := w.as("ines").LintRules(ctx, repo, "tavrin: rules/1\nprotect: [{name: mine, branches: main, delete: allowed}]\n")
	w.ok(err)
	if !said(own.Advice, `delete has no effect: "ours" (house growers`) {
		t.Errorf("the repository is told %+v", own.Advice)
	}
	// In a repository of one there is no slack to speak of.
	for _, login := range []string{"odo", "tamsin", "wren", "pavo"} {
		w.disable(login, true)
	}
	own, err = w.as("ines").LintRules(ctx, repo, "tavrin: rules/1\nprotect: [{name: mine, branches: main, land: {who: person:ines}, require: [{approvals: 1, own: counts}]}]\n")
	w.ok(err)
	if said(own.Advice, "slack") || said(own.Advice, "absence") || said(own.Advice, "asks for 1") {
		t.Errorf("one alone is told %+v", own.Advice)
	}
}

// What becomes of those whom rules name and who are gone: nobody is left to set a label, and nobody to agree.
func TestRulesOnWhatIsGone(t *testing.T) {
	w := newTown(t)
	ctx := t.Context()
	w.begin("tavrin: rules/1\nlabels: {urgent: {set_by: team:hydraulics}}\nloosening: {agreed_by: team:hydraulics}\nprotect: [{name: p, branches: main, require: [{approvals: 1}]}]\n")
	k := w.propose("tamsin", "topic", "a", "a\n")
	_, err := w.as("odo").SetLabels(ctx, repo, k.Number, []string{"urgent"}, nil)
	w.ok(err)
	a, err := w.as("ines").ApplyRules(ctx, repo, wire.NewRules{Text: "tavrin: rules/1\n", Reason: "to see"}, -1)
	w.ok(err)
	w.ok(w.admin.SetTeam(ctx, "hydraulics", []string{}, nil))
	_, err = w.as("odo").SetLabels(ctx, repo, k.Number, nil, []string{"urgent"})
	problem(t, err, 403, "team:hydraulics")
	_, err = w.as("odo").DecideProposal(ctx, repo, a.Proposal.ID, true)
	problem(t, err, 403, "odo is none of them")
	if r, err := w.as("ines").Rules(ctx, repo, 0); err != nil || r.Version != 1 {
		t.Errorf("in force is version %d, %v", r.Version, err)
	}
}
