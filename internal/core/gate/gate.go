// Package gate says what still stands between a change and its target.
//
// Judge takes the facts about a change and the rules of its target branch, and gives a Report: one Requirement
// for each thing the rules ask, with what is had and needed, where the demand comes from, who can act and what to
// do next. The same report, word for word, is shown by the API, the command line and the console, so every
// sentence about a gate is written here and nowhere else.
//
// A report is ready when everything holds but what only a rehearsal can show, so the change may be rehearsed; it
// is clear when everything holds for the one rehearsed commit in the facts, so that commit may land. Judge is
// pure: the same facts under the same rules give the same report, which is how a landing is judged again later.
package gate

import (
	"fmt"
	"slices"
	"strings"

	"tavrin/internal/core/areas"
	"tavrin/internal/core/rules"
)

// Role is what a person may do in a repository, each including the one before.
type Role string

// The roles, weakest first. The empty role is none.
const (
	NoRole     Role = ""
	Reader     Role = "reader"
	Writer     Role = "writer"
	Maintainer Role = "maintainer"
)

var roleOrder = []Role{NoRole, Reader, Writer, Maintainer}

// AtLeast says whether the role includes the other.
func (r Role) AtLeast(other Role) bool {
	return slices.Index(roleOrder, r) >= slices.Index(roleOrder, other)
}

// Person is what the gate needs to know of somebody with access to the repository.
type Person struct {
	Login string   `json:"login"`
	Role  Role     `json:"role"`
	Teams []string `json:"teams,omitempty"`
	Robot bool     `json:"robot,omitempty"`
	// Standby marks an administrator without a role of their own here: they may act, and are asked last.
	Standby bool `json:"standby,omitempty"`
}

// Is says whether the person is meant by the principal.
func (p Person) Is(who rules.Principal) bool {
	switch who.Kind {
	case rules.Person:
		return !p.Robot && p.Login == who.Name
	case rules.Robot:
		return p.Robot && p.Login == who.Name
	case rules.Team:
		return slices.Contains(p.Teams, who.Name)
	case rules.ByRole:
		return p.Role.AtLeast(Role(who.Name))
	}
	return false
}

// IsAny says whether the person is meant by one of the principals.
func (p Person) IsAny(who []rules.Principal) bool { return slices.ContainsFunc(who, p.Is) }

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
	// SameDifference says that the newest revision brings exactly what the reviewed one brought.
	SameDifference bool `json:"same_difference"`
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
}

// Rehearsal is a commit built on the target's tip, and its checks.
type Rehearsal struct {
	Commit string  `json:"commit"`
	Base   string  `json:"base"`
	Checks []Check `json:"checks"`
}

// Facts is everything a gate depends on. It can be stored as JSON and judged again.
type Facts struct {
	Repository   string            `json:"repository"`
	Number       int               `json:"number"`
	State        string            `json:"state"` // draft, open, landed or closed
	Target       string            `json:"target"`
	Revision     int               `json:"revision"`
	Head         string            `json:"head"`
	Authors      []string          `json:"authors"`
	LastPusher   string            `json:"last_pusher"`
	Reviews      []Review          `json:"reviews"`
	People       map[string]Person `json:"people"` // by login; everybody with a role in the repository
	Paths        []string          `json:"paths"`  // touched by the difference, renames at both ends
	HeadChecks   []Check           `json:"head_checks"`
	Rehearsal    *Rehearsal        `json:"rehearsal,omitempty"`
	RulesVersion int               `json:"rules_version"`
	// Asker and Strategy belong to the queue entry; both are empty when nobody has asked to land.
	Asker    string         `json:"asker,omitempty"`
	Strategy rules.Strategy `json:"strategy,omitempty"`
}

// State is how a requirement stands.
type State string

// The states of a requirement.
const (
	Met           State = "met"
	Unmet         State = "unmet"
	Pending       State = "pending"
	NotApplicable State = "not-applicable"
)

// Requirement is one line of a gate report.
type Requirement struct {
	Key     string         `json:"key" doc:"stable within the change, such as approvals, owners/valves or check/unit@rehearsal"`
	Title   string         `json:"title"`
	Level   rules.Level    `json:"level" enum:"required,advisory"`
	State   State          `json:"state" enum:"met,unmet,pending,not-applicable"`
	Have    int            `json:"have"`
	Need    int            `json:"need"`
	Because string         `json:"because" doc:"where the demand comes from, in words"`
	Sources []rules.Source `json:"sources" doc:"the same, for programs"`
	Who     []string       `json:"who" doc:"logins and robots that can act now"`
	Next    string         `json:"next" doc:"what to do; empty when met"`
	// At is "rehearsal" for what only a rehearsal can show.
	At string `json:"at" enum:"change,rehearsal"`
}

