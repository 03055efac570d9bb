package gate

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"tavrin/internal/core/rules"
)

const document = `tavrin: rules/1
areas:
  valves: {paths: "firmware/**", owners: team:hydraulics, checks: [valve-bench]}
  ledger: {paths: "ledger/**", owners: [team:accounts, "person:pavo"], asks: {approvals: 2}}
checks:
  unit: {command: make test}
  preview: {witness: robot:previewer}
protect:
  - name: trunk
    branches: main
    require:
      - approvals: 1
        not_from: [author, last_pusher]
      - owners: every touched area
      - objections: none
      - checks: [unit]
      - checks: [preview]
        at: head
        level: advisory
    land: {by: team:hydraulics, with: [rebase, squash]}
`

func parsed(t testing.TB, text string) *rules.Set {
	t.Helper()
	d, findings := rules.Parse(text)
	if findings != nil {
		t.Fatal(findings)
	}
	return d.Alone(3)
}

// facts are those of a change by tamsin to the docs, which no area covers, with one approval.
func facts() Facts {
	return Facts{
		Repository: "growers/irrigation", Number: 7, State: "open", Target: "main", Revision: 2, Head: strings.Repeat("a", 40), RulesVersion: 3,
		Authors: []string{"tamsin"}, LastPusher: "wren", Paths: []string{"docs/members.md"},
		Reviews: []Review{{By: "odo", Verdict: Approve, Revision: 2}},
		People: map[string]Person{
			"tamsin": {Login: "tamsin", Role: Writer}, "wren": {Login: "wren", Role: Writer}, "bela": {Login: "bela", Role: Writer, Teams: []string{"accounts"}},
			"odo": {Login: "odo", Role: Writer, Teams: []string{"hydraulics"}}, "pavo": {Login: "pavo", Role: Reader},
			"barn": {Login: "barn", Role: Writer, Robot: true}, "admin": {Login: "admin", Role: Maintainer, Standby: true},
		},
	}
}

func rehearsed(checks ...Check) *Rehearsal {
	return &Rehearsal{Commit: strings.Repeat("b", 40), Base: strings.Repeat("c", 40), Checks: checks}
}

func find(t *testing.T, r Report, key string) Requirement {
	t.Helper()
	i := slices.IndexFunc(r.Requirements, func(q Requirement) bool { return q.Key == key })
	if i < 0 {
		t.Fatalf("no requirement %q in %+v", key, r.Requirements)
	}
	return r.Requirements[i]
}

