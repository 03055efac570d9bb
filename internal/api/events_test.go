package api

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"tavrin/internal/core/event"
)

// The schema of each kind takes its example, and nothing that lacks a field, has one too many, or has one of another type.
func TestEventSchemas(t *testing.T) {
	text, err := EventSchemas()
	if err != nil {
		t.Fatal(err)
	}
	doc, err := jsonschema.UnmarshalJSON(strings.NewReader(string(text)))
	if err != nil {
		t.Fatal(err)
	}
	compiler := jsonschema.NewCompiler()
	if err := compiler.AddResource("events.json", doc); err != nil {
		t.Fatal(err)
	}
	for _, k := range event.Kinds {
		schema, err := compiler.Compile("events.json#/$defs/" + k.Name)
		if err != nil {
			t.Fatalf("%s: %v", k.Name, err)
		}
		data, err := json.Marshal(k.Example)
		if err != nil {
			t.Fatal(err)
		}
		takes := func(v any) error {
			again, err := json.Marshal(v)
			if err != nil {
				t.Fatal(err)
			}
			value, err := jsonschema.UnmarshalJSON(strings.NewReader(string(again)))
			if err != nil {
				t.Fatal(err)
			}
			return schema.Validate(value)
		}
		var whole map[string]any
		if err := json.Unmarshal(data, &whole); err != nil {
			t.Fatal(err)
		}
		if err := takes(whole); err != nil {
			t.Errorf("%s: its example is not taken: %v", k.Name, err)
		}
		whole["weather"] = "dry"
		if takes(whole) == nil {
			t.Errorf("%s: a field that there is not is taken", k.Name)
		}
		delete(whole, "weather")
		for name, value := range whole {
			whole[name] = map[string]any{"x": map[string]any{}}
			if takes(whole) == nil {
				t.Errorf("%s: %s may be anything", k.Name, name)
			}
			whole[name] = value
		}
	}
}
