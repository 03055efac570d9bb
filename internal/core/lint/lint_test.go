package lint

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"tavrin/internal/core/change"
	"tavrin/internal/core/gate"
	"tavrin/internal/core/people"
	"tavrin/internal/core/rules"
)

var now = time.Date(2026, 4, 1, 0, 0, 0, 0, time.UTC)

// world has three people in two teams, one robot with a token for "preview", and a runner.
func world() World {
	w := World{Repository: "growers/irrigation", At: now, Runner: true, Branches: []string{"main", "release/1"}, Paths: []string{"firmware/a.c", "ledger/t.csv", "ci/bench.sh"},
		People: people.Known(map[string]people.Person{
			"odo": {Login: "odo", Role: people.Writer, Teams: []string{"hydraulics"}}, "bela": {Login: "bela", Role: people.Writer, Teams: []string{"accounts", "hydraulics"}},
			"wren": {Login: "wren", Role: people.Writer, Teams: []string{"accounts"}}, "ines": {Login: "ines", Role: people.Maintainer, Standby: true}, "barn": {Login: "barn", Role: people.Writer, Robot: true},
		}),
		Known:     map[string]bool{"person:odo": true, "person:bela": true, "person:wren": true, "person:old": true, "team:hydraulics": true, "team:accounts": true, "team:empty": true, "robot:barn": true},
		Disabled:  map[string]bool{"person:gone": true},
		Reporters: map[string][]string{"preview": {"barn"}, "renamed": {"barn"}, "old": {"barn"}},
		Reported:  map[string]time.Time{"preview": now.Add(-time.Hour), "old": now.Add(-60 * 24 * time.Hour)},
	}
	return w
}

func linted(t *testing.T, text string, w World) []Advice {
	t.Helper()
	doc, findings := rules.Parse("tavrin: rules/1\n" + text)
	if findings != nil {
		t.Fatalf("%v in\n%s", findings, text)
	}
	return Lint(doc, doc.Alone(1), "", w)
}

