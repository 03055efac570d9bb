package gate

import (
	"encoding/json"
	"fmt"
	"maps"
	"math/rand/v2"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"tavrin/internal/core/rules"
	"tavrin/internal/often"
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
		{"P6 the same difference by a history that brings more", func(f *Facts) {
			f.Reviews[0].Revision, f.Reviews[0].SameDifference, f.Reviews[0].Hidden = 1, true, []string{"secret"}
		}, false, false, "approvals", Unmet, "commits since touch secret, which the difference does not show"},
		{"P6 and by a strategy that brings the difference alone", func(f *Facts) {
			f.Reviews[0].Revision, f.Reviews[0].SameDifference, f.Reviews[0].Hidden, f.Asker, f.Strategy = 1, true, []string{"secret"}, "odo", rules.Squash
		}, true, false, "approvals", Met, ""},
		{"P2 an area that the history touches", func(f *Facts) { f.History.Hidden = []string{"ledger/tariff.csv"} }, false, false, "owners/ledger", Unmet, "ask bela or pavo"},
		{"P2 several merge bases", func(f *Facts) { f.Bases, f.Source = 2, "topic" }, false, false, "base", Unmet, "tavrin change bring-up 7"},
		{"a claim in a commit, by a merge", func(f *Facts) {
			f.Commits, f.Asker, f.Strategy = []Commit{{ID: strings.Repeat("d", 40), Message: "x", Reserved: "Approved-by"}}, "wren", rules.Merge
		}, false, false, "trailers", Unmet, "(Approved-by): reword"},
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

func TestContentDemands(t *testing.T) {
	cases := []struct {
		name, requirement string
		change            func(*Facts)
		state             State
		says              string
	}{
		{"no checklist", "tasks: done", func(*Facts) {}, NotApplicable, "no checklist"},
		{"boxes ticked", "tasks: done", func(f *Facts) { f.Description = "- [x] a\n* [X] b\n1. [x] c" }, Met, ""},
		{"a box open", "tasks: done", func(f *Facts) { f.Description = "  - [ ] sow\n- [x] b" }, Unmet, `"sow"`},
		{"no discussion", "threads: settled", func(*Facts) {}, NotApplicable, "no discussion"},
		{"an open thread", "threads: settled", func(f *Facts) { f.Threads = []Thread{{By: "wren", Where: "a.c, line 3"}} }, Unmet, "wren's on a.c, line 3"},
		{"settled by a writer", "threads: settled", func(f *Facts) { f.Threads = []Thread{{By: "wren", Where: "a", SettledBy: "odo"}} }, Met, ""},
		{"settled by a reader", "threads: settled", func(f *Facts) { f.Threads = []Thread{{By: "wren", Where: "a", SettledBy: "pavo"}} }, Unmet, "pavo settled without the right"},
		{"settled by those named", "threads: settled, settled_by: team:accounts", func(f *Facts) { f.Threads = []Thread{{By: "wren", Where: "a", SettledBy: "odo"}} }, Unmet, "odo settled without"},
		{"a ticket in a commit", "ticket: 'FEN-[0-9]+'", func(f *Facts) { f.Commits = []Commit{{Message: "Tidy\n\nFor FEN-3"}} }, Met, ""},
		{"a ticket elsewhere", "ticket: 'FEN-[0-9]+', in: title", func(f *Facts) { f.Description = "FEN-3" }, Unmet, "name the ticket in the title"},
		{"a fixup", "fixups: none", func(f *Facts) {
			f.Commits = []Commit{{ID: "abc", Message: "fixup! docs"}}
			f.Strategy, f.Asker = rules.Rebase, "odo"
		}, Unmet, `abc "fixup! docs"`},
		{"a fixup, squashed", "fixups: none", func(f *Facts) {
			f.Commits = []Commit{{Message: "fixup! docs"}}
			f.Strategy, f.Asker = rules.Squash, "odo"
		}, NotApplicable, "one commit"},
		{"a word like fixup", "fixups: none", func(f *Facts) { f.Commits = []Commit{{Message: "fixup of docs"}} }, Met, ""},
		{"a merge strategy", "history: straight", func(f *Facts) { f.Strategy, f.Asker = rules.Merge, "odo" }, Unmet, "--strategy rebase or squash"},
		{"messages of commits", "messages: '^docs: '", func(f *Facts) {
			f.Commits = []Commit{{ID: "abc", Message: "Tidy"}}
			f.Strategy, f.Asker = rules.Rebase, "odo"
		}, Unmet, `abc "Tidy"`},
		{"the message of a squash", "messages: '^docs: '", func(f *Facts) {
			f.Title = "docs: a"
			f.Commits = []Commit{{Message: "Tidy"}}
			f.Strategy, f.Asker = rules.Squash, "odo"
		}, Met, ""},
		{"a message as typed", "messages: '^docs: '", func(f *Facts) { f.Title, f.Message = "docs: a", "Tidy"; f.Strategy, f.Asker = rules.Squash, "odo" }, Unmet, `the final message "Tidy"`},
		{"unsigned", "signed: every commit", func(f *Facts) { f.Commits = []Commit{{ID: "abc"}} }, Unmet, "abc is not signed"},
		{"an unknown key", "signed: every commit", func(f *Facts) { f.Commits = []Commit{{ID: "abc", Signature: Signature{State: UnknownKey}}} }, Unmet, "a key that nobody has registered"},
		{"signed in another way", "signed: every commit", func(f *Facts) { f.Commits = []Commit{{ID: "abc", Signature: Signature{State: Unread}}} }, Unmet, "not verified here (OpenPGP or X.509"},
		{"a forged signature", "signed: every commit", func(f *Facts) { f.Commits = []Commit{{ID: "abc", Signature: Signature{State: BadlyMade, By: "odo"}}} }, Unmet, "does not fit"},
		{"signed by somebody gone", "signed: every commit", func(f *Facts) { f.Commits = []Commit{{ID: "abc", Signature: Signature{State: Good, By: "gone"}}} }, Unmet, "gone, who has no access"},
		{"signed", "signed: every commit", func(f *Facts) { f.Commits = []Commit{{ID: "abc", Signature: Signature{State: Good, By: "odo"}}} }, Met, ""},
		{"a pass that is fresh", "checks: seen, at: head, fresh: 2h", func(f *Facts) {
			f.At = noon
			f.HeadChecks = []Check{{Name: "seen", State: Passed, By: "barn", At: noon.Add(-time.Hour)}}
		}, Met, ""},
		{"a pass too old", "checks: seen, at: head, fresh: 1h", func(f *Facts) {
			f.At = noon
			f.HeadChecks = []Check{{Name: "seen", State: Passed, By: "barn", At: noon.Add(-90 * time.Minute)}}
		}, Pending, "passed 1h30m ago, and a pass counts for 1h"},
		{"an approval of who left the team", "approvals: 1, from: team:stewards", func(f *Facts) {
			f.Reviews = []Review{{By: "odo", Verdict: Approve, Revision: 2, Teams: []string{"stewards"}}}
		}, Unmet, "odo's approval does not count: they have left the team since"},
		{"an approval of who was never asked", "approvals: 1, from: team:stewards", func(f *Facts) {
			f.Reviews = []Review{{By: "odo", Verdict: Approve, Revision: 2}}
		}, Unmet, "1 approval more needed from team:stewards, and nobody could give one: a maintainer has to add people or change the rule"},
		{"an approval of a disabled account", "approvals: 1", func(f *Facts) {
			f.Reviews = []Review{{By: "odo", Verdict: Approve, Revision: 2, Disabled: true}}
		}, Unmet, "odo's approval does not count: their account is disabled"},
		{"a check that has another name now", "checks: unit, at: head", func(f *Facts) { f.HeadChecks = []Check{{Name: "Unit tests", State: Passed, By: "barn"}} }, Pending,
			"waiting for a witness for unit; Unit tests was reported on the head: if that is its new name"},
		{"a glob that matches nothing", "checks: 'bench *', at: head", func(*Facts) {}, Pending, "no check that matches bench * is defined"},
		{"so many of a glob that matches nothing", "checks: 'bench *', at: head, at_least: 1", func(*Facts) {}, Unmet, ""},
		{"an approval of somebody gone", "approvals: 1", func(f *Facts) { f.Reviews = []Review{{By: "gone", Verdict: Approve, Revision: 2}} }, Unmet, "no access any more"},
		{"when it is not so", "approvals: 2, when: {lines: over 3}", func(*Facts) {}, NotApplicable, "asked for when the lines changed are over 3"},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			f := facts()
			c.change(&f)
			q := Judge(parsed(t, "tavrin: rules/1\nprotect:\n  - {name: trunk, branches: main, require: [{"+c.requirement+"}]}\n"), f).Requirements[1]
			if q.State != c.state || !strings.Contains(q.Next, c.says) {
				t.Errorf("%s is %s: %q", q.Key, q.State, q.Next)
			}
		})
	}
}

