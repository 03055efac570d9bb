package rules

import (
	"encoding/json"
	"fmt"
	"maps"
	"strconv"
	"strings"

	"tavrin/internal/core/grammar"
	"tavrin/internal/core/kind"
	"tavrin/internal/core/require"
)

// Schema returns the JSON Schema (2020-12) of the rules document, for editors. It is made from Keys; what a schema
// cannot say (that a default is allowed, that a kind exists) only Parse finds.
func Schema(ofHouse bool) ([]byte, error) {
	what := "a repository's rules document"
	if ofHouse {
		what = "a house's rules document"
	}
	root := mappingSchema("", ofHouse)
	root["$schema"] = "https://json-schema.org/draft/2020-12/schema"
	root["title"] = "Tavrin: " + what + ", form " + Format
	root["required"] = []string{"tavrin"}
	root["$defs"] = map[string]any{
		"principal": map[string]any{"type": "string",
			"pattern": "^((person|team|robot):[a-z0-9][a-z0-9-]{0,38}|role:(reader|writer|maintainer))$"},
		"glob": map[string]any{"type": "string", "minLength": 1, "maxLength": 512},
	}
	return json.MarshalIndent(root, "", "  ")
}

// required lists the keys without which a mapping is refused.
var required = map[string][]string{
	"labels{}": {"set_by"}, "areas{}": {"paths", "owners"}, "loosening": {"agreed_by"}, "protect[]": {"name"},
}

// mappingSchema describes the mapping at a path.
func mappingSchema(path string, ofHouse bool) map[string]any {
	properties := map[string]any{}
	for _, name := range theGrammar.Under(path, ofHouse) {
		full := name
		if path != "" {
			full = path + "." + name
		}
		properties[name] = keySchema(theGrammar.At(full), ofHouse)
	}
	out := map[string]any{"type": "object", "additionalProperties": false, "properties": properties}
	if keys := required[path]; keys != nil {
		out["required"] = keys
	}
	if path == "protect[]" {
		out["oneOf"] = []any{map[string]any{"required": []string{"branches"}}, map[string]any{"required": []string{"tags"}}}
	}
	if path == "checks{}" {
		out["dependentRequired"] = map[string]any{"kind": []string{"environment"}, "environment": []string{"kind"}}
	}
	if beside := besideOf(path, ofHouse); len(beside) > 0 {
		out["dependentSchemas"] = beside
	}
	if kinds := map[string][]*require.Kind{requirementPath: kind.All(), areaRequirementPath: kind.OfAreas()}[path]; kinds != nil {
		var one []any
		for _, d := range kinds {
			one = append(one, map[string]any{"required": []string{d.Name}})
		}
		out["oneOf"] = one
	}
	return out
}

// besideOf says of the keys of a mapping beside which others each may stand.
func besideOf(path string, ofHouse bool) map[string]any {
	out := map[string]any{}
	for _, name := range theGrammar.Under(path, ofHouse) {
		k := theGrammar.At(path + "." + name)
		if path == "" || len(k.Beside) == 0 {
			continue
		}
		var one []any
		for _, other := range k.Beside {
			one = append(one, map[string]any{"required": []string{other}})
		}
		out[name] = map[string]any{"anyOf": one}
	}
	return out
}

// takesIn is a glob that does not only take out.
var takesIn = map[string]any{"type": "string", "pattern": "^[^!]"}

// durationUpTo is a pattern for durations none of whose parts by itself is longer than so many hours.
func durationUpTo(hours int) string {
	part := func(most int, unit string) string { return numberUpTo(most) + `(\.[0-9]+)?` + unit }
	return "^((" + part(hours, "h") + ")|(" + part(hours*60, "m") + ")|(" + part(hours*3600, "s") + ")|([0-9]+(\\.[0-9]+)?(ms|us|µs|ns)))+$"
}

// numberUpTo is a pattern for whole numbers up to one, with zeros before them or not.
func numberUpTo(most int) string {
	digits := strconv.Itoa(most)
	var ways []string
	for i, d := range digits { // smaller by the digit at i, and of the same digits before
		if d > '0' {
			ways = append(ways, fmt.Sprintf("%s[0-%c][0-9]{%d}", digits[:i], d-1, len(digits)-1-i))
		}
	}
	ways = append(ways, digits, fmt.Sprintf("[0-9]{1,%d}", max(1, len(digits)-1)))
	return "0*(" + strings.Join(ways, "|") + ")"
}

func keySchema(k grammar.Key, ofHouse bool) map[string]any {
	out := map[string]any{}
	reference := func(name string) map[string]any { return map[string]any{"$ref": "#/$defs/" + name} }
	text := map[string]any{"type": "string"}
	switch k.Shape {
	case grammar.Text, grammar.Expression, grammar.Amount:
		out["type"] = "string"
		if k.Pattern != "" {
			out["pattern"] = k.Pattern
		}
		if k.Shape == grammar.Amount {
			out["pattern"] = "^(over|under) +[0-9]+( *, *(over|under) +[0-9]+)?$"
		}
	case grammar.Lines:
		out = oneOrMore(text)
	case grammar.Number:
		out["type"], out["minimum"], out["maximum"] = "integer", k.Low, k.High
	case grammar.Truth:
		out["type"] = "boolean"
	case grammar.Duration:
		out["type"], out["pattern"], out["not"] = "string", durationUpTo(k.High), map[string]any{"pattern": "^[^1-9]*$"}
	case grammar.Word:
		out["enum"] = k.Allowed
	case grammar.Words:
		out = oneOrMore(map[string]any{"enum": k.Allowed})
	case grammar.Globs: // one of them at least takes something in
		out = map[string]any{"anyOf": []any{map[string]any{"allOf": []any{reference("glob"), takesIn}},
			map[string]any{"type": "array", "items": reference("glob"), "contains": takesIn}}}
	case grammar.Who:
		out = oneOrMore(reference("principal"))
	case grammar.WhoOrNone:
		out = map[string]any{"anyOf": []any{map[string]any{"const": "nobody"}, reference("principal"),
			map[string]any{"type": "array", "items": reference("principal")}}}
	case grammar.RobotName:
		out["type"], out["pattern"] = "string", "^robot:[a-z0-9][a-z0-9-]{0,38}$"
	case grammar.Mapping:
		out = mappingSchema(k.Path, ofHouse)
	case grammar.Named:
		out["type"] = "object"
		if theGrammar.Under(k.Path+"{}", ofHouse) == nil {
			out["additionalProperties"] = keySchema(theGrammar.At(k.Path+"{}"), ofHouse)
		} else {
			out["additionalProperties"] = mappingSchema(k.Path+"{}", ofHouse)
		}
	case grammar.List:
		out["type"], out["items"] = "array", mappingSchema(k.Path+"[]", ofHouse)
	}
	out = maps.Clone(out)
	out["description"] = strings.TrimSpace(k.Means + ". Absent: " + k.Absent + ".")
	return out
}

func oneOrMore(item map[string]any) map[string]any {
	return map[string]any{"anyOf": []any{item, map[string]any{"type": "array", "items": item}}}
}
