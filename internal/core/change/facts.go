// Package change has the facts about a change that its gate is judged by: what it brings, what people and robots said of
// it, and on what it is built.
//
// Facts are values without behaviour of their own; they can be stored as JSON and judged again.
package change

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"tavrin/internal/core/people"
)

// Verdict is what a review says.
type Verdict string

// The verdicts.
const (
	Approve Verdict = "approve"
	Object  Verdict = "object"
	Comment Verdict = "comment"
)

// Review is one person's standing word on a change: their newest approval or objection that is not withdrawn.
type Review struct {
	By       string  `json:"by"`
	Verdict  Verdict `json:"verdict"`
	Revision int     `json:"revision"`
	// SameDifference says that the newest revision brings exactly what the reviewed one brought: compared with each
	// other, and, where there is a rehearsal, each brought to its base.
	SameDifference bool `json:"same_difference"`
	// Hidden are paths that the newest revision's commits touch and that the reviewed one brought in no way.
	Hidden []string `json:"hidden,omitempty"`
	// Title and Description are the change's when the review was given.
	Title       string `json:"title,omitempty"`
	Description string `json:"description,omitempty"`
	// At is when it was given.
	At time.Time `json:"at,omitzero"`
	// Teams are those of who gave it, when it was given; Disabled says that their account is disabled now.
	Teams    []string `json:"teams,omitempty"`
	Disabled bool     `json:"disabled,omitempty"`
}

// CheckState is the state of a check on a commit.
type CheckState string

// The states of a check. NotReported is the state of a check that nobody has spoken of.
const (
	NotReported CheckState = ""
	Waiting     CheckState = "waiting"
	Running     CheckState = "running"
	Passed      CheckState = "passed"
	Failed      CheckState = "failed"
	Errored     CheckState = "errored"
	Skipped     CheckState = "skipped"
	Cancelled   CheckState = "cancelled"
)

// CheckStates lists every state that can be reported.
var CheckStates = []CheckState{Waiting, Running, Passed, Failed, Errored, Skipped, Cancelled}

// Final says whether the state is an answer that will not change by waiting.
func (s CheckState) Final() bool {
	switch s {
	case Passed, Failed, Errored, Skipped, Cancelled:
		return true
	case NotReported, Waiting, Running:
		return false
	}
	return false
}

// badness orders the states of checks, so that several can be told in one: the worst.
var badness = []CheckState{NotReported, Skipped, Passed, Cancelled, Waiting, Running, Errored, Failed}

// Worse returns the worse of two states: a failure is worse than an answer that is still awaited, that worse than a
// pass.
func Worse(a, b CheckState) CheckState {
	if slices.Index(badness, a) > slices.Index(badness, b) {
		return a
	}
	return b
}

// Check is the newest attempt of one check on one commit.
type Check struct {
	Name    string     `json:"name"`
	State   CheckState `json:"state"`
	Attempt int        `json:"attempt"`
	By      string     `json:"by"`     // login of the robot that reported it; empty: not reported yet
	Runner  bool       `json:"runner"` // it ran as a command under a lease of the service
	Summary string     `json:"summary,omitempty"`
	// RanOn is the commit on which it passed, where that is another of the same tree.
	RanOn string `json:"ran_on,omitempty"`
	// At is when the answer came; zero: not yet, or in records from before it was kept.
	At time.Time `json:"at,omitzero"`
}

// Rehearsal is a commit built on the target's tip, or on what is ahead of it, and its checks.
type Rehearsal struct {
	Commit string `json:"commit"`
	Base   string `json:"base"`
	// Tested is the commit that the checks ran on, where it is another: one that stands on it and lands with it, or, where
	// areas are independent, the one that this was built anew from.
	Tested string  `json:"tested,omitempty"`
	Checks []Check `json:"checks"`
	// BuiltAt is when its checks were asked for; zero in records from before it was kept.
	BuiltAt time.Time `json:"built_at,omitzero"`
}

