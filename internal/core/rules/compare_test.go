package rules

import (
	"math/rand/v2"
	"strings"
	"testing"

	"tavrin/internal/often"
)

func TestCompareFindsWhatLoosens(t *testing.T) {
	base := `tavrin: rules/1
branches: {trunk: main}
labels: {urgent: {set_by: team:duty}}
areas: {ledger: {paths: ledger/**, owners: team:accounts, asks: {approvals: 2}, checks: sums}}
checks: {unit: {command: make test}, seen: {witness: robot:barn, fresh: 12h}}
loosening: {agreed_by: role:maintainer}
protect:
  - name: trunk
    branches: trunk
    push: team:release
    require: [{approvals: 2, from: team:field}, {checks: [unit, lint]}, {ticket: "F-1", level: advisory}]
    land: {by: team:field, with: [rebase, squash], join_early: false}
    after_push: {approvals_stay: never, objections_stay: always}
`
	cases := []struct {
		name, from, to string
		what           string // of the first difference
		loosens        bool
	}{
		{"nothing", "", "", "", false},
		{"more approvals", "approvals: 2, from", "approvals: 3, from", "require", false},
		{"fewer approvals", "approvals: 2, from", "approvals: 1, from", "require", true},
		{"a wider pool", "from: team:field}, {checks", "from: [team:field, team:lab]}, {checks", "require", true},
		{"a condition", "approvals: 2, from: team:field", "approvals: 2, from: team:field, when: {lines: over 3}", "require", true},
		{"one check less", "[unit, lint]", "[unit]", "require", true},
		{"one check more", "[unit, lint]", "[unit, lint, bench]", "require", false},
		{"an advisory gone", ", {ticket: \"F-1\", level: advisory}", "", "require", false},
		{"an advisory required", ", level: advisory}", "}", "require", false},
		{"advisory instead of required", "{checks: [unit, lint]}", "{checks: [unit, lint], level: advisory}", "require", true},
		{"more may push", "push: team:release", "push: [team:release, role:writer]", "push", true},
		{"fewer may push", "push: team:release", "push: nobody", "push", false},
		{"everybody may land", "by: team:field, ", "", "land.by", true},
		{"one strategy more", "[rebase, squash]", "[rebase, squash, merge]", "land.with", true},
		{"join early", "join_early: false", "join_early: true", "join_early", true},
		{"approvals stay", "approvals_stay: never", "approvals_stay: always", "approvals_stay", true},
		{"objections go", "objections_stay: always", "objections_stay: never", "objections_stay", true},
		{"fewer branches", "trunk: main", "trunk: mainline", "branch kind trunk", true},
		{"more branches", "trunk: main", "trunk: [main, dev]", "branch kind trunk", false},
		{"override", "push: team:release", "push: team:release\n    override: person:odo", "override", true},
		{"exempt", "push: team:release", "push: team:release\n    exempt: person:odo", "exempt", true},
		{"another command", "make test", "exit 0", "check unit: command", true},
		{"a shorter freshness", "fresh: 12h", "fresh: 1h", "fresh", false},
		{"a longer freshness", "fresh: 12h", "fresh: 24h", "fresh", true},
		{"another owner", "owners: team:accounts", "owners: [team:accounts, team:lab]", "owners", true},
		{"less area", "paths: ledger/**", "paths: ledger/a/**", "paths", true},
		{"an area without its ask", "asks: {approvals: 2}, ", "", "asks.approvals", true},
		{"an area without its check", ", checks: sums", "", "checks", true},
		{"somebody else sets a label", "team:duty", "team:lab", "set_by", true},
		{"no second person", "loosening: {agreed_by: role:maintainer}\n", "", "loosening", true},
		{"rewriting", "push: team:release", "push: team:release\n    rewrite: allowed", "rewrite", true},
		{"another protection", "protect:\n", "protect:\n  - {name: more, branches: dev}\n", "protection \"more\"", false},
		{"no protection", "name: trunk\n", "name: other\n", "protection \"trunk\"", true},
	}
	read := func(text string) *Document {
		d, findings := Parse(text)
		if findings != nil {
			t.Fatalf("%v in\n%s", findings, text)
		}
		return d
	}
	for _, c := range cases {
		changed := strings.Replace(base, c.from, c.to, 1)
		if c.from != "" && changed == base {
			t.Fatalf("%s: nothing was replaced", c.name)
		}
		found := Compare(read(base), read(changed))
		if Loosens(found) != c.loosens {
			t.Errorf("%s: loosens %v in %+v", c.name, !c.loosens, found)
		}
		if (c.what == "") != (len(found) == 0) || c.what != "" && !strings.Contains(found[0].What, c.what) {
			t.Errorf("%s: differences %+v", c.name, found)
		}
	}
}

// What Compare lets pass as tightening never loosens a branch: where an effective setting is looser, Compare says so.
func TestP8CompareNeverMissesALoosening(t *testing.T) {
	rng := rand.New(rand.NewPCG(11, 12))
	loosening := 0
	for range often.Times(400) {
		was, now := parseAll(t, randomProtection(rng, "a")), parseAll(t, randomProtection(rng, "a"))
		if rng.IntN(2) == 0 { // near misses: the old protection and one more requirement
			text := randomProtection(rng, "a")
			was, now = parseAll(t, text), parseAll(t, text+"      - {approvals: 3}\n")
		}
		found := Compare(was, now)
		a, b := *was.Alone(1).For("main"), *now.Alone(2).For("main")
		a.Requirements, b.Requirements = nil, nil // another requirement may ask as much: those are in the table above
		what := loosened(&a, &b)
		if what != "" {
			loosening++
			if !Loosens(found) {
				t.Fatalf("%s is looser and nothing says so: %+v", what, found)
			}
		}
	}
	if loosening < 100 {
		t.Errorf("only %d generated pairs loosened: the test says little", loosening)
	}
}