func TestLint(t *testing.T) {
	one := func(require string) string {
		return "protect:\n  - name: trunk\n    branches: main\n    require:\n      - " + require + "\n"
	}
	cases := []struct {
		name, text string
		severity   Severity // of the finding; empty: nothing is found
		says       string
		edit       string
	}{
		{"nothing wrong", one("approvals: 1"), "", "", ""},
		{"more approvals than people", one("approvals: 4"), Blocked, "asks for 4, and everybody who may write are 3 with access", "at most 3"},
		{"more than the pool", one("{approvals: 3, from: team:hydraulics}"), Blocked, "team:hydraulics are 2", ""},
		{"the whole pool", one("{approvals: 2, from: team:hydraulics}"), Fragile, "a change of their own", "one less"},
		{"no slack", one("{approvals: 1, from: team:hydraulics}"), Fragile, "one absence blocks", "name more people"},
		{"advisory only noted", one("{approvals: 9, level: advisory}"), Note, "never be satisfied", ""},
		{"nobody excluded", one("{approvals: 1, own: counts}"), Note, "own approval counts", ""},
		{"an empty team", one("{approvals: 1, from: team:empty, level: advisory}"), Fragile, "team:empty, of whom nobody has access", "add people"},
		{"a team that is not", one("{approvals: 1, from: team:nosuch, level: advisory}"), Blocked, "team:nosuch, which there is not", "correct the name"},
		{"a person without access", "protect:\n  - {name: trunk, branches: main, push: person:old}\n", Fragile, "person:old, who has no access", ""},
		{"an area of one", "areas:\n  a: {paths: firmware/**, owners: person:odo}\n", Fragile, "a change of their own", ""},
		{"an area of nobody", "areas:\n  a: {paths: firmware/**, owners: person:old}\n", Blocked, "person:old are 0 with access", ""},
		{"an idle pattern", "areas:\n  a: {paths: [firmware/**, nowhere/**], owners: team:accounts}\n", Fragile, "nowhere/** matches no file", ""},
		{"a check of nobody", one("checks: lint"), Blocked, `"lint" can be reported by nobody`, "--check growers/irrigation:\"lint\""},
		{"a check never reported", one("checks: renamed"), Fragile, "never been reported", "tavrin check list"},
		{"a check long silent", one("checks: old"), Fragile, "2026-01-31, more than 30 days ago", ""},
		{"a check of another robot", "checks: {preview: {reported_by: robot:nosuch}}\n", Blocked, "robot:nosuch, which there is not", ""},
		{"a pattern of no check", one("checks: 'bench *'"), Fragile, "matches bench *", ""},
		{"a script nobody owns", "checks: {bench: {command: sh ci/bench.sh}}\n", Fragile, "ci/bench.sh, which nobody owns", "add ci/bench.sh to an area"},
		{"a deployment of nothing", one("deployment: field"), Blocked, "no check deploys to field", "kind: deployment"},
		{"slots that nobody uses", "protect:\n  - {name: trunk, branches: main, queue: {planner: one-at-a-time, slots: 4}}\n", Note, "4 slots are not used", "leave one"},
		{"areas side by side, without areas", "protect:\n  - {name: trunk, branches: main, queue: {tests: by_area}}\n", Fragile, "nothing goes side by side", "define areas"},
		{"nobody is urgent", "protect:\n  - {name: trunk, branches: main, queue: {urgent: team:empty}}\n", Fragile, "nobody may have a change go ahead", "name somebody"},
		{"one may land", "protect:\n  - {name: trunk, branches: main, land: {who: person:odo}}\n", Fragile, "only odo may ask to land", ""},
		{"nobody may land", "protect:\n  - {name: trunk, branches: main, land: {who: team:empty}}\n", Blocked, "nobody may ask to land", ""},
		{"no strategy left", "protect:\n  - {name: a, branches: main, land: {strategies: rebase}}\n  - {name: b, branches: '**', land: {strategies: merge}}\n", Blocked, "leave no strategy", "allow a strategy in both"},
		{"straight and merge", "protect:\n  - {name: a, branches: main, require: [{history: linear}], land: {strategies: merge}}\n", Blocked, "stay linear", "rebase or squash"},
		{"different defaults", "protect:\n  - {name: a, branches: main, land: {default: rebase}}\n  - {name: b, branches: '**', land: {default: merge}}\n", Fragile, "different default strategies", ""},
		{"different messages", "protect:\n  - {name: a, branches: main, land: {message: a}}\n  - {name: b, branches: '**', land: {message: b}}\n", Fragile, "different messages", ""},
		{"disjoint landers", "protect:\n  - {name: a, branches: main, land: {who: person:odo}}\n  - {name: b, branches: '**', land: {who: person:wren}}\n", Blocked, "nobody is in every list of land.who", ""},
		{"no such branch", "protect:\n  - {name: a, branches: master}\n", Fragile, "no branch there is now matches master", "browse branches"},
		{"a pattern for later", "protect:\n  - {name: a, branches: hotfix/**}\n", Note, "matches hotfix/**", ""},
		{"said twice", one("checks: preview\n      - checks: preview"), Note, "line 6 asks the same already", "leave one out"},
		{"said by two", "protect:\n  - {name: a, branches: main, require: [{checks: preview}]}\n  - {name: b, branches: '**', require: [{checks: preview}]}\n", Note, "ask the same", ""},
		{"thresholds out of order", one("{approvals: 2, when: {lines: over 100}}\n      - {approvals: 1, when: {lines: over 500}}"), Fragile, "out of order: over 100 lines asks for 2 approvals, over 500 for only 1", ""},
		{"adds nothing", one("approvals: 1\n      - {approvals: 1, called: more, when: {lines: over 500}}"), Note, "add nothing", ""},
		{"exempt", "protect:\n  - {name: a, branches: main, exempt: person:odo}\n", Note, "does not bind person:odo", ""},
		{"a condition on no file", one("{objections: none, when: {paths: nowhere/*}}"), Fragile, "condition's paths nowhere/*", ""},
		{"one to agree", "loosening: {agreed_by: person:odo}\n", Fragile, "another person than the one who proposes", ""},
		{"another case", "areas:\n  a: {paths: [Firmware/**, 'ci/**', 'docs/**'], owners: team:accounts}\n", Fragile, "differs from its paths by upper and lower case alone", "{case: exact}"},
		{"a strategy of one", "protect:\n  - {name: a, branches: main, land: {strategies: rebase, default: rebase}}\n", Note, "land.default has no effect", "leave it out"},
		{"a message for a rebase", "protect:\n  - {name: a, branches: main, land: {strategies: rebase, message: \"{title}\"}}\n", Note, "land.message has no effect", ""},
		{"approvals that stay of none", "protect:\n  - {name: a, branches: main, after_push: {approvals_stay: never}}\n", Note, "after_push.approvals_stay has no effect", ""},
		{"objections that stay of none", "protect:\n  - {name: a, branches: main, after_push: {objections_stay: never}}\n", Note, "after_push.objections_stay has no effect", ""},
		{"a check that nobody is told of", one("checks: renamed"), Fragile, "no webhook tells anybody that it is asked for", "tavrin check connect \"renamed\""},
		{"an environment that nothing asks for", "checks: {preview: {kind: deployment, environment: field}}\n", Note, "nothing asks for a deployment there", "deployment: field"},
		{"an environment that something asks for", "checks: {preview: {kind: deployment, environment: field}}\n" + one("deployment: field"), "", "", ""},
		{"a deployment of every tip", "checks: {preview: {kind: deployment, environment: field, on_tip: main}}\n", "", "", ""},
		{"a check of every tip", "checks: {preview: {reported_by: robot:barn, on_tip: main}}\n", "", "", ""},
		{"a check of no use", "checks: {preview: {reported_by: robot:barn}}\n", Note, "nothing asks for it", ""},
		{"owners without areas", one("owners: every touched area"), Note, "there are no areas", ""},
		{"another robot than the check's", "checks: {preview: {reported_by: robot:barn}}\n" + one("{checks: preview, reported_by: robot:other}"), Blocked, "so that nobody's does", "the same robot"},
		{"the same robot as the check's", "checks: {preview: {reported_by: robot:barn}}\n" + one("{checks: preview, reported_by: robot:barn}"), "", "", ""},
		{"no push anywhere", "protect:\n  - {name: all, branches: '**'}\n", Fragile, "nobody can push one to propose", "push: role:writer"},
		{"a ticket in a long text", one("ticket: '^FEN-[0-9]+$'"), Fragile, "bound to the ends of the whole text", "(?m)"},
		{"a ticket in the title", one("{ticket: '^FEN-[0-9]+$', in: title}"), "", "", ""},
		{"a kind misspelt", "branches: {hotfix: hotfix/**}\n" + one("{objections: none, when: {source: hotfx}}"), Fragile, `no branch kind and no branch "hotfx"`, "did you mean the kind hotfix?"},
		{"a kind", "branches: {hotfix: hotfix/**}\n" + one("{objections: none, when: {source: ['**', '!hotfix']}}"), "", "", ""},
		{"a label that lifts", "labels: {urgent: {set_by: team:hydraulics}}\n" + one(`{objections: none, when: {cel: "!('urgent' in labels)"}}`), Note, "team:hydraulics may set that on a change of their own", ""},
		{"creation from what nobody saw", "protect:\n  - {name: lines, branches: 'release/**', create: role:writer, create_from: main}\n", Fragile, "nothing there asks for a review", "create_from"},
		{"creation from what was seen", "protect:\n  - {name: lines, branches: [main, 'release/**'], create: role:writer, require: [{approvals: 1}]}\n", "", "", ""},
		{"a default that history rules out", "protect:\n  - {name: a, branches: main, require: [{history: linear}], land: {default: merge}}\n", Fragile, "by merge where nobody says another", ""},
		{"a message that does not fit", "protect:\n  - {name: a, branches: main, require: [{messages: '^[a-z]+: ', example: 'docs: a'}], land: {message: 'Change {number}: {title}'}}\n", Fragile, "does not fit the messages", ""},
		{"a message that fits", "protect:\n  - {name: a, branches: main, require: [{messages: '^[a-z]+: ', example: 'docs: a'}], land: {message: '{title} ({number})'}}\n", "", "", ""},
		{"a person who is disabled", "protect:\n  - {name: trunk, branches: main, push: person:gone}\n", Blocked, "person:gone, whose account is disabled", "enable"},
		{"tags", "protect:\n  - {name: versions, tags: 'v*', create: role:maintainer, require: [{signed: every tag}]}\n", "", "", ""},
		{"tags of nobody", "protect:\n  - {name: versions, tags: 'v*', create: team:nosuch}\n", Blocked, "team:nosuch, which there is not", ""},
		{"a label of nobody", "labels: {urgent: {set_by: team:nosuch}}\n", Blocked, "team:nosuch, which there is not", ""},
	}
	for _, c := range cases {
		found := linted(t, c.text, world())
		i := slices.IndexFunc(found, func(a Advice) bool { return strings.Contains(a.Text, c.says) })
		switch {
		case c.severity == "" && len(found) > 0:
			t.Errorf("%s: %+v", c.name, found)
		case c.severity != "" && i < 0:
			t.Errorf("%s: nothing says %q in %+v", c.name, c.says, found)
		case c.severity != "" && (found[i].Severity != c.severity || !strings.Contains(found[i].Edit, c.edit) || found[i].Line < 2):
			t.Errorf("%s: %+v", c.name, found[i])
		}
	}
}

