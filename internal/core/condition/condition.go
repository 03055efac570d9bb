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

// Condition narrows the requirement it stands on, and nothing else: everything that it states has to be so for the
// requirement to be asked for.
type Condition struct {
	Paths      glob.List // some changed path is in it
	PathsText  []string
	Areas      []string // one of them is touched
	Lines      Bound    // added and removed together
	Files      Bound
	Source     glob.List // the source branch is in it
	SourceText []string
	stands     []string           // the globs that SourceText stands for
	Author     []people.Principal // somebody who counts as author is one of them
	Labels     []string           // the change has one of them
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

// Brought is what conditions know of a change: facts about it against its target, never what the change itself
// brings in as configuration (P5).
type Brought struct {
	Title, Source, Target string
	Paths                 []string
	Areas                 []string // names of those touched
	HouseAreas            []string // those of them that the house defines
	Added, Removed        int      // lines
	Files                 int
	Authors               []string // logins
	AuthorIs              []string // what the authors are, as principals: person:wren, team:field
	Labels                []string
	HouseLabels           []string // those of them that the house defines
}

// Holds says whether the condition holds. An expression that cannot be worked out for these facts, or costs too much,
// is taken to hold, so that the requirement is asked for; why then says so.
func (c *Condition) Holds(b Brought) (holds bool, why string) {
	if c == nil {
		return true, ""
	}
	if c.OfHouse {
		b.Areas, b.Labels = b.HouseAreas, b.HouseLabels
	}
	switch {
	case c.PathsText != nil && !slices.ContainsFunc(b.Paths, c.Paths.Match),
		len(c.Areas) > 0 && !overlap(c.Areas, b.Areas),
		!c.Lines.Holds(b.Added + b.Removed),
		!c.Files.Holds(b.Files),
		c.SourceText != nil && !c.Source.Match(b.Source),
		len(c.Author) > 0 && !slices.ContainsFunc(c.Author, func(p people.Principal) bool {
			return slices.Contains(b.AuthorIs,
				p.String())
		}),
		len(c.Labels) > 0 && !overlap(c.Labels, b.Labels):
		return false, ""
	}
	if c.program == nil {
		return true, ""
	}
	value, _, err := c.program.Eval(b.variables())
	if err != nil {
		return true, fmt.Sprintf("its expression could not be worked out (%v), so it is asked for", err)
	}
	return value == types.True, ""
}

func overlap(a, b []string) bool {
	return slices.ContainsFunc(a, func(s string) bool { return slices.Contains(b, s) })
}

// Words says when the requirement is asked for, to follow "when": "more than 400 lines change and valves is touched".
func (c *Condition) Words() string {
	var said []string
	say := func(is bool, format string, args ...any) {
		if is {
			said = append(said, fmt.Sprintf(format, args...))
		}
	}
	say(c.PathsText != nil, "a path in %s changes", grammar.GlobWords(c.PathsText))
	say(len(c.Areas) > 0, "%s is touched", grammar.Either(c.Areas))
	say(c.Lines != Unbounded, "the lines changed are %s", strings.ReplaceAll(c.Lines.String(), ",", " and"))
	say(c.Files != Unbounded, "the files changed are %s", strings.ReplaceAll(c.Files.String(), ",", " and"))
	say(c.SourceText != nil, "the source branch is %s", grammar.GlobWords(c.SourceText))
	say(len(c.Author) > 0, "an author is %s", grammar.Either(grammar.Texts(c.Author)))
	say(len(c.Labels) > 0, "it is labelled %s", grammar.Either(c.Labels))
	say(c.Expression != "", "the expression %s holds", c.Expression)
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

func (b Brought) variables() map[string]any {
	return map[string]any{"paths": b.Paths, "areas": b.Areas, "labels": b.Labels, "authors": b.Authors,
		"author_is": b.AuthorIs,
		"lines":     b.Added + b.Removed, "added": b.Added, "removed": b.Removed, "files": b.Files, "title": b.Title, "source": b.Source, "target": b.Target}
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

// Identity is equal for two conditions exactly when they state the same. Branch kinds are what they stand for, since
// the same word may be a kind in one document and a name in another.
func (c *Condition) Identity() string {
	scope := ""
	if c.OfHouse && c.scoped() { // what of areas and labels it knows depends on where it stands
		scope = "house"
	}
	return fmt.Sprintf("%s;%s;%s;%s;%s;%s;%s;%q;%s", grammar.GlobSet(c.PathsText), grammar.Set(c.Areas), c.Lines, c.Files,
		grammar.GlobSet(c.stands), grammar.Set(c.Author), grammar.Set(c.Labels), c.Expression, scope)
}

// scoped says whether the condition asks for areas or labels.
func (c *Condition) scoped() bool { return len(c.Areas) > 0 || len(c.Labels) > 0 || c.Expression != "" }

// Read reads the condition at a path of the document.
func Read(r *grammar.Reader, f grammar.Field, path string) *Condition {
	c := &Condition{Lines: Unbounded, Files: Unbounded, OfHouse: r.OfHouse}
	c.Line, _ = grammar.Place(f.Key)
	fields := r.Keys(f.Value, fmt.Sprintf("%q", f.Name), path)
	for _, g := range fields {
		switch g.Name {
		case "paths":
			c.Paths, c.PathsText = r.Globs(g)
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
			c.Author = r.Principals(g, false)
		case "label":
			c.Labels = r.Texts(g)
			for _, name := range c.Labels {
				if !r.Scope.Label(name) {
					r.Bad(g.Value, fmt.Sprintf("the label %q is not defined", name),
						"labels: {"+name+": {set_by: …}}, so that it is plain who may set it")
				}
			}
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

// Keys lists the keys of a condition that stands at a path.
func Keys(path string) []grammar.Key {
	return []grammar.Key{
		{Path: path + ".paths", Shape: grammar.Globs, Means: "a changed path is in the globs", Absent: "whatever the paths", Together: "with the condition's other keys: and", Example: "paths: firmware/**", Gone: "no path matches: the condition does not hold"},
		{Path: path + ".areas", Shape: grammar.Lines, Means: "one of the areas is touched", Absent: "whatever the areas", Together: "with the condition's other keys: and", Example: "areas: [ledger]", Gone: "a document that names one which is not there is refused"},
		{Path: path + ".lines", Shape: grammar.Amount, Means: "so many lines are added and removed together", Absent: "whatever the size", Together: "with the condition's other keys: and", Example: "lines: over 400"},
		{Path: path + ".files", Shape: grammar.Amount, Means: "so many files are changed", Absent: "whatever the size", Together: "with the condition's other keys: and", Example: "files: \"over 10, under 100\""},
		{Path: path + ".source", Shape: grammar.Globs, Means: "the source branch is of the kind or matches the glob", Absent: "whatever the source", Together: "with the condition's other keys: and", Example: "source: hotfix", Gone: "no branch matches: the condition does not hold"},
		{Path: path + ".author", Shape: grammar.Who, Means: "somebody who counts as author is one of them", Absent: "whoever the author", Together: "with the condition's other keys: and", Example: "author: team:contractors", Gone: "nobody is one: the condition does not hold"},
		{Path: path + ".label", Shape: grammar.Lines, Means: "the change has one of the labels, which the document must define", Absent: "whatever the labels", Together: "with the condition's other keys: and", Example: "label: urgent", Gone: "a document that names one which is not there is refused"},
		{Path: path + ".cel", Shape: grammar.Text, Means: "an expression in CEL holds; one that cannot be worked out is taken to hold", Absent: "no expression", Together: "with the condition's other keys: and", Example: "cel: \"size(areas) > 2 || removed > 1000\"", Gone: "what cannot be worked out is taken to hold"},
	}
}