// Stop is why nothing lands on a branch for a time.
type Stop struct {
	ID int64 `json:"id"`
	// Hold says that a person holds the queue, until somebody frees it; else it is a freeze, a planned time.
	Hold   bool   `json:"hold,omitempty"`
	House  string `json:"house,omitempty"` // whose it is; empty: the repository's
	Name   string `json:"name"`
	Reason string `json:"reason"`
	By     string `json:"by"`
	// Since is when it began, Until when it ends by itself; zero: it does not.
	Since time.Time `json:"since"`
	Until time.Time `json:"until,omitzero"`
}

// Says says it in a few words, to follow the name of the branch: "is frozen: harvest".
func (s Stop) Says() string {
	if s.Hold {
		return "is held by " + s.By
	}
	return "is frozen: " + s.Name
}

// Next says why, how long, and who may end it, to follow what it says.
func (s Stop) Next(branch string) string {
	const form = "2006-01-02 15:04 UTC"
	switch {
	case s.Hold:
		return fmt.Sprintf("%s, since %s. A maintainer frees it: tavrin queue free --branch %s", s.Reason, s.Since.UTC().Format(form), branch)
	case s.House != "":
		return fmt.Sprintf("%s, until %s. A maintainer of house %s may end it: tavrin freeze end %d", s.Reason, s.Until.UTC().Format(form), s.House, s.ID)
	}
	return fmt.Sprintf("%s, until %s. A maintainer may end it: tavrin freeze end %d", s.Reason, s.Until.UTC().Format(form), s.ID)
}

// TicketState is what a tracker says of a ticket.
type TicketState string

// The answers of a tracker. TicketNotAsked stands for none yet.
const (
	TicketNotAsked TicketState = ""
	TicketOpen     TicketState = "open"
	TicketClosed   TicketState = "closed"
	TicketNone     TicketState = "none" // there is no such ticket
)

// Ticket is a tracker's newest answer about one ticket.
type Ticket struct {
	Name  string      `json:"name"`
	State TicketState `json:"state,omitempty"`
	Title string      `json:"title,omitempty"`
	// At is when the answer came; Trouble is what was wrong when it was last asked, since then.
	At      time.Time `json:"at,omitzero"`
	Trouble string    `json:"trouble,omitempty"`
}

// Ticket returns what the tracker said of a ticket, so far.
func (f Facts) Ticket(name string) Ticket {
	for _, t := range f.Tickets {
		if t.Name == name {
			return t
		}
	}
	return Ticket{Name: name}
}

// Commit is one commit that a change brings.
type Commit struct {
	ID        string    `json:"id"`
	Message   string    `json:"message"` // subject, and body after an empty line
	Parents   int       `json:"parents"`
	Email     string    `json:"email,omitempty"` // its author's, as the commit has it
	Signature Signature `json:"signature,omitzero"`
	// PickedFrom is the commit that its message says it was picked from, as git cherry-pick -x writes it; On are the
	// branches that hold that one, or itself where it says nothing, as far as rules ask for such branches.
	PickedFrom string   `json:"picked_from,omitempty"`
	On         []string `json:"on,omitempty"`
	// Reserved is a trailer in its message that only the service writes; Landed says that it is genuine: the records
	// know the commit as landed.
	Reserved string `json:"reserved,omitempty"`
	Landed   bool   `json:"landed,omitempty"`
}

// Subject returns the first line of the message.
func (c Commit) Subject() string {
	subject, _, _ := strings.Cut(c.Message, "\n")
	return subject
}

// pickedFrom matches the line that git cherry-pick -x adds to a message.
var pickedFrom = regexp.MustCompile(`(?m)^\(cherry picked from commit ([0-9a-f]{40}|[0-9a-f]{64})\)\s*$`)

// PickedFrom returns the commit that a message says it was picked from, the last where it names several; empty: none.
func PickedFrom(message string) string {
	all := pickedFrom.FindAllStringSubmatch(message, -1)
	if len(all) == 0 {
		return ""
	}
	return all[len(all)-1][1]
}