func TestJudge(t *testing.T) {
	passed := Check{Name: "unit", State: Passed, Attempt: 1, By: "barn", Runner: true}
	cases := []struct {
		name         string
		change       func(*Facts)
		ready, clear bool
		key          string
		state        State
		says         string // in the requirement's next step
	}{
		{"all but the rehearsal", func(*Facts) {}, true, false, "check/unit@rehearsal", Pending, "queue join 7"},
		{"everything", func(f *Facts) { f.Rehearsal = rehearsed(passed) }, true, true, "check/unit@rehearsal", Met, ""},
		{"draft", func(f *Facts) { f.State = "draft" }, false, false, "open", Unmet, "--draft=false"},
		{"closed", func(f *Facts) { f.State = "closed" }, false, false, "open", Unmet, "reopen 7"},
		{"no approval", func(f *Facts) { f.Reviews = nil }, false, false, "approvals", Unmet, "ask bela or odo to run: tavrin review approve 7 --revision 2"},
		{"own approval", func(f *Facts) { f.Reviews[0].By = "tamsin" }, false, false, "approvals", Unmet, "tamsin's approval does not count: an author"},
		{"last pusher's approval", func(f *Facts) { f.Reviews[0].By = "wren" }, false, false, "approvals", Unmet, "the last to push"},
		{"robot's approval", func(f *Facts) { f.Reviews[0].By = "barn" }, false, false, "approvals", Unmet, "robots do not approve"},
		{"approval by somebody who may only read", func(f *Facts) { f.Reviews[0].By = "pavo" }, false, false, "approvals", Unmet, ""},
		{"approval by a stranger", func(f *Facts) { f.Reviews[0].By = "nobody" }, false, false, "approvals", Unmet, ""},
		{"P6 approval of an older, other difference", func(f *Facts) { f.Reviews[0].Revision = 1 }, false, false, "approvals", Unmet, "odo approved revision 1, and the difference has changed since"},
		{"P6 approval of the same difference", func(f *Facts) { f.Reviews[0].Revision, f.Reviews[0].SameDifference = 1, true }, true, false, "approvals", Met, ""},
		{"objection", func(f *Facts) { f.Reviews = append(f.Reviews, Review{By: "bela", Verdict: Object, Revision: 1}) }, false, false, "objections", Unmet, "bela objects"},
		{"area without its owner", func(f *Facts) { f.Paths = []string{"ledger/tariff.csv"} }, false, false, "owners/ledger", Unmet, "ask bela or pavo"},
		{"area with its owner", func(f *Facts) { f.Paths = []string{"firmware/a.c"} }, true, false, "owners/valves", Met, ""},
		{"area's own check", func(f *Facts) { f.Paths = []string{"firmware/a.c"}; f.Rehearsal = rehearsed(passed) }, true, false, "check/valve-bench@rehearsal", Pending, "a witness for valve-bench"},
		{"no area touched", func(*Facts) {}, true, false, "owners", NotApplicable, "touches no area"},
		{"failed check", func(f *Facts) {
			f.Rehearsal = rehearsed(Check{Name: "unit", State: Failed, By: "barn", Runner: true, Summary: "3 tests"})
		}, true, false, "check/unit@rehearsal", Unmet, "unit failed (3 tests)"},
		{"P7 command check reported by a witness", func(f *Facts) { f.Rehearsal = rehearsed(Check{Name: "unit", State: Passed, By: "barn"}) }, true, false, "check/unit@rehearsal", Unmet, "only a runner's answer counts"},
		{"P7 check by another witness", func(f *Facts) { f.HeadChecks = []Check{{Name: "preview", State: Passed, By: "barn"}} }, true, false, "check/preview@head", Unmet, "robot:previewer"},
		{"advisory check never blocks", func(f *Facts) {
			f.HeadChecks = []Check{{Name: "preview", State: Failed, By: "previewer"}}
			f.Rehearsal = rehearsed(passed)
		}, true, true, "check/preview@head", Unmet, "preview failed"},
		{"asker may not land", func(f *Facts) { f.Asker, f.Strategy = "tamsin", rules.Rebase }, false, false, "lander", Unmet, "team:hydraulics"},
		{"strategy not allowed", func(f *Facts) { f.Asker, f.Strategy = "odo", rules.Merge }, false, false, "strategy", Unmet, "rebase, squash"},
		{"administrator is bound too", func(f *Facts) { f.Authors = []string{"admin"}; f.Reviews[0].By = "admin" }, false, false, "approvals", Unmet, "an author"},
	}
	doc := parsed(t, document)
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			f := facts()
			c.change(&f)
			r := Judge(doc, f)
			if r.Ready != c.ready || r.Clear != c.clear {
				t.Errorf("ready %v, clear %v; want %v, %v: %s", r.Ready, r.Clear, c.ready, c.clear, r.Summary)
			}
			q := find(t, r, c.key)
			if q.State != c.state || !strings.Contains(q.Next, c.says) {
				t.Errorf("%s is %s: %q; want %s and %q", c.key, q.State, q.Next, c.state, c.says)
			}
			if !q.Holds() && q.Next == "" {
				t.Errorf("%s does not hold and says no next step", c.key)
			}
			if q.Because == "" {
				t.Errorf("%s does not say where it comes from", c.key)
			}
		})
	}
}

func TestSourcesNameRuleAndLine(t *testing.T) {
	q := find(t, Judge(parsed(t, document), facts()), "approvals")
	if want := `"trunk" (rules version 3, line 12)`; q.Because != want || q.Sources[0].Line != 12 {
		t.Errorf("because %s, want %s", q.Because, want)
	}
}

func TestIdenticalDemandsAreShownOnceWithBothSources(t *testing.T) {
	doc := parsed(t, document+"  - {name: all, branches: '**', require: [{checks: [unit]}, {owners: every touched area}]}\n")
	f := facts()
	f.Paths = []string{"firmware/a.c"}
	r := Judge(doc, f)
	n := 0
	for _, q := range r.Requirements {
		if strings.HasPrefix(q.Key, "check/unit") || strings.HasPrefix(q.Key, "owners/valves") {
			n++
			if len(q.Sources) != 2 {
				t.Errorf("%s has sources %v", q.Key, q.Sources)
			}
		}
	}
	if n != 2 {
		t.Errorf("%d requirements, want one for the check and one for the owners", n)
	}
}

