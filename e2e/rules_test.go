package e2e

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"tavrin/client"
	"tavrin/internal/headless"
	"tavrin/internal/service"
	"tavrin/wire"
)

const floor = `tavrin: rules/1
branches: {trunk: main}
checks: {unit: {reported_by: robot:builder}}
protect:
  - name: floor
    branches: trunk
    push: nobody
    require:
      - approvals: 1
      - checks: unit
  - name: only elsewhere
    repositories: handbook
    branches: "**"
    require: [{approvals: 7}]
`

func (w *town) house(text string) {
	w.t.Helper()
	_, err := w.admin.ApplyRules(w.t.Context(), "growers", wire.NewRules{Text: text, Reason: "the house agreed"}, -1)
	w.ok(err)
}

// House rules lie under every repository's own, which adds and never takes away; explain says where all of it comes from.
func TestP8HouseRulesAreAFloor(t *testing.T) {
	w := newTown(t)
	w.begin(trunk("    require: [{objections: none}]\n    rewrite: allowed\n"))
	_, err := w.as("ines").ApplyRules(t.Context(), "growers", wire.NewRules{Text: floor, Reason: "let me"}, -1)
	problem(t, err, 403, "for maintainers of house growers")
	w.house(floor)
	e, err := w.as("pavo").ExplainBranch(t.Context(), repo, "main")
	w.ok(err)
	said := map[string]wire.RuleSentence{}
	for _, s := range e.Sentences {
		said[s.Text] = s
	}
	approval, objects := said["1 approval, an author's own not counting."], said["Nobody objects."]
	if approval.FixedBy != "house growers" || len(approval.Sources) != 1 || approval.Sources[0].Line != 9 || approval.Sources[0].Document != "house growers" || approval.Sources[0].Version != 1 {
		t.Errorf("the approval comes from %+v", approval)
	}
	if objects.FixedBy != "" || len(objects.Sources) != 1 || objects.Sources[0].Protection != "trunk" {
		t.Errorf("no objection comes from %+v", objects)
	}
	if s := said["Its history is not rewritten."]; s.FixedBy == "" || len(s.Sources) != 1 {
		t.Errorf("the house's word on rewriting does not win: %+v", e.Sentences)
	}
	if slices.Contains(e.Protections, "only elsewhere") || fmt.Sprint(e.Kinds) != "[trunk]" || e.HouseVersion != 1 {
		t.Errorf("explained as %+v", e)
	}
	k := w.propose("tamsin", "topic", "a", "a\n")
	w.stands(k, "approvals", "missing", "")
	if q := w.requirement(k, "approvals"); q.Because != `"floor" (house growers, rules version 1, line 9)` {
		t.Errorf("because %s", q.Because)
	}
	// A push is refused in the house's name.
	dir := w.clone("ines")
	w.commit("ines", dir, "b", "b\n", "past the queue")
	out, err := w.gitAs("ines", dir, "push", "origin", "main")
	if err == nil {
		t.Error("the house's protection let a push through")
	}
	has(t, out, `Refused by "floor" (house growers, rules version 1, line 7)`)
	// A landing keeps the versions of both, and is judged by them again later, whatever the house says then.
	w.land(k, "rebase")
	w.house(strings.Replace(floor, "approvals: 1", "approvals: 5", 1))
	l, err := w.as("ines").Landing(t.Context(), repo, k.Number)
	w.ok(err)
	floorAsked := slices.ContainsFunc(l.Report.Requirements, func(q wire.Requirement) bool { return q.Title == "1 approval" && q.State == "met" })
	if !l.Report.Clear || !floorAsked || l.HouseVersion != 1 || l.RulesVersion != 1 {
		t.Errorf("the landing shows %+v", l)
	}
	w.says("pavo", 0, "fixed by house growers", "--repo", repo, "rules", "explain", "--branch", "main")
	w.says("pavo", 0, "only elsewhere", "rules", "show", "--house", "growers")
}