// What several protections say of one thing together, judged.
func TestSeveralProtectionsTogether(t *testing.T) {
	two := func(a, b string) *rules.Set {
		return parsed(t, "tavrin: rules/1\nprotect:\n  - {name: a, branches: main, "+a+"}\n  - {name: b, branches: '**', "+b+"}\n")
	}
	f := facts()
	f.At, f.Asker, f.Strategy, f.Title = noon, "odo", rules.Squash, "a"
	f.HeadChecks = []Check{{Name: "seen", State: Skipped, By: "barn", At: noon}}
	counts, doesNot := "require: [{checks: seen, at: head, skipped: counts}]", "require: [{checks: seen, at: head, fresh: 1h}]"
	if q := find(t, Judge(two(counts, counts), f), "check/seen@head"); q.State != Met || len(q.Sources) != 2 {
		t.Errorf("skipped counts for both: %+v", q)
	}
	for _, set := range []*rules.Set{two(counts, doesNot), two(doesNot, counts)} {
		if q := find(t, Judge(set, f), "check/seen@head"); q.State != Unmet || q.Level != rules.Required || len(q.Sources) != 2 {
			t.Errorf("skipped counts for one only: %+v", q)
		}
	}
	f.HeadChecks[0].State, f.HeadChecks[0].At = Passed, noon.Add(-2*time.Hour)
	if q := find(t, Judge(two(counts, doesNot), f), "check/seen@head"); q.State != Pending || !slices.Equal(q.Again, []string{"seen"}) {
		t.Errorf("the shorter freshness: %+v", q)
	}
	// An advisory one lends nothing, and takes nothing: each stands for itself.
	f.HeadChecks[0].State, f.HeadChecks[0].At = Skipped, noon
	advises := "require: [{checks: seen, at: head, fresh: 1h, witness: robot:other, level: advisory}]"
	for _, set := range []*rules.Set{two(counts, advises), two(advises, counts)} {
		for _, q := range Judge(set, f).Requirements {
			if !strings.HasPrefix(q.Key, "check/seen@head") {
				continue
			}
			if want := map[rules.Level]State{rules.Required: Met, rules.Advisory: Unmet}[q.Level]; q.State != want || len(q.Sources) != 1 {
				t.Errorf("beside an advisory one: %+v", q)
			}
		}
	}
	f.HeadChecks[0].State, f.HeadChecks[0].At = Passed, noon.Add(-2*time.Hour)
	messages := "require: [{messages: '^docs: '}], land: {message: 'docs: {title}'}"
	if q := find(t, Judge(two(messages, "require: []"), f), "messages"); q.State != Met {
		t.Errorf("one template: %+v", q)
	}
	if q := find(t, Judge(two(messages, "land: {message: 'docs: it is {title}'}"), f), "messages"); q.State != Unmet || !strings.Contains(q.Next, "on which the protections disagree") {
		t.Errorf("two templates: %+v", q)
	}
	f.Reviews = []Review{{By: "odo", Verdict: Approve, Revision: 1, SameDifference: true}}
	newest := Judge(two("require: [{approvals: 1}]", "require: [{approvals: 1, on: newest_revision}]"), f)
	if find(t, newest, "approvals").State != Met || find(t, newest, "approvals/2").State != Unmet {
		t.Errorf("approvals of an older revision: %+v", newest.Requirements)
	}
}

