package kind

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"tavrin/internal/core/grammar"
	"tavrin/internal/core/require"
)

var _ = register(require.Kind{
	Name: "size", Group: require.OfContent, Order: 6,
	Keys: []grammar.Key{
		{Path: "size", Shape: grammar.Text, Pattern: sizeForm.String(),
			Means: "the change is no larger: lines added and removed together, files, commits", Absent: "-",
			Together: require.Conjunction, Example: "size: at most 400 lines and 20 files"},
		{Path: "hint", Shape: grammar.Text, Means: "what to do about it, for the refusal", Absent: "the refusal says how large it is, and no more",
			Together: require.PartOf, Example: "hint: \"split it: see docs/splitting.md\"", Else: "what a refusal shows"},
	},
	Judged: "the difference and, by a strategy that keeps the commits, the largest of them where that is larger",
	Gone:   "-",
	New:    func() require.Ask { return &size{} },
})

// sizeForm is how a size is written.
var sizeForm = regexp.MustCompile(`^at most [0-9]+ (line|file|commit)s?( and [0-9]+ (line|file|commit)s?)*$`)

// units are what is counted, in the order in which they are said.
var units = []string{"lines", "files", "commits"}

// size asks that a change is not too large.
type size struct {
	most map[string]int // by unit
	hint string         // for the refusal
}

func (s *size) Read(r *grammar.Reader, f grammar.Field) {
	text := r.Text(f)
	if f.Name == "hint" {
		if s.hint = strings.TrimSpace(text); len(s.hint) > 300 || grammar.Odd(s.hint) != "" {
			r.Bad(f.Value, "\"hint\" is no hint", "a sentence on one line, at most 300 characters")
		}
		return
	}
	s.most = map[string]int{}
	if text == "" {
		return
	}
	if !sizeForm.MatchString(text) {
		r.Bad(f.Value, fmt.Sprintf("size cannot be %q", text), "such as \"at most 400 lines\" or \"at most 400 lines and 20 files\"; "+
			"what is counted are "+grammar.Joined(units))
		return
	}
	for part := range strings.SplitSeq(strings.TrimPrefix(text, "at most "), " and ") {
		number, unit, _ := strings.Cut(part, " ")
		unit = strings.TrimSuffix(unit, "s") + "s"
		n, err := strconv.Atoi(number)
		_, twice := s.most[unit]
		switch {
		case err != nil || n < 1 || n >= 1<<30:
			r.Bad(f.Value, fmt.Sprintf("size cannot be at most %s %s", number, unit), "a whole number from 1")
		case twice:
			r.Bad(f.Value, fmt.Sprintf("size says twice how many %s", unit), "each once")
		}
		s.most[unit] = n
	}
}

// said lists the bounds in words.
func (s *size) said() string {
	var out []string
	for _, unit := range units {
		if n, bound := s.most[unit]; bound {
			out = append(out, require.Count(n, strings.TrimSuffix(unit, "s")))
		}
	}
	return require.List(out, "and")
}

func (s *size) Identity() string { return s.said() }

func (s *size) Title() string { return "at most " + s.said() }

func (s *size) Words() string { return "a change has at most " + s.said() }

func (s *size) AtLeast(other require.Ask) bool {
	for unit, n := range other.(*size).most {
		if mine, bound := s.most[unit]; !bound || mine > n {
			return false
		}
	}
	return true
}

func (s *size) Join(same require.Ask) require.Ask {
	joined := *s
	joined.hint = require.FirstSaid(s.hint, same.(*size).hint)
	return &joined
}

func (s *size) Judge(c *require.Case, q require.Sourced) {
	r := q.Outcome("size")
	lines, files := c.Largest(c.LandsBy)
	have := map[string]int{"lines": lines, "files": files, "commits": len(c.Commits)}
	var over []string
	for _, unit := range units {
		if n, bound := s.most[unit]; bound && have[unit] > n {
			over = append(over, fmt.Sprintf("%d %s, at most %d asked", have[unit], unit, n))
		}
	}
	if len(over) > 0 {
		r.Lacks = "too large: " + require.List(over, "and")
		r.Next = "bring it in parts"
		if s.hint != "" {
			r.Next = s.hint
		}
		c.MendedBy(&r, require.DoPush)
	}
	c.Say(r, q)
}

// LintBeside warns of a bound that another one makes void.
func (s *size) LintBeside(l require.Lint, q, other *require.Requirement) bool {
	if q.Narrowed() || q.Level != other.Level || !s.AtLeast(other.Asks) {
		return false
	}
	l.Note(other.Line, "leave it out", "%s: line %d asks for less already", l.What(), q.Line)
	return true
}