// A repository never redefines what the house defines, and the house cannot pull the ground from under a repository.
func TestHouseAndRepositoryDoNotCollide(t *testing.T) {
	w := newTown(t)
	w.begin("tavrin: rules/1\n")
	full := strings.Replace(floor, "checks:", "labels: {urgent: {set_by: team:hydraulics}}\nareas: {docs: {paths: docs/**, owners: team:hydraulics}}\nchecks:", 1)
	w.house(full)
	for _, c := range []struct{ text, says string }{
		{"branches: {trunk: develop}\n", `the house defines the branch kind "trunk" already`},
		{"checks: {unit: {command: 'true'}}\n", `the house defines the check "unit" already`},
		{"labels: {urgent: {set_by: role:writer}}\n", `the house defines the label "urgent" already`},
		{"areas: {docs: {paths: docs/**, owners: team:hydraulics}}\n", `the house defines the area "docs" already`},
		{"protect: [{name: a, branches: main, repositories: x}]\n", `unknown key "repositories"`},
	} {
		_, err := w.as("ines").ApplyRules(t.Context(), repo, wire.NewRules{Text: "tavrin: rules/1\n" + c.text, Reason: "mine"}, -1)
		p, ok := err.(*client.Problem)
		if !ok || len(p.Findings) != 1 || !strings.Contains(p.Findings[0].Message, c.says) || p.Findings[0].Line != 2 {
			t.Errorf("%s: %v", c.text, err)
		}
	}
	// The repository uses the house's kind, area and label; the house may not take them away or give them another meaning.
	w.apply("tavrin: rules/1\nprotect:\n  - {name: mine, branches: trunk, require: [{approvals: 1, when: {areas: docs}}, {approvals: 2, when: {label: urgent}}]}\n")
	if e, err := w.as("ines").ExplainBranch(t.Context(), repo, "main"); err != nil || !slices.Contains(e.Protections, "mine") {
		t.Errorf("the house's kind is not used: %+v, %v", e, err)
	}
	for _, c := range []struct{ text, says string }{
		{strings.Replace(full, "trunk: main", "trunk: mainline", 1), "would stand for mainline"},
		{"tavrin: rules/1\nareas: {docs: {paths: docs/**, owners: team:hydraulics}}\nlabels: {urgent: {set_by: team:hydraulics}}\n", `"trunk" in the rules of growers/irrigation`},
		{"tavrin: rules/1\nbranches: {trunk: main}\nlabels: {urgent: {set_by: team:hydraulics}}\n", `there is no area "docs"`},
		{"tavrin: rules/1\nbranches: {trunk: main}\nareas: {docs: {paths: docs/**, owners: team:hydraulics}}\n", `the label "urgent" is not defined`},
	} {
		_, err := w.admin.ApplyRules(t.Context(), "growers", wire.NewRules{Text: c.text, Reason: "less"}, -1)
		problem(t, err, 422, c.says)
	}
	// What the house comes to define later is the house's: its definition holds, and the repository's own still reads.
	w.apply("tavrin: rules/1\nchecks: {bench: {command: 'true'}}\nprotect:\n  - {name: mine, branches: trunk, require: [{checks: bench}]}\n")
	w.house("tavrin: rules/1\nbranches: {trunk: main}\nchecks: {bench: {reported_by: robot:builder}}\n")
	k := w.propose("tamsin", "topic", "a", "a\n")
	w.join("tamsin", k, "rebase")
	w.report(w.rehearsed(k), "bench", "passed")
	w.landed(k)
}

