package rules

import (
	"bytes"
	"encoding/json"
	"slices"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"
	"github.com/santhosh-tekuri/jsonschema/v6"

	"tavrin/internal/core/grammar"
	"tavrin/internal/core/kind"
)

// examples gives, for every key, its example set into the smallest document around it.
func examples() map[string]string {
	around := map[string]string{
		"": "%", "branches{}": "branches:\n  %", "labels{}": "labels:\n  urgent: {%}", "areas{}": "areas:\n  a: {paths: a/**, owners: team:t, %}", areaRequirementPath: "areas:\n  a: {paths: a/**, owners: team:t, require: [{%}]}", areaRequirementPath + ".when": "areas: {ledger: {paths: a, owners: team:t, require: [{approvals: 1, when: {%}}]}}\nlabels: {urgent: {set_by: team:t}}", areaRequirementPath + ".unless": "areas: {ledger: {paths: a, owners: team:t, require: [{approvals: 1, unless: {%}}]}}\nlabels: {urgent: {set_by: team:t}}", requirementPath + ".unless": "areas: {ledger: {paths: a, owners: team:t}}\nlabels: {urgent: {set_by: team:t}}\nprotect:\n  - {name: n, branches: main, require: [{approvals: 1, unless: {%}}]}",
		"checks{}": "checks:\n  c: {%}", "loosening": "loosening: {%}", "changes": "changes: {%}", "protect[]": "protect:\n  - {name: n, branches: main, %}",
		"protect[].after_push": "protect:\n  - {name: n, branches: main, after_push: {%}}", "protect[].land": "protect:\n  - {name: n, branches: main, land: {%}}", "protect[].queue": "protect:\n  - {name: n, branches: main, queue: {%}}",
		requirementPath: "protect:\n  - {name: n, branches: main, require: [{%}]}", requirementPath + ".when": "areas: {ledger: {paths: a, owners: team:t}}\nlabels: {urgent: {set_by: team:t}}\nprotect:\n  - {name: n, branches: main, require: [{approvals: 1, when: {%}}]}",
	}
	demand := map[string]string{"checks": "checks: [a, b, c]"}
	for _, k := range kind.All() {
		if demand[k.Name] == "" {
			demand[k.Name] = k.Keys[0].Example
		}
	}
	out := map[string]string{}
	for _, k := range Keys {
		frame, framed := around[grammar.Parent(k.Path)]
		if k.Path == "branches{}" {
			frame, framed = around["branches{}"], true
		}
		if !framed || k.Example == "" {
			continue
		}
		example := k.Example
		// A key that stands with others of its kind replaces those of the frame.
		for _, name := range []string{"paths", "owners", "name", "branches", "tags"} {
			if k.Name() == name && !slices.Contains([]string{""}, grammar.Parent(k.Path)) {
				frame = strings.Replace(frame, map[string]string{"paths": "paths: a/**, ", "owners": "owners: team:t, ", "name": "name: n, ", "branches": "branches: main, ", "tags": "branches: main, "}[name], "", 1)
			}
		}
		if p := grammar.Parent(k.Path); (p == requirementPath || p == areaRequirementPath) && kind.Of(k.Name()) == nil {
			beside := "approvals"
			if len(k.Beside) > 0 {
				beside = k.Beside[len(k.Beside)-1]
				if slices.Contains(k.Beside, "checks") {
					beside = "checks"
				}
			}
			example = demand[beside] + ", " + example
		}
		text := strings.Replace(frame, "%", example, 1)
		if k.Name() != "tavrin" {
			text = "tavrin: " + Format + "\n" + text
		}
		if k.Path == "checks{}.kind" || k.Path == "checks{}.environment" {
			text = strings.Replace(text, "{"+example, "{kind: deployment, environment: proving-field", 1)
		}
		out[k.Path] = text + "\n"
	}
	return out
}

func compiledSchema(t *testing.T, ofHouse bool) *jsonschema.Schema {
	t.Helper()
	text, err := Schema(ofHouse)
	if err != nil {
		t.Fatal(err)
	}
	value, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
	if err != nil {
		t.Fatal(err)
	}
	c := jsonschema.NewCompiler()
	if err := c.AddResource("rules.json", value); err != nil {
		t.Fatal(err)
	}
	schema, err := c.Compile("rules.json")
	if err != nil {
		t.Fatal(err)
	}
	return schema
}

