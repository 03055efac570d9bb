package require

import (
	"tavrin/internal/core/change"
	"tavrin/internal/core/glob"
	"tavrin/internal/core/people"
)

// Lint takes what is to be warned of about the requirements of one protection, and answers what that depends on.
type Lint interface {
	// What names the protection, to begin a sentence.
	What() string
	// Blocked, Fragile and Note warn of something at a line: what can never hold, what may not, what is worth knowing;
	// edit says what to change.
	Blocked(line int, edit, format string, args ...any)
	Fragile(line int, edit, format string, args ...any)
	Note(line int, edit, format string, args ...any)

	// Principals warns of names of nobody, Approvers on a demand for so many approvals, Reporter on a check that nobody
	// can or does report.
	Principals(line int, what string, who []people.Principal)
	Approvers(line int, what string, n int, who []people.Principal, notAuthor, required bool)
	Reporter(line int, check string, required bool)

	// Branches warns where no branch that there is matches.
	Branches(line int, what string, globs glob.List)

	// Allowed are the strategies that the protection allows; empty: all.
	Allowed() []change.Strategy
	HasAreas() bool
	// Owners are those of the area that asks; none where a protection does.
	Owners() []people.Principal
	// Defined are the checks that the rules define; Define says what they say of one.
	Defined() []Check
	Define(name string) Check
	// Seen says whether some check that is defined or was reported matches.
	Seen(match func(name string) bool) bool
	// LeftOpen says that a house's document leaves it to repositories what a check is.
	LeftOpen(check string) bool
}

// BranchLint takes what is to be warned of about what all protections of a branch together ask.
type BranchLint interface {
	Branch() string
	// Settings are those in force: the strategy is the default one, the template that of the rules.
	Settings() Settings
	// Filled fills a template in, as for a change of that title.
	Filled(template, title string) string
	Blocked(from []Source, edit, format string, args ...any)
	Fragile(from []Source, edit, format string, args ...any)
}

// LintedOnBranch is an Ask with something to warn of about what else holds for the branch.
type LintedOnBranch interface {
	LintOn(b BranchLint, q Sourced)
}

// LintedBeside is an Ask with something to warn of about another of its kind in the same protection, which stands
// after it. It says whether it did.
type LintedBeside interface {
	LintBeside(l Lint, q, other *Requirement) bool
}