// Loosening needs a second person where the document asks for one; suspensions come back by themselves.
func TestLooseningNeedsASecondPerson(t *testing.T) {
	w := newTown(t)
	now := time.Now()
	w.close()
	w.open(service.Options{Now: func() time.Time { return now }})
	w.admin = w.as("admin")
	guarded := "tavrin: rules/1\nloosening: {agreed_by: [\"team:hydraulics\", \"person:ines\"]}\nprotect:\n  - {name: trunk, branches: main, push: nobody, require: [{approvals: 2}]}\n"
	w.begin(guarded)
	looser := strings.Replace(guarded, "approvals: 2", "approvals: 1", 1)
	v, err := w.as("ines").ApplyRules(t.Context(), repo, wire.NewRules{Text: looser, Reason: "two is many"}, 1)
	w.ok(err)
	if v.Proposal == nil || v.Version != 1 || len(v.Proposal.Differences) == 0 || !v.Proposal.Differences[0].Loosens {
		t.Fatalf("it was applied at once: %+v", v)
	}
	if r, err := w.as("ines").Rules(t.Context(), repo, 0); err != nil || r.Version != 1 {
		t.Errorf("in force is %+v, %v", r, err)
	}
	_, err = w.as("ines").DecideProposal(t.Context(), repo, v.Proposal.ID, true)
	problem(t, err, 403, "a second person")
	_, err = w.as("tamsin").DecideProposal(t.Context(), repo, v.Proposal.ID, true)
	problem(t, err, 403, "team:hydraulics, person:ines", "tamsin is none of them")
	w.says("odo", 0, "two is many", "--repo", repo, "rules", "proposals")
	w.says("odo", 0, "was agreed", "--repo", repo, "rules", "agree", fmt.Sprint(v.Proposal.ID))
	r, err := w.as("ines").Rules(t.Context(), repo, 0)
	w.ok(err)
	if r.Version != 2 || r.AppliedBy != "ines" || r.AgreedBy != "odo" {
		t.Errorf("in force is %+v", r)
	}
	_, err = w.as("odo").DecideProposal(t.Context(), repo, v.Proposal.ID, true)
	problem(t, err, 409, "agreed already")
	// Tightening needs nobody else, and overtakes what was proposed before.
	v, err = w.as("ines").ApplyRules(t.Context(), repo, wire.NewRules{Text: strings.Replace(looser, "push: nobody, ", "push: role:writer, ", 1), Reason: "let them push"}, -1)
	w.ok(err)
	w.apply(guarded)
	_, err = w.as("odo").DecideProposal(t.Context(), repo, v.Proposal.ID, true)
	problem(t, err, 409, "overtaken already")
	// So does a suspension; it ends by itself.
	s, err := w.as("ines").Suspend(t.Context(), repo, "trunk", time.Hour, "the bench is flooded")
	w.ok(err)
	if s.Proposal == nil {
		t.Fatalf("suspended at once: %+v", s)
	}
	_, err = w.as("odo").DecideProposal(t.Context(), repo, s.Proposal.ID, true)
	w.ok(err)
	e, err := w.as("ines").ExplainBranch(t.Context(), repo, "main")
	w.ok(err)
	if e.Protected || !strings.Contains(e.Sentences[0].Text, "suspended by ines until") {
		t.Errorf("main is explained as %+v", e)
	}
	k := w.propose("tamsin", "topic", "a", "a\n")
	if !k.Ready {
		t.Errorf("suspended, and still asked for: %s", k.Summary)
	}
	now = now.Add(61 * time.Minute)
	w.stands(k, "approvals", "missing", "")
	w.until(k, "on record", func(wire.Change) bool { return slices.Contains(w.kinds(), "rules.resumed") })
	_, err = w.as("ines").Suspend(t.Context(), repo, "nosuch", time.Hour, "it rains")
	problem(t, err, 404, `no protection "nosuch"`)
	_, err = w.as("ines").Suspend(t.Context(), repo, "trunk", 1000*time.Hour, "it rains")
	problem(t, err, 422, "")
	for _, kind := range []string{"rules.proposed", "rules.agreed", "rules.suspended", "rules.resumed"} {
		has(t, strings.Join(w.kinds(), " "), kind)
	}
}

// A suspension that nobody has to agree to, ended before its time; a house's holds for its repositories.
func TestSuspendAndResume(t *testing.T) {
	w := newTown(t)
	w.begin(trunk("    push: nobody\n"))
	w.house("tavrin: rules/1\nprotect:\n  - {name: floor, branches: main, push: nobody}\n")
	dir := w.clone("odo")
	w.commit("odo", dir, "a", "a\n", "straight in")
	push := func() error { _, err := w.gitAs("odo", dir, "push", "-q", "origin", "main"); return err }
	w.says("ines", 0, "is suspended until", "--repo", repo, "rules", "suspend", "trunk", "--for", "2h", "--reason", "the pump stands still")
	w.says("ines", 1, "is suspended already", "--repo", repo, "rules", "suspend", "trunk", "--for", "2h", "--reason", "the pump stands still")
	w.says("ines", 1, "maintainers of house growers", "rules", "suspend", "floor", "--house", "growers", "--for", "2h", "--reason", "the pump stands still")
	if push() == nil {
		t.Error("the house's protection did not hold")
	}
	w.says("admin", 0, "is suspended until", "rules", "suspend", "floor", "--house", "growers", "--for", "2h", "--reason", "the pump stands still")
	w.says("pavo", 0, "the pump stands still", "--repo", repo, "rules", "suspensions")
	w.ok(push())
	w.says("ines", 0, "holds again", "--repo", repo, "rules", "resume", "trunk")
	w.says("ines", 1, "is not suspended", "--repo", repo, "rules", "resume", "trunk")
	w.commit("odo", dir, "b", "b\n", "again")
	if push() == nil {
		t.Error("the protection did not come back")
	}
}