func TestTeamOfOne(t *testing.T) {
	w := world()
	w.People = people.Known(map[string]people.Person{"odo": {Login: "odo", Role: people.Maintainer}})
	found := linted(t, "protect:\n  - {name: trunk, branches: main, require: [{approvals: 1}]}\n", w)
	if len(found) != 1 || found[0].Severity != Blocked || !strings.Contains(found[0].Edit, "own: counts") {
		t.Errorf("found %+v", found)
	}
	if found = linted(t, "protect:\n  - {name: trunk, branches: main, require: [{approvals: 1, own: counts}]}\n", w); Worst(found) == Blocked {
		t.Errorf("with the setting for a team of one: %+v", found)
	}
}

// What lint calls impossible is: nobody's approvals clear the gate.
func TestBlockedApprovalsAreImpossible(t *testing.T) {
	w := world()
	doc, _ := rules.Parse("tavrin: rules/1\nprotect:\n  - {name: trunk, branches: main, require: [{approvals: 3}]}\n")
	if Worst(Lint(doc, doc.Alone(1), "", w)) != Blocked {
		t.Fatal("three approvals of three writers, one of whom is the author, are not found impossible")
	}
	for who := range w.People.All() {
		author := who.Login
		if who.Standby {
			continue // an administrator's own change has three others to approve it
		}
		f := change.Facts{State: "open", Target: "main", Revision: 1, Authors: []string{author}, People: w.People}
		for p := range w.People.All() {
			if login := p.Login; !p.Standby {
				f.Reviews = append(f.Reviews, change.Review{By: login, Verdict: change.Approve, Revision: 1})
			}
		}
		if gate.Judge(doc.Alone(1), f).Ready && author != "barn" {
			t.Errorf("%s's change is ready", author)
		}
	}
}

