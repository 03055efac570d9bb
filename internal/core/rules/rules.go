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
	"iter"

	"tavrin/internal/core/change"
	"tavrin/internal/core/glob"
	"tavrin/internal/core/grammar"
	"tavrin/internal/core/people"
	"tavrin/internal/core/queue"
	"tavrin/internal/core/require"
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
	AgreedBy []people.Principal
	// Used holds the names of branch kinds that the document uses, with the patterns they stood for when it was read,
	// and every other word used in their place.
	Used    map[string][]string
	OfHouse bool // it is a house's
	Lines   int  // of the text
	lines   grammar.LineNumbers
}

// Check is what the document says of one check.
type Check = require.Check

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
	SetBy []people.Principal
	Line  int
}

// Area is a named part of the tree with its owners.
type Area struct {
	Name         string
	Repositories glob.List // in house rules: names of the repositories it is for; empty: all
	Paths        glob.List
	Text         []string // the patterns as written
	Owners       []people.Principal
	Require      []require.Requirement // of every change that touches it
	Reviewers    []people.Principal    // asked to review a new change that touches the area
	Optional     []people.Principal    // told of it, without being asked
	Waive        []people.Principal    // may waive what the area asks, in the open and one case at a time; empty: nobody
	Line         int
	lines        grammar.LineNumbers
}

// LineOf returns the line of one of the area's keys, or else its own.
func (a *Area) LineOf(key string) int { return a.lines.Of(key, a.Line) }

// Permission says whether something may be done. The zero value is the strict one.
type Permission string

// The permissions, strictest first.
const (
	Never   Permission = "never"
	Allowed Permission = "allowed"
)

var permissions = []Permission{Never, Allowed}

// Protection is one entry of "protect": the branches, or the tags, it is for and what it requires of them.
type Protection struct {
	Name         string
	Repositories glob.List // in house rules: names of the repositories it is for; empty: all
	RepoText     []string
	Branches     glob.List
	Text         []string // branch patterns and kinds as written
	stands       []string // the globs that they stand for
	Tags         glob.List
	TagText      []string // tag patterns as written; empty: it is for branches
	// Push lists who may push directly; empty: nobody.
	Push []people.Principal
	// Create lists who may create a matching branch from a commit that is held already; nil: whoever may push. From are
	// the branches that have to hold it; empty: those of this protection.
	Create         []people.Principal
	From           glob.List
	FromText       []string // as written
	fromStands     []string // the globs that they stand for
	Rewrite        Permission
	Delete         Permission
	Require        []require.Requirement
	ApprovalsStay  require.Stay
	ObjectionsStay require.Stay
	// LandBy lists who may ask to land; nil: everybody who may write.
	LandBy       []people.Principal
	With         []change.Strategy // allowed strategies; empty: all
	Default      change.Strategy   // empty: none stated
	Message      string            // template of the final message; empty: none stated
	Trailers     []string          // templates of lines added to the final message
	DeleteSource *bool
	JoinEarly    *bool
	DropEmpty    *bool
	UndoFirst    *bool
	Queue        Queue
	Exempt       []people.Principal
	// Waiver lists who may waive what this protection asks, in the open and one case at a time; empty: nobody.
	Waive []people.Principal
	Line  int
	lines grammar.LineNumbers // of the keys, to say where a setting stands
}

// Queue is what a protection says of the queue of its branches.
type Queue struct {
	Planner queue.Planner // empty: none stated, which is adaptive
	Slots   int           // 0: none stated
	Reruns  int           // of a change that is red by itself; where nothing is stated, DefaultReruns
	Tests   Tests
	OnPush  queue.OnPush
	Urgent  []people.Principal // who may have a change go ahead of what waits; nil: maintainers
}

// Tests is what has to be tested with what.
type Tests string

// How changes are tested.
const (
	Strict Tests = "strict"  // what lands is the tested commit
	ByArea Tests = "by_area" // what touches different areas is tested and landed side by side
)

const (
	// DefaultSlots is how many rehearsals a queue has at once where nothing is stated, MaxSlots how many may be stated.
	DefaultSlots, MaxSlots = 4, 64
	// DefaultReruns is how often a change that is red by itself is tested again before it is ejected, MaxReruns how often at most.
	DefaultReruns, MaxReruns = 1, 5
)

var (
	planners = []queue.Planner{queue.OneByOne, queue.Adaptive}
	tests    = []Tests{Strict, ByArea}
	onPushes = []queue.OnPush{queue.Leave, queue.Back, queue.Stays}
)

// LineOf returns the line of one of the protection's keys, such as "rewrite" or "land.strategies", or else its own line.
func (p *Protection) LineOf(key string) int { return p.lines.Of(key, p.Line) }

// Says says whether the document states a key of the protection.
func (p *Protection) Says(key string) bool { _, said := p.lines[key]; return said }

// States says whether the document states the key, such as "rewrite" or "land.strategies", for this protection.
func (p *Protection) States(key string) bool { _, ok := p.lines[key]; return ok }

// Kind returns the branch kind of that name, or nil.
func (d *Document) Kind(name string) *Kind {
	for i := range d.Kinds {
		if d.Kinds[i].Name == name {
			return &d.Kinds[i]
		}
	}
	return nil
}

// Requirements goes through everything that protections and areas require.
func (d *Document) Requirements() iter.Seq[*require.Requirement] {
	return func(yield func(*require.Requirement) bool) {
		for _, p := range d.Protections {
			for i := range p.Require {
				if !yield(&p.Require[i]) {
					return
				}
			}
		}
		for _, a := range d.Areas {
			for i := range a.Require {
				if !yield(&a.Require[i]) {
					return
				}
			}
		}
	}
}

// LineOf returns the line of one of the document's own keys, such as "loosening", or 1.
func (d *Document) LineOf(key string) int { return d.lines.Of(key, 1) }