// Versions: history, differences, return to an earlier one, conditional on the one last read.
func TestRulesVersions(t *testing.T) {
	w := newTown(t)
	w.begin(requiring("approvals: 1"))
	w.apply(requiring("approvals: 2"))
	out := w.says("pavo", 0, "loosens", "--repo", repo, "rules", "diff", "--from", "2", "--to", "1")
	has(t, out, `protection "trunk": require`, "2 approvals", "1 approval")
	w.says("pavo", 0, "tightens, or neither", "--repo", repo, "rules", "diff")
	w.says("pavo", 1, "this needs the role maintainer", "--repo", repo, "rules", "restore", "1", "--reason", "as it was")
	w.says("ines", 0, "rules version 3 is in force", "--repo", repo, "rules", "restore", "1", "--reason", "as it was")
	r, err := w.as("ines").Rules(t.Context(), repo, 3)
	w.ok(err)
	if r.Text != requiring("approvals: 1") || r.Reason != "as it was" {
		t.Errorf("version 3 is %+v", r)
	}
	w.says("ines", 1, "has no rules version 9", "--repo", repo, "rules", "restore", "9", "--reason", "as it was")
	_, err = w.as("ines").ApplyRules(t.Context(), repo, wire.NewRules{Text: requiring("approvals: 3"), Reason: "more"}, 2)
	problem(t, err, 412, "at version 3, not 2")
	// What show prints can be applied again: that is export and import.
	shown := w.says("ines", 0, "approvals: 1", "--repo", repo, "rules", "show")
	w.says("ines", 0, "rules version 3 is this very document", "--repo", repo, "rules", "apply", w.file("r.yaml", shown), "--reason", "import", "--if-version", "3")
	w.says("ines", 0, "one-trunk", "rules", "template")
	for _, name := range []string{"one-trunk", "release-lines", "integration-first", "team-of-one"} {
		text := w.says("ines", 0, "tavrin: rules/1", "rules", "template", name)
		w.says("ines", 0, "", "rules", "lint", w.file("t.yaml", text))
	}
	w.says("ines", 2, "no template", "rules", "template", "nosuch")
	w.says("ines", 0, "json-schema.org/draft/2020-12", "rules", "schema", "house")
	w.says("ines", 0, "main", "--repo", repo, "rules", "match", "m*")
	w.says("ines", 0, "matches no branch there is now; globs are case-sensitive", "--repo", repo, "rules", "match", "Main")
	w.says("ines", 1, "a glob:", "--repo", repo, "rules", "match", "ma[in")
}

