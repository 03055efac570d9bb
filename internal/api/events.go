package api

import (
	"encoding/json"
	"fmt"
	"reflect"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"tavrin/internal/core/event"
)

// EventSchema returns the JSON Schema (2020-12) of what the events of a kind carry. It stands by itself.
func EventSchema(k event.Kind) *huma.Schema {
	defs := huma.NewMapRegistry("#/$defs/", huma.DefaultSchemaNamer)
	return inlined(defs, huma.SchemaFromType(defs, reflect.TypeOf(k.Example)))
}

// inlined puts schemas in the place of references to them.
func inlined(defs huma.Registry, s *huma.Schema) *huma.Schema {
	if s == nil {
		return nil
	}
	if s.Ref != "" {
		return inlined(defs, defs.SchemaFromRef(s.Ref))
	}
	s.Items = inlined(defs, s.Items)
	for name, of := range s.Properties {
		s.Properties[name] = inlined(defs, of)
	}
	return s
}

// EventSchemas is one JSON Schema document with the schema of every kind, by its name, under $defs.
func EventSchemas() ([]byte, error) {
	defs := map[string]*huma.Schema{}
	for _, k := range event.Kinds {
		s := EventSchema(k)
		s.Title, s.Description = k.Name, k.Means
		defs[k.Name] = s
	}
	return json.MarshalIndent(map[string]any{
		"$schema": "https://json-schema.org/draft/2020-12/schema", "title": "What the events of Tavrin carry, by kind", "$defs": defs,
	}, "", "  ")
}

// EventReference describes every kind of event, with an example.
func EventReference() (string, error) {
	var b strings.Builder
	b.WriteString("# Events\n\nGenerated from the code by `make docs`. What happens is told by one line of the " +
		"journal each: who, when, in which repository, what. " +
		"The stream (`tavrin events`, `/api/v1/events`) and the journal (`tavrin journal`) carry the same lines; " +
		"`data` holds what is listed here. " +
		"The JSON Schema of every kind is in [events.schema.json](events.schema.json).\n\n" +
		"*Heard by*: whose notifications tell of it, but for who did it. *Leaves*: it may be sent out of the service.\n\n" +
		"| kind | what happened | heard by | leaves |\n| --- | --- | --- | --- |\n")
	hearers := [...]string{
		event.Nobody: "–", event.Part: "who has a part in the change", event.Followers: "who follows the repository", event.Both: "both",
	}
	for _, k := range event.Kinds {
		leaves := "no"
		if k.Leaves {
			leaves = "yes"
		}
		fmt.Fprintf(&b, "| [`%s`](#%s) | %s | %s | %s |\n", k.Name, strings.ReplaceAll(k.Name, ".", ""), k.Means,
			hearers[k.Hears], leaves)
	}
	for _, k := range event.Kinds {
		data, err := json.MarshalIndent(k.Example, "", "  ")
		if err != nil {
			return "", err
		}
		fmt.Fprintf(&b, "\n## `%s`\n\n%s Its subject is such as `%s`, and the line says: *%s*\n\n", k.Name, k.Means,
			k.Example.Subject(), k.Example.Text("ines"))
		s := EventSchema(k)
		fmt.Fprint(&b, "| field | type | |\n| --- | --- | --- |\n")
		for _, name := range fieldsInOrder(reflect.TypeOf(k.Example)) {
			p := s.Properties[name]
			kind := p.Type
			if p.Type == "array" && p.Items != nil {
				kind = "list of " + p.Items.Type
			}
			if p.Format == "date-time" {
				kind = "time"
			}
			fmt.Fprintf(&b, "| `%s` | %s | %s |\n", name, kind, p.Description)
		}
		fmt.Fprintf(&b, "\n```json\n%s\n```\n", data)
	}
	return b.String(), nil
}

// fieldsInOrder lists the names of a struct's fields as JSON has them, embedded ones in their place.
func fieldsInOrder(t reflect.Type) []string {
	var names []string
	for f := range t.Fields() {
		if f.Anonymous {
			names = append(names, fieldsInOrder(f.Type)...)
			continue
		}
		name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
		names = append(names, name)
	}
	return names
}
