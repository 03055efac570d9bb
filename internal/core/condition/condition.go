// Package condition reads conditions and says whether they hold: what narrows a requirement to some changes.
//
// A condition knows facts about a change against its target, never what the change itself brings in as configuration.
package condition

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"

	"tavrin/internal/core/glob"
	"tavrin/internal/core/grammar"
	"tavrin/internal/core/people"
)

// Condition narrows the requirement it stands on, and nothing else: everything that it states has to be so.
//
// What "when" states holds as soon as some part of the change is so, and the requirement is asked for. What "unless"
// states holds only where every part is so, and the requirement is not asked for: else one harmless line would excuse a
// dangerous one. What only the commits add, remove or rename, where they are kept, counts for "when" and excuses nothing.
type Condition struct {
	Every      bool      // it stands behind "unless"
	Paths      glob.List // some changed path is in it, or every one
	PathsText  []string
	Ways       []Way    // so are paths that are changed in some way
	Areas      []string // one of them is touched, or every path lies in one of them
	Lines      Bound    // added and removed together
	Files      Bound
	Source     glob.List // the source branch is in it
	SourceText []string
	stands     []string           // the globs that SourceText stands for
	Author     []people.Principal // somebody who counts as author is one of them, or everybody who does
	Labels     []string           // the change has one of them
	Undoes     bool               // the change takes back what another landed, and does nothing else
	Expression string             // in CEL (https://cel.dev), of type bool
	program    cel.Program
	Line       int
	// OfHouse: it stands in a house's document, and knows of the house's areas and labels alone, so that a repository's
	// do not change what it means.
	OfHouse bool
}

// Bound is a count to be over or under; a part that is below 0 says nothing.
type Bound struct{ Over, Under int }

// Unbounded says nothing of a count.
var Unbounded = Bound{-1, -1}

// Holds says whether the count is over the one and under the other.
func (b Bound) Holds(n int) bool { return (b.Over < 0 || n > b.Over) && (b.Under < 0 || n < b.Under) }

// String gives the bound as a document writes it: "over 400", "under 10", or both with a comma.
func (b Bound) String() string {
	var said []string
	if b.Over >= 0 {
		said = append(said, fmt.Sprintf("over %d", b.Over))
	}
	if b.Under >= 0 {
		said = append(said, fmt.Sprintf("under %d", b.Under))
	}
	return strings.Join(said, ", ")
}

// Way is globs for files that are changed in one way.
type Way struct {
	How   How
	Globs glob.List
	Text  []string
}

// How says in what way a file is changed.
type How string

// The ways that conditions know besides a change of any kind. A renamed file is neither added nor removed; both its ends
// are renamed.
const (
	Added   How = "added"
	Removed How = "removed"
	Renamed How = "renamed"
)

// Ways lists them.
var Ways = []How{Added, Removed, Renamed}

// Brought is what conditions know of a change: facts about it against its target, never what the change itself
// brings in as configuration (P5).
type Brought struct {
	Title, Source, Target string
	Paths                 []string
	Ways                  map[How][]string // paths that the difference changes in a way
	OnTheWay              map[How][]string // paths that its commits do, where they are kept
	Areas                 []Touched
	Added, Removed        int // lines
	Files                 int
	Authors               []string   // logins
	AuthorIs              [][]string // what each of them is, as principals: person:wren, team:field
	Labels                []string
	HouseLabels           []string // those of them that the house defines
	Undoes                bool     // it takes back what another landed, and does nothing else
}

// Touched is an area that is touched, and the paths that lie in it.
type Touched struct {
	Name    string
	OfHouse bool
	Paths   []string
}

// known leaves of what is brought what a condition of a house's document knows of.
func (b Brought) known(ofHouse bool) Brought {
	if ofHouse {
		b.Labels = b.HouseLabels
		b.Areas = slices.DeleteFunc(slices.Clone(b.Areas), func(t Touched) bool { return !t.OfHouse })
	}
	return b
}

