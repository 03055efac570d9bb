package require

import (
	"strings"
	"time"

	"tavrin/internal/core/glob"
	"tavrin/internal/core/grammar"
)

// Check is what rules say of one check.
type Check struct {
	Name string
	// Command is the command line a runner runs with "sh -c" in a clean checkout; empty: reported from outside.
	Command string
	// Timeout is how long the command may run, or how long an answer from outside may take. Absent in the document:
	// DefaultTimeout, or DefaultAnswer.
	Timeout time.Duration
	// ReportedBy is the login of the only robot that may report it; empty: any robot whose token names the check.
	ReportedBy string
	// MaxAge is how long a pass counts after it was reported; 0: for ever.
	MaxAge time.Duration
	// SeesTree: its result depends on nothing of a commit but the tree, so that a pass on one commit counts for another of
	// the same tree.
	SeesTree bool
	// Environment is where the check deploys to, for a check of the kind deployment; empty: it is an ordinary check.
	Environment string
	// OnTip are the branches, as written and as globs, on every new tip of which it is asked for, besides whatever
	// requirements ask for.
	OnTip      []string
	OnTipGlobs []string
	Tips       glob.List
	Line       int
	Lines      grammar.LineNumbers
}

// LineOf returns the line of one of the check's keys, or else its own.
func (c *Check) LineOf(key string) int { return c.Lines.Of(key, c.Line) }

// DefaultTimeout is the timeout of a command check that states none.
const DefaultTimeout = 10 * time.Minute

// DefaultAnswer is how long a check that is reported from outside may go without an answer, where it states no limit.
const DefaultAnswer = time.Hour

// Place says on which commit a check is asked for.
type Place string

// The places. AtRehearsal is meant where a document says nothing.
const (
	AtRehearsal Place = "rehearsal"
	AtHead      Place = "head"
)

// CheckName is a check's name, or a glob for names.
type CheckName struct {
	Text string
	glob glob.Pattern
	many bool
}

// Several says whether the text is a glob, which may stand for several checks.
func (c CheckName) Several() bool { return c.many }

// Match says whether the name is meant.
func (c CheckName) Match(name string) bool {
	if c.many {
		return c.glob.Match(name)
	}
	return c.Text == name
}

// String gives the name as written.
func (c CheckName) String() string { return c.Text }

// Deploying is an Ask that names an environment.
type Deploying interface {
	Environment() string
}

// Environment is the environment that a requirement names; empty: none.
func (q *Requirement) Environment() string {
	if d, names := q.Asks.(Deploying); names {
		return d.Environment()
	}
	return ""
}

// Naming is an Ask that names checks.
type Naming interface {
	CheckNames() []CheckName
}

// CheckNames lists the checks that a requirement names, globs too.
func (q *Requirement) CheckNames() []CheckName {
	if n, names := q.Asks.(Naming); names {
		return n.CheckNames()
	}
	return nil
}

// CheckGlobs reads names of checks of which some may be globs.
func CheckGlobs(r *grammar.Reader, f grammar.Field) []CheckName {
	var out []CheckName
	for _, text := range r.Texts(f) {
		c := CheckName{Text: text, many: strings.ContainsAny(text, "*?[{")}
		if !c.many {
			r.CheckName(f.Value, text)
		} else if p, err := glob.Compile(text); err != nil {
			r.Bad(f.Value, err.Error(), "the name of a check, or "+glob.Syntax)
		} else if c.glob = p; !r.Multiplied(f, p.Rows()) {
			return nil
		}
		out = append(out, c)
	}
	return out
}

// MaxAge reads how long a pass counts.
func MaxAge(r *grammar.Reader, f grammar.Field) time.Duration {
	return r.Duration(f, time.Minute, 720*time.Hour, "30m or 12h")
}

// Younger says whether a maximum age is at least as strict as another; 0 is for ever.
func Younger(a, b time.Duration) bool { return b == 0 || a > 0 && a <= b }

// Places reads on which commits a check is asked for.
func Places(r *grammar.Reader, f grammar.Field) []Place {
	at := grammar.SomeOf(r, f, AtRehearsal, AtHead)
	if len(at) == 0 {
		r.Bad(f.Value, "\"at\" names no commit", "head, rehearsal, or both in a list")
	}
	return at
}

// The keys that stand beside checks and deployments.
var (
	AtKey = grammar.Key{Path: "at", Shape: grammar.Words, Allowed: []string{string(AtRehearsal), string(AtHead)},
		Means:  "on which commit: the change's head, the rehearsal, or both",
		Absent: "rehearsal", Together: "at head and at rehearsal are separate demands", Example: "at: [head, rehearsal]"}
	MaxAgeKey = grammar.Key{Path: "max_age", Shape: grammar.Duration, High: 720, Means: "how long a pass, or an approval, counts: from 1m to 720h",
		Absent: "a pass: as the check itself says; an approval: for ever", Together: "the shorter", Example: "max_age: 12h"}
)

// MaxAgeWords say how long a pass counts.
func MaxAgeWords(fresh time.Duration) string {
	if fresh == 0 {
		return ""
	}
	return ", not longer ago than " + grammar.Brief(fresh)
}
