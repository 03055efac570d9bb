// Package trial runs examples against rules: made-up changes with what is expected of their gate, so that a rules
// document can be tested before it is applied.
//
// A file of examples is YAML:
//
//	tavrin: examples/1
//	people:                                  # besides, or instead of, the repository's own
//	  marla: {role: writer, teams: [contractors]}
//	examples:
//	  - name: a large change to the ledger by a contractor
//	    change: {target: main, paths: [ledger/tariff.csv], lines: 600, author: marla}
//	    approved_by: [bela]
//	    expect: not ready
//	    because: an owner of ledger          # words of something that is still missing
//
// The package is pure: it judges with core/gate, under the rules given.
package trial

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml"

	"tavrin/internal/core/change"
	"tavrin/internal/core/gate"
	"tavrin/internal/core/people"
	"tavrin/internal/core/plainyaml"
	"tavrin/internal/core/require"
	"tavrin/internal/core/rules"
)

// Format is the value of the file's first key, "tavrin".
const Format = "examples/1"

// File is a file of examples.
type File struct {
	Tavrin   string            `yaml:"tavrin"`
	People   map[string]Person `yaml:"people"`
	Examples []Example         `yaml:"examples"`
}

// Person is somebody in the examples.
type Person struct {
	Role  people.Role `yaml:"role"`
	Teams []string    `yaml:"teams"`
	Robot bool        `yaml:"robot"`
}

// Example is one made-up change and what is expected of its gate.
type Example struct {
	Name       string            `yaml:"name"`
	Change     Change            `yaml:"change"`
	ApprovedBy []string          `yaml:"approved_by"`
	ObjectedBy []string          `yaml:"objected_by"`
	Checks     map[string]string `yaml:"checks"` // states, on the head and on a rehearsal
	LandedBy   string            `yaml:"landed_by"`
	Strategy   string            `yaml:"strategy"`
	Expect     string            `yaml:"expect"`
	Because    string            `yaml:"because"` // words of something that is still missing
	NotBecause string            `yaml:"not_because"`
}

// Change is what an example's change is.
type Change struct {
	Target      string   `yaml:"target"`
	Source      string   `yaml:"source"`
	Title       string   `yaml:"title"`
	Description string   `yaml:"description"`
	Author      string   `yaml:"author"`
	Authors     []string `yaml:"authors"`
	Paths       []string `yaml:"paths"`
	Added       []string `yaml:"added"` // paths too, as the next two are
	Removed     []string `yaml:"removed"`
	Renamed     []string `yaml:"renamed"` // the old and the new one
	Lines       int      `yaml:"lines"`
	Files       int      `yaml:"files"`
	Labels      []string `yaml:"labels"`
	Commits     []string `yaml:"commits"` // messages
	Draft       bool     `yaml:"draft"`
}

// The answers that an example may expect.
var expectations = []string{"clear", "not clear", "ready", "not ready"}

// Result is how one example came out.
type Result struct {
	Name    string `json:"name"`
	Line    int    `json:"line" doc:"of the example in the file; 0: not known"`
	Passed  bool   `json:"passed"`
	Says    string `json:"says" doc:"what differs; empty when it passed"`
	Summary string `json:"summary" doc:"the gate in one sentence"`
}

// Parse reads a file of examples. The error says line and column.
func Parse(text string) (*File, error) {
	if strings.TrimSpace(text) == "" {
		return nil, fmt.Errorf("the file is empty; begin with tavrin: %s", Format)
	}
	if trouble := plainyaml.Check(text, "the file"); trouble != nil {
		return nil, trouble
	}
	var f File
	if err := decode(text, &f); err != nil {
		return nil, fmt.Errorf("the examples cannot be read: %w", err)
	}
	if f.Tavrin != Format {
		return nil, fmt.Errorf("the file begins with tavrin: %q; this service reads tavrin: %s", f.Tavrin, Format)
	}
	if len(f.Examples) == 0 {
		return nil, errors.New("the file has no examples; examples: [{name: …, change: {paths: […]}, expect: ready}]")
	}
	for i, e := range f.Examples {
		if err := e.valid(); err != nil {
			return nil, fmt.Errorf("example %d (%q): %w", i+1, e.Name, err)
		}
	}
	return &f, nil
}

// decode reads the text, strictly. The library panics on some texts that nobody means (found by fuzzing); that is an
// error here, like every other text that cannot be read.
func decode(text string, f *File) (err error) {
	defer func() {
		if r := recover(); r != nil {
			err = errors.New("this is not YAML that can be meant")
		}
	}()
	if err := yaml.NewDecoder(strings.NewReader(text), yaml.Strict()).Decode(f); err != nil {
		return errors.New(strings.TrimSpace(yaml.FormatError(err, false, true)))
	}
	return nil
}

func (e Example) valid() error {
	switch {
	case e.Name == "":
		return errors.New("it needs a name")
	case !slices.Contains(expectations, e.Expect):
		return fmt.Errorf("expect cannot be %q; one of %s", e.Expect, strings.Join(expectations, ", "))
	case e.Change.Author == "" && len(e.Change.Authors) == 0:
		return errors.New("its change needs an author")
	case e.Strategy != "" && !slices.Contains(change.Strategies, change.Strategy(e.Strategy)):
		return fmt.Errorf("strategy cannot be %q; one of %s", e.Strategy, gate.Join(change.Strategies))
	case (e.Expect == "clear" || e.Expect == "ready") && e.Because != "":
		return fmt.Errorf("because says what is missing, and %q misses nothing", e.Expect)
	}
	for name, state := range e.Checks {
		if !slices.Contains(change.CheckStates, change.CheckState(state)) {
			return fmt.Errorf("check %q cannot be %q; one of %s", name, state, gate.Join(change.CheckStates))
		}
	}
	return nil
}

