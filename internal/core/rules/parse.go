package rules

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"tavrin/internal/core/glob"
)

// Finding is one thing wrong with a document, and where.
type Finding struct {
	Line    int    `json:"line" doc:"counted from 1"`
	Column  int    `json:"column" doc:"counted from 1"`
	Message string `json:"message" doc:"what is wrong"`
	Right   string `json:"right,omitempty" doc:"what would be right"`
	Excerpt string `json:"excerpt,omitempty" doc:"the lines around it, the place marked"`
}

// String gives the finding in one paragraph without the file's name: "12:5: message; right".
func (f Finding) String() string {
	s := fmt.Sprintf("%d:%d: %s", f.Line, f.Column, f.Message)
	if f.Right != "" {
		s += "; " + f.Right
	}
	return s
}

const (
	maxDepth    = 12
	maxFindings = 50
)

var (
	nameForm  = regexp.MustCompile(`^[a-z0-9][a-z0-9._-]{0,63}$`)
	checkForm = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9 ._/:-]{0,99}$`)
	loginForm = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,38}$`)
	roleNames = []string{"reader", "writer", "maintainer"}
)

// Parse reads a rules document. It returns the document, or everything that is wrong with it: all findings at
// once, in the order of lines, and then no document.
func Parse(text string) (*Document, []Finding) {
	r := &reader{lines: strings.Split(text, "\n")}
	switch {
	case len(text) > MaxBytes:
		r.at(1, 1, fmt.Sprintf("the document has %d bytes", len(text)), fmt.Sprintf("at most %d bytes", MaxBytes))
		return nil, r.findings
	case !utf8.ValidString(text):
		r.at(1, 1, "the document is not valid UTF-8", "save it as UTF-8")
		return nil, r.findings
	case strings.ContainsRune(text, 0):
		r.at(1, 1, "the document holds a NUL character", "plain text only")
		return nil, r.findings
	case tooDeep(text):
		r.at(1, 1, "the document is nested too deeply", fmt.Sprintf("at most %d levels", maxDepth))
		return nil, r.findings
	}
	file, err := parser.ParseBytes([]byte(text), 0, parser.AllowDuplicateMapKey())
	if err != nil {
		r.syntax(err)
		return nil, r.findings
	}
	if len(file.Docs) != 1 || file.Docs[0].Body == nil {
		r.at(1, 1, "the document is empty or holds several documents", "one YAML mapping that begins with \"tavrin: "+Format+"\"")
		return nil, r.findings
	}
	d := r.document(file.Docs[0].Body)
	if len(r.findings) > 0 {
		slices.SortStableFunc(r.findings, func(a, b Finding) int {
			if a.Line != b.Line {
				return a.Line - b.Line
			}
			return a.Column - b.Column
		})
		return nil, r.findings[:min(len(r.findings), maxFindings)]
	}
	return d, nil
}

// tooDeep guards the YAML parser, which recurses, against hostile nesting in either style.
func tooDeep(text string) bool {
	flow, deepest := 0, 0
	for _, c := range text {
		switch c {
		case '[', '{':
			flow++
			deepest = max(deepest, flow)
		case ']', '}':
			flow = max(0, flow-1)
		case '\n':
			flow = 0
		}
	}
	if deepest > 64 {
		return true
	}
	for line := range strings.SplitSeq(text, "\n") {
		if len(line)-len(strings.TrimLeft(line, " -?")) > 200 {
			return true
		}
	}
	return false
}

// reader walks the syntax tree and gathers findings as it goes.
type reader struct {
	lines    []string
	findings []Finding
}

