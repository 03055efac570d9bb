package rules

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"

	"tavrin/internal/core/glob"
)

// reader walks the syntax tree and gathers findings as it goes.
type reader struct {
	lines    []string
	findings []Finding
	more     int // findings that were not kept
	under    Under
	used     map[string][]string // branch kinds, and words in their place, with what they stand for
	counts   map[string]int      // how many of what the document holds, as far as it was read
}

// within counts more of something and says whether the document may hold as many. That it may not is found once.
func (r *reader) within(n ast.Node, what string, more, most int) bool {
	before := r.counts[what]
	r.counts[what] += more
	if before <= most && r.counts[what] > most {
		r.bad(n, fmt.Sprintf("the document holds more than %d %s", most, what),
			"fewer; one pattern, team or protection may stand for many")
	}
	return r.counts[what] <= most
}

// items returns the entries of a list, or what stands in its place; nothing when the document's lists are too long.
func (r *reader) items(f field) []ast.Node {
	values := []ast.Node{f.value}
	if seq, ok := f.value.(*ast.SequenceNode); ok {
		values = seq.Values
	}
	if !r.within(f.value, "entries of lists", len(values), MaxItems) {
		return nil
	}
	return values
}

// keys returns the fields of the mapping that stands at a path of the document.
func (r *reader) keys(n ast.Node, what, path string) []field {
	return r.mapping(n, what, keysUnder(path, r.under.OfHouse)...)
}

func (r *reader) at(line, column int, message, right string) {
	if len(r.findings) >= MaxFindings { // who made so many has enough to read
		r.more++
		return
	}
	r.findings = append(r.findings, Finding{
		Line: line, Column: column, Message: message, Right: right, Excerpt: r.excerpt(line, column),
	})
}

func (r *reader) bad(n ast.Node, message, right string) {
	line, column := place(n)
	r.at(line, column, message, right)
}

var syntaxPlace = regexp.MustCompile(`^\[(\d+):(\d+)\] ([^\n]+)`)

func (r *reader) syntax(err error) {
	if m := syntaxPlace.FindStringSubmatch(err.Error()); m != nil {
		line, _ := strconv.Atoi(m[1]) // digits, by the expression
		column, _ := strconv.Atoi(m[2])
		r.at(line, column, "this is not YAML: "+m[3], "")
		return
	}
	first, _, _ := strings.Cut(err.Error(), "\n")
	r.at(1, 1, "this is not YAML: "+first, "")
}

// excerpt shows the line, the one before it, and a mark under the column.
func (r *reader) excerpt(line, column int) string {
	var b strings.Builder
	for n := max(1, line-1); n <= line && n <= len(r.lines); n++ {
		mark := " "
		if n == line {
			mark = ">"
		}
		text := r.lines[n-1]
		count := 0
		for i := range text { // a line may be as long as the document
			if count++; count > 160 {
				text = text[:i] + "…"
				break
			}
		}
		fmt.Fprintf(&b, "%s %4d | %s\n", mark, n, text)
	}
	fmt.Fprintf(&b, "       | %s^", strings.Repeat(" ", max(0, min(column, 160)-1)))
	return b.String()
}

func place(n ast.Node) (line, column int) {
	t := n.GetToken()
	if m, ok := n.(*ast.MappingNode); ok && len(m.Values) > 0 {
		t = m.Values[0].Key.GetToken()
	}
	if s, ok := n.(*ast.SequenceNode); ok && s.Start != nil {
		t = s.Start
	}
	if t == nil || t.Position == nil {
		return 1, 1
	}
	return t.Position.Line, t.Position.Column
}

// field is one key of a mapping with its value.
type field struct {
	key   ast.Node
	name  string
	value ast.Node
}

// mapping returns a node's fields in order, reporting duplicate keys and, when allowed is given, unknown ones.
func (r *reader) mapping(n ast.Node, what string, allowed ...string) []field {
	var values []*ast.MappingValueNode
	switch m := n.(type) {
	case *ast.MappingNode:
		values = m.Values
	case *ast.MappingValueNode:
		values = []*ast.MappingValueNode{m}
	default:
		r.bad(n, fmt.Sprintf("%s is %s", what, kindOf(n)), "a mapping of keys to values")
		return nil
	}
	var fields []field
	seen := map[string]int{}
	for _, v := range values {
		key, ok := v.Key.(*ast.StringNode)
		if !ok {
			right := "keys are plain words"
			if len(allowed) > 0 {
				right = "one of " + strings.Join(allowed, ", ")
			}
			r.bad(v.Key, fmt.Sprintf("%s has a key that is %s", what, kindOf(v.Key)), right)
			continue
		}
		if line, twice := seen[key.Value]; twice {
			r.bad(v.Key, fmt.Sprintf("%q stands twice in %s", key.Value, what),
				fmt.Sprintf("keep one; the first is on line %d", line))
			continue
		}
		seen[key.Value], _ = place(v.Key)
		if len(allowed) > 0 && !slices.Contains(allowed, key.Value) {
			right := "one of " + strings.Join(allowed, ", ")
			if key.Value == "repositories" {
				right = "only house rules say for which repositories; " + right
			}
			r.bad(v.Key, fmt.Sprintf("unknown key %q in %s", key.Value, what), right)
			continue
		}
		fields = append(fields, field{v.Key, key.Value, v.Value})
	}
	return fields
}

