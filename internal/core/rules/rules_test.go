package rules

import (
	"fmt"
	"math/rand/v2"
	"reflect"
	"slices"
	"strings"
	"testing"

	"tavrin/internal/core/change"
	"tavrin/internal/core/grammar"
	"tavrin/internal/core/plainyaml"
	"tavrin/internal/core/require"
	"tavrin/internal/often"
)

const sample = `tavrin: rules/1
branches:
  trunk:   main
  release: release/**
areas:
  valves:
    paths:  ["firmware/valves/**", "!**/*.md"]
    owners: [team:hydraulics]
    require: [{approvals: 1},
              {checks: valve-bench}]
checks:
  unit: {command: make test, timeout: 90s}
  preview: {reported_by: robot:previewer}
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
      who: role:writer
      strategies: [rebase, squash]
      default: rebase
      delete_source: true
`

func TestParseSample(t *testing.T) {
	d, findings := Parse(sample)
	if len(findings) > 0 {
		t.Fatal(findings)
	}
	e := d.Alone(7).For("release/2026")
	if !e.Protected || len(e.Requirements) != 4 || e.Default != change.Rebase || !e.DeleteSource.Value || e.ApprovalsStay.Value != require.StayNever {
		t.Errorf("effective settings are %+v", e)
	}
	if e.Rewrite.Value != Never || e.Delete.Value != Never || len(e.Push) != 1 || len(e.Push[0].Who) != 0 {
		t.Errorf("push, rewrite and delete are %v, %v, %v", e.Push, e.Rewrite, e.Delete)
	}
	for _, r := range e.Requirements {
		if r.Kind.Name == "approvals" && (r.From[0].Line != 19 || r.From[0].String() != `"trunk and releases" (rules version 7, line 19)`) {
			t.Errorf("approvals come from %v, line %d", r.From, r.Line)
		}
	}
	if d.Alone(7).For("topic").Protected {
		t.Error("topic is protected by nothing and said to be protected")
	}
	if c := d.Alone(7).Check("unit"); c.Command != "make test" || c.Timeout.Seconds() != 90 {
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
		{"a robot with the right to waiver", head + "protect:\n  - name: a\n    branches: main\n    waive: [team:duty, robot:bot]\n", 5, "robot:bot is a robot, and robots waive nothing", "what a robot may do as a rule is exempt"},
		{"unknown key", head + "protects: []\n", 2, `unknown key "protects"`, "one of tavrin, branches, labels, areas, checks, changes, loosening, protect"},
		{"unknown form", "tavrin: rules/9\n", 1, `"rules/9"`, "rules/1"},
		{"no form", "protect: []\n", 1, "does not say its form", "tavrin: rules/1"},
		{"duplicate key", head + "areas: {}\nareas: {}\n", 3, `"areas" stands twice`, "line 2"},
		{"wrong type", head + "protect:\n  - name: a\n    branches: main\n    require:\n      - approvals: lots\n", 6, `"approvals" is text`, "whole number from 1 to 20"},
		{"bad value", head + "protect:\n  - name: a\n    branches: main\n    rewrite: sometimes\n", 5, `cannot be "sometimes"`, "never, allowed"},
		{"bad principal", head + "protect:\n  - name: a\n    branches: main\n    push: hydraulics\n", 5, `"hydraulics"`, "team:NAME"},
		{"bad glob", head + "protect:\n  - name: a\n    branches: \"rel[\"\n", 4, `"[" without "]"`, "glob"},
		{"no strategy left", head + "protect:\n  - name: a\n    branches: main\n    land: {strategies: []}\n", 5, "nothing could ever land", "rebase, squash, merge"},
		{"default not allowed", head + "protect:\n  - name: a\n    branches: main\n    land: {strategies: [merge], default: squash}\n", 5, `"squash" is not one of`, "merge"},
		{"two demands", head + "protect:\n  - name: a\n    branches: main\n    require:\n      - approvals: 1\n        checks: unit\n", 7, "asks one thing", "new list item"},
		{"at beside approvals", head + "protect:\n  - name: a\n    branches: main\n    require:\n      - approvals: 1\n        at: head\n", 7, `"at" means nothing beside "approvals"`, "not_from"},
		{"same name twice", head + "protect:\n  - {name: a, branches: main}\n  - {name: a, branches: dev}\n", 4, `called "a"`, "line 3"},
		{"anchor", head + "areas: &x\n  a: {paths: a, owners: team:t}\n", 2, "anchor", ""},
		{"alias", head + "areas: *x\n", 2, "alias", ""},
		{"not YAML", head + "areas: [\n", 2, "not YAML", ""},
		{"bad limit", head + "checks:\n  unit: {command: make, timeout: soon}\n", 3, `timeout cannot be "soon"`, "1s to 168h"},
		{"area without owners", head + "areas:\n  a: {paths: a/**}\n", 3, "no owners", "team:NAME"},
		{"empty", "", 1, "empty", "one YAML mapping"},
		{"NUL", "tavrin: \x00", 1, "NUL", ""},
		{"not UTF-8", "tavrin: \xff", 1, "UTF-8", ""},
		{"too large", strings.Repeat("#", plainyaml.MaxBytes+1), 1, "bytes", "at most"},
		{"too deep", head + "areas: " + strings.Repeat("[", 5000), 2, "nested too deeply", ""},
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

// pickOf returns what picks one of some words at random.
func pickOf(rng *rand.Rand) func(...string) string {
	return func(words ...string) string { return words[rng.IntN(len(words))] }
}

// randomProtection is a protection of every setting that there is, by chance.
func randomProtection(rng *rand.Rand, name string) string {
	pick := pickOf(rng)
	var b strings.Builder
	fmt.Fprintf(&b, "  - name: %s\n    branches: %s\n", name, pick("main", "'**'", "dev", "[main, dev]"))
	maybe := func(format string, args ...any) {
		if rng.IntN(2) == 0 {
			fmt.Fprintf(&b, format, args...)
		}
	}
	maybe("    push: %s\n", pick("nobody", "team:a", "[team:a, \"person:b\"]"))
	maybe("    create: %s\n", pick("nobody", "team:a"))
	maybe("    rewrite: %s\n", pick("never", "allowed"))
	maybe("    delete: %s\n", pick("never", "allowed"))
	maybe("    exempt: %s\n", pick("nobody", "person:b"))
	maybe("    waive: %s\n", pick("nobody", "person:b"))
	maybe("    after_push: {approvals_stay: %s, objections_stay: %s}\n", pick("never", "if_unchanged", "always"), pick("never", "if_unchanged", "always"))
	maybe("    land: {strategies: %s, delete_source: %s, join_early: %s, drop_empty: %s, undo_first: %s, message: %s, trailers: %s, who: %s}\n", pick("[rebase]", "[merge, rebase]", "[rebase, squash, merge]"),
		pick("true", "false"), pick("true", "false"), pick("true", "false"), pick("true", "false"), pick("'{title}'", "'{title}!'"), pick("'A: b'", "['A: b', 'C: d']"), pick("team:a", "role:writer"))
	maybe("    queue: {planner: %s, slots: %s, reruns: %s, tests: %s, on_push: %s, urgent: %s}\n", pick("one-at-a-time", "adaptive"), pick("2", "9"), pick("0", "1", "3"),
		pick("strict", "by_area"), pick("stay", "back", "leave"), pick("team:a", "role:writer"))
	b.WriteString("    require:\n")
	for range 1 + rng.IntN(5) {
		b.WriteString("      - {" + pick(
			"approvals: 1", "approvals: 2, from: [team:a, team:b]", "approvals: 2, from: [team:b, team:a]", "approvals: 1, own: counts", "approvals: 1, on: newest_revision",
			"owners: every touched area", "objections: none", "threads: resolved", "tasks: done", "ticket: 'F-[0-9]+'", "fixups: none", "history: linear",
			"messages: '^[a-z]+: '", "signed: every commit", "checks: unit", "checks: [unit, lint]", "checks: [lint, unit]", "checks: 'b*', at: head", "checks: [a, b], at_least: 1",
			"deployment: field, max_age: 1h", "deployment: field, healthy_for: 10m", "deployment: field, healthy_for: 20m") + pick("", "", ", when: {lines: over 10}", ", when: {paths: 'a/**'}", ", level: advisory") + "}\n")
	}
	return b.String()
}

// essence is what the settings come to, whoever states them.
func essence(e *Effective) map[string]any {
	lists := func(all []Allowance) map[string]bool {
		out := map[string]bool{}
		for _, a := range all {
			out[grammar.Set(a.Who)] = true
		}
		return out
	}
	requirements, trailers := map[string]require.Level{}, []string{}
	for _, r := range e.Requirements {
		requirements[r.Identity()] = r.Level
	}
	for _, t := range e.Trailers {
		trailers = append(trailers, t.Value)
	}
	return map[string]any{"protected": e.Protected, "requirements": requirements, "push": lists(e.Push), "create": lists(e.Create), "land by": lists(e.LandBy),
		"rewrite": e.Rewrite.Value, "delete": e.Delete.Value, "approvals": e.ApprovalsStay.Value, "objections": e.ObjectionsStay.Value, "with": e.With,
		"default": e.Default, "message": e.Message.Value, "remove": e.DeleteSource.Value, "early": e.JoinEarly.Value, "drop": e.DropEmpty.Value, "undo": e.UndoFirst.Value, "trailers": trailers,
		"queue": e.Queue.Settings(), "urgent": lists(e.Queue.Urgent)}
}

// loosened names a setting in which b is looser than a, or nothing.
func loosened(a, b *Effective) string {
	ea, eb := essence(a), essence(b)
	for key, level := range ea["requirements"].(map[string]require.Level) {
		if now, there := eb["requirements"].(map[string]require.Level)[key]; !there || (level == require.Required && now == require.Advisory) {
			return "requirement " + key
		}
	}
	for what, lists := range map[string][2][]Allowance{"push": {a.Push, b.Push}, "create": {a.Create, b.Create}, "land by": {a.LandBy, b.LandBy}} {
		for _, had := range lists[0] {
			if !slices.ContainsFunc(lists[1], func(has Allowance) bool { return grammar.Within(has.Who, had.Who) }) {
				return what
			}
		}
	}
	switch {
	case a.Protected && !b.Protected:
		return "protected"
	case slices.Index(permissions, b.Rewrite.Value) > slices.Index(permissions, a.Rewrite.Value):
		return "rewrite"
	case slices.Index(permissions, b.Delete.Value) > slices.Index(permissions, a.Delete.Value):
		return "delete"
	case slices.Index(require.Stays, b.ApprovalsStay.Value) > slices.Index(require.Stays, a.ApprovalsStay.Value):
		return "approvals_stay"
	case slices.Index(require.Stays, b.ObjectionsStay.Value) < slices.Index(require.Stays, a.ObjectionsStay.Value):
		return "objections_stay"
	case !a.DropEmpty.Value && b.DropEmpty.Value:
		return "drop_empty"
	case !a.JoinEarly.Value && b.JoinEarly.Value:
		return "join_early"
	case b.Queue.Reruns.Value > a.Queue.Reruns.Value:
		return "reruns"
	case b.Queue.Tests.Value == ByArea && a.Queue.Tests.Value == Strict:
		return "tests"
	case slices.Index(onPushes, b.Queue.OnPush.Value) > slices.Index(onPushes, a.Queue.OnPush.Value):
		return "on_push"
	case slices.ContainsFunc(b.With, func(s change.Strategy) bool { return !slices.Contains(a.With, s) }):
		return "with"
	}
	return ""
}

func parseAll(t *testing.T, protections ...string) *Document {
	t.Helper()
	text := "tavrin: rules/1\n"
	if len(protections) > 0 {
		text += "protect:\n" + strings.Join(protections, "")
	}
	d, findings := Under{OfHouse: true}.Parse(text)
	if findings != nil {
		t.Fatalf("%v in\n%s", findings, strings.Join(protections, ""))
	}
	return d
}

// Combining is commutative and associative (neither the order of protections nor which document holds them matters),
// idempotent (saying a thing twice changes nothing), and one more protection never loosens anything (P8).
func TestP8CombiningIsAnAlgebra(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 2))
	tightened := 0
	for range often.Times(200) {
		protections := make([]string, 1+rng.IntN(4))
		for i := range protections {
			protections[i] = randomProtection(rng, fmt.Sprintf("p%d", i))
		}
		same := func(law string, a, b *Effective) {
			t.Helper()
			if x, y := essence(a), essence(b); !reflect.DeepEqual(x, y) {
				t.Fatalf("%s:\n%v\n%v\nof\n%s", law, x, y, strings.Join(protections, ""))
			}
		}
		whole := parseAll(t, protections...).Alone(1).For("main")
		shuffled := slices.Clone(protections)
		rng.Shuffle(len(shuffled), func(i, j int) { shuffled[i], shuffled[j] = shuffled[j], shuffled[i] })
		same("order matters", whole, parseAll(t, shuffled...).Alone(1).For("main"))
		cut := rng.IntN(len(protections) + 1)
		house, own := Layer{Document: parseAll(t, protections[:cut]...), Of: "house growers", Version: 2}, Layer{Document: parseAll(t, protections[cut:]...), Version: 3}
		same("the document matters", whole, NewSet("growers/x", house, own).For("main"))
		same("the order of documents matters", whole, NewSet("growers/x", own, house).For("main"))
		twice := append(slices.Clone(protections), strings.Replace(protections[0], "name: p0", "name: again", 1))
		same("saying it twice matters", whole, parseAll(t, twice...).Alone(1).For("main"))
		less := parseAll(t, protections[1:]...).Alone(1).For("main")
		if what := loosened(less, whole); what != "" {
			t.Fatalf("one protection more loosened %s:\n%s", what, strings.Join(protections, ""))
		}
		if loosened(whole, less) != "" {
			tightened++
		}
	}
	if tightened < 30 {
		t.Errorf("only %d of the added protections tightened anything: the test says little", tightened)
	}
}

