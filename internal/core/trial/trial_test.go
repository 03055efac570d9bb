package trial

import (
	"fmt"
	"strings"
	"testing"

	"tavrin/internal/core/people"
	"tavrin/internal/core/plainyaml"
	"tavrin/internal/core/rules"
)

const document = `tavrin: rules/1
areas: {ledger: {paths: ledger/**, owners: team:accounts, require: [{approvals: 2}]}}
checks: {unit: {command: make test}}
protect:
  - name: trunk
    branches: main
    require:
      - approvals: 1
      - {approvals: 3, called: many eyes, when: {lines: over 400}}
      - checks: unit
      - {approvals: 2, called: two for what goes, when: {removed: "docs/**"}}
`

const known = `tavrin: examples/1
people:
  marla: {teams: [contractors]}
  bela: {teams: [accounts]}
  iver: {teams: [accounts]}
  odo: {}
examples:
`

func TestRun(t *testing.T) {
	doc, findings := rules.Parse(document)
	if findings != nil {
		t.Fatal(findings)
	}
	cases := []struct{ example, says string }{
		{"{name: a, change: {author: marla, paths: [docs/a]}, approved_by: [odo], expect: ready}", ""},
		{"{name: a, change: {author: marla, paths: [docs/a]}, approved_by: [odo], checks: {unit: passed}, expect: clear}", ""},
		{"{name: a, change: {author: marla, paths: [docs/a]}, approved_by: [odo], checks: {unit: failed}, expect: not clear, because: unit failed}", ""},
		{"{name: a, change: {author: marla, paths: [docs/a]}, approved_by: [marla], expect: not ready, because: an author of the change}", ""},
		{"{name: a, change: {author: marla, paths: [ledger/t.csv], lines: 600}, approved_by: [bela], expect: not ready, because: an owner of ledger}", ""},
		{"{name: a, change: {author: marla, paths: [ledger/t.csv], lines: 600}, approved_by: [bela], expect: not ready, because: many eyes}", ""},
		{"{name: a, change: {author: marla, paths: [ledger/t.csv], lines: 30}, approved_by: [bela], expect: not ready, not_because: many eyes}", ""},
		{"{name: a, change: {author: marla, paths: [ledger/t.csv], lines: 600}, approved_by: [bela], expect: ready}", `expected ready; missing: many eyes: 3 approvals, says "trunk" (rules version 1, line 9); 2 approvals by an owner of ledger, says "area ledger" (rules version 1, line 2)`},
		{"{name: a, change: {author: marla, removed: [docs/a]}, approved_by: [odo], expect: not ready, because: two for what goes}", ""},
		{"{name: a, change: {author: marla, added: [docs/a], renamed: [docs/b, docs/c]}, approved_by: [odo], expect: ready}", ""},
		{"{name: a, change: {author: marla, removed: [ledger/t.csv]}, approved_by: [odo], expect: not ready, because: an owner of ledger}", ""},
		{"{name: a, change: {author: marla, paths: [docs/a]}, expect: not ready, because: a ticket}", `not because of "a ticket"; missing: 1 approval`},
		{"{name: a, change: {author: marla, paths: [docs/a]}, approved_by: [odo], objected_by: [bela], expect: not ready}", "expected not ready; missing: check unit"},
	}
	for _, c := range cases {
		text := known + "  - " + c.example + "\n"
		f, err := Parse(text)
		if err != nil {
			t.Fatal(err)
		}
		r := Run(f, text, doc.Alone(1), "growers/irrigation", people.Known(map[string]people.Person{"ines": {Login: "ines", Role: people.Maintainer}}))[0]
		if r.Passed != (c.says == "") || !strings.Contains(r.Says, c.says) {
			t.Errorf("%s\nsays %q, want %q", c.example, r.Says, c.says)
		}
	}
}

func TestParseSaysWhatIsWrong(t *testing.T) {
	cases := []struct{ text, says string }{
		{"", "examples/1"},
		{"tavrin: rules/1\nexamples: []", "this service reads tavrin: examples/1"},
		{"tavrin: examples/1\n", "no examples"},
		{known + "  - {name: a, expect: ready}", "needs an author"},
		{known + "  - {name: a, change: {author: odo}, expect: maybe}", "clear, not clear, ready, not ready"},
		{known + "  - {name: a, change: {author: odo, pats: [x]}, expect: ready}", "pats"},
		{known + "  - {change: {author: odo}, expect: ready}", "needs a name"},
		{known + "  - {name: a, change: {author: odo}, expect: ready, because: x}", "misses nothing"},
		{known + "  - {name: a, change: {author: odo}, expect: ready, checks: {unit: great}}", `cannot be "great"`},
		{known + "  - {name: a, change: {author: odo}, expect: ready, strategy: teleport}", "rebase, squash, merge"},
		{"tavrin: examples/1\npeople: &x {}\nexamples: []", "anchor"},
		{strings.Repeat("#", plainyaml.MaxBytes+1), "bytes"},
		{"[", "cannot be read"},
	}
	for _, c := range cases {
		if _, err := Parse(c.text); err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%.60q: %v, want %q", c.text, err, c.says)
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add(known + "  - {name: a, change: {author: odo}, expect: ready}")
	doc, _ := rules.Parse(document)
	set := doc.Alone(1)
	f.Fuzz(func(t *testing.T, text string) {
		if file, err := Parse(text); err == nil {
			if got := Run(file, text, set, "a/b", people.Everyone{}); len(got) != len(file.Examples) {
				t.Errorf("%d results of %d examples", len(got), len(file.Examples))
			}
		}
	})
}

func ExampleRun() {
	doc, _ := rules.Parse(document)
	text := known + "  - {name: alone, change: {author: odo, paths: [docs/a]}, expect: ready}\n"
	f, _ := Parse(text)
	for _, r := range Run(f, text, doc.Alone(1), "growers/irrigation", people.Everyone{}) {
		fmt.Println(r.Line, r.Name, r.Passed, r.Says)
	}
	// Output: 8 alone false expected ready; missing: 1 approval, says "trunk" (rules version 1, line 8); check unit passes on the rehearsal, says "trunk" (rules version 1, line 10)
}