func kindOf(n ast.Node) string {
	switch v := n.(type) {
	case *ast.MappingNode, *ast.MappingValueNode:
		return "a mapping"
	case *ast.SequenceNode:
		return "a list"
	case *ast.StringNode, *ast.LiteralNode:
		return "text"
	case *ast.IntegerNode, *ast.FloatNode:
		return "a number"
	case *ast.BoolNode:
		return "true or false"
	case *ast.NullNode:
		return "empty"
	default:
		return fmt.Sprintf("a YAML %s", v.Type())
	}
}

// text reads a scalar as text.
func (r *reader) text(f field) string {
	switch v := f.value.(type) {
	case *ast.StringNode:
		return v.Value
	case *ast.LiteralNode:
		return v.Value.Value
	}
	r.bad(f.value, fmt.Sprintf("%q is %s", f.name, kindOf(f.value)), "text is expected (in quotes if need be)")
	return ""
}

// texts reads one text or a list of texts.
func (r *reader) texts(f field) []string {
	_, several := f.value.(*ast.SequenceNode)
	var texts []string
	if several {
		texts = []string{}
	}
	for _, v := range r.items(f) {
		if s := r.text(field{f.key, f.name, v}); s != "" {
			texts = append(texts, s)
		}
	}
	return texts
}

func (r *reader) number(f field, low, high int) int {
	if v, ok := f.value.(*ast.IntegerNode); ok {
		if n, err := strconv.Atoi(strings.ReplaceAll(v.Token.Value, "_", "")); err == nil && n >= low && n <= high {
			return n
		}
		r.bad(f.value, fmt.Sprintf("%q is %s", f.name, v.Token.Value),
			fmt.Sprintf("a whole number from %d to %d", low, high))
		return low
	}
	r.bad(f.value, fmt.Sprintf("%q is %s", f.name, kindOf(f.value)),
		fmt.Sprintf("a whole number from %d to %d", low, high))
	return low
}

// duration reads a length of time between two bounds.
func (r *reader) duration(f field, low, high time.Duration, example string) time.Duration {
	s := r.text(f)
	d, err := time.ParseDuration(s)
	if s != "" && (err != nil || d < low || d > high) {
		r.bad(f.value, fmt.Sprintf("%s cannot be %q", f.name, s),
			fmt.Sprintf("a duration from %s to %s, such as %s", brief(low), brief(high), example))
		return low
	}
	return d
}

// brief writes a duration without parts that are zero: 10m, not 10m0s.
func brief(d time.Duration) string {
	s := d.String()
	if strings.HasSuffix(s, "m0s") {
		s = strings.TrimSuffix(s, "0s")
	}
	if strings.HasSuffix(s, "h0m") {
		s = strings.TrimSuffix(s, "0m")
	}
	return s
}

// expression reads a regular expression (RE2).
func (r *reader) expression(f field) *regexp.Regexp {
	s := r.text(f)
	if s == "" {
		return nil
	}
	if len(s) > 500 {
		r.bad(f.value, fmt.Sprintf("%q has %d characters", f.name, len(s)), "a regular expression of at most 500")
		return nil
	}
	re, err := regexp.Compile(s)
	if err != nil {
		r.bad(f.value, fmt.Sprintf("%q is not a regular expression: %s", f.name,
			strings.TrimPrefix(err.Error(), "error parsing regexp: ")),
			"a regular expression (RE2), which may match anywhere in the text; ^ and $ bind it to the ends")
	}
	return re
}