// Before it hurts: lint, a trial on what is open and on what landed, and examples; nothing of it applies anything.
func TestBeforeItHurts(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	w.land(w.propose("tamsin", "first", "first", "1\n"), "rebase")
	ready := w.propose("tamsin", "second", "second", "2\n")
	w.approve("odo", ready)
	blocked := w.propose("wren", "third", "valves/third", "3\n")
	draft := strings.Replace(strings.Replace(simple, "approvals: 1", "approvals: 2", 1), "      - owners: every touched area\n", "", 1)
	v, err := w.as("pavo").TryRules(t.Context(), repo, draft, 10)
	w.ok(err)
	outcomes := map[int]string{}
	for _, c := range v.Changes {
		outcomes[c.Number] = fmt.Sprintf("%s %v %v", c.Outcome, c.Missing, c.Dropped)
	}
	if outcomes[ready.Number] != "blocked [needs 1 more approval] []" || outcomes[blocked.Number] != "different [needs 2 approvals] [needs 1 approval needs 1 approval from an owner of valves (team:hydraulics)]" {
		t.Errorf("outcomes are %v", outcomes)
	}
	if len(v.Landed) != 1 || !v.Landed[0].Stopped || !strings.Contains(v.Landed[0].By[0], `2 approvals, says "trunk"`) {
		t.Errorf("landings are %+v", v.Landed)
	}
	if !v.Loosens || len(v.Branches) == 0 || v.Branches[0].Branch != "main" || fmt.Sprint(v.Branches[0].Come) != "[2 approvals, an author's own not counting.]" {
		t.Errorf("tried as %+v", v)
	}
	if r, err := w.as("ines").Rules(t.Context(), repo, 0); err != nil || r.Version != 1 {
		t.Errorf("trying applied something: %+v, %v", r, err)
	}
	freed, err := w.as("pavo").TryRules(t.Context(), repo, "tavrin: rules/1\n", 0)
	w.ok(err)
	if !slices.ContainsFunc(freed.Changes, func(c wire.ChangeTrial) bool { return c.Outcome == "freed" }) {
		t.Errorf("an empty document frees nothing: %+v", freed.Changes)
	}
	file := w.file("draft.yaml", draft)
	w.says("pavo", 0, "of the last 1 landings it would have stopped 1", "--repo", repo, "rules", "try", file)
	w.says("pavo", 1, `unknown key "protects"`, "--repo", repo, "rules", "try", w.file("bad.yaml", "tavrin: rules/1\nprotects: []\n"))
	out, errOut, status := w.run("pavo", w.dir, "--repo", repo, "rules", "lint", w.file("never.yaml", requiring("approvals: 9")))
	if status != 3 {
		t.Errorf("lint ends with %d: %s%s", status, out, errOut)
	}
	has(t, errOut, "never.yaml:6: blocked: ", "asks for 9", "at most 4")
	w.says("pavo", 1, `unknown key "protects"`, "--repo", repo, "rules", "lint", w.file("bad.yaml", "tavrin: rules/1\nprotects: []\n"))
	examples := w.file("examples.yaml", "tavrin: examples/1\nexamples:\n  - {name: alone, change: {author: tamsin, paths: [a]}, expect: not ready, because: 1 approval}\n  - {name: with odo, change: {author: tamsin, paths: [valves/a]}, approved_by: [odo], expect: ready}\n")
	w.says("pavo", 0, "2 as expected, 0 otherwise", "--repo", repo, "rules", "test", examples)
	w.says("pavo", 3, "expected ready; missing: 2 approvals", "--repo", repo, "rules", "test", examples, "--rules", file)
	w.says("pavo", 1, "cannot be", "--repo", repo, "rules", "test", w.file("bad.yaml", "tavrin: examples/1\nexamples: [{name: a, change: {author: x}, expect: maybe}]\n"))
	// House rules are tried on every repository that one may read.
	w.house(floor)
	hv, err := w.admin.TryRules(t.Context(), "growers", strings.Replace(floor, "approvals: 1", "approvals: 3", 1), 5)
	w.ok(err)
	if len(hv.Changes) != 2 || len(hv.Landed) != 1 || hv.Loosens || len(hv.Differences) == 0 {
		t.Errorf("the house's trial is %+v", hv)
	}
	hl, err := w.admin.LintRules(t.Context(), "growers", strings.Replace(floor, "trunk: main", "trunk: master", 1))
	w.ok(err)
	if len(hl.Advice) == 0 {
		t.Errorf("lint of the house finds nothing: %+v", hl)
	}
}

// Teams that rules use are managed by named people; each edit is on record, and what is open is judged by it at once.
func TestTeamsAreKept(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	w.ok(w.admin.SetTeam(t.Context(), "hydraulics", nil, []string{"odo"}))
	problem(t, w.as("tamsin").SetTeam(t.Context(), "hydraulics", []string{"tamsin"}, nil), 403, "that one does not manage")
	problem(t, w.as("odo").SetTeam(t.Context(), "hydraulics", nil, []string{"odo", "tamsin"}), 403, "administrators")
	k := w.propose("tamsin", "topic", "valves/a", "a\n")
	w.approve("wren", k)
	w.join("tamsin", k, "rebase")
	w.stands(k, "owners/valves", "missing", "odo could give it")
	w.ok(w.as("odo").SetTeam(t.Context(), "hydraulics", []string{"odo", "wren"}, nil)) // wren's approval counts now
	w.report(w.rehearsed(k), "unit", "passed")
	w.landed(k)
	journal, err := w.admin.JournalAfter(t.Context(), "", 0, 500)
	w.ok(err)
	if !slices.ContainsFunc(journal, func(l wire.JournalLine) bool {
		return l.Kind == "team.changed" && l.Actor == "odo" && strings.Contains(string(l.Data), `"was":["odo"]`)
	}) {
		t.Error("the edit of the team is not on record")
	}
	w.says("tamsin", 0, "odo, wren", "team", "list")
}

// A change of rules is judged at once: what waited in the queue goes on, or is held, without anybody touching it.
func TestRulesJudgeWhatIsOpenAtOnce(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	k := w.propose("tamsin", "topic", "a", "a\n")
	w.join("tamsin", k, "rebase")
	w.until(k, "waiting", func(k wire.Change) bool { return k.Entry.State == "waiting" })
	w.house("tavrin: rules/1\nprotect:\n  - {name: floor, branches: main, require: [{objections: none}]}\n")
	w.apply("tavrin: rules/1\n")
	w.landed(k)
}

