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
areas: {ledger: {paths: ledger/**, owners: team:accounts, require: [{approvals: 2}, {checks: sums}]}}
checks: {unit: {command: make test}, seen: {reported_by: robot:barn, max_age: 12h}}
loosening: {agreed_by: role:maintainer}
protect:
  - name: trunk
    branches: trunk
    push: team:release
    require: [{approvals: 2, from: team:field}, {checks: [unit, lint]}, {ticket: "F-1", level: advisory}]
    land: {who: team:field, strategies: [rebase, squash], join_early: false}
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
		{"everybody may land", "who: team:field, ", "", "land.who", true},
		{"one strategy more", "[rebase, squash]", "[rebase, squash, merge]", "land.strategies", true},
		{"a default strategy", "join_early: false", "join_early: false, default: squash", "land.default", true},
		{"a message", "join_early: false", "join_early: false, message: 'x: {title}'", "land.message", true},
		{"created from elsewhere", "push: team:release", "push: team:release\n    create_from: dev", "create_from", true},
		{"what is empty", "join_early: false", "join_early: false, drop_empty: true", "", false},
		{"what is not empty", "join_early: false", "join_early: false, drop_empty: false", "land.drop_empty", false},
		{"join early", "join_early: false", "join_early: true", "join_early", true},
		{"approvals stay", "approvals_stay: never", "approvals_stay: always", "approvals_stay", true},
		{"objections go", "objections_stay: always", "objections_stay: never", "objections_stay", true},
		{"fewer branches", "trunk: main", "trunk: mainline", "branch kind trunk", true},
		{"more branches", "trunk: main", "trunk: [main, dev]", "branch kind trunk", true}, // its branches may be created from more
		{"waive", "push: team:release", "push: team:release\n    waive: person:odo", "waive", true},
		{"exempt", "push: team:release", "push: team:release\n    exempt: person:odo", "exempt", true},
		{"another command", "make test", "exit 0", "check unit: command", true},
		{"a shorter freshness", "max_age: 12h", "max_age: 1h", "max_age", false},
		{"a longer freshness", "max_age: 12h", "max_age: 24h", "max_age", true},
		{"passes of the same tree", "seen: {reported_by", "seen: {sees: tree, reported_by", "sees", true},
		{"another owner", "owners: team:accounts", "owners: [team:accounts, team:lab]", "owners", true},
		{"less area", "paths: ledger/**", "paths: ledger/a/**", "paths", true},
		{"an area without its approvals", "{approvals: 2}, {checks", "{checks", "area ledger: require", true},
		{"an area without its check", ", {checks: sums}", "", "area ledger: require", true},
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

// No two documents that differ in what they mean compare as the same, however alike they are written, and what does not differ in
// meaning does not differ.
func TestIdentityIsByValue(t *testing.T) {
	with := func(text string) string { return "tavrin: rules/1\n" + text }
	req := func(r string) string {
		return with("protect:\n  - {name: p, branches: main, require: [" + r + "]}\n")
	}
	for _, c := range []struct {
		a, b string
		same bool
	}{
		{with(`protect: [{name: p, branches: [main, develop]}]`), with(`protect: [{name: p, branches: ["develop,main"]}]`), false},
		{with(`protect: [{name: p, branches: [main, develop]}]`), with(`protect: [{name: p, branches: [develop, main, main]}]`), true},
		{with(`areas: {a: {paths: [x, y], owners: team:t}}`), with(`areas: {a: {paths: ["x,y"], owners: team:t}}`), false},
		{with(`areas: {a: {paths: [x], require: [{checks: [u, v]}], owners: team:t}}`), with(`areas: {a: {paths: [x], require: [{checks: [v, u]}], owners: team:t}}`), true},
		{req(`{approvals: 1, when: {paths: [x, y]}}`), req(`{approvals: 1, when: {paths: ["x,y"]}}`), false},
		{req(`{approvals: 1, when: {source: [x, y]}}`), req(`{approvals: 1, when: {source: ["x,y"]}}`), false},
		{req(`{checks: [x, y]}`), req(`{checks: "x, y"}`), true}, // refused below: it is no name
		{req(`{checks: ["x*", "y*"]}`), req(`{checks: "x*,y*"}`), false},
		{req(`{checks: ["{x,y}"]}`), req(`{checks: ["{x", "y}"]}`), true},
		{req(`{approvals: 1, called: a}`), req(`{approvals: 1, called: b}`), true},
		{req(`{messages: "^a", example: a}`), req(`{messages: "^a", example: ab}`), true},
		{req(`{approvals: 1}, {objections: none}`), req(`{objections: none}, {approvals: 1}`), true},
		{req(`{ticket: "F", in: [title, branch]}`), req(`{ticket: "F", in: [branch, title]}`), true},
		{with(`branches: {k: x}` + "\nprotect:\n  - {name: p, branches: main, require: [{approvals: 1, when: {source: k}}]}\n"), with(`branches: {k: [x, y]}` + "\nprotect:\n  - {name: p, branches: main, require: [{approvals: 1, when: {source: k}}]}\n"), false},
		{with(`protect: [{name: p, branches: main, land: {trailers: ["A: b", "C: d"]}}]`), with(`protect: [{name: p, branches: main, land: {trailers: ["C: d", "A: b"]}}]`), true},
	} {
		a, found := Parse(c.a)
		b, foundToo := Parse(c.b)
		if found != nil || foundToo != nil {
			if !c.same { // what is refused cannot be taken for another
				t.Errorf("%s\n%s\n%v %v", c.a, c.b, found, foundToo)
			}
			continue
		}
		if differences := Compare(a, b); (len(differences) == 0) != c.same {
			t.Errorf("%s\n%s\ndiffer in %+v", c.a, c.b, differences)
		}
	}
	house, _ := Under{OfHouse: true}.Parse(with("protect: [{name: p, repositories: [x, y], branches: main, push: team:a}]"))
	other, _ := Under{OfHouse: true}.Parse(with(`protect: [{name: p, repositories: ["x,y"], branches: main, push: team:a}]`))
	if !Loosens(Compare(house, other)) {
		t.Error("the repositories of a house's protection are taken for others")
	}
	// A word that is a kind in one document and a name in the other merges nothing.
	plain, _ := Under{OfHouse: true}.Parse(with("protect: [{name: h, branches: main, require: [{approvals: 1, when: {source: topic}}]}]"))
	kind, found := Under{House: plain}.Parse(with("branches: {topic: feature/**}\nprotect: [{name: r, branches: main, require: [{approvals: 1, when: {source: topic}}]}]"))
	if e := NewSet("g/r", Layer{Document: plain, Of: "house g"}, Layer{Document: kind}).For("main"); len(e.Requirements) != 2 {
		t.Errorf("%v: two demands became %d", found, len(e.Requirements))
	}
}

// What is added by one document changes nothing that another one says, or is said to loosen.
func TestP8AnAdditionElsewhereIsSeen(t *testing.T) {
	const cel = "protect: [{name: p, branches: main, require: [{approvals: 1, when: {cel: 'size(areas) < 1 && size(labels) < 1'}}]}]\n"
	for _, c := range []struct {
		name, was, now, other string
		ofHouse, loosens      bool
	}{
		{"an area beside an expression", cel, "areas: {a: {paths: a, owners: team:t}}\n" + cel, "", false, true},
		{"a label beside an expression", cel, "labels: {l: {set_by: team:t}}\n" + cel, "", false, true},
		{"an area, and no expression", "", "areas: {a: {paths: a, owners: team:t}}\n", "", false, false},
		{"a house's area beside a repository's expression", "", "areas: {a: {paths: a, owners: team:t}}\n", cel, true, true},
		{"a house's area that a repository defines", "", "areas: {a: {paths: a, owners: team:t}}\n", "areas: {a: {paths: b, owners: team:u}}\n", true, true},
		{"a house's check that a repository defines", "", "checks: {u: {reported_by: robot:b}}\n", "checks: {u: {reported_by: robot:c}}\n", true, true},
		{"a check that is anybody's to report until then", "", "checks: {u: {reported_by: robot:b}}\n", "", true, false},
		{"a check that becomes a command", "", "checks: {u: {command: 'true'}}\n", "protect: [{name: p, branches: main, require: [{checks: u}]}]\n", false, true},
		{"a protection with a default strategy", "", "protect: [{name: p, branches: main, land: {default: squash}}]\n", "", false, true},
		{"a protection with a message", "", "protect: [{name: p, branches: main, land: {message: 'x {title}'}}]\n", "", false, true},
		{"a protection with a right to waive", "", "protect: [{name: p, branches: main, waive: role:writer}]\n", "", false, false},
		{"a protection under which writers push", "", "protect: [{name: p, branches: '**', push: role:writer}]\n", "", false, false},
	} {
		read := func(text string, ofHouse bool) *Document {
			d, found := Under{OfHouse: ofHouse}.Parse("tavrin: rules/1\n" + text)
			if found != nil {
				t.Fatalf("%s: %v", c.name, found)
			}
			return d
		}
		found := Compare(read(c.was, c.ofHouse), read(c.now, c.ofHouse), read(c.other, !c.ofHouse))
		if Loosens(found) != c.loosens {
			t.Errorf("%s: loosens %v: %+v", c.name, !c.loosens, found)
		}
		for _, d := range found {
			if d.Loosens && d.Was == "" && d.Why == "" {
				t.Errorf("%s: it is not said how %q loosens", c.name, d.What)
			}
		}
	}
}
