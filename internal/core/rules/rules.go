// Package rules reads rules documents and says what holds for a branch.
//
// A rules document is YAML text (its form is described in docs/reference/rules.md). Parse turns it into a
// Document or into findings, each with line, column, excerpt and what would be right; never into half of both.
// A Set puts the documents together that hold for one repository: its house's and its own. Set.For gives the
// Effective settings of one branch: every protection that matches applies, requirements are put side by side and
// never blended, and for every other setting the stricter wins. So neither the order of protections nor that of
// requirements or documents changes anything, and adding a protection can only tighten.
//
// The package is pure: no I/O, no clock. What the settings mean for a change is the business of package gate,
// for a push that of package guard. The keys of the document are described once, in grammar.go, from which the
// reader, the JSON Schema and the reference are made.
package rules

import (
	"fmt"
	"regexp"
	"time"

	"tavrin/internal/core/glob"
)

// Format is the value of the document's first key, "tavrin": the version of the document's form.
const Format = "rules/1"

// Document is one parsed rules document.
type Document struct {
	Kinds       []Kind
	Labels      []Label
	Areas       []Area
	Checks      []Check
	Protections []Protection
	// Description is what the description of a new change begins with; empty: with nothing.
	Description string
	// AgreedBy lists who may agree to a loosening that somebody else proposes; empty: nobody has to.
	AgreedBy []Principal
	// Used holds the names of branch kinds that the document uses, with the patterns they stood for when it was read,
	// and every other word used in their place.
	Used    map[string][]string
	OfHouse bool // it is a house's
	Lines   int  // of the text
	lines   map[string]int
}

// Kind is a branch kind: a name for a set of branch patterns.
type Kind struct {
	Name     string
	Patterns []string
	List     glob.List
	Line     int
}

// Label is a mark on changes that conditions may ask for. Only those it names may set or remove it.
type Label struct {
	Name  string
	SetBy []Principal
	Line  int
}

// Area is a named part of the tree with its owners.
type Area struct {
	Name         string
	Repositories glob.List // in house rules: names of the repositories it is for; empty: all
	Paths        glob.List
	Text         []string // the patterns as written
	Owners       []Principal
	// Approvals is how many owners' approvals the area asks by itself of every change that touches it; 0: none.
	Approvals int
	Checks    []string    // checks that a change touching the area needs, on the rehearsal
	Reviewers []Principal // asked to review a new change that touches the area
	Optional  []Principal // told of it, without being asked
	Override  []Principal // may set aside what the area asks, in the open and one case at a time; empty: nobody
	Line      int
	lines     map[string]int
}

// LineOf returns the line of one of the area's keys, or else its own.
func (a *Area) LineOf(key string) int { return lineOf(a.lines, key, a.Line) }

// Check is what the document says of one check.
type Check struct {
	Name string
	// Command is the command line a runner runs with "sh -c" in a clean checkout; empty: reported from outside.
	Command string
	// Limit is how long the command may run, or how long an answer from outside may take. Absent in the document:
	// DefaultLimit, or DefaultAnswer.
	Limit time.Duration
	// Witness is the login of the only robot that may report it; empty: any robot whose token names the check.
	Witness string
	// Fresh is how long a pass counts after it was reported; 0: for ever.
	Fresh time.Duration
	// Place is where the check deploys to, for a check of the kind deployment; empty: it is an ordinary check.
	Place string
	Line  int
	lines map[string]int
}

// LineOf returns the line of one of the check's keys, or else its own.
func (c *Check) LineOf(key string) int { return lineOf(c.lines, key, c.Line) }

// DefaultLimit is the time limit of a command check that states none.
const DefaultLimit = 10 * time.Minute

// DefaultAnswer is how long a check that is reported from outside may go without an answer, where it states no limit.
const DefaultAnswer = time.Hour

// PrincipalKind says what a Principal's name is the name of.
type PrincipalKind string

// The kinds of principal.
const (
	Person PrincipalKind = "person"
	Team   PrincipalKind = "team"
	ByRole PrincipalKind = "role"
	Robot  PrincipalKind = "robot"
)

