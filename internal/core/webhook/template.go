package webhook

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/url"
	"reflect"
	"strconv"
	"strings"
	"sync"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"google.golang.org/protobuf/types/known/structpb"
)

// Limits of a template. The cost of an expression is CEL's own measure.
const (
	MaxTemplate    = 16 << 10 // bytes
	maxExpressions = 50
	maxExpression  = 500 // characters
	maxCost        = 100_000
	// MaxBody is the largest body that a template may make, in bytes.
	MaxBody = 256 << 10
)

// Template is a text in which ${EXPRESSION} stands for what the expression, in CEL, makes of an event. $${ is ${ itself.
//
// The expression knows the event as it is sent without a template (CloudEvents 1.0): id, source, type, subject, time and
// data.
type Template struct {
	text  string
	parts []templatePart
}

type templatePart struct {
	literal string
	source  string // of the expression
	program cel.Program
}

var names = []string{"id", "source", "type", "subject", "time", "data"}

var environment = sync.OnceValues(func() (*cel.Env, error) {
	var options []cel.EnvOption
	for _, name := range names {
		kind := cel.StringType
		if name == "data" {
			kind = cel.DynType
		}
		options = append(options, cel.Variable(name, kind))
	}
	return cel.NewEnv(append(options, cel.ParserRecursionLimit(40), cel.ParserExpressionSizeLimit(maxExpression))...)
})

// ParseTemplate reads a template.
func ParseTemplate(text string) (Template, error) {
	t := Template{text: text}
	if len(text) > MaxTemplate {
		return t, fmt.Errorf("a template has at most %d bytes", MaxTemplate)
	}
	rest, literal, expressions := text, "", 0
	for {
		before, after, found := strings.Cut(rest, "${")
		literal += before
		if !found {
			break
		}
		if strings.HasSuffix(before, "$") {
			literal, rest = literal[:len(literal)-1]+"${", after
			continue
		}
		length := expressionEnd(after)
		if length < 0 {
			return t, fmt.Errorf("${%.40s is not closed by }", after)
		}
		p, err := compile(after[:length])
		if err != nil {
			return t, err
		}
		if expressions++; expressions > maxExpressions {
			return t, fmt.Errorf("a template has at most %d expressions", maxExpressions)
		}
		t.parts = append(t.parts, templatePart{literal: literal}, templatePart{source: after[:length], program: p})
		literal, rest = "", after[length+1:]
	}
	t.parts = append(t.parts, templatePart{literal: literal})
	return t, nil
}

// expressionEnd returns where the brace stands that closes an expression: not in a string, not the end of a map.
func expressionEnd(text string) int {
	depth, quote := 0, byte(0)
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case quote != 0 && c == '\\':
			i++
		case quote != 0:
			if c == quote {
				quote = 0
			}
		case c == '"' || c == '\'':
			quote = c
		case c == '{':
			depth++
		case c == '}' && depth == 0:
			return i
		case c == '}':
			depth--
		}
	}
	return -1
}

func compile(source string) (cel.Program, error) {
	env, err := environment()
	if err != nil {
		return nil, err
	}
	ast, issues := env.Compile(source)
	if issues.Err() != nil {
		return nil, fmt.Errorf("the expression %s is not right: %s", source, firstLine(issues.Err()))
	}
	return env.Program(ast, cel.CostLimit(maxCost), cel.InterruptCheckFrequency(100))
}

func firstLine(err error) string {
	line, _, _ := strings.Cut(strings.TrimPrefix(err.Error(), "ERROR: <input>:"), "\n")
	return line
}

// Text fills the template in; each value is written by as.
func (t Template) Text(event map[string]any, as func(string) string) (string, error) {
	var b strings.Builder
	for _, p := range t.parts {
		b.WriteString(p.literal)
		if p.program == nil {
			continue
		}
		value, err := p.value(event)
		if err == nil {
			var text string
			text, err = plain(value)
			b.WriteString(as(text))
		}
		if err != nil {
			return "", err
		}
		if b.Len() > MaxBody {
			return "", fmt.Errorf("it would be longer than %d bytes", MaxBody)
		}
	}
	return b.String(), nil
}

func (p templatePart) value(event map[string]any) (ref.Val, error) {
	v, _, err := p.program.Eval(event)
	if err != nil {
		return nil, fmt.Errorf("${%s}: %w", p.source, err)
	}
	return v, nil
}

// plain writes a value as text: a string as it is, nothing for null, lists and maps as JSON.
func plain(v ref.Val) (string, error) {
	switch v := v.(type) {
	case types.String:
		return string(v), nil
	case types.Null:
		return "", nil
	case types.Int:
		return strconv.FormatInt(int64(v), 10), nil
	}
	data, err := inJSON(v)
	return string(data), err
}

func inJSON(v ref.Val) ([]byte, error) {
	if n, whole := v.(types.Int); whole {
		return strconv.AppendInt(nil, int64(n), 10), nil
	}
	native, err := v.ConvertToNative(reflect.TypeFor[*structpb.Value]())
	if err != nil {
		return nil, err
	}
	return json.Marshal(native.(*structpb.Value).AsInterface())
}

// Escaped fills the template in as an address: every value is one piece of it, whatever characters it has.
func (t Template) Escaped(event map[string]any) (string, error) {
	return t.Text(event, func(s string) string { return strings.ReplaceAll(url.QueryEscape(s), "+", "%20") })
}

// Condition says of an event whether it is sent.
type Condition struct{ program cel.Program }