var noon = time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)

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

// What only advises is no source of what is required, and has no say in who may set it aside; an exempt person is held by the
// same demand at the level at which what binds them asks it.
func TestAdviceIsNoSourceOfWhatIsRequired(t *testing.T) {
	requires, advises := "  - {name: a, branches: main, exempt: person:odo, require: [{objections: none}]}\n", "  - {name: b, branches: main, require: [{objections: none, level: advisory}]}\n"
	f := facts()
	f.Reviews = []Review{{By: "bela", Verdict: Object, Revision: 2}}
	for _, text := range []string{requires + advises, advises + requires} {
		set := parsed(t, "tavrin: rules/1\nprotect:\n"+text)
		f.Asker = ""
		if q := find(t, Judge(set, f), "objections"); q.Level != rules.Required || len(q.Sources) != 1 || q.Sources[0].Protection != "a" {
			t.Errorf("it is asked by %+v", q)
		}
		f.Asker, f.Strategy = "odo", rules.Squash
		if q := find(t, Judge(set, f), "objections"); q.Level != rules.Advisory || q.Sources[0].Protection != "b" {
			t.Errorf("odo is held by %+v", q)
		}
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

// randomProtection is a protection of every setting that there is, by chance.
func randomProtection(rng *rand.Rand, name string) string {
	pick := func(words ...string) string { return words[rng.IntN(len(words))] }
	var b strings.Builder
	fmt.Fprintf(&b, "  - name: %s\n    branches: %s\n    require:\n", name, pick("main", "main", "'**'", "dev"))
	for range 1 + rng.IntN(4) {
		b.WriteString("      - {" + pick("approvals: 1", "approvals: 2", "approvals: 1, own: counts", "approvals: 1, on: newest_revision", "approvals: 1, from: team:accounts, not_from: last_pusher",
			"owners: every touched area", "objections: none", "threads: settled", "tasks: done", "ticket: 'FEN-[0-9]'", "ticket: 'FEN-[0-9]', in: title", "fixups: none", "history: straight",
			"messages: '^[a-z]+: '", "signed: every commit", "checks: unit", "checks: 'u*', at: [head, rehearsal]", "checks: [unit, lint], at_least: 1, skipped: counts",
			"checks: unit, fresh: 2h", "checks: unit, witness: robot:barn", "deployment: field") +
			pick("", "", "", ", level: advisory", ", when: {lines: over 10}", ", when: {areas: ledger}", ", when: {author: team:accounts}", ", when: {cel: 'files > 1'}") + "}\n")
	}
	fmt.Fprintf(&b, "    after_push: {approvals_stay: %s, objections_stay: %s}\n", pick("never", "if_unchanged", "always"), pick("never", "if_unchanged", "always"))
	fmt.Fprintf(&b, "    land: {with: %s, message: %s%s}\n", pick("[rebase]", "[merge, squash]", "[rebase, squash, merge]"), pick("'{title}'", "'docs: {title}'"), pick("", ", by: team:hydraulics", ", strategy: rebase"))
	if rng.IntN(8) == 0 {
		b.WriteString("    exempt: person:odo\n")
	}
	if rng.IntN(3) > 0 {
		fmt.Fprintf(&b, "    override: %s\n", pick("role:writer", "role:writer", "person:odo"))
	}
	return strings.ReplaceAll(b.String(), ", strategy: rebase}", "}")
}

// randomFacts is a change that somebody has asked to land, and everything about it by chance.
func randomFacts(rng *rand.Rand) Facts {
	pick := func(words ...string) string { return words[rng.IntN(len(words))] }
	f := facts()
	f.Reviews = nil
	for _, by := range []string{"odo", "bela", "tamsin", "wren", "pavo", "gone"} {
		if rng.IntN(3) > 0 {
			f.Reviews = append(f.Reviews, Review{By: by, Verdict: Verdict(pick("approve", "approve", "approve", "object")), Revision: 1 + rng.IntN(2), SameDifference: rng.IntN(2) == 0})
		}
	}
	f.At = time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
	check := func(name string) Check {
		return Check{Name: name, State: CheckState(pick("passed", "passed", "failed", "skipped", "running")), By: pick("barn", "previewer"), Runner: name == "unit" && rng.IntN(4) > 0,
			At: f.At.Add(-time.Duration(rng.IntN(4)) * time.Hour)}
	}
	f.HeadChecks = []Check{check("unit")}
	f.Rehearsal = rehearsed(check("unit"), check("lint"), check("valve-bench"), check("field-trial"))
	f.Asker, f.Strategy, f.Message = pick("odo", "wren"), rules.Strategy(pick("rebase", "squash", "merge")), pick("", "", "docs: as typed")
	f.Paths = [][]string{{"docs/a"}, {"ledger/a"}, {"firmware/a", "docs/b"}}[rng.IntN(3)]
	f.Added, f.Files = rng.IntN(20), len(f.Paths)
	f.Title, f.Description = pick("docs: FEN-1", "Tidy"), pick("", "- [x] a", "- [ ] a\nFEN-2")
	f.Commits = []Commit{{ID: strings.Repeat("d", 40), Message: pick("docs: a", "fixup! docs: a"), Parents: 1 + rng.IntN(2), Signature: Signature{State: SignatureState(pick("", "good")), By: "tamsin"}}}
	f.CommitAuthors = []string{pick("tamsin", "bela")}
	if rng.IntN(4) == 0 {
		f.Overrides = []Override{{ID: 1, By: pick("odo", "wren"), Because: "it floods", Revision: 2, Tip: f.Rehearsal.Base, Until: f.At.Add(time.Hour),
			Requirements: []Named{{"objections", "no open objection"}, {"approvals", "1 approval"}, {"check/unit@rehearsal", "check unit passes on the rehearsal"}, {"threads", "every discussion is settled"}}}}
	}
	if rng.IntN(2) == 0 {
		f.Threads = []Thread{{By: "wren", Where: "a", SettledBy: pick("", "odo", "pavo")}}
	}
	return f
}

const around = `tavrin: rules/1
areas: {ledger: {paths: ledger/**, owners: team:accounts, asks: {approvals: 1}}, valves: {paths: firmware/**, owners: team:hydraulics, checks: valve-bench}}
checks: {unit: {command: make test}, field-trial: {witness: robot:barn, kind: deployment, place: field}}
protect:
`

// Adding a protection never makes a gate ready or clear that was not, and saying one twice changes nothing
// (principle 1, P8).
func TestP8AddingAProtectionOnlyTightens(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 4))
	tightened, cleared := 0, 0
	for range often.Times(300) {
		one, two := randomProtection(rng, "p1"), randomProtection(rng, "p2")
		f := randomFacts(rng)
		less, more := Judge(parsed(t, around+one), f), Judge(parsed(t, around+one+two), f)
		if (more.Ready && !less.Ready) || (more.Clear && !less.Clear) {
			t.Fatalf("adding a protection opened the gate:\n%s\n%s\n%+v\n%+v\n%+v", one, two, f, less, more)
		}
		swapped := Judge(parsed(t, around+two+one), f)
		twice := Judge(parsed(t, around+one+strings.Replace(one, "name: p1", "name: p3", 1)), f)
		if swapped.Ready != more.Ready || swapped.Clear != more.Clear || twice.Ready != less.Ready || twice.Clear != less.Clear {
			t.Fatalf("order or repetition matters:\n%s\n%s\n%+v", one, two, f)
		}
		if less.Ready && !more.Ready {
			tightened++
		}
		if less.Clear {
			cleared++
		}
	}
	if tightened < 4 || cleared < 4 {
		t.Errorf("%d protections tightened and %d gates were clear: the test says little", tightened, cleared)
	}
}