func TestUnsatisfiableDemandSaysSo(t *testing.T) {
	doc := parsed(t, "tavrin: rules/1\nprotect:\n  - {name: trunk, branches: main, require: [{approvals: 2, from: 'team:accounts'}]}\n")
	if q := find(t, Judge(doc, facts()), "approvals"); !strings.Contains(q.Next, "only bela could give one") {
		t.Errorf("next is %q", q.Next)
	}
}

func TestApproversAreThoseWhoCount(t *testing.T) {
	f := facts()
	f.Reviews = append(f.Reviews, Review{By: "tamsin", Verdict: Approve, Revision: 2}, Review{By: "pavo", Verdict: Approve, Revision: 2})
	if got := Judge(parsed(t, document), f).Approvers; !slices.Equal(got, []string{"odo"}) {
		t.Errorf("approvers are %v", got)
	}
	if got := Judge(nil, f).Approvers; !slices.Equal(got, []string{"odo", "pavo"}) {
		t.Errorf("without rules, approvers are %v", got)
	}
}

func TestFactsSurviveBeingStored(t *testing.T) {
	doc := parsed(t, document)
	f := facts()
	f.Rehearsal = rehearsed(Check{Name: "unit", State: Passed, By: "barn", Runner: true})
	f.Asker, f.Strategy = "odo", rules.Squash
	data, err := json.Marshal(f)
	if err != nil {
		t.Fatal(err)
	}
	var again Facts
	if err := json.Unmarshal(data, &again); err != nil {
		t.Fatal(err)
	}
	if a, b := Judge(doc, f), Judge(doc, again); !reflect.DeepEqual(a, b) || !a.Clear {
		t.Errorf("judged again:\n%+v\n%+v", a, b)
	}
}

// Adding a protection never makes a gate ready or clear that was not (principle 1, P8).
func TestP8AddingAProtectionOnlyTightens(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 4))
	pick := func(words ...string) string { return words[rng.IntN(len(words))] }
	tightened := 0
	for range 2000 {
		text := "tavrin: rules/1\nprotect:\n"
		one := func(i int) string {
			return fmt.Sprintf("  - name: p%d\n    branches: %s\n    require:\n      - approvals: %d\n        not_from: %s\n      - %s\n    after_push: {approvals_stay: %s}\n    land: {with: %s}\n",
				i, pick("main", "'**'", "dev"), 1+rng.IntN(2), pick("[]", "[author]", "[author, last_pusher]"), pick("objections: none", "checks: unit", "owners: every touched area"),
				pick("never", "if_unchanged", "always"), pick("[rebase]", "[merge, squash]", "[rebase, squash]"))
		}
		f := facts()
		f.Reviews = nil
		for _, by := range []string{"odo", "bela", "tamsin", "wren"} {
			if rng.IntN(2) == 0 {
				f.Reviews = append(f.Reviews, Review{By: by, Verdict: Verdict(pick("approve", "approve", "object")), Revision: 1 + rng.IntN(2), SameDifference: rng.IntN(2) == 0})
			}
		}
		f.Rehearsal = rehearsed(Check{Name: "unit", State: CheckState(pick("passed", "failed")), By: "x"})
		f.Asker, f.Strategy = "odo", rules.Strategy(pick("rebase", "squash", "merge"))
		base := one(1)
		less, more := Judge(parsed(t, text+base), f), Judge(parsed(t, text+base+one(2)), f)
		if (more.Ready && !less.Ready) || (more.Clear && !less.Clear) {
			t.Fatalf("adding a protection opened the gate:\n%s\n%+v\n%+v", base, less, more)
		}
		if less.Ready && !more.Ready {
			tightened++
		}
	}
	if tightened == 0 {
		t.Error("no generated protection tightened anything: the test says nothing")
	}
}

func TestRolesInclude(t *testing.T) {
	if !Maintainer.AtLeast(Writer) || Reader.AtLeast(Writer) || NoRole.AtLeast(Reader) {
		t.Error("roles do not include those before them")
	}
}