// Holds says whether the condition holds. An expression that cannot be worked out for these facts, or costs too much,
// is told as trouble: the requirement is then asked for. None holds.
func (c *Condition) Holds(b Brought) (holds bool, trouble string) {
	if c == nil {
		return true, ""
	}
	b = b.known(c.OfHouse)
	switch {
	case c.PathsText != nil && !c.some(b.Paths, c.Paths.Match),
		len(c.Areas) > 0 && !c.inAreas(b),
		!c.Lines.Holds(b.Added + b.Removed),
		!c.Files.Holds(b.Files),
		c.SourceText != nil && !c.Source.Match(b.Source),
		len(c.Author) > 0 && !c.writtenBy(b),
		len(c.Labels) > 0 && !overlap(c.Labels, b.Labels),
		c.Undoes && !b.Undoes:
		return false, ""
	}
	for _, w := range c.Ways {
		if !c.changed(b, w) {
			return false, ""
		}
	}
	if c.program == nil {
		return true, ""
	}
	value, _, err := c.program.Eval(b.variables(c.Every))
	if err != nil {
		return true, fmt.Sprintf("its expression could not be worked out (%v), so it is asked for", err)
	}
	return value == types.True, ""
}

// some says whether some path is of the kind; behind "unless", whether there are paths and every one is.
func (c *Condition) some(paths []string, is func(string) bool) bool {
	if !c.Every {
		return slices.ContainsFunc(paths, is)
	}
	return len(paths) > 0 && !slices.ContainsFunc(paths, func(p string) bool { return !is(p) })
}

// changed says it of paths that are changed in a way.
func (c *Condition) changed(b Brought, w Way) bool {
	if !c.Every {
		return slices.ContainsFunc(b.Ways[w.How], w.Globs.Match) || slices.ContainsFunc(b.OnTheWay[w.How], w.Globs.Match)
	}
	so := map[string]bool{}
	for _, p := range b.Ways[w.How] {
		so[p] = true
	}
	return c.some(b.Paths, func(p string) bool { return so[p] && w.Globs.Match(p) })
}

// inAreas says whether one of the areas is touched; behind "unless", whether nothing else is.
func (c *Condition) inAreas(b Brought) bool {
	in := map[string]bool{}
	touched := false
	for _, t := range b.Areas {
		if slices.Contains(c.Areas, t.Name) {
			touched = true
			for _, p := range t.Paths {
				in[p] = true
			}
		}
	}
	return touched && (!c.Every || c.some(b.Paths, func(p string) bool { return in[p] }))
}

// writtenBy says whether an author is one of those named; behind "unless", whether every author is.
func (c *Condition) writtenBy(b Brought) bool {
	meant := func(is []string) bool {
		return slices.ContainsFunc(c.Author, func(p people.Principal) bool { return slices.Contains(is, p.String()) })
	}
	if !c.Every {
		return slices.ContainsFunc(b.AuthorIs, meant)
	}
	return len(b.AuthorIs) > 0 && !slices.ContainsFunc(b.AuthorIs, func(is []string) bool { return !meant(is) })
}

func overlap(a, b []string) bool {
	return slices.ContainsFunc(a, func(s string) bool { return slices.Contains(b, s) })
}

