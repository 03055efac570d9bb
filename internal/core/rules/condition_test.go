package rules

import (
	"fmt"
	"strings"
	"testing"

	"tavrin/internal/core/condition"
)

func conditioned(t *testing.T, when string) *condition.Condition {
	t.Helper()
	d, findings := Parse("tavrin: rules/1\nbranches: {hotfix: hotfix/**}\nareas: {ledger: {paths: ledger/**, owners: team:a}}\nlabels: {urgent: {set_by: team:a}}\n" +
		"protect: [{name: n, branches: main, require: [{approvals: 1, when: {" + when + "}}]}]\n")
	if findings != nil {
		t.Fatalf("%s: %v", when, findings)
	}
	return d.Protections[0].Require[0].When
}

func TestConditionHolds(t *testing.T) {
	b := condition.Brought{Title: "Open slowly", Source: "hotfix/leak", Target: "main", Paths: []string{"ledger/a.csv", "docs/b.md"}, Areas: []condition.Touched{{Name: "ledger", Paths: []string{"ledger/a.csv"}}}, Added: 30, Removed: 12, Files: 2,
		Authors: []string{"wren"}, AuthorIs: [][]string{{"person:wren", "team:field"}}, Labels: []string{"urgent"}}
	cases := map[string]bool{
		"paths: 'ledger/**'": true, "paths: ['**', '!ledger/**', '!docs/**']": false, "areas: [ledger]": true, "lines: over 41": true, "lines: over 42": false, "lines: under 43": true,
		"lines: 'over 10, under 50'": true, "files: over 1": true, "files: under 2": false, "source: hotfix": true, "source: [feature/**, 'hotfix/*']": true, "source: main": false,
		"author: team:field": true, "author: ['person:odo', 'team:lab']": false, "label: urgent": true, "cel: 'lines == 42 && added > removed'": true,
		"cel: 'paths.exists(p, p.endsWith(\".md\"))'": true, "cel: '\"team:field\" in author_is'": true, "cel: 'source.startsWith(\"feature/\")'": false,
		"lines: over 10, files: over 5": false, "lines: over 10, cel: 'files == 2'": true, "cel: 'target == \"main\" && title.contains(\"slow\")'": true,
	}
	for when, want := range cases {
		c := conditioned(t, when)
		if got, _ := c.Holds(b); got != want {
			t.Errorf("%s: %v", when, got)
		}
		if c.Words() == "" {
			t.Errorf("%s is not put into words", when)
		}
	}
	if holds, _ := (*condition.Condition)(nil).Holds(b); !holds {
		t.Error("no condition does not hold")
	}
}

// An expression that cannot be worked out, or costs too much, is taken to hold: the requirement is asked for.
func TestExpressionsFailClosed(t *testing.T) {
	holds, why := conditioned(t, "cel: 'paths[3] == \"x\"'").Holds(condition.Brought{Paths: []string{"a"}})
	if !holds || !strings.Contains(why, "asked for") {
		t.Errorf("out of range: %v, %q", holds, why)
	}
	many := make([]string, 3000)
	for i := range many {
		many[i] = fmt.Sprint("path/", i)
	}
	holds, why = conditioned(t, "cel: 'paths.all(a, paths.all(b, a != b || a == b)) && false'").Holds(condition.Brought{Paths: many})
	if !holds || !strings.Contains(why, "cost") {
		t.Errorf("too dear: %v, %q", holds, why)
	}
	for _, bad := range []string{"lines + 1", "lines >", "nosuch > 1", "paths > 1", strings.Repeat("(", 60) + "true" + strings.Repeat(")", 60), "true" + strings.Repeat(" && true", 200)} {
		if _, findings := Parse("tavrin: rules/1\nprotect: [{name: n, branches: main, require: [{approvals: 1, when: {cel: '" + bad + "'}}]}]\n"); len(findings) != 1 || !strings.Contains(findings[0].Message, "cel") {
			t.Errorf("%.40s: %v", bad, findings)
		}
	}
}