// A document holds as much as the bounds say, and one more is found, once and where it stands.
func TestDocumentsAreBounded(t *testing.T) {
	times := func(n int, entry func(i int) string) string {
		var b strings.Builder
		for i := range n {
			b.WriteString(entry(i))
		}
		return b.String()
	}
	protection := func(i int) string { return fmt.Sprintf("  - {name: p%d, branches: b%d, push: nobody}\n", i, i) }
	for _, c := range []struct {
		what string
		most int
		text func(n int) string
	}{
		{"protections", grammar.MaxProtections, func(n int) string { return "protect:\n" + times(n, protection) }},
		{"requirements", grammar.MaxRequirements, func(n int) string {
			return "protect:\n  - name: p\n    branches: main\n    require:\n" + times(n, func(i int) string { return fmt.Sprintf("      - {approvals: 1, when: {paths: p%d}}\n", i) })
		}},
		{"patterns of branches", grammar.MaxPatterns, func(n int) string {
			return "branches: {k: [" + times(n/2, func(i int) string { return fmt.Sprintf("a%d,", i) }) + "]}\nprotect:\n  - {name: p, push: nobody, branches: [" +
				times(n-n/2, func(i int) string { return fmt.Sprintf("b%d,", i) }) + "]}\n"
		}},
		{"patterns of branches", grammar.MaxPatterns, func(n int) string { // by a kind's name
			return "branches: {k: [" + times(50, func(i int) string { return fmt.Sprintf("a%d,", i) }) + "]}\nprotect:\n" +
				times(19, func(i int) string { return fmt.Sprintf("  - {name: q%d, branches: k, push: nobody}\n", i) }) + times(n-20*50, protection)
		}},
		{"entries of lists", grammar.MaxItems, func(n int) string {
			return "areas: {a: {paths: a, owners: [" + times(n-1, func(i int) string { return fmt.Sprintf("person:p%d,", i) }) + "]}}\n"
		}},
		{"globs, with braces multiplied out", grammar.MaxItems, func(n int) string {
			area := func(i int) string {
				return fmt.Sprintf("  a%d: {owners: team:t, paths: [%s]}\n", i, times(50, func(j int) string { return fmt.Sprintf("\"a%d{a,b}{c,d}\",", j) }))
			}
			return "areas:\n" + times(grammar.MaxItems/200-1, area) + "  b: {owners: team:t, paths: [" + times(n-grammar.MaxItems+200, func(i int) string { return fmt.Sprintf("x%d,", i) }) + "]}\n"
		}},
	} {
		text := "tavrin: rules/1\n"
		if _, found := Parse(text + c.text(c.most)); len(found) > 0 {
			t.Errorf("%d %s: %v", c.most, c.what, found[0])
		}
		_, found := Parse(text + c.text(c.most+1))
		if want := fmt.Sprintf("the document holds more than %d %s", c.most, c.what); !slices.ContainsFunc(found, func(f grammar.Finding) bool { return f.Message == want && f.Line > 1 }) || len(found) > 2 {
			t.Errorf("%d %s: %v", c.most+1, c.what, found)
		}
	}
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
			d.Alone(1).For("main")
		}
	})
}