// Every requirement that does not hold says what to do next and where it comes from, and nobody but those with access
// is named.
func TestNothingIsAMystery(t *testing.T) {
	rng := rand.New(rand.NewPCG(13, 14))
	for range often.Times(200) {
		f := randomFacts(rng)
		if rng.IntN(2) == 0 {
			f.Asker, f.Strategy, f.Message, f.Rehearsal = "", "", "", nil
		}
		doc := around + randomProtection(rng, "p1") + randomProtection(rng, "p2")
		for _, q := range Judge(parsed(t, doc), f).Requirements {
			if q.Because == "" || q.Title == "" || (!q.Holds() && q.Next == "") || (q.State == NotApplicable && q.Next == "") {
				t.Fatalf("%+v\nunder\n%s", q, doc)
			}
			for _, login := range q.Who {
				if _, known := f.People[login]; !known && !strings.Contains(login, " ") && !strings.Contains(login, ":") && login != "gone" {
					t.Fatalf("%s is named: %+v", login, q)
				}
			}
		}
	}
}

// The fewest people are enough, nobody of them can be left out, and no smaller set would do.
func TestFewest(t *testing.T) {
	rng := rand.New(rand.NewPCG(15, 16))
	found := 0
	for range 400 {
		f := randomFacts(rng)
		f.Asker, f.Rehearsal = "", nil
		set := parsed(t, around+randomProtection(rng, "p1")+randomProtection(rng, "p2"))
		missing := func(extra []string) int {
			g := f
			g.Reviews = slices.DeleteFunc(slices.Clone(f.Reviews), func(r Review) bool { return slices.Contains(extra, r.By) })
			for _, login := range extra {
				g.Reviews = append(g.Reviews, Review{By: login, Verdict: Approve, Revision: g.Revision})
			}
			n := 0
			for _, q := range Judge(set, g).Requirements {
				if (strings.HasPrefix(q.Key, "approvals") || strings.HasPrefix(q.Key, "owners")) && q.Level == rules.Required && !q.Holds() {
					n++
				}
			}
			return n
		}
		enough, hopeless, exact := Fewest(set, f)
		if len(hopeless) > 0 {
			continue
		}
		if !exact || missing(enough) != 0 {
			t.Fatalf("%v are not enough: %d are missing still", enough, missing(enough))
		}
		people := slices.Sorted(maps.Keys(f.People))
		for mask := range 1 << len(people) {
			var some []string
			for i, login := range people {
				if mask&(1<<i) != 0 {
					some = append(some, login)
				}
			}
			if len(some) < len(enough) && missing(some) == 0 {
				t.Fatalf("%v would do, and %v were found", some, enough)
			}
		}
		if len(enough) > 0 {
			found++
		}
	}
	if found < 50 {
		t.Errorf("only %d sets were found: the test says little", found)
	}
}

