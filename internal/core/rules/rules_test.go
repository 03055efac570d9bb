package rules

import (
	"fmt"
	"math/rand/v2"
	"reflect"
	"strings"
	"testing"
)

const sample = `tavrin: rules/1
branches:
  trunk:   main
  release: release/**
areas:
  valves:
    paths:  ["firmware/valves/**", "!**/*.md"]
    owners: [team:hydraulics]
    asks:   {approvals: 1}
    checks: [valve-bench]
checks:
  unit: {command: make test, limit: 90s}
  preview: {witness: robot:previewer}
protect:
  - name: trunk and releases
    branches: [trunk, release]
    push: nobody
    require:
      - approvals: 2
        from: [team:agronomy]
        not_from: [author, last_pusher]
      - owners: every touched area
      - objections: none
      - checks: [unit]
        level: advisory
    after_push: {approvals_stay: never}
    land:
      by: role:writer
      with: [rebase, squash]
      strategy: rebase
      remove_source: true
`

func TestParseSample(t *testing.T) {
	d, findings := Parse(sample)
	if len(findings) > 0 {
		t.Fatal(findings)
	}
	e := d.For("release/2026", 7)
	if !e.Protected || len(e.Requirements) != 4 || e.Default != Rebase || !e.RemoveSource || e.Stay != StayNever {
		t.Errorf("effective settings are %+v", e)
	}
	if e.Rewrite != Never || e.Delete != Never || len(e.Push) != 1 || len(e.Push[0].Who) != 0 {
		t.Errorf("push, rewrite and delete are %v, %v, %v", e.Push, e.Rewrite, e.Delete)
	}
	for _, r := range e.Requirements {
		if r.Demand == Approvals && (r.Line != 19 || r.From[0].String() != `"trunk and releases" (rules version 7, line 19)`) {
			t.Errorf("approvals come from %v, line %d", r.From, r.Line)
		}
	}
	if d.For("topic", 7).Protected {
		t.Error("topic is protected by nothing and said to be protected")
	}
	if c := d.Check("unit"); c.Command != "make test" || c.Limit.Seconds() != 90 {
		t.Errorf("check unit is %+v", c)
	}
}

func TestFindingsSayWhereAndWhatIsRight(t *testing.T) {
	head := "tavrin: rules/1\n"
	cases := []struct {
		name, text    string
		line          int
		message, says string
	}{
		{"unknown key", head + "protects: []\n", 2, `unknown key "protects"`, "one of tavrin, branches, areas, checks, protect"},
		{"unknown form", "tavrin: rules/9\n", 1, `"rules/9"`, "rules/1"},
		{"no form", "protect: []\n", 1, "does not say its form", "tavrin: rules/1"},
		{"duplicate key", head + "areas: {}\nareas: {}\n", 3, `"areas" stands twice`, "line 2"},
		{"wrong type", head + "protect:\n  - name: a\n    branches: main\n    require:\n      - approvals: lots\n", 6, `"approvals" is text`, "whole number from 1 to 20"},
		{"bad value", head + "protect:\n  - name: a\n    branches: main\n    rewrite: sometimes\n", 5, `cannot be "sometimes"`, "never, allowed"},
		{"bad principal", head + "protect:\n  - name: a\n    branches: main\n    push: hydraulics\n", 5, `"hydraulics"`, "team:NAME"},
		{"bad glob", head + "protect:\n  - name: a\n    branches: \"rel[\"\n", 4, `"[" without "]"`, "glob"},
		{"no strategy left", head + "protect:\n  - name: a\n    branches: main\n    land: {with: []}\n", 5, "nothing could ever land", "rebase, squash, merge"},
		{"default not allowed", head + "protect:\n  - name: a\n    branches: main\n    land: {with: [merge], strategy: squash}\n", 5, `"squash" is not one of`, "merge"},
		{"two demands", head + "protect:\n  - name: a\n    branches: main\n    require:\n      - approvals: 1\n        checks: unit\n", 7, "asks one thing", "new list item"},
		{"at beside approvals", head + "protect:\n  - name: a\n    branches: main\n    require:\n      - approvals: 1\n        at: head\n", 7, `"at" means nothing beside "approvals"`, "not_from"},
		{"same name twice", head + "protect:\n  - {name: a, branches: main}\n  - {name: a, branches: dev}\n", 4, `called "a"`, "line 3"},
		{"anchor", head + "areas: &x\n  a: {paths: a, owners: team:t}\n", 2, "anchor", ""},
		{"alias", head + "areas: *x\n", 2, "alias", ""},
		{"not YAML", head + "areas: [\n", 2, "not YAML", ""},
		{"bad limit", head + "checks:\n  unit: {command: make, limit: soon}\n", 3, `limit cannot be "soon"`, "1s to 24h"},
		{"area without owners", head + "areas:\n  a: {paths: a/**}\n", 3, "no owners", "team:NAME"},
		{"empty", "", 1, "empty", "one YAML mapping"},
		{"NUL", "tavrin: \x00", 1, "NUL", ""},
		{"not UTF-8", "tavrin: \xff", 1, "UTF-8", ""},
		{"too large", strings.Repeat("#", MaxBytes+1), 1, "bytes", "at most"},
		{"too deep", head + "areas: " + strings.Repeat("[", 5000), 1, "nested too deeply", ""},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			d, findings := Parse(c.text)
			if d != nil || len(findings) == 0 {
				t.Fatal("the document was accepted")
			}
			f := findings[0]
			if f.Line != c.line || !strings.Contains(f.Message, c.message) || !strings.Contains(f.Right, c.says) {
				t.Errorf("finding is %d: %s; %s", f.Line, f.Message, f.Right)
			}
			if !strings.Contains(f.Excerpt, "^") {
				t.Errorf("the excerpt marks no place: %q", f.Excerpt)
			}
		})
	}
}

