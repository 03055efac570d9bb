package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"tavrin/wire"
)

// guarded is a document whose loosening needs a second person, odo.
const guarded = `tavrin: rules/1
branches: {line: hotfix/**}
labels: {urgent: {set_by: role:maintainer}}
areas:
  valves: {paths: [valves/**, pumps/**], owners: team:hydraulics, require: [{approvals: 1}]}
checks:
  unit: {reported_by: robot:builder}
loosening: {agreed_by: person:odo}
protect:
  - name: trunk
    branches: [main, develop]
    push: nobody
    require:
      - approvals: 1
      - approvals: 2
        when: {paths: [ledger/**, money/**]}
      - approvals: 2
        called: hot ones
        when: {source: line}
      - checks: [unit, lint]
      - objections: none
      - fixups: none
`

// Nothing that loosens passes without a second person, however it is written; and what changes nothing, or adds, passes alone
// (P8).
func TestP8NoLooseningWithoutASecondPerson(t *testing.T) {
	w := newTown(t)
	w.begin(guarded)
	ctx := t.Context()
	for _, c := range []struct {
		name, from, to string
		proposal       bool
		says           string
	}{
		{"branches that read alike", "[main, develop]", `["main,develop"]`, true, ""},
		{"branches that read alike, in the other order", "[main, develop]", `["develop,main"]`, true, ""},
		{"an area's paths that read alike", "[valves/**, pumps/**]", `["valves/**,pumps/**"]`, true, ""},
		{"a condition's paths that read alike", "[ledger/**, money/**]", `["ledger/**,money/**"]`, true, ""},
		{"a kind that a condition uses is narrowed", "line: hotfix/**", "line: hotfix/urgent/**", true, ""},
		{"a kind is taken out", "branches: [main, develop]", "branches: [main, develop, '!line']", true, ""},
		{"a glob instead of names", "- checks: [unit, lint]", `- checks: "unit*"`, true, ""},
		{"a default strategy", "      - fixups: none\n", "      - fixups: none\n    land: {default: squash}\n", true, "depends on the strategy"},
		{"a protection with a default strategy", "", "  - {name: more, branches: '**', land: {default: squash}}\n", true, "depends on the strategy"},
		{"a protection with a message", "", "  - {name: more, branches: main, land: {message: 'x: {title}'}}\n", true, "judged by what it makes"},
		{"an area's right to waive", "require: [{approvals: 1}]", "require: [{approvals: 1}], waive: role:writer", true, ""},
		{"a check that becomes a command", "unit: {reported_by: robot:builder}", "unit: {reported_by: robot:builder}\n  lint: {command: 'true'}", true, "a command of these rules"},
		{"another order", "[main, develop]", "[develop, main]", false, ""},
		{"another title", "called: hot ones", "called: the hot ones", false, ""},
		{"one more protection", "", "  - {name: more, branches: '**', push: role:writer, waive: role:writer, require: [{approvals: 1, level: advisory}]}\n", false, ""},
		{"one more requirement", "      - fixups: none\n", "      - fixups: none\n      - threads: resolved\n", false, ""},
		{"an area", "  valves:", "  docs: {paths: docs/**, owners: team:hydraulics}\n  valves:", false, ""},
	} {
		now, err := w.as("ines").Rules(ctx, repo, 0)
		w.ok(err)
		text := guarded + c.to
		if c.from != "" {
			text = strings.Replace(guarded, c.from, c.to, 1)
		}
		tried, err := w.as("ines").TryRules(ctx, repo, text, 0)
		w.ok(err)
		applied, err := w.as("ines").ApplyRules(ctx, repo, wire.NewRules{Text: text, Reason: "to see"}, -1)
		w.ok(err)
		if (applied.Proposal != nil) != c.proposal || tried.Loosens != c.proposal || c.proposal && applied.Rules.Version != now.Version {
			t.Errorf("%s: proposal %v; %+v", c.name, applied.Proposal, tried.Differences)
		}
		why := ""
		for _, d := range tried.Differences {
			why += d.Why
		}
		has(t, why, c.says)
		if applied.Proposal == nil { // back to where it was, which may be a loosening of its own
			back, err := w.as("ines").ApplyRules(ctx, repo, wire.NewRules{Text: guarded, Reason: "back"}, -1)
			w.ok(err)
			if back.Proposal != nil {
				_, err := w.as("odo").DecideProposal(ctx, repo, back.Proposal.ID, true)
				w.ok(err)
			}
		}
	}
	file := filepath.Join(w.dir, "more.yaml")
	w.ok(os.WriteFile(file, []byte(guarded+"    land: {default: squash}\n"), 0o600))
	has(t, w.says("ines", 0, "one of person:odo has to agree besides you", "rules", "try", file, "--repo", repo), "loosens: what is asked of commits and messages depends on the strategy")
}