// Principal names a person, a robot, a team, or everybody with at least a role.
type Principal struct {
	Kind PrincipalKind `json:"kind"`
	Name string        `json:"name"`
}

// String returns the principal as a document writes it, such as "team:hydraulics".
func (p Principal) String() string { return string(p.Kind) + ":" + p.Name }

// Permission says whether something may be done. The zero value is the strict one.
type Permission string

// The permissions, strictest first.
const (
	Never   Permission = "never"
	Allowed Permission = "allowed"
)

var permissions = []Permission{Never, Allowed}

// Stay says what a push does to approvals or objections given before it.
type Stay string

// The values. For approvals StayNever is the strictest and StayIfUnchanged is meant where a document says nothing;
// for objections it is the other way round, and StayAlways is both the strictest and the default.
const (
	StayNever       Stay = "never"
	StayIfUnchanged Stay = "if_unchanged"
	StayAlways      Stay = "always"
)

var stays = []Stay{StayNever, StayIfUnchanged, StayAlways}

// Strategy is a way to bring a change's commits onto the target.
type Strategy string

// The strategies.
const (
	Rebase Strategy = "rebase"
	Squash Strategy = "squash"
	Merge  Strategy = "merge"
)

// Strategies lists every strategy in the order they are offered.
var Strategies = []Strategy{Rebase, Squash, Merge}

// Folds says whether the strategy leaves no fixup commit behind.
func (s Strategy) Folds() bool { return s == Squash }

// Keeps says whether the strategy brings the change's commits one by one, so that each is judged. One that nobody has
// chosen yet may.
func (s Strategy) Keeps() bool { return s != Squash }

// Straight says whether the strategy leaves the target without a merge commit.
func (s Strategy) Straight() bool { return s == Rebase || s == Squash }

// Level says whether a requirement blocks.
type Level string

// The levels. Required is meant where a document says nothing.
const (
	Required Level = "required"
	Advisory Level = "advisory"
)

// Demand is what a requirement asks for.
type Demand string

// The demands, in the order in which they are shown: what people do first, what machines do last.
const (
	Approvals  Demand = "approvals"
	Owners     Demand = "owners"
	Objections Demand = "objections"
	Threads    Demand = "threads"
	Tasks      Demand = "tasks"
	Ticket     Demand = "ticket"
	PathCase   Demand = "case"
	Fixups     Demand = "fixups"
	History    Demand = "history"
	Messages   Demand = "messages"
	Signed     Demand = "signed"
	Checks     Demand = "checks"
	Deployment Demand = "deployment"
)

// Demands lists every demand in the order in which they are shown.
var Demands = []Demand{Approvals, Owners, Objections, Threads, Tasks, Ticket, PathCase, Fixups, History, Messages,
	Signed, Checks, Deployment}

// Place says on which commit a check is asked for.
type Place string

// The places. AtRehearsal is meant where a document says nothing.
const (
	AtRehearsal Place = "rehearsal"
	AtHead      Place = "head"
)

// Exclusion names somebody whose approval does not count.
type Exclusion string

// The exclusions. NotAuthor is meant unless "own: counts" lifts it.
const (
	NotAuthor       Exclusion = "author"         // opener, whoever's push contributed, and registered addresses
	NotLastPusher   Exclusion = "last_pusher"    // the last to change the difference
	NotCommitAuthor Exclusion = "commit_authors" // whoever brought or wrote a commit in it; narrower than author
)

var exclusions = []Exclusion{NotAuthor, NotLastPusher, NotCommitAuthor}

// Part is a part of a change in which a ticket may be referred to.
type Part string

// The parts of a change.
const (
	InTitle       Part = "title"
	InDescription Part = "description"
	InBranch      Part = "branch"
	InCommits     Part = "commits"
)

var parts = []Part{InTitle, InDescription, InBranch, InCommits}