func ExampleLint() {
	doc, _ := rules.Parse("tavrin: rules/1\nprotect:\n  - {name: trunk, branches: main, require: [{approvals: 5}]}\n")
	for _, a := range Lint(doc, doc.Alone(1), "", world()) {
		fmt.Println(a.Line, a.Severity, a.Edit)
	}
	// Output: 3 blocked ask for at most 3, or name more people
}

// A house that demands a check without saying what it is leaves that to each repository, and is told so.
func TestHouseLeavesACheckOpen(t *testing.T) {
	lint := func(text string) []Advice {
		doc, findings := rules.Under{OfHouse: true}.Parse("tavrin: rules/1\n" + text + "protect: [{name: floor, branches: main, require: [{checks: preview}]}]\n")
		if findings != nil {
			t.Fatal(findings)
		}
		set := rules.NewSet("growers/irrigation", rules.Layer{Document: doc, Of: "house growers", Version: 1})
		return Lint(doc, set, "house growers", world())
	}
	if found := lint(""); len(found) != 1 || found[0].Severity != Note || !strings.Contains(found[0].Text, "each repository does") {
		t.Errorf("found %+v", found)
	}
	if found := lint("checks: {preview: {reported_by: robot:barn}}\n"); len(found) != 0 {
		t.Errorf("found %+v", found)
	}
}