func valid(schema *jsonschema.Schema, text string) error {
	data, err := yaml.YAMLToJSON([]byte(text))
	if err != nil {
		return err
	}
	value, err := jsonschema.UnmarshalJSON(bytes.NewReader(data))
	if err != nil {
		return err
	}
	return schema.Validate(value)
}

// Every key has an example that the reader accepts and the schema does too, a meaning, and words for its absence and
// for what becomes of it where several state it.
func TestEveryKeyHasAnExampleThatIsRead(t *testing.T) {
	schema := compiledSchema(t, true)
	all := examples()
	for _, k := range Keys {
		if k.Means == "" || k.Absent == "" || k.Together == "" {
			t.Errorf("%s is not described: %+v", k.Path, k)
		}
		text, ok := all[k.Path]
		if !ok {
			t.Errorf("%s has no example", k.Path)
			continue
		}
		if _, findings := (Under{OfHouse: true}).Parse(text); findings != nil {
			t.Errorf("the example of %s is refused: %v\n%s", k.Path, findings, text)
		}
		if err := valid(schema, text); err != nil {
			t.Errorf("the schema refuses the example of %s: %v\n%s", k.Path, err, text)
		}
	}
}

// What the reader refuses for its form, the schema refuses too.
func TestSchemaRefusesWhatTheReaderRefuses(t *testing.T) {
	schema := compiledSchema(t, false)
	head := "tavrin: rules/1\n"
	for _, text := range []string{
		head + "protects: []\n", "tavrin: rules/9\n", "protect: []\n", head + "protect:\n  - {name: a, branches: main, rewrite: sometimes}\n",
		head + "protect:\n  - {name: a, branches: main, require: [{approvals: lots}]}\n", head + "protect:\n  - {name: a, branches: main, require: [{approvals: 1, checks: a}]}\n",
		head + "protect:\n  - {name: a, branches: main, repositories: x}\n", head + "areas:\n  a: {paths: a}\n", head + "protect:\n  - {name: a, branches: main, push: hydraulics}\n",
		head + "protect:\n  - {name: a, branches: main, require: [{checks: a, from: team:t}]}\n", head + "protect:\n  - {name: a, branches: main, require: [{objections: none, max_age: 1h}]}\n",
		head + "checks: {a: {kind: deployment}}\n", head + "checks: {a: {environment: field}}\n", head + "checks: {a: {command: x, timeout: 0s}}\n", head + "checks: {a: {command: x, timeout: 169h}}\n",
		head + "checks: {a: {command: x, timeout: 10081m}}\n", head + "checks: {a: {max_age: 721h}}\n", head + "checks: {a: {max_age: 99999999s}}\n", head + "checks: {a: {max_age: soon}}\n", head + "checks: {a: {sees: files}}\n",
		head + "areas: {a: {paths: '!x', owners: team:t}}\n", head + "areas: {a: {paths: ['!x', '!y'], owners: team:t}}\n", head + "protect:\n  - {name: a, branches: ['!main']}\n",
	} {
		if _, findings := Parse(text); findings == nil {
			t.Errorf("the reader accepts\n%s", text)
		}
		if valid(schema, text) == nil {
			t.Errorf("the schema accepts\n%s", text)
		}
	}
	for _, text := range []string{ // the last that pass
		head + "checks: {a: {command: x, timeout: 168h}}\n", head + "checks: {a: {command: x, timeout: 10080m}}\n", head + "checks: {a: {command: x, timeout: 1h30m}}\n",
		head + "checks: {a: {max_age: 720h}}\n", head + "checks: {a: {sees: commit}}\n", head + "checks: {a: {max_age: 1.5h}}\n", head + "areas: {a: {paths: [x, '!y'], owners: team:t}}\n",
	} {
		if _, findings := Parse(text); findings != nil {
			t.Errorf("the reader refuses\n%s%v", text, findings)
		}
		if err := valid(schema, text); err != nil {
			t.Errorf("the schema refuses\n%s%v", text, err)
		}
	}
	if err := valid(schema, sample); err != nil {
		t.Errorf("the schema refuses the sample: %v", err)
	}
}

func TestSchemaNamesWhatItIs(t *testing.T) {
	text, err := Schema(false)
	var s map[string]any
	if err != nil || json.Unmarshal(text, &s) != nil || s["$schema"] != "https://json-schema.org/draft/2020-12/schema" {
		t.Errorf("schema %.200s: %v", text, err)
	}
}