func TestBounds(t *testing.T) {
	for text, says := range map[string]string{"over": `"over"`, "over x": `"over x"`, "over -1": `"over -1"`, "over 1, over 2": `" over 2"`, "under 0": `"under 0"`, "above 3": `"above 3"`, "over 5, under 6": "no number is"} {
		_, findings := Parse("tavrin: rules/1\nprotect: [{name: n, branches: main, require: [{approvals: 1, when: {lines: '" + text + "'}}]}]\n")
		if len(findings) != 1 || !strings.Contains(findings[0].Message, says) {
			t.Errorf("%q: %v", text, findings)
		}
	}
}

// A house's document says for which repositories its parts are; what is not meant for one does not touch it.
func TestHouseRulesByRepositoryName(t *testing.T) {
	house, findings := Under{OfHouse: true}.Parse(`tavrin: rules/1
areas:
  money: {paths: ledger/**, owners: team:accounts, repositories: [irrigation, "!irrigation-*"]}
protect:
  - {name: all, branches: main}
  - {name: some, branches: main, repositories: "irrigation*"}
  - {name: others, branches: main, repositories: ["*", "!irrigation*"]}
`)
	if findings != nil {
		t.Fatal(findings)
	}
	for repository, want := range map[string]string{"growers/irrigation": "[all some] 1", "growers/irrigation-docs": "[all some] 0", "growers/handbook": "[all others] 0"} {
		s := NewSet(repository, Layer{Document: house, Of: "house growers", Version: 1})
		if got := fmt.Sprint(s.For("main").Names(), len(s.Areas())); got != want {
			t.Errorf("%s: %s, want %s", repository, got, want)
		}
	}
}

func TestTemplatesAreReadAndSayWhatTheyAreFor(t *testing.T) {
	all, err := Templates()
	if err != nil || len(all) != 4 {
		t.Fatalf("%d templates, %v", len(all), err)
	}
	for _, x := range all {
		d, findings := Parse(x.Text)
		if findings != nil || len(d.Protections) == 0 || x.For == "" {
			t.Errorf("%s: %v", x.Name, findings)
		}
	}
}

func ExampleUnder_Parse() {
	house, _ := Under{OfHouse: true}.Parse("tavrin: rules/1\nbranches: {trunk: main}\n")
	_, findings := Under{House: house}.Parse("tavrin: rules/1\nbranches: {trunk: develop}\n")
	fmt.Println(findings[0].Line, findings[0].Message)
	// Output: 2 the house defines the branch kind "trunk" already
}

func ExampleSet_For() {
	house, _ := Under{OfHouse: true}.Parse("tavrin: rules/1\nprotect:\n  - {name: floor, branches: main, require: [{approvals: 1}]}\n")
	own, _ := Parse("tavrin: rules/1\nprotect:\n  - {name: trunk, branches: main, rewrite: allowed, require: [{approvals: 2}]}\n")
	set := NewSet("growers/irrigation", Layer{Document: house, Of: "house growers", Version: 3}, Layer{Document: own, Version: 1})
	for _, q := range set.For("main").Requirements {
		fmt.Println(q.Titled, "says", q.Because)
	}
	fmt.Println("rewrite:", set.For("main").Rewrite.Value)
	// Output:
	// 1 approval says "floor" (house growers, rules version 3, line 3)
	// 2 approvals says "trunk" (rules version 1, line 3)
	// rewrite: never
}

func ExampleCompare() {
	was, _ := Parse("tavrin: rules/1\nprotect:\n  - {name: trunk, branches: main, require: [{approvals: 2}]}\n")
	now, _ := Parse("tavrin: rules/1\nprotect:\n  - {name: trunk, branches: main, require: [{approvals: 1}]}\n")
	fmt.Println(Loosens(Compare(was, now)), Loosens(Compare(now, was)))
	// Output: true false
}