// Run judges every example under the rules. known are the repository's own; the file's come beside or before them.
func Run(f *File, text string, set *rules.Set, repository string, known people.Everyone) []Result {
	all := known.Map()
	for login, p := range f.People {
		all[login] = people.Person{Login: login, Role: cmp.Or(p.Role, people.Writer), Teams: p.Teams, Robot: p.Robot}
	}
	everyone := people.Known(all)
	var out []Result
	for i, e := range f.Examples {
		report := gate.Judge(set, e.facts(set, repository, i+1, everyone))
		says := e.compare(report)
		out = append(out, Result{Name: e.Name, Line: lineOf(text, e.Name), Passed: says == "", Says: says,
			Summary: report.Summary})
	}
	return out
}

// lineOf finds the line that names an example.
func lineOf(text, name string) int {
	for i, line := range strings.Split(text, "\n") {
		_, value, found := strings.Cut(line, "name:")
		value = strings.TrimSpace(value)
		if found && (strings.HasPrefix(value, name) || strings.HasPrefix(value, "'"+name) ||
			strings.HasPrefix(value, strconv.Quote(name))) {
			return i + 1
		}
	}
	return 0
}

// facts makes up the facts of an example.
func (e Example) facts(set *rules.Set, repository string, number int, people people.Everyone) change.Facts {
	c := e.Change
	authors := slices.Clone(c.Authors)
	if c.Author != "" && !slices.Contains(authors, c.Author) {
		authors = append([]string{c.Author}, authors...)
	}
	paths := slices.Concat(c.Paths, c.Added, c.Removed, c.Renamed)
	slices.Sort(paths)
	paths = slices.Compact(paths)
	f := change.Facts{Repository: repository, Number: number, State: "open", Title: c.Title, Description: c.Description,
		Source: cmp.Or(c.Source, "topic"), Target: cmp.Or(c.Target, "main"),
		Revision: 1, Head: strings.Repeat("0",
			40), Opener: authors[0], Authors: authors, CommitAuthors: authors, LastPusher: authors[0], People: people, Paths: paths,
		Ways: change.Ways{Added: c.Added, Removed: c.Removed, Renamed: c.Renamed}, Files: cmp.Or(c.Files, len(paths)), Added: c.Lines, Labels: c.Labels, At: time.Unix(0,
			0).UTC(), Asker: e.LandedBy, Strategy: change.Strategy(e.Strategy)}
	if c.Draft {
		f.State = "draft"
	}
	for _, message := range c.Commits {
		f.Commits = append(f.Commits, change.Commit{ID: strings.Repeat("0", 40), Message: message, Parents: 1})
	}
	for _, login := range e.ApprovedBy {
		f.Reviews = append(f.Reviews, change.Review{By: login, Verdict: change.Approve, Revision: 1})
	}
	for _, login := range e.ObjectedBy {
		f.Reviews = append(f.Reviews, change.Review{By: login, Verdict: change.Object, Revision: 1})
	}
	for name, state := range e.Checks {
		declared := set.Check(name)
		f.HeadChecks = append(f.HeadChecks, change.Check{Name: name, State: change.CheckState(state), Attempt: 1,
			Runner: declared.Command != "", By: cmp.Or(declared.ReportedBy, "a check robot")})
	}
	slices.SortFunc(f.HeadChecks, func(a, b change.Check) int { return strings.Compare(a.Name, b.Name) })
	if f.Asker != "" && f.Strategy == "" {
		f.Strategy, _, _ = set.For(f.Target).Choose("")
	}
	if len(e.Checks) > 0 || e.Expect == "clear" {
		f.Rehearsal = &change.Rehearsal{Commit: strings.Repeat("1", 40), Base: strings.Repeat("2", 40),
			Checks: f.HeadChecks}
	}
	return f
}

// compare says how a report differs from what was expected; nothing when it does not.
func (e Example) compare(r gate.Report) string {
	has := map[string]bool{"clear": r.Clear, "not clear": !r.Clear, "ready": r.Ready, "not ready": !r.Ready}
	var missing, lines []string
	for _, q := range r.Requirements {
		if q.Holds() || q.Level != require.Required {
			continue
		}
		lines = append(lines, fmt.Sprintf("%s, says %s", q.Title, q.Because))
		missing = append(missing, strings.ToLower(q.Title+"\n"+q.Told()+"\n"+q.Because))
	}
	still := "nothing is missing"
	if len(lines) > 0 {
		still = "missing: " + strings.Join(lines, "; ")
	}
	said := func(words string) bool {
		return slices.ContainsFunc(missing, func(m string) bool { return strings.Contains(m, strings.ToLower(words)) })
	}
	switch {
	case !has[e.Expect]:
		return fmt.Sprintf("expected %s; %s", e.Expect, still)
	case e.Because != "" && !said(e.Because):
		return fmt.Sprintf("it is %s as expected, but not because of %q; %s", e.Expect, e.Because, still)
	case e.NotBecause != "" && said(e.NotBecause):
		return fmt.Sprintf("%q was not to be missing; %s", e.NotBecause, still)
	}
	return ""
}