// Requirement is one thing that must hold for a change to land.
type Requirement struct {
	Demand  Demand
	Called  string // a title of the document's own, if any
	Count   int    // Approvals: how many
	From    []Principal
	NotFrom []Exclusion
	Newest  bool // Approvals: only those given on the newest revision count
	// SettledBy lists who may settle a thread; empty: everybody who may write.
	SettledBy []Principal
	// Pattern is the expression of Ticket and Messages.
	Pattern *regexp.Regexp
	In      []Part // Ticket
	Example string // Messages and Ticket: one that fits, for the refusal
	Checks  []CheckName
	At      []Place       // Checks and Deployment
	Fresh   time.Duration // Checks and Deployment: how long a pass counts; 0: as the check itself says
	AtLeast int           // Checks: how many of them have to pass; 0: all
	Skipped bool          // Checks: a skipped check counts as passed
	Witness string        // Checks: only this robot's answer counts
	To      string        // Deployment: the place
	When    *Condition    // nil: always
	Level   Level
	Line    int
	key     string // equal for two requirements exactly when they ask the same, whatever their level
}

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

// Protection is one entry of "protect": the branches it is for and what it requires of them.
type Protection struct {
	Name         string
	Repositories glob.List // in house rules: names of the repositories it is for; empty: all
	RepoText     []string
	Branches     glob.List
	Text         []string // branch patterns and kinds as written
	stands       []string // the globs that they stand for
	// Push lists who may push directly; empty: nobody.
	Push []Principal
	// Create lists who may create a matching branch from a commit that is held already; nil: whoever may push. From are
	// the branches that have to hold it; empty: those of this protection.
	Create         []Principal
	From           glob.List
	FromText       []string // as written
	from           []string // the globs that they stand for
	Rewrite        Permission
	Delete         Permission
	Require        []Requirement
	ApprovalsStay  Stay
	ObjectionsStay Stay
	// LandBy lists who may ask to land; nil: everybody who may write.
	LandBy       []Principal
	With         []Strategy // allowed strategies; empty: all
	Default      Strategy   // empty: none stated
	Message      string     // template of the final message; empty: none stated
	Trailers     []string   // templates of lines added to the final message
	RemoveSource *bool
	JoinEarly    *bool
	Exempt       []Principal
	// Override lists who may set aside what this protection asks, in the open and one case at a time; empty: nobody.
	Override []Principal
	Line     int
	lines    map[string]int // of the keys, to say where a setting stands
}

// LineOf returns the line of one of the protection's keys, such as "rewrite" or "land.with", or else its own line.
func (p *Protection) LineOf(key string) int { return lineOf(p.lines, key, p.Line) }

// Says says whether the document states a key of the protection.
func (p *Protection) Says(key string) bool { _, said := p.lines[key]; return said }

// States says whether the document states the key, such as "rewrite" or "land.with", for this protection.
func (p *Protection) States(key string) bool { _, ok := p.lines[key]; return ok }

func lineOf(lines map[string]int, key string, otherwise int) int {
	if n, ok := lines[key]; ok {
		return n
	}
	return otherwise
}

// Source says where something in force comes from.
type Source struct {
	Document   string `json:"document,omitempty" doc:"the document: \"house NAME\"; absent: the repository's own"`
	Protection string `json:"protection" doc:"name of the protection or area"`
	Version    int    `json:"version" doc:"version of the rules document"`
	Line       int    `json:"line" doc:"line in that version"`
}

// String names the source the way every message does: "trunk" (rules version 3, line 12).
func (s Source) String() string {
	if s.Document != "" {
		return fmt.Sprintf("%q (%s, rules version %d, line %d)", s.Protection, s.Document, s.Version, s.Line)
	}
	return fmt.Sprintf("%q (rules version %d, line %d)", s.Protection, s.Version, s.Line)
}

// Kind returns the branch kind of that name, or nil.
func (d *Document) Kind(name string) *Kind {
	for i := range d.Kinds {
		if d.Kinds[i].Name == name {
			return &d.Kinds[i]
		}
	}
	return nil
}

// LineOf returns the line of one of the document's own keys, such as "loosening", or 1.
func (d *Document) LineOf(key string) int { return lineOf(d.lines, key, 1) }
