package lint

import (
	"fmt"
	"slices"
	"strings"

	"tavrin/internal/core/change"
	"tavrin/internal/core/glob"
	"tavrin/internal/core/people"
	"tavrin/internal/core/require"
	"tavrin/internal/core/rules"
)

// linting takes what kinds of requirements have to warn of about one protection or area.
type linting struct {
	l      *linter
	what   string
	with   []change.Strategy  // that the protection allows
	owners []people.Principal // of the area
}

func (r linting) What() string { return r.what }

func (r linting) Blocked(line int, edit, format string, args ...any) {
	r.l.say(Blocked, line, edit, format, args...)
}

func (r linting) Fragile(line int, edit, format string, args ...any) {
	r.l.say(Fragile, line, edit, format, args...)
}

func (r linting) Note(line int, edit, format string, args ...any) {
	r.l.say(Note, line, edit, format, args...)
}

func (r linting) Principals(line int, what string, who []people.Principal) {
	r.l.principals(line, what, who)
}

func (r linting) Approvers(line int, what string, n int, who []people.Principal, notAuthor, required bool) {
	r.l.approvals(line, what, n, who, notAuthor, required)
}

func (r linting) Reporter(line int, check string, required bool) {
	r.l.reporter(line, check, required)
}

func (r linting) Allowed() []change.Strategy { return r.with }

func (r linting) Owners() []people.Principal { return r.owners }

func (r linting) Branches(line int, what string, globs glob.List) {
	if len(r.l.w.Branches) > 0 && !slices.ContainsFunc(r.l.w.Branches, globs.Match) {
		r.l.say(Fragile, line, "look at tavrin browse branches", "%s %s, and no branch there is now matches", what,
			strings.Join(globs.Texts(), ", "))
	}
}

func (r linting) HasAreas() bool { return len(r.l.set.Areas()) > 0 }

func (r linting) Defined() []require.Check { return r.l.set.Checks() }

func (r linting) Define(name string) require.Check { return r.l.set.Check(name) }

func (r linting) Seen(match func(name string) bool) bool {
	for name := range r.l.w.Reported {
		if match(name) {
			return true
		}
	}
	return slices.ContainsFunc(r.l.set.Checks(), func(c require.Check) bool { return match(c.Name) })
}

func (r linting) LeftOpen(check string) bool {
	return r.l.of != "" &&
		!slices.ContainsFunc(r.l.doc.Checks, func(c require.Check) bool { return c.Name == check })
}

// onBranch takes what kinds have to warn of about everything that holds for a branch.
type onBranch struct {
	l      *linter
	branch string
	e      *rules.Effective
}

func (b onBranch) Branch() string { return b.branch }

func (b onBranch) Settings() require.Settings {
	return require.Settings{ApprovalsStay: b.e.ApprovalsStay.Value, ObjectionsStay: b.e.ObjectionsStay.Value,
		Allowed: b.e.With, LandsBy: b.e.Default, Template: b.e.Message.Value, Disputed: b.e.MessagesSaid > 1}
}

func (b onBranch) Filled(template, title string) string {
	return rules.Fill(template, map[string]string{"title": title, "description": "", "number": fmt.Sprint(7),
		"source": "topic", "target": b.branch, "repository": b.l.w.Repository, "author": "odo"})
}

func (b onBranch) Blocked(from []require.Source, edit, format string, args ...any) {
	b.l.at(from, Blocked, edit, format, args...)
}

func (b onBranch) Fragile(from []require.Source, edit, format string, args ...any) {
	b.l.at(from, Fragile, edit, format, args...)
}