func TestAllFindingsAtOnceInOrder(t *testing.T) {
	_, findings := Parse("tavrin: rules/1\nprotect:\n  - name: a\n    branches: main\n    rewrite: x\n    delete: y\nwhat: 1\n")
	if len(findings) != 3 || findings[0].Line != 5 || findings[1].Line != 6 || findings[2].Line != 7 {
		t.Errorf("findings are %v", findings)
	}
}

// The order of protections and requirements never matters, and one more protection never loosens (P8).
func TestP8OrderNeverMattersAndAddingOnlyTightens(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 2))
	for range 300 {
		protections := make([]string, 1+rng.IntN(4))
		for i := range protections {
			protections[i] = randomProtection(rng, i)
		}
		text := func(list []string) *Document {
			d, findings := Parse("tavrin: rules/1\nprotect:\n" + strings.Join(list, ""))
			if findings != nil {
				t.Fatalf("%v in\n%s", findings, strings.Join(list, ""))
			}
			return d
		}
		whole := text(protections).For("main", 1)
		shuffled := append([]string(nil), protections...)
		rng.Shuffle(len(shuffled), func(i, j int) { shuffled[i], shuffled[j] = shuffled[j], shuffled[i] })
		if a, b := essence(whole), essence(text(shuffled).For("main", 1)); !reflect.DeepEqual(a, b) {
			t.Fatalf("order matters:\n%v\n%v", a, b)
		}
		fewer := text(protections[:1]).For("main", 1)
		if len(whole.Requirements) < len(fewer.Requirements) || len(whole.With) > len(fewer.With) ||
			(fewer.Rewrite == Never && whole.Rewrite == Allowed) || stricterStay(whole.Stay, fewer.Stay) != whole.Stay {
			t.Fatalf("adding loosened:\n%+v\n%+v", fewer, whole)
		}
	}
}

func randomProtection(rng *rand.Rand, i int) string {
	pick := func(words ...string) string { return words[rng.IntN(len(words))] }
	return fmt.Sprintf("  - name: p%d\n    branches: %s\n    push: %s\n    rewrite: %s\n    require:\n      - approvals: %d\n      - checks: %s\n    after_push: {approvals_stay: %s}\n    land: {with: %s, strategy: rebase, remove_source: %s}\n",
		i, pick("main", "'**'", "dev"), pick("nobody", "team:a", "[team:a, person:b]"), pick("never", "allowed"),
		1+rng.IntN(3), pick("unit", "[unit, lint]", "[lint, unit]"), pick("never", "if_unchanged", "always"),
		pick("[rebase]", "[rebase, merge]", "[rebase, squash, merge]"), pick("true", "false"))
}

// essence is what may not depend on order: everything but the order of lists of sources.
func essence(e Effective) map[string]any {
	requirements := map[string]int{}
	for _, r := range e.Requirements {
		requirements[r.identity()] = len(r.From)
	}
	push := map[string]int{}
	for _, a := range e.Push {
		push[fmt.Sprint(a.Who)]++
	}
	return map[string]any{"protections": e.Protections, "requirements": requirements, "push": push, "rewrite": e.Rewrite,
		"delete": e.Delete, "stay": e.Stay, "with": e.With, "default": e.Default, "remove": e.RemoveSource}
}

func FuzzParse(f *testing.F) {
	f.Add(sample)
	f.Add("tavrin: rules/1\nprotect: [{name: a, branches: ['!x']}]")
	f.Add("? [a]\n: b")
	f.Fuzz(func(t *testing.T, text string) {
		d, findings := Parse(text)
		if (d == nil) == (len(findings) == 0) {
			t.Fatalf("document %v with findings %v", d, findings)
		}
		if d != nil {
			d.For("main", 1)
		}
	})
}