// Documents that cannot be meant: every finding at once, with line, column and excerpt, and nothing is applied.
func TestBadDocuments(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	cases := map[string]string{
		"too large":        "tavrin: rules/1\n#" + strings.Repeat("x", 1<<20),
		"deeply nested":    "tavrin: rules/1\nareas: " + strings.Repeat("[", 3000),
		"an anchor":        "tavrin: rules/1\nareas: &a {}\n",
		"an alias":         "tavrin: rules/1\nareas: *a\n",
		"keys twice":       "tavrin: rules/1\nchecks: {}\nchecks: {}\n",
		"unseen letters":   "tavrin: rules/1\nprotect:\n  - {name: \"tr\\u202Eunk\", branches: main}\n",
		"a contradiction":  "tavrin: rules/1\nprotect:\n  - {name: a, branches: main, land: {strategies: [merge], default: rebase}}\n",
		"an odd condition": "tavrin: rules/1\nprotect:\n  - {name: a, branches: main, require: [{approvals: 1, when: {cel: 'lines + 1'}}]}\n",
		"no such label":    "tavrin: rules/1\nprotect:\n  - {name: a, branches: main, require: [{approvals: 1, when: {label: x}}]}\n",
		"an expression":    "tavrin: rules/1\nprotect:\n  - {name: a, branches: main, require: [{ticket: '('}]}\n",
		"an example":       "tavrin: rules/1\nprotect:\n  - {name: a, branches: main, require: [{messages: '^x', example: y}]}\n",
		"a trailer":        "tavrin: rules/1\nprotect:\n  - {name: a, branches: main, land: {trailers: 'Approved-by: me'}}\n",
		"a placeholder":    "tavrin: rules/1\nprotect:\n  - {name: a, branches: main, land: {message: '{tilte}'}}\n",
		"an empty range":   "tavrin: rules/1\nprotect:\n  - {name: a, branches: main, require: [{approvals: 1, when: {lines: 'over 10, under 11'}}]}\n",
		"nobody asked":     "tavrin: rules/1\nprotect:\n  - {name: a, branches: main, require: [{approvals: 1, from: nobody}]}\n",
		"a backward range": "tavrin: rules/1\nprotect:\n  - {name: a, branches: 'v[9-0]'}\n",
		"too many braces":  "tavrin: rules/1\nprotect:\n  - {name: a, branches: '" + strings.Repeat("{a,b}", 9) + "'}\n",
		"half a check":     "tavrin: rules/1\nchecks: {a: {kind: deployment}}\n",
		"too many":         "tavrin: rules/1\nprotect:\n  - {name: a, branches: main, require: [{checks: [a, b], at_least: 3}]}\n",
	}
	for name, text := range cases {
		_, err := w.as("ines").ApplyRules(t.Context(), repo, wire.NewRules{Text: text, Reason: "for the test"}, -1)
		p, ok := err.(*client.Problem)
		if !ok || (p.Status != 422 && p.Status != 413) {
			t.Errorf("%s: %v", name, err)
			continue
		}
		if p.Status == 422 && (len(p.Findings) == 0 || p.Findings[0].Line < 1 || p.Findings[0].Column < 1 || p.Findings[0].Excerpt == "" || p.Findings[0].Message == "") {
			t.Errorf("%s: findings %+v", name, p.Findings)
		}
	}
	if r, err := w.as("ines").Rules(t.Context(), repo, 0); err != nil || r.Version != 1 {
		t.Errorf("in force is %+v, %v", r, err)
	}
}