// Holds says whether the requirement no longer asks for anything.
func (r Requirement) Holds() bool { return r.State == Met || r.State == NotApplicable }

// Report is the gate of one change.
type Report struct {
	Revision     int           `json:"revision"`
	RulesVersion int           `json:"rules_version"`
	Ready        bool          `json:"ready" doc:"all but what only a rehearsal can show"`
	Clear        bool          `json:"clear" doc:"everything, for the rehearsed commit"`
	Summary      string        `json:"summary" doc:"the gate in one sentence"`
	Requirements []Requirement `json:"requirements"`
	Approvers    []string      `json:"approvers" doc:"whose approvals count for at least one requirement; where none is asked for, whose stand"`
}

// Judge gives the gate report of a change under its target's rules. A nil document is one without protections.
func Judge(doc *rules.Document, f Facts) Report {
	if doc == nil {
		doc = &rules.Document{}
	}
	j := judge{doc: doc, f: f, effective: doc.For(f.Target, f.RulesVersion)}
	j.open()
	for _, q := range j.effective.Requirements {
		switch q.Demand {
		case rules.Approvals:
			j.approvals(q)
		case rules.Owners:
			j.owners(q)
		case rules.Objections:
			j.objections(q)
		case rules.Checks:
			j.checks(q)
		}
	}
	j.areas()
	j.asked()
	r := Report{Revision: f.Revision, RulesVersion: f.RulesVersion, Requirements: j.out, Ready: true, Approvers: j.approvers()}
	r.Clear = f.Rehearsal != nil
	for _, q := range r.Requirements {
		if q.Level != rules.Required || q.Holds() {
			continue
		}
		r.Clear = false
		if q.At != "rehearsal" {
			r.Ready = false
		}
	}
	r.Summary = summary(f, r)
	return r
}

// judge gathers the requirements of one report.
type judge struct {
	doc       *rules.Document
	f         Facts
	effective rules.Effective
	out       []Requirement
	pools     int      // demands for approvals
	counted   []string // whose approvals count for one of them
}

// approvers lists whose approvals count, by login.
func (j *judge) approvers() []string {
	if j.pools == 0 {
		everybody := pool{in: func(Person) bool { return true }, not: []rules.Exclusion{rules.NotAuthor}}
		for _, r := range j.f.Reviews {
			if r.Verdict == Approve && j.discount(r, everybody) == "" {
				j.counted = append(j.counted, r.By)
			}
		}
	}
	slices.Sort(j.counted)
	return append([]string{}, slices.Compact(j.counted)...)
}

func (j *judge) add(q Requirement, sources []rules.Source) {
	if q.Level == "" {
		q.Level = rules.Required
	}
	if q.At == "" {
		q.At = "change"
	}
	if q.Who == nil {
		q.Who = []string{}
	}
	if q.Holds() {
		q.Who = []string{}
	}
	q.Sources = sources
	if q.Sources == nil {
		q.Sources = []rules.Source{}
	}
	if q.Because == "" {
		texts := make([]string, len(sources))
		for i, s := range sources {
			texts[i] = s.String()
		}
		q.Because = strings.Join(texts, " and ")
	}
	for n, key := 2, q.Key; slices.ContainsFunc(j.out, func(o Requirement) bool { return o.Key == q.Key }); n++ {
		q.Key = fmt.Sprintf("%s/%d", key, n)
	}
	j.out = append(j.out, q)
}

// shownAlready says whether a requirement with this title and level is in the report; if so, it gets the sources
// too. Titles say everything that is asked, so that equal ones ask the same.
func (j *judge) shownAlready(title string, level rules.Level, from []rules.Source) bool {
	for i := range j.out {
		if j.out[i].Title == title && j.out[i].Level == level {
			for _, s := range from {
				j.out[i].Sources = append(j.out[i].Sources, s)
				j.out[i].Because += " and " + s.String()
			}
			return true
		}
	}
	return false
}