// SignatureState says what a commit's signature proves.
type SignatureState string

// The states of a signature. The zero value is that of a commit without one.
const (
	Unsigned   SignatureState = ""
	UnknownKey SignatureState = "unknown-key" // by a key that nobody has registered
	Unread     SignatureState = "unread"      // of a kind that is not verified: OpenPGP, X.509
	BadlyMade  SignatureState = "bad"         // it does not fit the commit
	Good       SignatureState = "good"        // by a registered key of By
)

// Words says what the state means.
func (s SignatureState) Words() string {
	switch s {
	case UnknownKey:
		return "signed by a key that nobody has registered here"
	case Unread:
		return "signed in a way that is not verified here (OpenPGP or X.509; sign with an SSH key)"
	case BadlyMade:
		return "has a signature that does not fit it"
	case Good:
		return "signed"
	case Unsigned:
	}
	return "not signed"
}

// Signature is what is known of a commit's signature.
type Signature struct {
	State SignatureState `json:"state,omitempty"`
	By    string         `json:"by,omitempty"` // login
}

// Tag is what is known of a tag that is pushed. One without an object of its own is a name for a commit and nothing more.
type Tag struct {
	ID        string // of its object; empty: it has none
	Signature Signature
}

// Dependency is another change of the repository that a change waits for.
type Dependency struct {
	Number int    `json:"number"`
	Title  string `json:"title"`
	State  string `json:"state"`
	Target string `json:"target"`
}

// Thread is one discussion.
type Thread struct {
	ID         int64  `json:"id"`
	By         string `json:"by"`    // login of who began it
	Where      string `json:"where"` // in words: a path and line, or "the change"
	ResolvedBy string `json:"resolved_by,omitempty"`
}

// Facts is everything a gate depends on. It can be stored as JSON and judged again.
type Facts struct {
	Repository  string          `json:"repository"`
	Number      int             `json:"number"`
	State       string          `json:"state"` // draft, open, landed or closed
	Title       string          `json:"title,omitempty"`
	Description string          `json:"description,omitempty"`
	Source      string          `json:"source,omitempty"`
	Target      string          `json:"target"`
	TargetGone  bool            `json:"target_gone,omitempty"` // there is no such branch now
	SourceGone  bool            `json:"source_gone,omitempty"`
	Revision    int             `json:"revision"`
	Head        string          `json:"head"`
	Opener      string          `json:"opener,omitempty"`
	Authors     []string        `json:"authors"`
	LastPusher  string          `json:"last_pusher"`
	Reviews     []Review        `json:"reviews"`
	People      people.Everyone `json:"people"` // with a role in the repository
	// PushedAt is when the newest revision came.
	PushedAt time.Time `json:"pushed_at,omitzero"`
	Paths    []string  `json:"paths"`         // touched by the difference, renames at both ends
	Ways     Ways      `json:"ways,omitzero"` // which of them are more than changed
	Files    int       `json:"files,omitempty"`
	Added    int       `json:"added,omitempty"` // lines
	Removed  int       `json:"removed,omitempty"`
	// Bases is how many best common ancestors source and target have; more than one: the difference is not all of it.
	Bases int `json:"bases,omitempty"`
	// History is what the commits bring one by one, which matters to strategies that keep them.
	History History  `json:"history,omitzero"`
	Labels  []string `json:"labels,omitempty"`
	Commits []Commit `json:"commits,omitempty"`
	// CommitAuthors are those who brought or wrote a commit, by login.
	CommitAuthors []string `json:"commit_authors,omitempty"`
	// AuthorTeams are the authors' teams, also of authors who have lost their access.
	AuthorTeams  map[string][]string `json:"author_teams,omitempty"`
	Threads      []Thread            `json:"threads,omitempty"`
	HeadChecks   []Check             `json:"head_checks"`
	Rehearsal    *Rehearsal          `json:"rehearsal,omitempty"`
	RulesVersion int                 `json:"rules_version"`
	HouseVersion int                 `json:"house_version,omitempty"` // of the house rules; 0: none
	Suspended    []Suspension        `json:"suspended,omitempty"`     // protections that are suspended at At
	// Dependencies are the changes that it waits for.
	Dependencies []Dependency `json:"dependencies,omitempty"`
	// Tracker is the host of the house's tracker, empty: it has none; Tickets are its newest answers about the tickets that
	// the change refers to, as far as rules ask for them.
	Tracker string   `json:"tracker,omitempty"`
	Tickets []Ticket `json:"tickets,omitempty"`
	// Undoes is the number of the change whose landing it takes back, doing nothing else; 0: none.
	Undoes int `json:"undoes,omitempty"`
	// RedTip are the checks that failed on the target's tip, where rules want them.
	RedTip []Check `json:"red_tip,omitempty"`
	// Stops are why nothing lands on the target now, whatever else holds.
	Stops []Stop `json:"stops,omitempty"`
	// Waivers are those on record for the change that have been neither used nor ended; Tip is the target's when
	// there is one.
	Waivers []Waiver `json:"waivers,omitempty"`
	Tip     string   `json:"tip,omitempty"`
	// At is the moment of judgement; zero in records from before it was kept: nothing is then too old.
	At time.Time `json:"at,omitzero"`
	// Asker, Strategy and Message belong to the queue entry; all are empty when nobody has asked to land.
	Asker    string   `json:"asker,omitempty"`
	Strategy Strategy `json:"strategy,omitempty"`
	Message  string   `json:"message,omitempty"` // as typed; empty: from the rules' template
}