// The console: an editor that finds and tries as one types, a token shown again before rules change, the effective
// protection with its sources, who owns what, and a proposal that a second person agrees to.
func consoleEditsRules(t *testing.T) {
	w := aloneTown(t)
	w.begin(strings.Replace(simple, "protect:", "loosening: {agreed_by: [\"team:hydraulics\", \"person:ines\"]}\nprotect:", 1))
	w.house("tavrin: rules/1\nprotect:\n  - {name: floor, branches: main, require: [{objections: none}]}\n")
	k := w.propose("tamsin", "topic", "valves/a", "a\n")
	p := w.visit()
	p.signIn("ines")
	p.open("/growers/irrigation/rules")
	p.shows("Nobody objects.", "fixed by the house", "floor, house growers version 1, line 3", "An owner of every touched area approves.", "What a glob matches now")
	p.do(clicking(`a[href="/growers/irrigation/rules/edit"]`))
	p.shows("This is the document in force.")
	type_ := func(from, to string) {
		t.Helper()
		p.do(headless.Script(fmt.Sprintf(`(() => { const f = document.querySelector('#document'); f.value = f.value.replace(%q, %q); f.dispatchEvent(new Event('input', {bubbles: true})) })()`, from, to)))
	}
	type_("approvals: 1", "aprovals: 1")
	p.shows("It cannot be applied: 1 finding.", `unknown key "aprovals"`)
	type_("aprovals: 1", "approvals: 9")
	p.shows("It can be applied.", "blocked, line 10", "asks for 9", "+ 9 approvals, an author's own not counting", "as ready as now, for other reasons", "1. Bring topic")
	type_("approvals: 9", "approvals: 2")
	p.shows("+ 2 approvals, an author's own not counting")
	p.do(chromedp.SendKeys(chromedp.CSS("#reason"), "two see more"))
	p.press("Apply")
	p.shows("Confirm who you are")
	p.do(chromedp.WaitVisible(chromedp.CSS("#again")), chromedp.SendKeys(chromedp.CSS("#again"), w.tokens["odo"]+"\r"))
	p.shows("not the token of scope all that ines signed in with")
	p.do(headless.Script(`document.querySelector('#again').value = ''`), chromedp.SendKeys(chromedp.CSS("#again"), w.tokens["ines"]+"\r"))
	p.shows("version 2, by ines", "two see more", "2 approvals, an author's own not counting.")
	w.stands(k, "approvals", "missing", "2 approvals")
	// Loosening makes a proposal, to which odo agrees.
	p.open("/growers/irrigation/rules/edit?version=1")
	p.shows("It loosens: one of team:hydraulics, person:ines, other than you, has to agree")
	p.press("Apply")
	p.shows("Proposal 1 was made")
	q := w.visit()
	q.signIn("odo")
	q.open("/growers/irrigation/rules")
	q.shows("Proposal 1 by ines loosens the rules")
	q.do(clicking("details summary"))
	q.press("Agree")
	q.shows("Confirm who you are")
	q.do(chromedp.WaitVisible(chromedp.CSS("#again")), chromedp.SendKeys(chromedp.CSS("#again"), w.tokens["odo"]+"\r"))
	q.shows("version 3, by ines, agreed by odo")
	q.do(clicking(`[aria-label="what it changed, version 3"]`))
	q.shows("− 2 approvals")
	q.do(chromedp.KeyEvent("a"))
	q.shows("1 area; of 1 file, 1 is owned by nobody.", "valves/**", "Could approve")
	q.do(chromedp.SendKeys(chromedp.CSS("#path"), "valves/new\r"))
	q.shows("team:hydraulics", "because area valves has the glob valves/**", "There is no such file now.")
	q.open("/growers/irrigation/changes/1")
	q.shows("Enough would be", "odo", "1 path, by valves/**")
	q.open("/houses/growers/rules")
	q.shows("House rules of growers", "floor")
	for _, v := range []*page{p, q} {
		v.mu.Lock()
		v.troubles = slices.DeleteFunc(v.troubles, func(s string) bool { return strings.Contains(s, "403") }) // the refusals above
		v.mu.Unlock()
		v.untroubled()
	}
}

// A session that has not shown its token again changes no rules, whatever the page does (P11).
func TestP11SessionsConfirmBeforeRulesChange(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	resp, body := w.request("", "POST", "/api/v1/session", `{"token":"`+w.tokens["ines"]+`"}`)
	if resp.StatusCode != 200 {
		t.Fatalf("%d %s", resp.StatusCode, body)
	}
	cookie := resp.Cookies()[0].Name + "=" + resp.Cookies()[0].Value
	put := func() int {
		resp, _ := w.request("", "PUT", "/api/v1/repositories/growers/irrigation/rules", `{"text":"tavrin: rules/1","reason":"lift it"}`, "If-Match", "*", "Cookie", cookie)
		return resp.StatusCode
	}
	if got := put(); got != 403 {
		t.Errorf("applied without a token: %d", got)
	}
	for call, body := range map[string]string{"suspensions": `{"protection":"trunk","for_seconds":60,"reason":"let me"}`, "restore": `{"version":1,"reason":"let me"}`} {
		if resp, text := w.request("", "POST", "/api/v1/repositories/growers/irrigation/rules/"+call, body, "Cookie", cookie); resp.StatusCode != 403 {
			t.Errorf("%s without a token: %d %s", call, resp.StatusCode, text)
		}
	}
	confirm := func(token string) int {
		resp, _ := w.request("", "POST", "/api/v1/session/confirmation", `{"token":"`+token+`"}`, "Cookie", cookie)
		return resp.StatusCode
	}
	if confirm(w.tokens["odo"]) == 200 || confirm("tvr_nosuch") == 200 {
		t.Error("another's token confirmed")
	}
	if got := confirm(w.tokens["ines"]); got != 200 {
		t.Errorf("confirmation answers %d", got)
	}
	if got := put(); got != 200 {
		t.Errorf("applied after confirming: %d", got)
	}
}

