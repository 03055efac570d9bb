package grammar

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/goccy/go-yaml/ast"

	"tavrin/internal/core/glob"
	"tavrin/internal/core/people"
)

// Scope is what a document may name beside what it says itself.
type Scope interface {
	// Branches compiles branch patterns, a kind's name standing for the kind's patterns; it returns those too.
	Branches(f Field, texts []string) (glob.List, []string)
	// Area and Label say whether there is one of that name.
	Area(name string) bool
	Label(name string) bool
}

// Reader walks the syntax tree and gathers findings as it goes.
type Reader struct {
	lines    []string
	findings []Finding
	more     int // findings that were not kept
	// Grammar is the keys that the document may have.
	Grammar *Grammar
	// OfHouse: it is a house's document, which may have more of them.
	OfHouse bool
	// Scope is what the document may name.
	Scope  Scope
	counts map[string]int // how many of what the document holds, as far as it was read
}

// NewReader makes a reader of a text.
func NewReader(text string, g *Grammar, ofHouse bool) *Reader {
	return &Reader{lines: strings.Split(text, "\n"), Grammar: g, OfHouse: ofHouse, counts: map[string]int{}}
}

// Found is how many things were found wrong so far.
func (r *Reader) Found() int { return len(r.findings) + r.more }

// Findings returns what was found wrong, in the order of lines; of too much the first, and how many more there are.
func (r *Reader) Findings() []Finding {
	slices.SortStableFunc(r.findings, func(a, b Finding) int { return cmp.Or(a.Line-b.Line, a.Column-b.Column) })
	if r.more > 0 {
		last := r.findings[len(r.findings)-1]
		last.Message, last.Right, last.Excerpt = fmt.Sprintf("and %d findings more, which are not told", r.more),
			"correct these first", ""
		return append(r.findings, last)
	}
	return r.findings
}

// Lines is how many lines the text has.
func (r *Reader) Lines() int { return len(r.lines) }

// Within counts more of something and says whether the document may hold as many. That it may not is found once.
func (r *Reader) Within(n ast.Node, what string, more, most int) bool {
	before := r.counts[what]
	r.counts[what] += more
	if before <= most && r.counts[what] > most {
		r.Bad(n, fmt.Sprintf("the document holds more than %d %s", most, what),
			"fewer; one pattern, team or protection may stand for many")
	}
	return r.counts[what] <= most
}

// Items returns the entries of a list, or what stands in its place; nothing when the document's lists are too long.
func (r *Reader) Items(f Field) []ast.Node {
	values := []ast.Node{f.Value}
	if seq, ok := f.Value.(*ast.SequenceNode); ok {
		values = seq.Values
	}
	if !r.Within(f.Value, "entries of lists", len(values), MaxItems) {
		return nil
	}
	return values
}

// Keys returns the fields of the mapping that stands at a path of the document.
func (r *Reader) Keys(n ast.Node, what, path string) []Field {
	return r.Mapping(n, what, r.Grammar.Under(path, r.OfHouse)...)
}

// At tells what is wrong at a place.
func (r *Reader) At(line, column int, message, right string) {
	if len(r.findings) >= MaxFindings { // who made so many has enough to read
		r.more++
		return
	}
	r.findings = append(r.findings, Finding{
		Line: line, Column: column, Message: message, Right: right, Excerpt: r.excerpt(line, column),
	})
}

// Bad tells what is wrong with a node.
func (r *Reader) Bad(n ast.Node, message, right string) {
	line, column := Place(n)
	r.At(line, column, message, right)
}

var syntaxPlace = regexp.MustCompile(`^\[(\d+):(\d+)\] ([^\n]+)`)

// Syntax tells that the text is not YAML.
func (r *Reader) Syntax(err error) {
	if m := syntaxPlace.FindStringSubmatch(err.Error()); m != nil {
		line, _ := strconv.Atoi(m[1]) // digits, by the expression
		column, _ := strconv.Atoi(m[2])
		r.At(line, column, "this is not YAML: "+m[3], "")
		return
	}
	first, _, _ := strings.Cut(err.Error(), "\n")
	r.At(1, 1, "this is not YAML: "+first, "")
}