func (j *judge) open() {
	q := Requirement{Key: "open", Title: "the change is open", Because: "every change", Need: 1}
	switch j.f.State {
	case "open":
		q.State, q.Have = Met, 1
	case "draft":
		q.State, q.Who = Unmet, j.f.Authors
		q.Next = fmt.Sprintf("it is a draft: when it is finished, tavrin change edit %d --draft=false", j.f.Number)
	case "landed":
		q.State, q.Next = Unmet, "it has landed already: nothing more to do"
	default:
		q.State, q.Who = Unmet, j.f.Authors
		q.Next = fmt.Sprintf("it is closed: tavrin change reopen %d", j.f.Number)
	}
	j.add(q, nil)
}

// pool says whose approvals are wanted: the title's words, and who is in it.
type pool struct {
	words string
	in    func(Person) bool
	not   []rules.Exclusion
}

func (j *judge) approvals(q rules.Sourced) {
	p := pool{words: "anyone who may write", in: func(p Person) bool { return p.Role.AtLeast(Writer) }, not: q.NotFrom}
	title := count(q.Count, "approval")
	if len(q.Requirement.From) > 0 {
		p.words = list(principals(q.Requirement.From), "or")
		p.in = func(p Person) bool { return p.IsAny(q.Requirement.From) }
		title += " from " + p.words
	}
	if slices.Contains(q.NotFrom, rules.NotLastPusher) {
		title += ", not the last pusher's"
	}
	if !slices.Contains(q.NotFrom, rules.NotAuthor) {
		title += ", an author's own counting"
	}
	if q.Called != "" {
		title = q.Called + ": " + title
	}
	j.approvedBy("approvals", title, q.Count, p, q.Level, q.From)
}

func (j *judge) owners(q rules.Sourced) {
	touched := areas.Of(j.doc.Areas, j.f.Paths)
	if len(touched) == 0 {
		j.add(Requirement{Key: "owners", Title: "an owner of every touched area", Level: q.Level, State: NotApplicable,
			Next: "the change touches no area"}, q.From)
		return
	}
	for _, t := range touched {
		j.ownersOf(t, 1, q.Level, q.From)
	}
}

// ownersOf asks for n approvals by an area's owners. An author who owns the area does not count for it.
func (j *judge) ownersOf(t areas.Touched, n int, level rules.Level, from []rules.Source) {
	title := fmt.Sprintf("%s by an owner of %s", count(n, "approval"), t.Area.Name)
	p := pool{
		words: "an owner of " + t.Area.Name + " (" + list(principals(t.Area.Owners), "or") + ")",
		in:    func(p Person) bool { return p.IsAny(t.Area.Owners) },
		not:   []rules.Exclusion{rules.NotAuthor},
	}
	j.approvedBy("owners/"+t.Area.Name, title, n, p, level, from)
}

// areas adds what touched areas ask by themselves: approvals and checks.
func (j *judge) areas() {
	for _, t := range areas.Of(j.doc.Areas, j.f.Paths) {
		from := []rules.Source{{Protection: "area " + t.Area.Name, Version: j.f.RulesVersion, Line: t.Area.Line}}
		if t.Area.Approvals > 0 {
			j.ownersOf(t, t.Area.Approvals, rules.Required, from)
		}
		for _, name := range t.Area.Checks {
			j.check(name, rules.AtRehearsal, rules.Required, from)
		}
	}
}

// approvedBy judges one demand for n approvals out of a pool.
func (j *judge) approvedBy(key, title string, n int, p pool, level rules.Level, from []rules.Source) {
	if j.shownAlready(title, level, from) {
		return
	}
	q := Requirement{Key: key, Title: title, Level: level, Need: n}
	var counted, notes []string
	for _, r := range j.f.Reviews {
		if r.Verdict != Approve || !p.in(j.f.People[r.By]) {
			continue
		}
		if why := j.discount(r, p); why != "" {
			notes = append(notes, why)
			continue
		}
		counted = append(counted, r.By)
	}
	j.pools++
	j.counted = append(j.counted, counted...)
	q.Have = len(counted)
	if q.Have >= n {
		q.State = Met
		j.add(q, from)
		return
	}
	q.State = Unmet
	var standby []string
	for login, person := range j.f.People {
		switch {
		case !p.in(person) || !person.Role.AtLeast(Reader) || person.Robot || j.excluded(login, p.not) != "" || slices.Contains(counted, login):
		case person.Standby:
			standby = append(standby, login)
		default:
			q.Who = append(q.Who, login)
		}
	}
	if len(q.Who) < n-q.Have {
		q.Who = append(q.Who, standby...)
	}
	slices.Sort(q.Who)
	missing := n - q.Have
	switch {
	case len(q.Who) < missing:
		q.Next = fmt.Sprintf("%s more needed from %s, and only %s could give one: a maintainer has to add people or change the rule",
			count(missing, "approval"), p.words, people(q.Who))
	default:
		q.Next = fmt.Sprintf("%s more needed; ask %s to run: tavrin review approve %d --revision %d",
			count(missing, "approval"), people(q.Who), j.f.Number, j.f.Revision)
	}
	if len(notes) > 0 {
		q.Next += " (" + strings.Join(notes, "; ") + ")"
	}
	j.add(q, from)
}

