package rules

import (
	"fmt"
	"slices"
	"strings"
	"sync"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"

	"tavrin/internal/core/glob"
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
	stands     []string    // the globs that SourceText stands for
	Author     []Principal // somebody who counts as author is one of them
	Labels     []string    // the change has one of them
	Expression string      // in CEL (https://cel.dev), of type bool
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
		len(c.Author) > 0 && !slices.ContainsFunc(c.Author, func(p Principal) bool {
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
	say(c.PathsText != nil, "a path in %s changes", globWords(c.PathsText))
	say(len(c.Areas) > 0, "%s is touched", either(c.Areas))
	say(c.Lines != Unbounded, "the lines changed are %s", strings.ReplaceAll(c.Lines.String(), ",", " and"))
	say(c.Files != Unbounded, "the files changed are %s", strings.ReplaceAll(c.Files.String(), ",", " and"))
	say(c.SourceText != nil, "the source branch is %s", globWords(c.SourceText))
	say(len(c.Author) > 0, "an author is %s", either(texts(c.Author)))
	say(len(c.Labels) > 0, "it is labelled %s", either(c.Labels))
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

func texts[T fmt.Stringer](words []T) []string {
	out := make([]string, len(words))
	for i, w := range words {
		out[i] = w.String()
	}
	return out
}

// globWords puts globs into words: "main or release/**, but not release/old".
func globWords(texts []string) string {
	var in, out []string
	for _, text := range texts {
		if rest, taken := strings.CutPrefix(text, "!"); taken {
			out = append(out, rest)
		} else {
			in = append(in, text)
		}
	}
	if len(out) == 0 {
		return either(in)
	}
	return either(in) + ", but not " + either(out) + ","
}

func either(words []string) string {
	if len(words) < 2 {
		return strings.Join(words, "")
	}
	return strings.Join(words[:len(words)-1], ", ") + " or " + words[len(words)-1]
}