func TestSentencesSayEverySetting(t *testing.T) {
	d, findings := Parse(sample)
	if findings != nil {
		t.Fatal(findings)
	}
	var said []string
	for _, s := range d.Alone(3).For("main").Sentences() {
		line := s.Text
		if len(s.Sources) > 0 {
			line += fmt.Sprintf(" [%d]", s.Sources[0].Line)
		}
		said = append(said, line)
	}
	want := []string{
		"Nobody pushes to it directly; changes land through the queue. [17]", "Nobody creates it by pushing. [17]", "Its history is not rewritten. [15]", "It is not deleted. [15]",
		"2 approvals from team:agronomy, an author's own not counting, nor that of the last to push. [19]", "An owner of every touched area approves. [22]",
		"Nobody objects. [23]", "Check unit passes on the rehearsal (advisory). [24]", "Every push ends the approvals given before it. [26]",
		"An objection stands until it is withdrawn. [15]", "Only role:writer may ask to land. [28]", "Changes land by rebase, squash. [29]",
		"They land by rebase unless said otherwise. [30]", "The source branch is removed after landing. [31]",
	}
	if !reflect.DeepEqual(said, want) {
		t.Errorf("said:\n%s\nwant:\n%s", strings.Join(said, "\n"), strings.Join(want, "\n"))
	}
	var defined []string
	for _, s := range d.Alone(3).DefinitionSentences() {
		defined = append(defined, s.Text)
	}
	if got := strings.Join(defined, " "); got != `Check unit is the command "make test", for at most 1m30s. Check preview is reported by robot:previewer, within 1h.` {
		t.Errorf("definitions say %s", got)
	}
	more, findings := Parse("tavrin: rules/1\nlabels: {urgent: {set_by: team:duty}}\nloosening: {agreed_by: role:maintainer}\nchecks: {trial: {kind: deployment, environment: field, max_age: 12h}}\n")
	if findings != nil {
		t.Fatal(findings)
	}
	defined = nil
	for _, s := range more.Alone(1).DefinitionSentences() {
		defined = append(defined, fmt.Sprintf("%s [%d]", s.Text, s.Sources[0].Line))
	}
	if got := strings.Join(defined, " "); got != "Check trial is reported by whoever has a token for it, within 1h, and its pass is a deployment to field, and a pass counts for 12h. [4] Label urgent is set by team:duty. [2] "+
		"Loosening these rules needs a second person's word, of role:maintainer. [3]" {
		t.Errorf("definitions say %s", got)
	}
	var asked []string
	for _, s := range d.Alone(3).AreaSentences() {
		asked = append(asked, fmt.Sprintf("%s [%d]", s.Text, s.Sources[0].Line))
	}
	if got := strings.Join(asked, " "); got != "What touches valves: 1 approval by its owners, an author's own not counting. [9] What touches valves: check valve-bench passes on the rehearsal. [10]" {
		t.Errorf("areas say %s", got)
	}
	if free := d.Alone(3).For("topic").Sentences(); len(free) != 1 || !strings.Contains(free[0].Text, "whoever may write may push") {
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
    land: {strategies: [rebase, squash], default: rebase, delete_source: true, message: "{title}"}
  - name: b
    branches: "**"
    push: team:y
    land: {who: team:z, strategies: [squash, merge], default: squash, delete_source: true, message: "{title}!"}
`)
	if findings != nil {
		t.Fatal(findings)
	}
	e := d.Alone(1).For("main")
	if e.Rewrite.Value != Never || e.Rewrite.From[0].Protection != "b" || e.ApprovalsStay.Value != require.StayIfUnchanged || fmt.Sprint(e.With) != "[squash]" || e.Default != "" || e.Message.Value != "" ||
		!e.DeleteSource.Value || len(e.Push) != 2 || len(e.LandBy) != 1 {
		t.Errorf("together: %+v", e)
	}
	if d.Alone(1).For("other").Default != change.Squash {
		t.Error("alone, b's default holds")
	}
}

func TestChoose(t *testing.T) {
	effective := func(lands ...string) *Effective {
		text := "tavrin: rules/1\nprotect:\n"
		for i, land := range lands {
			text += fmt.Sprintf("  - {name: p%d, branches: main, land: %s}\n", i, land)
		}
		d, findings := Parse(text)
		if findings != nil {
			t.Fatal(findings)
		}
		return d.Alone(1).For("main")
	}
	cases := []struct {
		name   string
		e      *Effective
		asked  change.Strategy
		chosen change.Strategy
		says   string // in the words or the error
	}{
		{"as asked", effective("{strategies: [rebase, squash], default: rebase}"), change.Squash, change.Squash, ""},
		{"not allowed", effective("{strategies: [rebase, squash]}"), change.Merge, "", "not allowed for main: one of rebase, squash"},
		{"the default", effective("{strategies: [rebase, squash], default: squash}"), "", change.Squash, ""},
		{"the default all agree on", effective("{default: squash}", "{strategies: [squash, merge], default: squash}"), "", change.Squash, ""},
		{"none stated", effective("{strategies: [squash, merge]}"), "", change.Squash, "the rules state no default"},
		{"only one allowed", effective("{strategies: [merge]}"), "", change.Merge, ""},
		{"they disagree", effective("{default: squash}", "{default: rebase}"), "", "", "agree on no default strategy: say which, one of rebase, squash, merge"},
		{"they disagree, one asked for", effective("{default: squash}", "{default: rebase}"), change.Merge, change.Merge, ""},
		{"the default is ruled out", effective("{default: squash}", "{strategies: [rebase, merge]}"), "", "", "say which, one of rebase, merge"},
		{"nothing left", effective("{strategies: [rebase]}", "{strategies: [merge]}"), "", "", "leave no strategy"},
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

// long is a document of 2,000 lines: areas, checks and protections with every setting.
func long() string {
	var b strings.Builder
	b.WriteString("tavrin: rules/1\nareas:\n")
	for i := range 300 {
		fmt.Fprintf(&b, "  a%d:\n    paths: [\"part%d/**\", \"!**/*.md\"]\n    owners: team:t%d\n", i, i, i%9)
	}
	b.WriteString("checks:\n")
	for i := range 100 {
		fmt.Fprintf(&b, "  c%d: {command: make c%d, timeout: 5m}\n", i, i)
	}
	b.WriteString("protect:\n")
	for i := range 50 {
		fmt.Fprintf(&b, "  - name: p%d\n    branches: [\"line%d/**\", main]\n    push: nobody\n    rewrite: never\n    require:\n", i, i)
		for n := range 4 {
			fmt.Fprintf(&b, "      - approvals: %d\n        not_from: [author, last_pusher]\n        when: {lines: over %d}\n", n+1, n*100)
		}
		b.WriteString("      - checks: [unit]\n        at: head\n    land:\n      strategies: [rebase, squash]\n")
	}
	return b.String()
}

func BenchmarkParse2000Lines(b *testing.B) {
	text := long()
	if n := strings.Count(text, "\n"); n < 2000 {
		b.Fatalf("only %d lines", n)
	}
	for b.Loop() {
		d, findings := Parse(text)
		if findings != nil {
			b.Fatal(findings[0])
		}
		d.Alone(1).For("main")
	}
}

// A protection is for branches or for tags, and says of tags only what can be asked of them.
func TestProtectionsOfTags(t *testing.T) {
	for text, says := range map[string]string{
		"{name: n}":                                                                    "needs branches or tags",
		"{name: n, branches: main, tags: v*}":                                          "for branches or for tags",
		"{name: n, tags: v*, push: nobody}":                                            `"push" means nothing for tags`,
		"{name: n, tags: v*, land: {who: role:writer}}":                                `means nothing for tags`,
		"{name: n, tags: v*, require: [{approvals: 1}]}":                               `"1 approval" is asked of changes, and tags have none`,
		"{name: n, tags: v*, require: [{signed: every commit}]}":                       "asked of changes, and tags have none",
		"{name: n, branches: main, require: [{signed: every tag}]}":                    "is asked of tags",
		"{name: n, tags: v*, require: [{signed: every tag, level: advisory}]}":         "no condition and no level",
		"{name: n, tags: v*, create: role:maintainer, require: [{signed: every tag}]}": "",
	} {
		d, found := Parse("tavrin: rules/1\nprotect: [" + text + "]\n")
		if (says == "") != (len(found) == 0) || says != "" && !strings.Contains(found[0].Message, says) {
			t.Errorf("%s: %v", text, found)
		}
		if says != "" {
			continue
		}
		var said []string
		for _, s := range d.Alone(1).TagSentences() {
			said = append(said, s.Text)
		}
		if got := strings.Join(said, " "); got != "Tags v* are made by role:maintainer. Tags v* do not move. Tags v* are not deleted. "+
			"Tags v* are signed by a registered key." {
			t.Error(got)
		}
		suspended := d.Alone(1).Without([]change.Suspension{{Protection: "n"}})
		if tags := suspended.TagSentences(); len(tags) > 0 {
			t.Errorf("of a suspended protection it says %v", tags)
		}
		if d.Alone(1).For("v1").Protected {
			t.Error("a branch is protected by what is for tags")
		}
	}
}