// Words say what has to be so, to follow "when" or "unless": "the lines changed are over 400 and valves is touched".
func (c *Condition) Words() string {
	var said []string
	say := func(is bool, some, every string, args ...any) {
		if c.Every && every != "" {
			some = every
		}
		if is {
			said = append(said, fmt.Sprintf(some, args...))
		}
	}
	say(c.PathsText != nil, "a path in %s changes", "everything that changes is in %s", grammar.GlobWords(c.PathsText))
	for _, w := range c.Ways {
		say(true, "a file in %s is "+string(w.How), "all that changes are files in %s that are "+string(w.How), grammar.GlobWords(w.Text))
	}
	say(len(c.Areas) > 0, "%s is touched", "nothing but %s is touched", grammar.Either(c.Areas))
	say(c.Lines != Unbounded, "the lines changed are %s", "", strings.ReplaceAll(c.Lines.String(), ",", " and"))
	say(c.Files != Unbounded, "the files changed are %s", "", strings.ReplaceAll(c.Files.String(), ",", " and"))
	say(c.SourceText != nil, "the source branch is %s", "", grammar.GlobWords(c.SourceText))
	say(len(c.Author) > 0, "an author is %s", "every author is %s", grammar.Either(grammar.Texts(c.Author)))
	say(len(c.Labels) > 0, "it is labelled %s", "", grammar.Either(c.Labels))
	say(c.Undoes, "it takes back a landing and does nothing else", "")
	say(c.Expression != "", "the expression %s holds", "", c.Expression)
	return strings.Join(said, " and ")
}

// Limits of an expression. The cost is CEL's own measure, roughly one for each step; the facts of a change with ten
// thousand files and a condition on each stay below it.
const (
	maxExpression     = 1000 // characters
	maxExpressionCost = 200_000
)

// Variables lists the names that an expression may use, with their CEL types.
var Variables = [][2]string{
	{"paths", "list(string)"}, {"areas", "list(string)"}, {"labels", "list(string)"}, {"authors",
		"list(string)"}, {"author_is", "list(string)"},
	{"files_added", "list(string)"}, {"files_removed", "list(string)"}, {"files_renamed", "list(string)"},
	{"lines", "int"}, {"added", "int"}, {"removed", "int"}, {"files", "int"}, {"title", "string"}, {"source",
		"string"}, {"target", "string"},
}

var environment = sync.OnceValues(func() (*cel.Env, error) {
	kinds := map[string]*cel.Type{"list(string)": cel.ListType(cel.StringType), "int": cel.IntType,
		"string": cel.StringType}
	var options []cel.EnvOption
	for _, v := range Variables {
		options = append(options, cel.Variable(v[0], kinds[v[1]]))
	}
	return cel.NewEnv(append(options, cel.ParserRecursionLimit(40), cel.ParserExpressionSizeLimit(maxExpression))...)
})

// variables are what an expression knows. What kept commits add, remove or rename counts behind "when", and does not
// excuse behind "unless".
func (b Brought) variables(every bool) map[string]any {
	areas, is := make([]string, len(b.Areas)), []string{}
	for i, t := range b.Areas {
		areas[i] = t.Name
	}
	for _, one := range b.AuthorIs {
		is = append(is, one...)
	}
	out := map[string]any{"paths": b.Paths, "areas": areas, "labels": b.Labels, "authors": b.Authors, "author_is": is,
		"lines": b.Added + b.Removed, "added": b.Added, "removed": b.Removed, "files": b.Files, "title": b.Title,
		"source": b.Source, "target": b.Target}
	for _, how := range Ways {
		paths := append([]string{}, b.Ways[how]...)
		if !every {
			paths = append(paths, b.OnTheWay[how]...)
		}
		out["files_"+string(how)] = paths
	}
	return out
}

// compiled reads an expression: parsed, typed, and with a bound on what one evaluation may cost.
func compiled(text string) (cel.Program, error) {
	if len(text) > maxExpression {
		return nil, fmt.Errorf("the expression has %d characters; at most %d", len(text), maxExpression)
	}
	env, err := environment()
	if err != nil {
		return nil, err
	}
	ast, issues := env.Compile(text)
	if err := issues.Err(); err != nil {
		first, _, _ := strings.Cut(err.Error(), "\n")
		return nil, fmt.Errorf("%s", strings.TrimPrefix(first, "ERROR: <input>:"))
	}
	if ast.OutputType() != cel.BoolType {
		return nil, fmt.Errorf("the expression gives %s, not true or false", ast.OutputType())
	}
	return env.Program(ast, cel.CostLimit(maxExpressionCost), cel.EvalOptions(cel.OptOptimize))
}