// A house's document is judged for the repositories that it is for, and a repository's beside it.
func TestHouseAndRepository(t *testing.T) {
	house, findings := rules.Under{OfHouse: true}.Parse("tavrin: rules/1\nareas: {all: {repositories: nowhere, paths: '**', owners: team:hydraulics}}\nprotect:\n" +
		"  - {name: ours, branches: main, rewrite: never, delete: never, after_push: {approvals_stay: never}, require: [{approvals: 1}]}\n" +
		"  - {name: nobody, branches: main, push: nobody, land: {strategies: [rebase, merge]}}\n" +
		"  - {name: theirs, repositories: ledger, branches: main, require: [{approvals: 9}]}\n  - {name: nobody's, repositories: [orchard, 'greenhouse-*'], branches: main}\n")
	if findings != nil {
		t.Fatal(findings)
	}
	own, findings := rules.Under{House: house}.Parse("tavrin: rules/1\nprotect:\n  - {name: mine, branches: main, rewrite: allowed, push: role:writer, create: role:writer, land: {strategies: [rebase, squash], default: squash}, after_push: {approvals_stay: always, objections_stay: always}}\n")
	if findings != nil {
		t.Fatal(findings)
	}
	set := rules.NewSet("growers/irrigation", rules.Layer{Document: house, Of: "house growers", Version: 1}, rules.Layer{Document: own, Version: 1})
	says := func(found []Advice, text string) bool {
		return slices.ContainsFunc(found, func(a Advice) bool { return strings.Contains(a.Text, text) })
	}
	found := Lint(house, set, "house growers", world())
	if says(found, "theirs") || says(found, "nobody's") {
		t.Errorf("what is for other repositories is judged here: %+v", found)
	}
	found = ForNone(house, []string{"growers/irrigation", "growers/ledger"})
	if len(found) != 2 || !says(found, `protection "nobody's" is for no repository there is now: orchard, greenhouse-* matches none`) || !says(found, `area "all"`) {
		t.Errorf("what is for none: %+v", found)
	}
	found = Lint(own, set, "", world())
	if !says(found, `protection "mine": rewrite has no effect: "nobody" (house growers, rules version 1, line 5) and "ours" (house growers, rules version 1, line 4) are stricter`) || !says(found, "after_push.approvals_stay has no effect") {
		t.Errorf("a stricter house: %+v", found)
	}
	for _, key := range []string{"push", "create", "squash in land.strategies", "land.default"} {
		if !says(found, `protection "mine": `+key+` has no effect: "nobody" (house growers`) && !says(found, `protection "mine": `+key+` has no effect: "ours" (house growers`) {
			t.Errorf("the house overrules %s, and that is not said: %+v", key, found)
		}
	}
	if says(found, "rebase in land.strategies has no effect") {
		t.Errorf("both allow a rebase: %+v", found)
	}
	if says(found, "objections_stay has no effect: \"ours\"") {
		t.Errorf("a house that says the same: %+v", found)
	}
}

// In a repository of one nothing is said of slack, which there can be none of.
func TestNoSlackInARepositoryOfOne(t *testing.T) {
	w := world()
	w.People = people.Known(map[string]people.Person{"odo": {Login: "odo", Role: people.Maintainer}})
	for _, a := range linted(t, "protect:\n  - {name: trunk, branches: main, require: [{approvals: 1, own: counts}], land: {who: person:odo}}\n", w) {
		if strings.Contains(a.Text, "absence") || strings.Contains(a.Text, "slack") {
			t.Errorf("it says %+v", a)
		}
	}
}

// Webhooks are looked at with the repository's own rules, and what is told of a check depends on them.
func TestLintKnowsOfWebhooks(t *testing.T) {
	w := world()
	w.Told = true
	w.Failing = []Failing{{ID: 3, Name: "builds", Since: now.Add(-30 * time.Hour), Trouble: "it did not answer within 15s"}}
	const text = "protect:\n  - {name: trunk, branches: main, require: [{checks: renamed}]}\n"
	found := linted(t, text, w)
	said := ""
	for _, a := range found {
		said += a.Text + "\n"
	}
	if !strings.Contains(said, `webhook "builds" has failed since`) || !strings.Contains(said, "has never been reported\n") {
		t.Errorf("lint says\n%s", said)
	}
	doc, _ := rules.Parse("tavrin: rules/1\n" + text)
	for _, a := range Lint(doc, doc.Alone(1), "house growers", w) {
		if strings.Contains(a.Text, "webhook") {
			t.Errorf("of a house's document lint says %s", a.Text)
		}
	}
}