// discount says why an approval does not count, or nothing when it does.
func (j *judge) discount(r Review, p pool) string {
	person := j.f.People[r.By]
	if person.Robot {
		return r.By + " is a robot, and robots do not approve"
	}
	if why := j.excluded(r.By, p.not); why != "" {
		return r.By + "'s approval does not count: " + why
	}
	if r.Revision == j.f.Revision {
		return ""
	}
	switch j.effective.Stay {
	case rules.StayAlways:
		return ""
	case rules.StayIfUnchanged:
		if r.SameDifference {
			return ""
		}
		return fmt.Sprintf("%s approved revision %d, and the difference has changed since", r.By, r.Revision)
	default:
		return fmt.Sprintf("%s approved revision %d, and every push ends approvals here", r.By, r.Revision)
	}
}

func (j *judge) excluded(login string, not []rules.Exclusion) string {
	for _, x := range not {
		switch x {
		case rules.NotAuthor:
			if slices.Contains(j.f.Authors, login) {
				return "an author of the change"
			}
		case rules.NotLastPusher:
			if j.f.LastPusher == login {
				return "the last to push"
			}
		}
	}
	return ""
}

func (j *judge) objections(q rules.Sourced) {
	r := Requirement{Key: "objections", Title: "no open objection", Level: q.Level, State: Met}
	for _, review := range j.f.Reviews {
		if review.Verdict == Object {
			r.Who = append(r.Who, review.By)
		}
	}
	if r.Have = len(r.Who); r.Have > 0 {
		r.State = Unmet
		r.Next = fmt.Sprintf("%s objects: settle it with them; they withdraw it with tavrin review withdraw %d, or approve",
			people(r.Who), j.f.Number)
	}
	j.add(r, q.From)
}

func (j *judge) checks(q rules.Sourced) {
	for _, name := range q.Checks {
		j.check(name, q.At, q.Level, q.From)
	}
}

func (j *judge) check(name string, at rules.Place, level rules.Level, from []rules.Source) {
	key := "check/" + name + "@" + string(at)
	title := fmt.Sprintf("check %s passes on the %s", name, at)
	if j.shownAlready(title, level, from) {
		return
	}
	q := Requirement{Key: key, Title: title, Level: level, Need: 1}
	checks := j.f.HeadChecks
	if at == rules.AtRehearsal {
		q.At = "rehearsal"
		if j.f.Rehearsal == nil {
			q.State, q.Next = Pending, "it runs when the change is rehearsed: tavrin queue join "+fmt.Sprint(j.f.Number)
			if j.f.Asker != "" {
				q.Next = "it runs when the queue rehearses the change"
			}
			j.add(q, from)
			return
		}
		checks = j.f.Rehearsal.Checks
	}
	declared := j.doc.Check(name)
	i := slices.IndexFunc(checks, func(c Check) bool { return c.Name == name })
	var c Check
	if i >= 0 {
		c = checks[i]
	}
	q.State, q.Next = checkStanding(declared, c, at)
	if q.State == Met {
		q.Have = 1
	} else {
		q.Who = []string{reporter(declared)}
	}
	j.add(q, from)
}

