package kind

import (
	"slices"
	"strings"
	"testing"

	"github.com/goccy/go-yaml/parser"

	"tavrin/internal/core/glob"
	"tavrin/internal/core/grammar"
	"tavrin/internal/core/kind/kindtest"
	"tavrin/internal/core/require"
)

// nothing is a scope in which patterns stand for themselves, and everything is there that is named.
type nothing struct{}

func (nothing) Branches(_ grammar.Field, texts []string) (glob.List, []string) {
	list, _ := glob.CompileList(texts) // of a test's own
	return list, texts
}
func (nothing) Area(string) bool  { return true }
func (nothing) Label(string) bool { return true }

const path = "require[]"

// read reads one requirement.
func read(t *testing.T, text string) (require.Requirement, []grammar.Finding) {
	t.Helper()
	file, err := parser.ParseBytes([]byte(text), 0)
	if err != nil {
		t.Fatalf("%s: %v", text, err)
	}
	r := grammar.NewReader(text, grammar.New(require.Keys(All(), path)), false)
	r.Scope = nothing{}
	q, _ := require.Read(All(), r, file.Docs[0].Body, path, false)
	return q, r.Findings()
}

// judged are the lines that a requirement gives a change.
func judged(t *testing.T, text string, alter func(c *require.Case)) []require.Outcome {
	t.Helper()
	q, found := read(t, text)
	if len(found) > 0 {
		t.Fatalf("%s: %v", text, found)
	}
	c := kindtest.Opened()
	if alter != nil {
		alter(c)
	}
	q.Asks.Judge(c, require.Sourced{Requirement: q, Titled: q.Title(),
		From: []require.Source{{Protection: "trunk", Version: 3, Line: 12}}})
	c.JudgeChecks()
	return c.Outcomes
}

// What every kind promises: its own example is one of it, with each key that may stand beside it; it asks the same as
// itself and at least as much; it can be named and said; it gives a change a line whose key begins with its name.
func TestEveryKind(t *testing.T) {
	if !slices.IsSortedFunc(All(), require.Order) {
		t.Error("the kinds are not in order")
	}
	for _, k := range All() {
		if Of(k.Name) != k || k.Keys[0].Path != k.Name || k.Judged == "" || k.Gone == "" {
			t.Errorf("%s is not described", k.Name)
		}
		q, found := read(t, k.Keys[0].Example)
		again, _ := read(t, k.Keys[0].Example)
		if len(found) > 0 || q.Kind != k || q.Level != require.Required {
			t.Errorf("%s: %+v, %v", k.Keys[0].Example, q, found)
			continue
		}
		if !q.SameAs(&again) || !q.AtLeast(again) || q.Title() == "" || !strings.Contains(q.Sentence(), q.Asks.Words()[1:]) {
			t.Errorf("%s: %q, %q, %q", k.Name, q.Identity(), q.Title(), q.Sentence())
		}
		if _, pushed := q.Asks.(require.Pushed); pushed != k.OnPush {
			t.Errorf("%s holds for pushes: %v, and it judges them: %v", k.Name, k.OnPush, pushed)
		}
		for _, beside := range k.Keys[1:] {
			text := k.Keys[0].Example + "\n" + beside.Example
			if k.Name == "checks" {
				text = "checks: [a, b, c]\n" + beside.Example
			}
			if k.Name == "messages" || k.Name == "ticket" {
				text = k.Name + ": \"^[a-z]+: \"\n" + beside.Example
				if beside.Path == "max_age" { // which is an answer's
					text += "\ntracker: open"
				}
			}
			if _, found := read(t, text); len(found) > 0 {
				t.Errorf("%s: %v", text, found)
			}
		}
		lines := judged(t, k.Keys[0].Example, nil)
		if len(lines) == 0 || !strings.HasPrefix(lines[0].Key, strings.TrimSuffix(k.Name, "s")) ||
			lines[0].Because != `"trunk" (rules version 3, line 12)` {
			t.Errorf("%s gives %+v", k.Name, lines)
		}
	}
}

// What stands beside a kind that it means nothing beside is told, with what may.
func TestKeysStandBesideTheirKind(t *testing.T) {
	for text, says := range map[string]string{
		"approvals: 1\nresolved_by: role:maintainer": `"resolved_by" means nothing beside "approvals"`,
		"approvals: 1\nchecks: unit":                 "asks one thing, this one asks for approvals and checks",
		"level: advisory":                            "says what it asks for",
		"checks: []":                                 "names none",
		"checks: [a, b]\nat_least: 3":                "at least 3 of 2 checks can never pass",
		"messages: \"^a\"\nexample: b":               "does not match",
		"ticket: \"a\"\nmax_age: 1h":                 "max_age is for the answer of a tracker",
		"ticket: \"a\"\ntracker: closed":             `cannot be "closed"`,
		"objections: some":                           `cannot be "some"`,
	} {
		if _, found := read(t, text); len(found) == 0 || !strings.Contains(found[0].Message, says) {
			t.Errorf("%q: %v", text, found)
		}
	}
}

// Each kind judges a change by the facts.
func TestKindsJudge(t *testing.T) {
	for _, k := range All() {
		sample, known := kindtest.Samples[k.Name]
		if !known || len(sample.Judged) == 0 {
			t.Errorf("kindtest has nothing of %s", k.Name)
		}
		for _, c := range sample.Judged {
			if lines := judged(t, c.Text, c.Alter); lines[0].State != c.State || !strings.Contains(lines[0].Told()+lines[0].Next, c.Next) {
				t.Errorf("%q gives %+v", c.Text, lines)
			}
		}
	}
}