// One more protection makes no more commits count as held, and opens nothing that an area asks (P1, P8).
func TestP8OneMoreProtectionOpensNothing(t *testing.T) {
	w := newTown(t)
	const rules = "tavrin: rules/1\nareas: {valves: {paths: valves/**, owners: team:hydraulics, require: [{approvals: 1}]}}\nprotect:\n" +
		"  - {name: trunk, branches: main, push: nobody, waive: person:wren}\n  - {name: lines, branches: 'release/**', push: nobody, create: role:writer, create_from: main}\n"
	w.begin(rules)
	dir := w.clone("tamsin")
	w.must("tamsin", dir, "checkout", "-q", "-b", "topic")
	w.commit("tamsin", dir, "valves/a", "a\n", "nobody looked at it")
	w.must("tamsin", dir, "push", "-q", "origin", "topic", "topic:other")
	for _, more := range []string{"", "  - {name: more, branches: '**', push: role:writer}\n", "  - {name: more, branches: topic, push: nobody}\n", "  - {name: more, branches: [topic, 'release/**'], push: role:writer, create: role:writer}\n"} {
		w.apply(rules + more)
		out, err := w.gitAs("tamsin", dir, "push", "origin", "topic:refs/heads/release/1")
		if err == nil {
			t.Fatalf("with %q a release begins at what nobody looked at", more)
		}
		has(t, out, "lines", "is on main already")
	}
	w.apply(rules)
	k := w.openChange("tamsin", "other")
	w.apply(rules + "  - {name: more, branches: main, waive: role:writer}\n")
	_, err := w.as("wren").PlanWaiver(t.Context(), repo, k.Number, nil)
	problem(t, err, 403, "area valves", "gives the right to nobody")
	w.must("tamsin", dir, "push", "-q", "origin", "origin/main:refs/heads/release/1")
}

// Why an approval counts no more is told in its line: who left the team, whose account was disabled. And a change whose branch
// was deleted is not ready.
func TestWhyAnApprovalLapsed(t *testing.T) {
	w := newTown(t)
	w.begin(requiring("{approvals: 1, from: team:hydraulics}"))
	ctx := t.Context()
	k := w.propose("tamsin", "topic", "a", "a\n")
	w.approve("odo", k)
	w.stands(k, "approvals", "met", "")
	w.ok(w.admin.SetTeam(ctx, "hydraulics", []string{"wren"}, nil))
	w.stands(k, "approvals", "missing", "odo's approval does not count: they have left the team since")
	w.ok(w.admin.SetTeam(ctx, "hydraulics", []string{"odo"}, nil))
	w.stands(k, "approvals", "met", "")
	w.disable("odo", true)
	w.stands(k, "approvals", "missing", "odo's approval does not count: their account is disabled")
	dir := w.clone("tamsin")
	w.must("tamsin", dir, "push", "-q", "origin", ":topic")
	w.stands(k, "source", "missing", "topic was deleted: push it again, or close the change")
	w.must("tamsin", dir, "push", "-q", "origin", k.Head+":refs/heads/topic")
	report, err := w.as("ines").Gate(ctx, repo, 1)
	w.ok(err)
	for _, q := range report.Requirements {
		if q.Key == "source" {
			t.Errorf("it is back: %+v", q)
		}
	}
}