// Identity is equal for two conditions exactly when they state the same; it is empty for none. Branch kinds are what
// they stand for, since the same word may be a kind in one document and a name in another.
func (c *Condition) Identity() string {
	if c == nil {
		return ""
	}
	scope := ""
	if c.OfHouse && c.scoped() { // what of areas and labels it knows depends on where it stands
		scope = "house"
	}
	text := fmt.Sprintf("%s;%s;%s;%s;%s;%s;%s;%q;%s", grammar.GlobSet(c.PathsText), grammar.Set(c.Areas), c.Lines, c.Files,
		grammar.GlobSet(c.stands), grammar.Set(c.Author), grammar.Set(c.Labels), c.Expression, scope)
	for _, how := range Ways {
		for _, w := range c.Ways {
			if w.How == how {
				text += fmt.Sprintf(";%s %s", how, grammar.GlobSet(w.Text))
			}
		}
	}
	if c.Undoes {
		text += ";undoes"
	}
	return text
}

// scoped says whether the condition asks for areas or labels.
func (c *Condition) scoped() bool { return len(c.Areas) > 0 || len(c.Labels) > 0 || c.Expression != "" }

// aLanding is what may be undone.
const aLanding = "a landing"

// Read reads the condition at a path of the document, where every says that it stands behind "unless".
func Read(r *grammar.Reader, f grammar.Field, path string, every bool) *Condition {
	c := &Condition{Lines: Unbounded, Files: Unbounded, OfHouse: r.OfHouse, Every: every}
	c.Line, _ = grammar.Place(f.Key)
	fields := r.Keys(f.Value, fmt.Sprintf("%q", f.Name), path)
	for _, g := range fields {
		switch g.Name {
		case "paths":
			c.Paths, c.PathsText = r.Globs(g)
		case "added", "removed", "renamed":
			w := Way{How: How(g.Name)}
			w.Globs, w.Text = r.Globs(g)
			c.Ways = append(c.Ways, w)
		case "areas":
			c.Areas = r.Texts(g)
			for _, name := range c.Areas {
				if !r.Scope.Area(name) {
					r.Bad(g.Value, fmt.Sprintf("there is no area %q", name),
						"the name of an area of this document or of the house's")
				}
			}
		case "lines":
			c.Lines = amount(r, g)
		case "files":
			c.Files = amount(r, g)
		case "source":
			c.SourceText = r.Texts(g)
			c.Source, c.stands = r.Scope.Branches(g, c.SourceText)
		case "author":
			c.Author = r.Principals(g, true)
		case "label":
			c.Labels = r.Texts(g)
			for _, name := range c.Labels {
				if !r.Scope.Label(name) {
					r.Bad(g.Value, fmt.Sprintf("the label %q is not defined", name),
						"labels: {"+name+": {set_by: …}}, so that it is plain who may set it")
				}
			}
		case "undoes":
			c.Undoes = grammar.OneOf(r, g, aLanding) != ""
		case "cel":
			c.Expression = strings.TrimSpace(r.Text(g))
			if c.Expression == "" {
				continue
			}
			var err error
			if c.program, err = compiled(c.Expression); err != nil {
				r.Bad(g.Value, fmt.Sprintf("\"cel\" cannot be read: %v", err),
					"an expression of type bool over "+variableNames())
			}
		}
	}
	if len(fields) == 0 {
		r.Bad(f.Value, fmt.Sprintf("%q states nothing", f.Name), "one of "+strings.Join(r.Grammar.Under(path, true),
			", "))
	}
	return c
}

func variableNames() string {
	names := make([]string, len(Variables))
	for i, v := range Variables {
		names[i] = v[0]
	}
	return strings.Join(names, ", ")
}

