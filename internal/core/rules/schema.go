package rules

import (
	"encoding/json"
	"maps"
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
		"glob":     map[string]any{"type": "string", "minLength": 1, "maxLength": 512},
		"duration": map[string]any{"type": "string", "pattern": "^([0-9]+(\\.[0-9]+)?(h|m|s|ms))+$"},
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
	if kinds := map[string][]*require.Kind{requirementPath: kind.All(), areaRequirementPath: kind.OfAreas()}[path]; kinds != nil {
		var one []any
		for _, d := range kinds {
			one = append(one, map[string]any{"required": []string{d.Name}})
		}
		out["oneOf"] = one
	}
	return out
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
		out = reference("duration")
	case grammar.Word:
		out["enum"] = k.Allowed
	case grammar.Words:
		out = oneOrMore(map[string]any{"enum": k.Allowed})
	case grammar.Globs:
		out = oneOrMore(reference("glob"))
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
