package kind

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"

	"tavrin/internal/core/grammar"
	"tavrin/internal/core/require"
)

var _ = register(require.Kind{
	Name: "checks", Group: require.OfChecks, Order: 1,
	Keys: []grammar.Key{
		{Path: "checks", Shape: grammar.Lines, Means: "checks that pass, by name or by glob", Absent: "-",
			Together: require.Conjunction + "; of one check on one commit the lower maximum age, every robot named and a no to skipped count",
			Example:  "checks: [unit, \"bench *\"]"},
		require.AtKey, require.MaxAgeKey,
		{Path: "at_least", Shape: grammar.Number, Low: 1, High: 100, Means: "how many of the named checks have to pass",
			Absent: "all", Together: require.PartOf, Example: "at_least: 2"},
		{Path: "skipped", Shape: grammar.Word, Allowed: []string{"counts", "does_not_count"}, Means: "whether a skipped check " +
			"counts as passed", Absent: "does_not_count", Together: "does_not_count over counts", Example: "skipped: counts"},
		{Path: "reported_by", Shape: grammar.RobotName, Means: "only this robot's answer counts", Absent: "as the check itself says",
			Together: "intersection: each robot named has to be the one that answered", Example: "reported_by: robot:barn",
			Gone: "what it reported stands, and nothing more comes"},
	},
	Judged: "the newest attempt on the commit that at names",
	Gone: "a glob that matches nothing: not met; a check that nobody reports: not met; a robot that is gone: what it " +
		"reported stands, and nothing more comes",
	New: newChecks, NewOfArea: newChecks,
})

func newChecks() require.Ask { return &checks{at: []require.Place{require.AtRehearsal}} }

// checks asks that checks pass.
type checks struct {
	names      []require.CheckName
	at         []require.Place
	maxAge     time.Duration // how long a pass counts; 0: as the check itself says
	atLeast    int           // how many of them have to pass; 0: all
	skipped    bool          // a skipped check counts as passed
	reportedBy string        // only this robot's answer counts
}

func (s *checks) Read(r *grammar.Reader, f grammar.Field) {
	switch f.Name {
	case "checks":
		if s.names = require.CheckGlobs(r, f); len(s.names) == 0 {
			r.Bad(f.Value, "\"checks\" names none", "one name or a list of names")
		}
	case "at":
		s.at = require.Places(r, f)
	case "max_age":
		s.maxAge = require.MaxAge(r, f)
	case "at_least":
		s.atLeast = r.Number(f, 1, 100)
	case "skipped":
		s.skipped = grammar.OneOf(r, f, "counts", "does_not_count") == "counts"
	case "reported_by":
		s.reportedBy = r.Robot(f)
	}
}

func (s *checks) Complete(r *grammar.Reader, n ast.Node) {
	if s.atLeast > len(s.names) && !slices.ContainsFunc(s.names, require.CheckName.Several) {
		r.Bad(n, fmt.Sprintf("at least %d of %d checks can never pass", s.atLeast, len(s.names)),
			fmt.Sprintf("at_least: at most %d", len(s.names)))
	}
}

func (s *checks) CheckNames() []require.CheckName { return s.names }

func (s *checks) Ages() bool { return s.maxAge > 0 }

func (s *checks) Identity() string {
	return fmt.Sprintf("%s|%s|%d|%d|%v|%q", grammar.Set(s.names), grammar.Set(s.at), s.maxAge, s.atLeast, s.skipped,
		s.reportedBy)
}

func (s *checks) Title() string { return "checks " + strings.Join(grammar.Texts(s.names), ", ") }

func (s *checks) Words() string {
	names := strings.Join(grammar.Texts(s.names), ", ")
	text := "check " + names + " passes"
	switch {
	case s.atLeast > 0:
		text = fmt.Sprintf("at least %d of the checks %s pass", s.atLeast, names)
	case len(s.names) > 1 || s.names[0].Several():
		text = "checks " + names + " pass"
	}
	text += " on the " + strings.Join(grammar.Texts(s.at), " and the ")
	if s.reportedBy != "" {
		text += ", reported by robot:" + s.reportedBy
	}
	if s.skipped {
		text += ", skipped counting as passed"
	}
	return text + require.MaxAgeWords(s.maxAge)
}

func (s *checks) AtLeast(other require.Ask) bool {
	o := other.(*checks)
	more := s.atLeast == 0 && o.atLeast == 0 && grammar.Within(grammar.Texts(o.names), grammar.Texts(s.names)) ||
		grammar.Set(o.names) == grammar.Set(s.names) && (s.atLeast == 0 || o.atLeast > 0 && s.atLeast >= o.atLeast)
	return more && grammar.Within(o.at, s.at) && require.Younger(s.maxAge, o.maxAge) && (!s.skipped || o.skipped) &&
		(o.reportedBy == "" || s.reportedBy == o.reportedBy)
}

// Judge takes the requirement apart into demands for single checks, as far as it names them one by one.
func (s *checks) Judge(k *require.Case, q require.Sourced) {
	for _, at := range s.at {
		w := require.Wanted{Kind: q.Kind, At: at, MaxAge: s.maxAge, Skipped: s.skipped, Level: q.Level, From: q.From,
			Because: q.Because}
		if s.reportedBy != "" {
			w.Reporters = []string{s.reportedBy}
		}
		if s.atLeast > 0 {
			w.Names, w.Key, w.AtLeast = k.Named(s.names, at), "checks", s.atLeast
			w.Title = fmt.Sprintf("at least %d of %s pass on the %s", s.atLeast, strings.Join(grammar.Texts(s.names), ", "), at)
			k.Want(w)
			continue
		}
		for _, c := range s.names {
			k.WantNamed(w, c)
		}
	}
}

func (s *checks) Lint(l require.Lint, q *require.Requirement) {
	for _, name := range s.names {
		if name.Several() {
			if !l.Seen(name.Match) {
				l.Fragile(q.Line, "look at tavrin check list", "%s: no check that is defined or was reported matches %s",
					l.What(), name.Text)
			}
			continue
		}
		if c := l.Define(name.Text); s.reportedBy != "" && c.ReportedBy != "" && c.ReportedBy != s.reportedBy {
			l.Blocked(q.Line, "name the same robot, or leave it out here",
				"%s: only robot:%s's answer for %q would count, and the check is robot:%s's to report, so that nobody's does",
				l.What(), s.reportedBy, name.Text, c.ReportedBy)
		}
		l.Reporter(q.Line, name.Text, q.Level == require.Required)
		if l.LeftOpen(name.Text) {
			l.Note(q.Line, fmt.Sprintf("checks: {%q: {command: …}} or {reported_by: …}", name.Text),
				"%s: the house does not say what check %q is, so that each repository does", l.What(), name.Text)
		}
	}
}