// History is what a change's commits bring one by one.
type History struct {
	Hidden  []string `json:"hidden,omitempty"` // paths that some commit touches and the difference does not show
	Files   int      `json:"files,omitempty"`  // of the largest commit
	Added   int      `json:"added,omitempty"`
	Removed int      `json:"removed,omitempty"`
	Ways    Ways     `json:"ways,omitzero"` // of all paths that commits touch
}

// Ways are paths that are added, removed or renamed, by which conditions may ask for them. Of a renamed file it is both
// paths, and neither is added nor removed.
type Ways struct {
	Added   []string `json:"added,omitempty"`
	Removed []string `json:"removed,omitempty"`
	Renamed []string `json:"renamed,omitempty"`
}

// Comes lists the paths that a landing brings to the target: those of the difference, and, by a strategy that keeps the
// commits, those that its commits touch besides.
func (f Facts) Comes(strategy Strategy) []string {
	if !strategy.Keeps() || len(f.History.Hidden) == 0 {
		return f.Paths
	}
	return slices.Concat(f.Paths, f.History.Hidden)
}

// Largest is the size that counts of what a landing brings: that of the difference, or, by a strategy that keeps the
// commits, that of the largest of them where it is larger.
func (f Facts) Largest(strategy Strategy) (lines, files int) {
	lines, files = f.Added+f.Removed, f.Files
	if strategy.Keeps() {
		lines, files = max(lines, f.History.Added+f.History.Removed), max(files, f.History.Files)
	}
	return lines, files
}

// task is a box of a checklist, as GFM and many programs write it.
var task = regexp.MustCompile(`(?m)^\s*(?:[-*+]|\d+[.)])\s+\[([ xX])\]\s+(.*)$`)

// Tasks counts the boxes of the description's checklist and names those that are not ticked.
func (f Facts) Tasks() (all int, open []string) {
	for _, m := range task.FindAllStringSubmatch(f.Description, -1) {
		all++
		if m[1] == " " {
			open = append(open, strings.TrimSpace(m[2]))
		}
	}
	return all, open
}

// Strategy is a way to bring a change's commits onto the target.
type Strategy string