// checkStanding says how a check's report stands against what the rules declare of the check, and what is next.
func checkStanding(declared rules.Check, c Check, at rules.Place) (State, string) {
	by := reporter(declared)
	switch {
	case c.State == NotReported || c.State == Waiting:
		return Pending, "waiting for " + by
	case c.State == Running:
		return Pending, c.Name + " is running"
	case declared.Command != "" && !c.Runner:
		return Unmet, fmt.Sprintf("%s was reported by %s, but the rules define it as a command: only a runner's answer counts", c.Name, c.By)
	case declared.Witness != "" && declared.Witness != c.By:
		return Unmet, fmt.Sprintf("%s was reported by %s, but the rules name robot:%s as its witness", c.Name, c.By, declared.Witness)
	case c.State == Passed:
		return Met, ""
	}
	next := fmt.Sprintf("%s %s", c.Name, c.State)
	if c.Summary != "" {
		next += " (" + c.Summary + ")"
	}
	if at == rules.AtRehearsal {
		return Unmet, next + ": mend the change and push, then join again; joining again by itself runs it once more"
	}
	return Unmet, next + fmt.Sprintf(": mend the change and push, or ask for another attempt with tavrin check again --name %q", c.Name)
}

func reporter(c rules.Check) string {
	switch {
	case c.Command != "":
		return "a runner"
	case c.Witness != "":
		return "robot:" + c.Witness
	default:
		return "a witness for " + c.Name
	}
}

// asked judges what depends on who asked to land and how.
func (j *judge) asked() {
	if j.f.Asker == "" {
		return
	}
	person := j.f.People[j.f.Asker]
	q := Requirement{Key: "lander", Title: j.f.Asker + " may land", State: Met, Have: 1, Need: 1, Because: "every landing"}
	var sources []rules.Source
	if !person.Role.AtLeast(Writer) {
		q.State, q.Have, q.Next = Unmet, 0, j.f.Asker+" may not write here: somebody who may has to join the queue"
	}
	for _, a := range j.effective.LandBy {
		if q.State == Met && !person.IsAny(a.Who) {
			q.State, q.Have, q.Because, sources = Unmet, 0, a.Source.String(), []rules.Source{a.Source}
			q.Next = fmt.Sprintf("landing is for %s: one of them has to join the queue", list(principals(a.Who), "or"))
		}
	}
	j.add(q, sources)
	s := Requirement{Key: "strategy", Title: fmt.Sprintf("strategy %s is allowed", j.f.Strategy), State: Met, Have: 1, Need: 1}
	if len(j.effective.WithFrom) == 0 {
		s.Because = "every landing"
	}
	if !slices.Contains(j.effective.With, j.f.Strategy) {
		s.State, s.Have = Unmet, 0
		s.Next = fmt.Sprintf("leave the queue and join again with one of: %s", Join(j.effective.With))
		if len(j.effective.With) == 0 {
			s.Next = "the matching protections leave no strategy: a maintainer has to change the rules"
		}
	}
	j.add(s, j.effective.WithFrom)
}

func summary(f Facts, r Report) string {
	var open []string
	pending := 0
	for _, q := range r.Requirements {
		if q.Level != rules.Required || q.Holds() {
			continue
		}
		if q.At == "rehearsal" {
			pending++
			continue
		}
		open = append(open, q.Title)
	}
	switch {
	case f.State == "landed":
		return fmt.Sprintf("Change %d has landed on %s.", f.Number, f.Target)
	case r.Clear:
		return fmt.Sprintf("Clear: rehearsed commit %.10s may land on %s.", f.Rehearsal.Commit, f.Target)
	case len(open) > 0:
		return fmt.Sprintf("Not ready for %s: %s still missing (%s).", f.Target, count(len(open), "requirement"), strings.Join(open, "; "))
	case pending > 0:
		return fmt.Sprintf("Ready for %s: only %s on the rehearsal remains.", f.Target, count(pending, "check"))
	default:
		return fmt.Sprintf("Ready for %s.", f.Target)
	}
}

// Join lists words with commas.
func Join[T ~string](words []T) string {
	texts := make([]string, len(words))
	for i, w := range words {
		texts[i] = string(w)
	}
	return strings.Join(texts, ", ")
}

func principals(ps []rules.Principal) []string {
	texts := make([]string, len(ps))
	for i, p := range ps {
		texts[i] = p.String()
	}
	return texts
}

// people lists logins, the first five when there are more than six.
func people(logins []string) string {
	if len(logins) > 6 {
		return fmt.Sprintf("%s or %d others", strings.Join(logins[:5], ", "), len(logins)-5)
	}
	return list(logins, "or")
}

func list(words []string, last string) string {
	switch len(words) {
	case 0:
		return "nobody"
	case 1:
		return words[0]
	}
	return strings.Join(words[:len(words)-1], ", ") + " " + last + " " + words[len(words)-1]
}

func count(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return fmt.Sprintf("%d %ss", n, noun)
}