// amount reads a bound such as "over 400", "under 10" or "over 10, under 100".
func amount(r *grammar.Reader, f grammar.Field) Bound {
	b := Unbounded
	for part := range strings.SplitSeq(r.Text(f), ",") {
		way, number, _ := strings.Cut(strings.TrimSpace(part), " ")
		n, err := strconv.Atoi(strings.TrimSpace(number))
		switch {
		case err == nil && n >= 0 && n < 1<<30 && way == "over" && b.Over < 0:
			b.Over = n
		case err == nil && n > 0 && n < 1<<30 && way == "under" && b.Under < 0:
			b.Under = n
		default:
			r.Bad(f.Value, fmt.Sprintf("%q cannot be %q", f.Name, part),
				"\"over N\", \"under N\", or both with a comma")
			return Unbounded
		}
	}
	if b.Over >= 0 && b.Under >= 0 && b.Under <= b.Over+1 {
		r.Bad(f.Value, fmt.Sprintf("no number is %s", b), "the number after under is larger than the one after "+
			"over, by two at least")
	}
	return b
}

// Keys lists the keys of a condition that stands at a path, where every says that it stands behind "unless".
func Keys(path string, every bool) []grammar.Key {
	means := func(some, all string) string {
		if every {
			return all
		}
		return some
	}
	keys := []grammar.Key{
		{Path: "paths", Shape: grammar.Globs, Means: means("a changed path is in the globs", "every changed path is in the globs"), Absent: "whatever the paths", Example: "paths: firmware/**", Gone: "no path matches: the condition does not hold"},
		{Path: "added", Shape: grammar.Globs, Means: means("a file in the globs is added", "every changed path is a file in the globs that is added"), Absent: "whatever is added", Example: "added: migrations/**", Gone: "no path matches: the condition does not hold"},
		{Path: "removed", Shape: grammar.Globs, Means: means("a file in the globs is removed", "every changed path is a file in the globs that is removed"), Absent: "whatever is removed", Example: "removed: \"**\"", Gone: "no path matches: the condition does not hold"},
		{Path: "renamed", Shape: grammar.Globs, Means: means("a file is renamed that is in the globs before or after", "every changed path is one end of a rename and in the globs"), Absent: "whatever is renamed", Example: "renamed: ledger/**", Gone: "no path matches: the condition does not hold"},
		{Path: "areas", Shape: grammar.Lines, Means: means("one of the areas is touched", "every changed path lies in one of the areas"), Absent: "whatever the areas", Example: "areas: [ledger]", Gone: "a document that names one which is not there is refused"},
		{Path: "lines", Shape: grammar.Amount, Means: "so many lines are added and removed together", Absent: "whatever the size", Example: "lines: over 400"},
		{Path: "files", Shape: grammar.Amount, Means: "so many files are changed", Absent: "whatever the size", Example: "files: \"over 10, under 100\""},
		{Path: "source", Shape: grammar.Globs, Means: "the source branch is of the kind or matches the glob", Absent: "whatever the source", Example: "source: hotfix", Gone: "no branch matches: the condition does not hold"},
		{Path: "author", Shape: grammar.Who, Means: means("somebody who counts as author is one of them, robots too", "everybody who counts as author is one of them, robots too"), Absent: "whoever the author", Example: "author: [\"team:contractors\", \"robot:barn\"]", Gone: "nobody is one: the condition does not hold"},
		{Path: "label", Shape: grammar.Lines, Means: "the change has one of the labels, which the document must define", Absent: "whatever the labels", Example: "label: urgent", Gone: "a document that names one which is not there is refused"},
		{Path: "undoes", Shape: grammar.Word, Allowed: []string{aLanding}, Means: "the change was prepared by tavrin change undo, and brings what it brought then", Absent: "whatever it brings", Example: "undoes: a landing"},
		{Path: "cel", Shape: grammar.Text, Means: "an expression in CEL holds; where it cannot be worked out, the requirement is asked for", Absent: "no expression", Example: "cel: \"size(areas) > 2 || removed > 1000\"", Gone: "where it cannot be worked out, the requirement is asked for"},
	}
	for i := range keys {
		keys[i].Path = path + "." + keys[i].Path
		keys[i].Together = "with the condition's other keys: and"
	}
	return keys
}