func TestSentencesSayEverySetting(t *testing.T) {
	d, findings := Parse(sample)
	if findings != nil {
		t.Fatal(findings)
	}
	var said []string
	for _, s := range d.For("main", 3).Sentences() {
		line := s.Text
		if len(s.Sources) > 0 {
			line += fmt.Sprintf(" [%d]", s.Sources[0].Line)
		}
		said = append(said, line)
	}
	want := []string{
		"Nobody pushes to it directly; changes land through the queue. [17]", "Its history is not rewritten. [15]", "It is not deleted. [15]",
		"2 approvals from team:agronomy, an author's own not counting, nor that of the last to push. [19]", "An owner of every touched area approves. [22]",
		"Nobody objects. [23]", "unit passes on the rehearsal (advisory). [24]", "Every push ends the approvals given before it.",
		"Only role:writer may ask to land. [28]", "Changes land by rebase, squash; by rebase unless said otherwise. [29]", "The source branch is removed after landing.",
	}
	if !reflect.DeepEqual(said, want) {
		t.Errorf("said:\n%s\nwant:\n%s", strings.Join(said, "\n"), strings.Join(want, "\n"))
	}
	if free := d.For("topic", 3).Sentences(); len(free) != 1 || !strings.Contains(free[0].Text, "whoever may write may push") {
		t.Errorf("an unprotected branch: %v", free)
	}
}

func TestPrincipalsMayBeWrittenWithASpace(t *testing.T) {
	d, findings := Parse("tavrin: rules/1\nareas:\n  a: {paths: a, owners: [team: hydraulics, \"person:odo\"]}\n  b: {paths: b, owners: {team: field}}\n")
	if findings != nil {
		t.Fatal(findings)
	}
	if got := fmt.Sprint(d.Areas[0].Owners, d.Areas[1].Owners); got != "[team:hydraulics person:odo] [team:field]" {
		t.Errorf("owners are %s", got)
	}
}

func TestSettingsOfSeveralProtectionsTogether(t *testing.T) {
	d, findings := Parse(`tavrin: rules/1
protect:
  - name: a
    branches: main
    push: [team:x, team:y]
    rewrite: allowed
    after_push: {approvals_stay: always}
    land: {with: [rebase, squash], strategy: rebase, remove_source: true, message: "{title}"}
  - name: b
    branches: "**"
    push: team:y
    land: {by: team:z, with: [squash, merge], strategy: squash, remove_source: true, message: "{title}!"}
`)
	if findings != nil {
		t.Fatal(findings)
	}
	e := d.For("main", 1)
	if e.Rewrite != Never || e.RewriteFrom.Protection != "b" || e.Stay != StayIfUnchanged || fmt.Sprint(e.With) != "[squash]" || e.Default != "" || e.Message != "" ||
		!e.RemoveSource || len(e.Push) != 2 || len(e.LandBy) != 1 {
		t.Errorf("together: %+v", e)
	}
	if d.For("other", 1).Default != Squash {
		t.Error("alone, b's default holds")
	}
}

func TestChoose(t *testing.T) {
	effective := func(lands ...string) Effective {
		text := "tavrin: rules/1\nprotect:\n"
		for i, land := range lands {
			text += fmt.Sprintf("  - {name: p%d, branches: main, land: %s}\n", i, land)
		}
		d, findings := Parse(text)
		if findings != nil {
			t.Fatal(findings)
		}
		return d.For("main", 1)
	}
	cases := []struct {
		name   string
		e      Effective
		asked  Strategy
		chosen Strategy
		says   string // in the words or the error
	}{
		{"as asked", effective("{with: [rebase, squash], strategy: rebase}"), Squash, Squash, ""},
		{"not allowed", effective("{with: [rebase, squash]}"), Merge, "", "not allowed for main: one of rebase, squash"},
		{"the default", effective("{with: [rebase, squash], strategy: squash}"), "", Squash, ""},
		{"the default all agree on", effective("{strategy: squash}", "{with: [squash, merge], strategy: squash}"), "", Squash, ""},
		{"none stated", effective("{with: [squash, merge]}"), "", Squash, "the rules state no default"},
		{"only one allowed", effective("{with: [merge]}"), "", Merge, ""},
		{"they disagree", effective("{strategy: squash}", "{strategy: rebase}"), "", "", "agree on no default strategy: say which, one of rebase, squash, merge"},
		{"they disagree, one asked for", effective("{strategy: squash}", "{strategy: rebase}"), Merge, Merge, ""},
		{"the default is ruled out", effective("{strategy: squash}", "{with: [rebase, merge]}"), "", "", "say which, one of rebase, merge"},
		{"nothing left", effective("{with: [rebase]}", "{with: [merge]}"), "", "", "leave no strategy"},
	}
	for _, c := range cases {
		chosen, said, err := c.e.Choose(c.asked)
		if err != nil {
			said = err.Error()
		}
		if chosen != c.chosen || (err == nil) != (c.chosen != "") || !strings.Contains(said, c.says) {
			t.Errorf("%s: %q, %q", c.name, chosen, said)
		}
	}
}