// excerpt shows the line, the one before it, and a mark under the column.
func (r *Reader) excerpt(line, column int) string {
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

// Place is where a node stands.
func Place(n ast.Node) (line, column int) {
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

// Field is one key of a mapping with its value.
type Field struct {
	Key   ast.Node
	Name  string
	Value ast.Node
}

// Mapping returns a node's fields in order, reporting duplicate keys and, when allowed is given, unknown ones.
func (r *Reader) Mapping(n ast.Node, what string, allowed ...string) []Field {
	var values []*ast.MappingValueNode
	switch m := n.(type) {
	case *ast.MappingNode:
		values = m.Values
	case *ast.MappingValueNode:
		values = []*ast.MappingValueNode{m}
	default:
		r.Bad(n, fmt.Sprintf("%s is %s", what, KindOf(n)), "a mapping of keys to values")
		return nil
	}
	var fields []Field
	seen := map[string]int{}
	for _, v := range values {
		key, ok := v.Key.(*ast.StringNode)
		if !ok {
			right := "keys are plain words"
			if len(allowed) > 0 {
				right = "one of " + strings.Join(allowed, ", ")
			}
			r.Bad(v.Key, fmt.Sprintf("%s has a key that is %s", what, KindOf(v.Key)), right)
			continue
		}
		if line, twice := seen[key.Value]; twice {
			r.Bad(v.Key, fmt.Sprintf("%q stands twice in %s", key.Value, what),
				fmt.Sprintf("keep one; the first is on line %d", line))
			continue
		}
		seen[key.Value], _ = Place(v.Key)
		if len(allowed) > 0 && !slices.Contains(allowed, key.Value) {
			right := "one of " + strings.Join(allowed, ", ")
			if key.Value == "repositories" {
				right = "only house rules say for which repositories; " + right
			}
			r.Bad(v.Key, fmt.Sprintf("unknown key %q in %s", key.Value, what), right)
			continue
		}
		fields = append(fields, Field{v.Key, key.Value, v.Value})
	}
	return fields
}

// KindOf says what a node is.
func KindOf(n ast.Node) string {
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

// Text reads a scalar as text.
func (r *Reader) Text(f Field) string {
	switch v := f.Value.(type) {
	case *ast.StringNode:
		return v.Value
	case *ast.LiteralNode:
		return v.Value.Value
	}
	r.Bad(f.Value, fmt.Sprintf("%q is %s", f.Name, KindOf(f.Value)), "text is expected (in quotes if need be)")
	return ""
}

// Texts reads one text or a list of texts.
func (r *Reader) Texts(f Field) []string {
	_, several := f.Value.(*ast.SequenceNode)
	var texts []string
	if several {
		texts = []string{}
	}
	for _, v := range r.Items(f) {
		if s := r.Text(Field{f.Key, f.Name, v}); s != "" {
			texts = append(texts, s)
		}
	}
	return texts
}

// Number reads a whole number between two bounds.
func (r *Reader) Number(f Field, low, high int) int {
	if v, ok := f.Value.(*ast.IntegerNode); ok {
		if n, err := strconv.Atoi(strings.ReplaceAll(v.Token.Value, "_", "")); err == nil && n >= low && n <= high {
			return n
		}
		r.Bad(f.Value, fmt.Sprintf("%q is %s", f.Name, v.Token.Value),
			fmt.Sprintf("a whole number from %d to %d", low, high))
		return low
	}
	r.Bad(f.Value, fmt.Sprintf("%q is %s", f.Name, KindOf(f.Value)),
		fmt.Sprintf("a whole number from %d to %d", low, high))
	return low
}

// Duration reads a length of time between two bounds.
func (r *Reader) Duration(f Field, low, high time.Duration, example string) time.Duration {
	s := r.Text(f)
	d, err := time.ParseDuration(s)
	if s != "" && (err != nil || d < low || d > high) {
		r.Bad(f.Value, fmt.Sprintf("%s cannot be %q", f.Name, s),
			fmt.Sprintf("a duration from %s to %s, such as %s", Brief(low), Brief(high), example))
		return low
	}
	return d
}

// Brief writes a duration without parts that are zero: 10m, not 10m0s.
func Brief(d time.Duration) string {
	s := d.String()
	if strings.HasSuffix(s, "m0s") {
		s = strings.TrimSuffix(s, "0s")
	}
	if strings.HasSuffix(s, "h0m") {
		s = strings.TrimSuffix(s, "0m")
	}
	return s
}

// Expression reads a regular expression (RE2).
func (r *Reader) Expression(f Field) *regexp.Regexp {
	s := r.Text(f)
	if s == "" {
		return nil
	}
	if len(s) > 500 {
		r.Bad(f.Value, fmt.Sprintf("%q has %d characters", f.Name, len(s)), "a regular expression of at most 500")
		return nil
	}
	re, err := regexp.Compile(s)
	if err != nil {
		r.Bad(f.Value, fmt.Sprintf("%q is not a regular expression: %s", f.Name,
			strings.TrimPrefix(err.Error(), "error parsing regexp: ")),
			"a regular expression (RE2), which may match anywhere in the text; ^ and $ bind it to the ends")
	}
	return re
}

// Boolean reads true or false.
func (r *Reader) Boolean(f Field) bool {
	if v, ok := f.Value.(*ast.BoolNode); ok {
		return v.Value
	}
	r.Bad(f.Value, fmt.Sprintf("%q is %s", f.Name, KindOf(f.Value)), "true or false")
	return false
}

// OneOf reads a word out of a fixed set.
func OneOf[T ~string](r *Reader, f Field, allowed ...T) T {
	s := r.Text(f)
	for _, a := range allowed {
		if string(a) == s {
			return a
		}
	}
	if s != "" {
		r.Bad(f.Value, fmt.Sprintf("%q cannot be %q", f.Name, s), "one of "+Joined(allowed))
	}
	return allowed[0]
}

// SomeOf reads a list of words out of a fixed set.
func SomeOf[T ~string](r *Reader, f Field, allowed ...T) []T {
	out := []T{}
	for _, s := range r.Texts(f) {
		if i := slices.IndexFunc(allowed, func(a T) bool { return string(a) == s }); i < 0 {
			r.Bad(f.Value, fmt.Sprintf("%q cannot hold %q", f.Name, s), "some of "+Joined(allowed))
		} else if !slices.Contains(out, allowed[i]) {
			out = append(out, allowed[i])
		}
	}
	return out
}

// Joined lists words with commas.
func Joined[T ~string](words []T) string {
	texts := make([]string, len(words))
	for i, w := range words {
		texts[i] = string(w)
	}
	return strings.Join(texts, ", ")
}

// principalTexts reads one text or a list of texts; "team: hydraulics", which YAML takes for a mapping and which is
// easily typed, is meant as "team:hydraulics".
func (r *Reader) principalTexts(f Field) []string {
	texts := []string{}
	for _, v := range r.Items(f) {
		if m, ok := v.(*ast.MappingNode); ok && len(m.Values) == 1 {
			key, isText := m.Values[0].Key.(*ast.StringNode)
			value, isTextToo := m.Values[0].Value.(*ast.StringNode)
			if isText && isTextToo {
				texts = append(texts, key.Value+":"+value.Value)
				continue
			}
		}
		if s := r.Text(Field{f.Key, f.Name, v}); s != "" {
			texts = append(texts, s)
		}
	}
	return texts
}

// Principals reads who: "nobody", or one or several of team:NAME, person:LOGIN, robot:LOGIN, role:ROLE.
func (r *Reader) Principals(f Field, robots bool) []people.Principal {
	if s, ok := f.Value.(*ast.StringNode); ok && s.Value == "nobody" {
		return []people.Principal{}
	}
	right := "team:NAME, person:LOGIN or role:" + strings.Join(roleNames, "|")
	if robots {
		right += ", robot:LOGIN, or nobody"
	}
	out := []people.Principal{}
	for _, s := range r.principalTexts(f) {
		kind, name, found := strings.Cut(s, ":")
		p := people.Principal{Kind: people.Kind(kind), Name: name}
		ok := found && loginForm.MatchString(name)
		switch p.Kind {
		case people.ByLogin, people.ByTeam:
		case people.ByRobot:
			ok = ok && robots
		case people.ByRole:
			ok = slices.Contains(roleNames, name)
		default:
			ok = false
		}
		if !ok {
			r.Bad(f.Value, fmt.Sprintf("%q in %q names nobody", s, f.Name), right)
			continue
		}
		out = append(out, p)
	}
	return out
}

// multipliedOut is what globs are counted as.
const multipliedOut = "globs, with braces multiplied out"

// Compiled compiles globs, as long as all of the document do not stand for too many.
func (r *Reader) Compiled(f Field, texts []string, right string) glob.List {
	if r.counts[multipliedOut] > MaxItems {
		return glob.List{}
	}
	list, err := glob.CompileList(texts)
	if err != nil {
		r.Bad(f.Value, err.Error(), right)
	}
	r.Within(f.Value, multipliedOut, list.Rows(), MaxItems)
	return list
}

// Globs reads one glob or a list of them; it returns them as written too.
func (r *Reader) Globs(f Field) (glob.List, []string) {
	texts := r.Texts(f)
	if len(texts) == 0 {
		r.Bad(f.Value, fmt.Sprintf("%q names no pattern", f.Name), "one glob or a list of globs")
		return glob.List{}, nil
	}
	return r.Compiled(f, texts, glob.Syntax), texts
}

// Robot reads the login of a robot.
func (r *Reader) Robot(f Field) string {
	s := r.Text(f)
	login, found := strings.CutPrefix(s, "robot:")
	if s != "" && (!found || !loginForm.MatchString(login)) {
		r.Bad(f.Value, fmt.Sprintf("%q cannot be %q", f.Name, s), "robot:LOGIN")
	}
	return login
}

// Name reads a name of small letters.
func (r *Reader) Name(f Field, what string) string {
	s := r.Text(f)
	if s != "" && !NameForm.MatchString(s) {
		r.Bad(f.Value, fmt.Sprintf("%q is not a name for %s", s, what),
			"lower-case letters, digits, \".\", \"_\" and \"-\", at most 64")
	}
	return s
}

// Odd names a character that cannot be seen or that turns the direction of reading, or nothing.
func Odd(text string) string {
	for _, c := range text {
		if c == utf8.RuneError || !unicode.IsPrint(c) {
			return fmt.Sprintf("the character U+%04X", c)
		}
	}
	return ""
}

// CheckName tells a name that is none for a check.
func (r *Reader) CheckName(n ast.Node, name string) {
	if !CheckForm.MatchString(name) {
		r.Bad(n, fmt.Sprintf("%q is not a name for a check", name), "letters, digits, space and . _ / : -, at most 100")
	}
}

// Multiplied counts globs, with braces multiplied out, and says whether the document may hold as many.
func (r *Reader) Multiplied(f Field, rows int) bool {
	return r.Within(f.Value, multipliedOut, rows, MaxItems)
}