func (r *reader) at(line, column int, message, right string) {
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
		line, _ := strconv.Atoi(m[1])
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
		text := []rune(r.lines[n-1])
		if len(text) > 160 {
			text = append(text[:160], '…')
		}
		fmt.Fprintf(&b, "%s %4d | %s\n", mark, n, string(text))
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
			r.bad(v.Key, fmt.Sprintf("%q stands twice in %s", key.Value, what), fmt.Sprintf("keep one; the first is on line %d", line))
			continue
		}
		seen[key.Value], _ = place(v.Key)
		if len(allowed) > 0 && !slices.Contains(allowed, key.Value) {
			r.bad(v.Key, fmt.Sprintf("unknown key %q in %s", key.Value, what), "one of "+strings.Join(allowed, ", "))
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
	case *ast.AnchorNode:
		return "an anchor, which rules documents do not use"
	case *ast.AliasNode:
		return "an alias, which rules documents do not use"
	case *ast.TagNode:
		return "a tag, which rules documents do not use"
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
	seq, ok := f.value.(*ast.SequenceNode)
	if !ok {
		if s := r.text(f); s != "" {
			return []string{s}
		}
		return nil
	}
	texts := []string{}
	for _, v := range seq.Values {
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
		r.bad(f.value, fmt.Sprintf("%q is %s", f.name, v.Token.Value), fmt.Sprintf("a whole number from %d to %d", low, high))
		return low
	}
	r.bad(f.value, fmt.Sprintf("%q is %s", f.name, kindOf(f.value)), fmt.Sprintf("a whole number from %d to %d", low, high))
	return low
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
	values := []ast.Node{f.value}
	if seq, ok := f.value.(*ast.SequenceNode); ok {
		values = seq.Values
	}
	texts := []string{}
	for _, v := range values {
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

func (r *reader) globs(f field) (glob.List, []string) {
	texts := r.texts(f)
	if len(texts) == 0 {
		r.bad(f.value, fmt.Sprintf("%q names no pattern", f.name), "one glob or a list of globs")
		return glob.List{}, nil
	}
	list, err := glob.CompileList(texts)
	if err != nil {
		r.bad(f.value, err.Error(), "a glob: * within a name, ** across /, ? one character, [a-z], {a,b}, leading ! to exclude")
	}
	return list, texts
}

func (r *reader) document(body ast.Node) *Document {
	d := &Document{}
	fields := r.mapping(body, "the document", "tavrin", "branches", "areas", "checks", "protect")
	formatSeen := false
	for _, f := range fields {
		switch f.name {
		case "tavrin":
			formatSeen = true
			if s := r.text(f); s != "" && s != Format {
				r.bad(f.value, fmt.Sprintf("this service does not read documents of the form %q", s), "tavrin: "+Format)
			}
		case "branches":
			r.kinds(d, f)
		case "areas":
			for _, a := range r.mapping(f.value, `"areas"`) {
				d.Areas = append(d.Areas, r.area(a))
			}
		case "checks":
			for _, c := range r.mapping(f.value, `"checks"`) {
				d.Checks = append(d.Checks, r.check(c))
			}
		}
	}
	if !formatSeen && len(r.findings) == 0 {
		r.bad(body, "the document does not say its form", "begin with \"tavrin: "+Format+"\"")
	}
	for _, f := range fields { // after the kinds, which its patterns may name
		if f.name == "protect" {
			r.protections(d, f)
		}
	}
	return d
}

func (r *reader) named(f field, what string) {
	if !nameForm.MatchString(f.name) {
		r.bad(f.key, fmt.Sprintf("%q is not a name for %s", f.name, what), "lower-case letters, digits, \".\", \"_\" and \"-\", at most 64")
	}
}

func (r *reader) kinds(d *Document, f field) {
	for _, k := range r.mapping(f.value, `"branches"`) {
		r.named(k, "a branch kind")
		_, texts := r.globs(k)
		line, _ := place(k.key)
		d.Kinds = append(d.Kinds, Kind{Name: k.name, Patterns: texts, Line: line})
	}
}

func (r *reader) area(f field) Area {
	a := Area{Name: f.name}
	a.Line, _ = place(f.key)
	r.named(f, "an area")
	for _, g := range r.mapping(f.value, fmt.Sprintf("area %q", f.name), "paths", "owners", "asks", "checks") {
		switch g.name {
		case "paths":
			a.Paths, a.Text = r.globs(g)
		case "owners":
			a.Owners = r.principals(g, false)
		case "checks":
			a.Checks = r.checkNames(g)
		case "asks":
			for _, h := range r.mapping(g.value, `"asks"`, "approvals") {
				a.Approvals = r.number(h, 0, 20)
			}
		}
	}
	if a.Text == nil {
		r.bad(f.key, fmt.Sprintf("area %q has no paths", f.name), "paths: one glob or a list of globs")
	}
	if len(a.Owners) == 0 {
		r.bad(f.key, fmt.Sprintf("area %q has no owners", f.name), "owners: team:NAME or person:LOGIN, one or a list")
	}
	return a
}

func (r *reader) check(f field) Check {
	c := Check{Name: f.name, Limit: DefaultLimit}
	c.Line, _ = place(f.key)
	r.checkName(f.key, f.name)
	for _, g := range r.mapping(f.value, fmt.Sprintf("check %q", f.name), "command", "limit", "witness") {
		switch g.name {
		case "command":
			c.Command = strings.TrimSpace(r.text(g))
		case "limit":
			s := r.text(g)
			limit, err := time.ParseDuration(s)
			if s != "" && (err != nil || limit < time.Second || limit > 24*time.Hour) {
				r.bad(g.value, fmt.Sprintf("limit cannot be %q", s), "a duration from 1s to 24h, such as 90s, 10m or 1h30m")
			}
			c.Limit = limit
		case "witness":
			s := r.text(g)
			login, found := strings.CutPrefix(s, "robot:")
			if s != "" && (!found || !loginForm.MatchString(login)) {
				r.bad(g.value, fmt.Sprintf("witness cannot be %q", s), "robot:LOGIN")
			}
			c.Witness = login
		}
	}
	if c.Command != "" && c.Witness != "" {
		r.bad(f.key, fmt.Sprintf("check %q has both a command and a witness", f.name), "a command is run by a runner, a witness reports from outside: keep one")
	}
	return c
}

func (r *reader) checkName(n ast.Node, name string) {
	if !checkForm.MatchString(name) {
		r.bad(n, fmt.Sprintf("%q is not a name for a check", name), "letters, digits, space and . _ / : -, at most 100")
	}
}

func (r *reader) checkNames(f field) []string {
	names := r.texts(f)
	for _, n := range names {
		r.checkName(f.value, n)
	}
	return names
}

func (r *reader) protections(d *Document, f field) {
	seq, ok := f.value.(*ast.SequenceNode)
	if !ok {
		r.bad(f.value, fmt.Sprintf(`"protect" is %s`, kindOf(f.value)), "a list of protections, each beginning with \"- name: …\"")
		return
	}
	names := map[string]int{}
	for _, n := range seq.Values {
		p := r.protection(d, n)
		if line, twice := names[p.Name]; twice && p.Name != "" {
			r.bad(n, fmt.Sprintf("two protections are called %q", p.Name), fmt.Sprintf("give each a name of its own; the first is on line %d", line))
		}
		names[p.Name] = p.Line
		d.Protections = append(d.Protections, p)
	}
}

func (r *reader) protection(d *Document, n ast.Node) Protection {
	p := Protection{Rewrite: Never, Delete: Never, Stay: StayIfUnchanged, lines: map[string]int{}}
	p.Line, _ = place(n)
	for _, f := range r.mapping(n, "a protection", "name", "branches", "push", "rewrite", "delete", "require", "after_push", "land") {
		p.lines[f.name], _ = place(f.key)
		switch f.name {
		case "name":
			p.Name = strings.TrimSpace(r.text(f))
		case "branches":
			p.Text = r.texts(f)
			p.Branches = r.branches(d, f, p.Text)
		case "push":
			p.Push = r.principals(f, true)
		case "rewrite":
			p.Rewrite = oneOf(r, f, Never, Allowed)
		case "delete":
			p.Delete = oneOf(r, f, Never, Allowed)
		case "require":
			p.Require = r.requirements(f)
		case "after_push":
			for _, g := range r.mapping(f.value, `"after_push"`, "approvals_stay") {
				p.Stay = oneOf(r, g, StayIfUnchanged, StayNever, StayAlways)
			}
		case "land":
			r.land(&p, f)
		}
	}
	if p.Name == "" || len(p.Name) > 80 || strings.ContainsAny(p.Name, "\n\"") {
		r.bad(n, "a protection needs a name", "name: a few words, at most 80 characters, without quotes")
	}
	if p.Text == nil {
		r.bad(n, "a protection needs branches", "branches: kinds from \"branches\" or globs")
	}
	return p
}

// branches compiles the patterns of a protection, a kind's name standing for the kind's patterns.
func (r *reader) branches(d *Document, f field, texts []string) glob.List {
	var patterns []string
	for _, t := range texts {
		i := slices.IndexFunc(d.Kinds, func(k Kind) bool { return k.Name == t })
		if i < 0 {
			patterns = append(patterns, t)
			continue
		}
		patterns = append(patterns, d.Kinds[i].Patterns...)
	}
	list, err := glob.CompileList(patterns)
	if err != nil && len(texts) > 0 {
		r.bad(f.value, err.Error(), "a branch kind or a glob: * within a name, ** across /, ? one character, [a-z], {a,b}")
	}
	return list
}

func (r *reader) land(p *Protection, f field) {
	for _, g := range r.mapping(f.value, `"land"`, "by", "with", "strategy", "message", "remove_source") {
		p.lines["land."+g.name], _ = place(g.key)
		switch g.name {
		case "by":
			p.LandBy = r.principals(g, false)
		case "with":
			if p.With = someOf(r, g, Strategies...); len(p.With) == 0 {
				r.bad(g.value, "\"with\" allows no strategy, so nothing could ever land", "some of "+joined(Strategies))
			}
		case "strategy":
			p.Default = oneOf(r, g, Strategies...)
		case "message":
			p.Message = r.text(g)
		case "remove_source":
			b := r.boolean(g)
			p.RemoveSource = &b
		}
	}
	if p.Default != "" && len(p.With) > 0 && !slices.Contains(p.With, p.Default) {
		r.bad(f.value, fmt.Sprintf("the default strategy %q is not one of those allowed by \"with\"", p.Default), "one of "+joined(p.With))
	}
}

var requirementKeys = map[Demand][]string{
	Approvals:  {"approvals", "from", "not_from", "called", "level"},
	Owners:     {"owners", "level"},
	Objections: {"objections", "level"},
	Checks:     {"checks", "at", "level"},
}

func (r *reader) requirements(f field) []Requirement {
	seq, ok := f.value.(*ast.SequenceNode)
	if !ok {
		r.bad(f.value, fmt.Sprintf(`"require" is %s`, kindOf(f.value)), "a list, such as \"- approvals: 1\"")
		return nil
	}
	var out []Requirement
	for _, n := range seq.Values {
		if q, ok := r.requirement(n); ok {
			out = append(out, q)
		}
	}
	return out
}

func (r *reader) requirement(n ast.Node) (Requirement, bool) {
	q := Requirement{Level: Required, At: ""}
	q.Line, _ = place(n)
	fields := r.mapping(n, "a requirement", "approvals", "owners", "objections", "checks", "from", "not_from", "called", "at", "level")
	for _, f := range fields {
		if _, isDemand := requirementKeys[Demand(f.name)]; isDemand {
			if q.Demand != "" {
				r.bad(f.key, fmt.Sprintf("a requirement asks one thing, this one asks for %s and %s", q.Demand, f.name), "begin a new list item with \"- "+f.name+": …\"")
				return q, false
			}
			q.Demand = Demand(f.name)
		}
	}
	if q.Demand == "" {
		r.bad(n, "a requirement says what it asks for", "one of approvals, owners, objections, checks")
		return q, false
	}
	if q.Demand == Approvals {
		q.NotFrom = []Exclusion{NotAuthor}
	}
	if q.Demand == Checks {
		q.At = AtRehearsal
	}
	for _, f := range fields {
		if allowed := requirementKeys[q.Demand]; !slices.Contains(allowed, f.name) {
			r.bad(f.key, fmt.Sprintf("%q means nothing beside %q", f.name, q.Demand), "one of "+strings.Join(allowed, ", "))
			continue
		}
		switch f.name {
		case "approvals":
			q.Count = r.number(f, 1, 20)
		case "owners":
			oneOf(r, f, "every touched area")
		case "objections":
			oneOf(r, f, "none")
		case "checks":
			if q.Checks = r.checkNames(f); len(q.Checks) == 0 {
				r.bad(f.value, "\"checks\" names none", "one name or a list of names")
			}
		case "from":
			q.From = r.principals(f, false)
		case "not_from":
			q.NotFrom = someOf(r, f, NotAuthor, NotLastPusher)
		case "called":
			q.Called = r.text(f)
		case "at":
			q.At = oneOf(r, f, AtRehearsal, AtHead)
		case "level":
			q.Level = oneOf(r, f, Required, Advisory)
		}
	}
	return q, true
}