// ParseCondition reads an expression of type bool over what templates know of an event. An empty one holds always.
func ParseCondition(text string) (Condition, error) {
	if strings.TrimSpace(text) == "" {
		return Condition{}, nil
	}
	env, err := environment()
	if err != nil {
		return Condition{}, err
	}
	ast, issues := env.Compile(text)
	if issues.Err() != nil {
		return Condition{}, fmt.Errorf("the expression %s is not right: %s", text, firstLine(issues.Err()))
	}
	if kind := ast.OutputType(); !kind.IsExactType(cel.BoolType) && !kind.IsExactType(cel.DynType) {
		return Condition{}, fmt.Errorf("the expression %s is not true or false", text)
	}
	p, err := env.Program(ast, cel.CostLimit(maxCost), cel.InterruptCheckFrequency(100))
	return Condition{p}, err
}

// Holds says whether an event is sent.
func (c Condition) Holds(event map[string]any) (bool, error) {
	if c.program == nil {
		return true, nil
	}
	v, _, err := c.program.Eval(event)
	if err != nil {
		return false, err
	}
	b, is := v.(types.Bool)
	if !is {
		return false, fmt.Errorf("it is neither true nor false")
	}
	return bool(b), nil
}

// Form is how a body is written.
type Form struct {
	ContentType string
	template    Template // of a text
	document    any      // of JSON: strings are Templates
	write       func(s string) string
}

// JSONType is the content type of a body in JSON.
const JSONType = "application/json"

// ParseBody reads the template of a body. Of JSON every text of the document is a template by itself: a text that is one
// expression and nothing else becomes its value, of whatever type, so that what comes out is always JSON. In a form
// (application/x-www-form-urlencoded) values are written as such a form writes them, in any other type as they are.
func ParseBody(text, contentType string) (Form, error) {
	f := Form{ContentType: contentType, write: func(s string) string { return s }}
	kind, _, _ := strings.Cut(contentType, ";")
	switch strings.TrimSpace(kind) {
	case JSONType:
		d := json.NewDecoder(strings.NewReader(text))
		d.UseNumber()
		var document any
		if err := d.Decode(&document); err != nil || len(text) > MaxTemplate || d.More() {
			return f, fmt.Errorf("the body is no JSON document of at most %d bytes; an expression stands in a string: \"${data.text}\"", MaxTemplate)
		}
		count := 0
		var err error
		f.document, err = templates(document, &count)
		return f, err
	case "application/x-www-form-urlencoded":
		f.write = url.QueryEscape
	}
	var err error
	f.template, err = ParseTemplate(text)
	return f, err
}

// templates puts templates in the place of the texts of a document.
func templates(v any, count *int) (any, error) {
	var err error
	switch v := v.(type) {
	case string:
		t, err := ParseTemplate(v)
		if *count += len(t.parts) / 2; *count > maxExpressions {
			return nil, fmt.Errorf("a template has at most %d expressions", maxExpressions)
		}
		return t, err
	case []any:
		for i := range v {
			if v[i], err = templates(v[i], count); err != nil {
				return nil, err
			}
		}
	case map[string]any:
		for k := range v {
			if v[k], err = templates(v[k], count); err != nil {
				return nil, err
			}
		}
	}
	return v, nil
}

// Body writes the body for an event.
func (f Form) Body(event map[string]any) ([]byte, error) {
	if f.document == nil {
		text, err := f.template.Text(event, f.write)
		return []byte(text), err
	}
	document, err := filled(f.document, event)
	if err != nil {
		return nil, err
	}
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	if err := e.Encode(document); err != nil {
		return nil, err
	}
	if b.Len() > MaxBody {
		return nil, fmt.Errorf("it would be longer than %d bytes", MaxBody)
	}
	return bytes.TrimSuffix(b.Bytes(), []byte("\n")), nil
}

func filled(v any, event map[string]any) (any, error) {
	switch v := v.(type) {
	case Template:
		if len(v.parts) == 3 && v.parts[0].literal == "" && v.parts[2].literal == "" {
			value, err := v.parts[1].value(event)
			if err != nil {
				return nil, err
			}
			data, err := inJSON(value)
			return json.RawMessage(data), err
		}
		return v.Text(event, func(s string) string { return s })
	case []any:
		out := make([]any, len(v))
		for i := range v {
			var err error
			if out[i], err = filled(v[i], event); err != nil {
				return nil, err
			}
		}
		return out, nil
	case map[string]any:
		out := map[string]any{}
		for k := range v {
			var err error
			if out[k], err = filled(v[k], event); err != nil {
				return nil, err
			}
		}
		return out, nil
	}
	return v, nil
}

// Variables reads an event, in JSON, as what expressions know of it.
func Variables(cloudEvent []byte) (map[string]any, error) {
	d := json.NewDecoder(bytes.NewReader(cloudEvent))
	d.UseNumber()
	var all map[string]any
	if err := d.Decode(&all); err != nil {
		return nil, err
	}
	out := map[string]any{}
	for _, name := range names {
		out[name] = whole(all[name])
		if name != "data" && out[name] == nil {
			out[name] = ""
		}
	}
	return out, nil
}

// whole makes whole numbers of JSON's numbers where they are.
func whole(v any) any {
	switch v := v.(type) {
	case json.Number:
		if n, err := v.Int64(); err == nil {
			return n
		}
		f, _ := v.Float64() // it was read as a number
		return f
	case []any:
		for i := range v {
			v[i] = whole(v[i])
		}
	case map[string]any:
		for k := range v {
			v[k] = whole(v[k])
		}
	}
	return v
}