// What a house says is for those who belong to it; a trial and lint tell nothing of repositories one may not read (P11).
func TestP11HouseRulesLeakNothing(t *testing.T) {
	w := newTown(t)
	w.begin("tavrin: rules/1\n")
	w.house(floor)
	_, err := w.admin.CreateRepository(t.Context(), wire.NewRepository{Name: "growers/hidden-well"})
	w.ok(err)
	_, err = w.admin.ApplyRules(t.Context(), "growers/hidden-well", wire.NewRules{Text: "tavrin: rules/1\nprotect: [{name: a, branches: trunk}]\n", Reason: "its own"}, -1)
	w.ok(err)
	_, err = w.admin.CreateRepository(t.Context(), wire.NewRepository{Name: "growers/open-day", Public: true})
	w.ok(err)
	w.person("marla")
	marla := w.as("marla")
	if _, err := marla.ExplainBranch(t.Context(), "growers/open-day", "main"); err != nil {
		t.Errorf("a public repository is not explained: %v", err)
	}
	_, err = marla.Rules(t.Context(), "growers", 0)
	problem(t, err, 404, "no house growers, or you may not see it")
	_, err = marla.TryRules(t.Context(), "growers", floor, 5)
	problem(t, err, 404, "")
	for _, text := range []string{strings.Replace(floor, "trunk: main", "trunk: mainline", 1), strings.Replace(floor, "approvals: 1", "approvals: 9", 1)} {
		v, err := w.as("pavo").TryRules(t.Context(), "growers", text, 50)
		if said := fmt.Sprintf("%+v %v", v, err); strings.Contains(said, "hidden-well") {
			t.Errorf("pavo hears of it: %s", said)
		}
		c, err := w.as("pavo").LintRules(t.Context(), "growers", text)
		if said := fmt.Sprintf("%+v %v", c, err); strings.Contains(said, "hidden-well") {
			t.Errorf("pavo hears of it: %s", said)
		}
	}
	_, err = w.admin.ApplyRules(t.Context(), "growers", wire.NewRules{Text: strings.Replace(floor, "trunk: main", "trunk: mainline", 1), Reason: "renamed"}, -1)
	problem(t, err, 422, "growers/hidden-well")
}

// A branch that was renamed: rules by its old name hold for nothing else, its changes wait and say why, lint says so.
func TestBranchRenamed(t *testing.T) {
	w := newTown(t)
	w.begin("tavrin: rules/1\nprotect:\n  - {name: line, branches: line/1, push: role:writer, delete: allowed, require: [{approvals: 1}]}\n")
	dir := w.clone("ines")
	w.must("ines", dir, "push", "-q", "origin", "main:refs/heads/line/1")
	tamsin := w.clone("tamsin")
	w.commit("tamsin", tamsin, "a", "a\n", "add a")
	w.must("tamsin", tamsin, "push", "-q", "origin", "HEAD:refs/heads/topic")
	k, err := w.as("tamsin").OpenChange(t.Context(), repo, wire.NewChange{Source: "topic", Target: "line/1", Title: "Add a"})
	w.ok(err)
	w.approve("odo", k)
	w.must("ines", dir, "push", "-q", "origin", "main:refs/heads/line/one", ":refs/heads/line/1")
	w.stands(k, "target", "missing", "line/1 was deleted or renamed")
	if _, err := w.as("tamsin").Join(t.Context(), repo, k.Number, wire.NewEntry{}); err == nil {
		w.ejected(k)
	}
	e, err := w.as("ines").ExplainBranch(t.Context(), repo, "line/one")
	w.ok(err)
	if e.Protected {
		t.Errorf("the new name is protected: %+v", e)
	}
	r, err := w.as("ines").Rules(t.Context(), repo, 0)
	w.ok(err)
	checked, err := w.as("ines").LintRules(t.Context(), repo, r.Text)
	w.ok(err)
	if !slices.ContainsFunc(checked.Advice, func(a wire.Advice) bool {
		return strings.Contains(a.Text, "no branch there is now matches line/1")
	}) {
		t.Errorf("lint says %+v", checked.Advice)
	}
}