// amount reads a bound such as "over 400", "under 10" or "over 10, under 100".
func (r *reader) amount(f field) Bound {
	b := Unbounded
	for part := range strings.SplitSeq(r.text(f), ",") {
		way, number, _ := strings.Cut(strings.TrimSpace(part), " ")
		n, err := strconv.Atoi(strings.TrimSpace(number))
		switch {
		case err == nil && n >= 0 && n < 1<<30 && way == "over" && b.Over < 0:
			b.Over = n
		case err == nil && n > 0 && n < 1<<30 && way == "under" && b.Under < 0:
			b.Under = n
		default:
			r.bad(f.value, fmt.Sprintf("%q cannot be %q", f.name, part),
				"\"over N\", \"under N\", or both with a comma")
			return Unbounded
		}
	}
	if b.Over >= 0 && b.Under >= 0 && b.Under <= b.Over+1 {
		r.bad(f.value, fmt.Sprintf("no number is %s", b), "the number after under is larger than the one after "+
			"over, by two at least")
	}
	return b
}

func (r *reader) boolean(f field) bool {
	if v, ok := f.value.(*ast.BoolNode); ok {
		return v.Value
	}
	r.bad(f.value, fmt.Sprintf("%q is %s", f.name, kindOf(f.value)), "true or false")
	return false
}

// oneOf reads a word out of a fixed set.
func oneOf[T ~string](r *reader, f field, allowed ...T) T {
	s := r.text(f)
	for _, a := range allowed {
		if string(a) == s {
			return a
		}
	}
	if s != "" {
		r.bad(f.value, fmt.Sprintf("%q cannot be %q", f.name, s), "one of "+joined(allowed))
	}
	return allowed[0]
}

// someOf reads a list of words out of a fixed set.
func someOf[T ~string](r *reader, f field, allowed ...T) []T {
	out := []T{}
	for _, s := range r.texts(f) {
		if i := slices.IndexFunc(allowed, func(a T) bool { return string(a) == s }); i < 0 {
			r.bad(f.value, fmt.Sprintf("%q cannot hold %q", f.name, s), "some of "+joined(allowed))
		} else if !slices.Contains(out, allowed[i]) {
			out = append(out, allowed[i])
		}
	}
	return out
}

func joined[T ~string](words []T) string {
	texts := make([]string, len(words))
	for i, w := range words {
		texts[i] = string(w)
	}
	return strings.Join(texts, ", ")
}

// principalTexts reads one text or a list of texts; "team: hydraulics", which YAML takes for a mapping and which is
// easily typed, is meant as "team:hydraulics".
func (r *reader) principalTexts(f field) []string {
	texts := []string{}
	for _, v := range r.items(f) {
		if m, ok := v.(*ast.MappingNode); ok && len(m.Values) == 1 {
			key, isText := m.Values[0].Key.(*ast.StringNode)
			value, isTextToo := m.Values[0].Value.(*ast.StringNode)
			if isText && isTextToo {
				texts = append(texts, key.Value+":"+value.Value)
				continue
			}
		}
		if s := r.text(field{f.key, f.name, v}); s != "" {
			texts = append(texts, s)
		}
	}
	return texts
}

// principals reads who: "nobody", or one or several of team:NAME, person:LOGIN, robot:LOGIN, role:ROLE.
func (r *reader) principals(f field, robots bool) []Principal {
	if s, ok := f.value.(*ast.StringNode); ok && s.Value == "nobody" {
		return []Principal{}
	}
	right := "team:NAME, person:LOGIN or role:" + strings.Join(roleNames, "|")
	if robots {
		right += ", robot:LOGIN, or nobody"
	}
	out := []Principal{}
	for _, s := range r.principalTexts(f) {
		kind, name, found := strings.Cut(s, ":")
		p := Principal{PrincipalKind(kind), name}
		ok := found && loginForm.MatchString(name)
		switch p.Kind {
		case Person, Team:
		case Robot:
			ok = ok && robots
		case ByRole:
			ok = slices.Contains(roleNames, name)
		default:
			ok = false
		}
		if !ok {
			r.bad(f.value, fmt.Sprintf("%q in %q names nobody", s, f.name), right)
			continue
		}
		out = append(out, p)
	}
	return out
}

// multipliedOut is what globs are counted as.
const multipliedOut = "globs, with braces multiplied out"

// compiled compiles globs, as long as all of the document do not stand for too many.
func (r *reader) compiled(f field, texts []string, right string) glob.List {
	if r.counts[multipliedOut] > MaxItems {
		return glob.List{}
	}
	list, err := glob.CompileList(texts)
	if err != nil {
		r.bad(f.value, err.Error(), right)
	}
	r.within(f.value, multipliedOut, list.Rows(), MaxItems)
	return list
}

func (r *reader) globs(f field) (glob.List, []string) {
	texts := r.texts(f)
	if len(texts) == 0 {
		r.bad(f.value, fmt.Sprintf("%q names no pattern", f.name), "one glob or a list of globs")
		return glob.List{}, nil
	}
	return r.compiled(f, texts, glob.Syntax), texts
}