func TestEveryCheckStateIsFinalOrNot(t *testing.T) {
	final := map[CheckState]bool{Passed: true, Failed: true, Errored: true, Skipped: true, Cancelled: true}
	for _, s := range CheckStates {
		if s.Final() != final[s] {
			t.Errorf("%s: final is %v", s, s.Final())
		}
	}
}

// large is a document and facts with 40 requirements, 30 reviews, 40 people and 100 checks.
func large(t testing.TB) (*rules.Set, Facts) {
	var b strings.Builder
	b.WriteString("tavrin: rules/1\nareas:\n")
	f := facts()
	f.At = time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
	for i := range 10 {
		fmt.Fprintf(&b, "  a%d: {paths: 'part%d/**', owners: 'team:hydraulics', checks: ['bench %d']}\n", i, i, i)
		f.Paths = append(f.Paths, fmt.Sprintf("part%d/x.c", i))
	}
	b.WriteString("protect:\n  - name: trunk\n    branches: main\n    require:\n      - owners: every touched area\n      - objections: none\n      - tasks: done\n      - ticket: FEN-[0-9]+\n")
	for i := range 8 {
		fmt.Fprintf(&b, "      - {approvals: %d, called: 'eyes %d', when: {lines: over 10}}\n      - {checks: 'check %d', fresh: 12h}\n", i%4+1, i, i)
	}
	f.Added, f.Description = 400, "- [x] measured\n- [ ] written up\n"
	for i := range 40 {
		login := fmt.Sprintf("p%d", i)
		f.People[login] = Person{Login: login, Role: Writer, Teams: []string{"hydraulics"}}
		if i < 30 {
			f.Reviews = append(f.Reviews, Review{By: login, Verdict: []Verdict{Approve, Comment, Approve}[i%3], Revision: 1 + i%2, SameDifference: i%4 == 0})
		}
	}
	var checks []Check
	for i := range 100 {
		checks = append(checks, Check{Name: fmt.Sprintf("check %d", i), State: Passed, By: "barn", At: f.At.Add(-time.Hour)})
	}
	f.Rehearsal = rehearsed(checks...)
	return parsed(t, b.String()), f
}

func BenchmarkJudge40Requirements(b *testing.B) {
	set, f := large(b)
	if n := len(Judge(set, f).Requirements); n < 40 {
		b.Fatalf("only %d requirements", n)
	}
	for b.Loop() {
		Judge(set, f)
	}
}

func BenchmarkJudge1000Changes(b *testing.B) {
	set := parsed(b, document)
	all := make([]Facts, 1000)
	for i := range all {
		all[i] = facts()
		all[i].Number = i
		all[i].Paths = []string{"firmware/a.c", "ledger/b.csv", "docs/c.md"}
		for p := range 30 {
			login := fmt.Sprintf("p%d", p)
			all[i].People[login] = Person{Login: login, Role: Writer, Teams: []string{"accounts"}}
		}
	}
	for b.Loop() {
		for _, f := range all {
			Judge(set, f)
		}
	}
}

func ExampleJudge() {
	doc, _ := rules.Parse("tavrin: rules/1\nprotect:\n  - name: trunk\n    branches: main\n    require: [{approvals: 1}]\n")
	r := Judge(doc.Alone(2), Facts{Number: 4, State: "open", Target: "main", Revision: 1, RulesVersion: 2, Authors: []string{"wren"},
		People: map[string]Person{"odo": {Login: "odo", Role: Writer}, "wren": {Login: "wren", Role: Writer}}})
	fmt.Println(r.Summary)
	fmt.Println(r.Requirements[1].Next)
	// Output:
	// Not ready for main: 1 requirement still missing (1 approval).
	// 1 approval more needed; ask odo to run: tavrin review approve 4 --revision 1
}

func TestWorstStateOfChecks(t *testing.T) {
	for _, c := range [][3]CheckState{{"", "passed", "passed"}, {"passed", "failed", "failed"}, {"failed", "running", "failed"}, {"waiting", "passed", "waiting"}, {"skipped", "passed", "passed"}, {"running", "errored", "errored"}} {
		if got := Worse(c[0], c[1]); got != c[2] || Worse(c[1], c[0]) != got {
			t.Errorf("%s and %s give %s, not %s", c[0], c[1], got, c[2])
		}
	}
	for _, s := range CheckStates {
		if !slices.Contains(badness, s) {
			t.Errorf("%s has no place in the order", s)
		}
	}
}