// Rules that house and repository state together are judged as one, and a suspended protection asks for nothing.
func TestSuspendedProtectionsAskNothing(t *testing.T) {
	house, _ := rules.Under{OfHouse: true}.Parse("tavrin: rules/1\nprotect: [{name: floor, branches: main, require: [{approvals: 2}]}]\n")
	own, _ := rules.Parse("tavrin: rules/1\nprotect: [{name: trunk, branches: main, require: [{approvals: 3}]}]\n")
	set := rules.NewSet("growers/irrigation", rules.Layer{Document: own, Version: 4}, rules.Layer{Document: house, Of: "house growers", Version: 2})
	asked := func(suspended ...rules.Suspension) string {
		f := facts()
		f.Suspended = suspended
		var titles []string
		for _, q := range Judge(set, f).Requirements[1:] {
			titles = append(titles, q.Title)
		}
		return strings.Join(titles, "; ")
	}
	if got := asked(); got != "2 approvals; 3 approvals" {
		t.Errorf("asked: %s", got)
	}
	if got := asked(rules.Suspension{Protection: "trunk"}); got != "2 approvals" {
		t.Errorf("with trunk suspended: %s", got)
	}
	if got := asked(rules.Suspension{Protection: "floor"}); got != "2 approvals; 3 approvals" {
		t.Errorf("a repository's suspension touches the house's: %s", got)
	}
	if got := asked(rules.Suspension{Document: "house growers", Protection: "floor"}, rules.Suspension{Protection: "trunk"}); got != "" {
		t.Errorf("with both suspended: %s", got)
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
		fmt.Fprintf(&b, "      - {approvals: %d, called: 'eyes %d', when: {lines: over %d}}\n      - {checks: 'check %d', fresh: 12h}\n", i%4+1, i, 10+i, i)
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

func TestDependencies(t *testing.T) {
	for state, want := range map[string]State{"landed main": Met, "landed release/1": Unmet, "open main": Unmet, "draft main": Unmet, "closed main": Unmet} {
		f := facts()
		d := Dependency{Number: 3, Title: "Pumps"}
		d.State, d.Target, _ = strings.Cut(state, " ")
		f.Dependencies = []Dependency{d}
		r := Judge(parsed(t, document), f)
		if q := find(t, r, "depends/3"); q.State != want || r.Ready != (want == Met) || (want == Unmet) != strings.Contains(q.Next, "--depends-on") && d.State == "landed" {
			t.Errorf("%s: %+v", state, q)
		}
	}
}

func TestTickets(t *testing.T) {
	f := facts()
	f.Title, f.Description, f.Source = "FEN-7: pumps", "see FEN-7 and OPS-12, not fen-9", "fen-8-pumps"
	f.Commits = []Commit{{Message: "FEN-10: a"}}
	if got := Tickets(parsed(t, document), f); !slices.Equal(got, []string{"FEN-7", "OPS-12", "FEN-10"}) {
		t.Errorf("by their common form: %v", got)
	}
	ruled := parsed(t, "tavrin: rules/1\nprotect:\n  - {name: trunk, branches: main, require: [{ticket: '(?i)fen-[0-9]+'}]}\n")
	if got := Tickets(ruled, f); !slices.Equal(got, []string{"FEN-7", "fen-9", "fen-8", "FEN-10"}) {
		t.Errorf("by the rules' pattern: %v", got)
	}
}

// The gate says of each review whether it counts, for what, and if not why not (P6).
func TestP6EveryReviewIsWeighed(t *testing.T) {
	f := facts()
	f.Revision, f.Paths = 3, []string{"firmware/a"}
	f.Reviews = []Review{
		{By: "odo", Verdict: Approve, Revision: 2, SameDifference: true}, {By: "bela", Verdict: Approve, Revision: 2}, {By: "tamsin", Verdict: Approve, Revision: 3},
		{By: "pavo", Verdict: Object, Revision: 1}, {By: "gone", Verdict: Approve, Revision: 3}, {By: "barn", Verdict: Approve, Revision: 3},
	}
	want := map[string][2]string{
		"odo":    {"1 approval, not the last pusher's; 1 approval by an owner of valves", ""},
		"bela":   {"", "bela approved revision 2, and the difference has changed since; 1 approval by an owner of valves: asked for from an owner of valves (team:hydraulics)"},
		"tamsin": {"", "tamsin's approval does not count: an author of the change; 1 approval by an owner of valves: asked for from an owner of valves (team:hydraulics)"},
		"pavo":   {"no open objection", ""},
		"gone":   {"", "gone's approval does not count: they have no access any more"},
		"barn":   {"", "barn is a robot, and robots do not approve; 1 approval by an owner of valves: asked for from an owner of valves (team:hydraulics)"},
	}
	r := JudgeInFull(parsed(t, document), f)
	if len(r.Reviews) != len(want) {
		t.Fatalf("%d reviews are weighed", len(r.Reviews))
	}
	for _, w := range r.Reviews {
		if got := [2]string{strings.Join(w.For, "; "), strings.Join(w.Not, "; ")}; got != want[w.By] {
			t.Errorf("%s: %q", w.By, got)
		}
	}
	ending := parsed(t, "tavrin: rules/1\nprotect:\n  - {name: trunk, branches: main, require: [{objections: none}], after_push: {objections_stay: never}}\n")
	for _, w := range JudgeInFull(ending, f).Reviews {
		if w.By == "pavo" && (len(w.For) > 0 || w.Not[0] != "it was for revision 1, and a push ends objections here") || w.By == "odo" && w.Not[0] != "no approval is asked for here" {
			t.Errorf("where pushes end objections: %+v", w)
		}
	}
}

func TestBeforeAChangeHasANumber(t *testing.T) {
	f := facts()
	f.Number, f.Reviews = 0, nil
	if next := find(t, Judge(parsed(t, document), f), "approvals").Next; !strings.HasSuffix(next, "tavrin review approve N --revision 2") {
		t.Errorf("next step is %q", next)
	}
}

// A check that no name stands for is waited for as long as an answer from outside, and then never comes (P9).
func TestP9ACheckThatNobodyDefinesIsNotWaitedForWithoutEnd(t *testing.T) {
	set := parsed(t, "tavrin: rules/1\nprotect:\n  - {name: trunk, branches: main, require: [{checks: \"bench *\"}]}\n")
	f := facts()
	f.Rehearsal = rehearsed()
	f.Rehearsal.BuiltAt = time.Unix(1_790_000_000, 0)
	for after, want := range map[time.Duration]State{rules.DefaultAnswer - time.Second: Pending, rules.DefaultAnswer: Unmet} {
		f.At = f.Rehearsal.BuiltAt.Add(after)
		if q := find(t, Judge(set, f), "checks/bench *@rehearsal"); q.State != want {
			t.Errorf("after %s it is %s: %s", after, q.State, q.Next)
		}
	}
}

// Paths that lie in an area but for upper and lower case are found, wherever they come from.
func TestPathsAsTheirAreasWriteThem(t *testing.T) {
	set := parsed(t, "tavrin: rules/1\nareas:\n  valves: {paths: [\"firmware/Valves/**\", \"!**/*.md\"], owners: person:odo}\nprotect:\n  - {name: trunk, branches: main, require: [{case: exact}]}\n")
	for path, want := range map[string]State{"firmware/Valves/a.c": Met, "Firmware/valves/a.c": Unmet, "firmware/VALVES/x": Unmet, "firmware/valves/x.md": Met, "other/valves/a": Met} {
		f := facts()
		f.Paths = []string{path}
		if q := find(t, Judge(set, f), "case"); q.State != want {
			t.Errorf("%s: %s, %s", path, q.State, q.Next)
		}
		f.Paths, f.History.Hidden = []string{"docs/x"}, []string{path}
		if q := find(t, Judge(set, f), "case"); q.State != want {
			t.Errorf("%s, by a commit alone: %s, %s", path, q.State, q.Next)
		}
	}
}