// The strategies.
const (
	Rebase Strategy = "rebase"
	Squash Strategy = "squash"
	Merge  Strategy = "merge"
	// Fold is a rebase with the commits that are marked for it folded into others; FastForward moves the branch to the
	// change's own commits. The last two are followed by a merge commit, even where none would be needed.
	Fold            Strategy = "fold"
	FastForward     Strategy = "fast-forward"
	SquashThenMerge Strategy = "squash-then-merge"
	RebaseThenMerge Strategy = "rebase-then-merge"
)

// Strategies lists every strategy in the order they are offered.
var Strategies = []Strategy{Rebase, Squash, Merge, Fold, FastForward, SquashThenMerge, RebaseThenMerge}

// One says whether the strategy makes one commit of those of the change.
func (s Strategy) One() bool { return s == Squash || s == SquashThenMerge }

// Replays says whether the strategy writes the change's commits anew, one by one or folded: without merge commits, and
// without what only the service says.
func (s Strategy) Replays() bool { return s == Rebase || s == Fold || s == RebaseThenMerge }

// Final says whether the strategy writes a message of its own. One that nobody has chosen yet may.
func (s Strategy) Final() bool { return s != Rebase && s != Fold && s != FastForward }

// Keeps says whether the strategy brings the change's commits one by one, so that each is judged. One that nobody has
// chosen yet may.
func (s Strategy) Keeps() bool { return !s.One() }

// Linear says whether the strategy makes no merge commit.
func (s Strategy) Linear() bool { return s == Rebase || s == Squash || s == Fold || s == FastForward }

// Suspension puts a protection out of force for a time. It ends by itself.
type Suspension struct {
	Document   string    `json:"document,omitempty" doc:"\"house NAME\"; absent: the repository's own rules"`
	Protection string    `json:"protection"`
	Until      time.Time `json:"until"`
	By         string    `json:"by"`
	Reason     string    `json:"reason"`
}

// Waiver is a decision, on record, to let one change land although named requirements do not hold. It counts for
// one revision on one tip of the target, until it expires, and for as long as whoever made it has the right to.
type Waiver struct {
	ID           int64     `json:"id"`
	By           string    `json:"by"`
	Reason       string    `json:"reason"`
	Revision     int       `json:"revision"`
	Tip          string    `json:"tip"` // of the target, when it was made
	Until        time.Time `json:"until"`
	Requirements []Named   `json:"requirements"`
}

// Named is a requirement as somebody saw it: where the rules have come to ask something else under its key, it is
// not the one that was meant.
type Named struct {
	Key   string `json:"key"`
	Title string `json:"title"`
}

// Lapsed says why a waiver does not count for the facts; nothing when it does.
func (o Waiver) Lapsed(f Facts) string {
	switch {
	case !f.At.Before(o.Until):
		return "it has expired"
	case o.Revision != f.Revision:
		return fmt.Sprintf("it was for revision %d, and a new one was pushed", o.Revision)
	case f.Tip != "" && o.Tip != f.Tip, f.Rehearsal != nil && o.Tip != f.Rehearsal.Base:
		return "the target has moved on since"
	}
	return ""
}

// Parts is the facts with those people alone who have a part in them: who brought, reviewed, discussed, signed, waived or
// asked. Whatever is judged comes out the same; only who else could act is not told, which nobody asks of what has landed.
func (f Facts) Parts() Facts {
	parts := []string{f.Opener, f.LastPusher, f.Asker}
	parts = append(append(parts, f.Authors...), f.CommitAuthors...)
	for _, r := range f.Reviews {
		parts = append(parts, r.By)
	}
	for _, t := range f.Threads {
		parts = append(parts, t.By, t.ResolvedBy)
	}
	for _, c := range f.Commits {
		parts = append(parts, c.Signature.By)
	}
	for _, w := range f.Waivers {
		parts = append(parts, w.By)
	}
	all := f.People
	those := make(map[string]people.Person, len(parts))
	for _, login := range parts {
		if p, known := all.Of(login); known {
			those[login] = p
		}
	}
	f.People = people.Known(those)
	return f
}
