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
	"regexp"
	"slices"
	"strings"

	"tavrin/internal/core/rules"
)

// State is how a requirement stands.
type State string

// The states of a requirement.
const (
	Met           State = "met"
	Unmet         State = "unmet"
	Pending       State = "pending"
	Overridden    State = "overridden"
	NotApplicable State = "not-applicable"
)

// Requirement is one line of a gate report.
type Requirement struct {
	Key     string         `json:"key" doc:"stable within the change, such as approvals, owners/valves or check/unit@rehearsal"`
	Title   string         `json:"title"`
	Level   rules.Level    `json:"level" enum:"required,advisory"`
	State   State          `json:"state" enum:"met,unmet,pending,overridden,not-applicable"`
	Have    int            `json:"have"`
	Need    int            `json:"need"`
	Because string         `json:"because" doc:"where the demand comes from, in words"`
	Sources []rules.Source `json:"sources" doc:"the same, for programs"`
	Who     []string       `json:"who" doc:"logins and robots that can act now"`
	Next    string         `json:"next" doc:"what to do; empty when met"`
	// At is "rehearsal" for what only a rehearsal can show.
	At     string   `json:"at" enum:"change,rehearsal"`
	Checks []string `json:"checks,omitempty" doc:"names of the checks it depends on"`
	Again  []string `json:"again,omitempty" doc:"those of them whose pass has grown too old, so that they are wanted again"`
}

// Holds says whether the requirement no longer asks for anything.
func (r Requirement) Holds() bool {
	return r.State == Met || r.State == NotApplicable || r.State == Overridden
}

// OfReviewers says whether it asks for approvals: of some number of people, or of the owners of areas.
func (r Requirement) OfReviewers() bool {
	return strings.HasPrefix(r.Key, "approvals") || strings.HasPrefix(r.Key, "owners")
}

// Report is the gate of one change.
type Report struct {
	Revision     int           `json:"revision"`
	RulesVersion int           `json:"rules_version"`
	HouseVersion int           `json:"house_version,omitempty" doc:"version of the house rules; absent: none"`
	Ready        bool          `json:"ready" doc:"all but what only a rehearsal can show"`
	Clear        bool          `json:"clear" doc:"everything, for the rehearsed commit"`
	Summary      string        `json:"summary" doc:"the gate in one sentence"`
	Requirements []Requirement `json:"requirements"`
	Reviews      []Weighed     `json:"reviews" doc:"of the gate of one change: each approval and objection that stands, whether it counts, for what, and if not why not"`
	Approvers    []string      `json:"approvers" doc:"whose approvals count for at least one requirement; where none is asked for, whose stand"`
	Exempted     []string      `json:"exempted,omitempty" doc:"protections that do not bind who asked to land"`
	Overrides    []int64       `json:"overrides,omitempty" doc:"numbers of the overrides that set something aside"`
}

// Judge gives the gate report of a change under its target's rules. A nil set is one without protections.
func Judge(set *rules.Set, f Facts) Report {
	r, _ := judged(set, f)
	return r
}

// JudgeInFull is Judge with each review weighed, which is for showing and costs more than the rest.
func JudgeInFull(set *rules.Set, f Facts) Report {
	r, j := judged(set, f)
	r.Reviews = j.weighed()
	return r
}

func judged(set *rules.Set, f Facts) (Report, *judge) {
	if set == nil {
		set = rules.NewSet(f.Repository)
	}
	set = set.Without(f.Suspended)
	j := &judge{set: set, f: f, effective: set.For(f.Target), all: set.For(f.Target)}
	j.touched = set.Touched(f.Comes(j.strategy())) // see Comes
	bound := j.effective
	if f.Asker != "" {
		asker := f.People[f.Asker]
		bound = set.Binding(f.Target, asker.Is)
	}
	j.out = make([]Requirement, 0, len(j.effective.Requirements)+len(j.touched)+3)
	j.open()
	j.shown()
	j.dependencies()
	every := j.effective
	j.effective = bound
	for _, q := range every.Requirements {
		q, binds := bound.Asked(q) // where another protection asks the same, at the level at which it does
		j.judge(q, !binds)
	}
	j.areas()
	j.checksWanted()
	j.asked()
	j.setAside()
	r := Report{Revision: f.Revision, RulesVersion: f.RulesVersion, HouseVersion: f.HouseVersion, Requirements: j.out,
		Ready: true, Approvers: j.approversCounted()}
	for _, s := range bound.Exempted {
		r.Exempted = append(r.Exempted, s.String())
	}
	r.Overrides, r.Reviews = j.overrides, []Weighed{}
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
	if f.Number == 0 {
		unnumbered(r.Requirements)
	}
	return r, j
}

// numbered matches a command that names the change by its number.
var numbered = regexp.MustCompile(`(tavrin [a-z]+ [a-z-]+) 0\b`)

// unnumbered writes N for the number that a change has not got yet, in the commands of its next steps.
func unnumbered(all []Requirement) {
	for i := range all {
		all[i].Next = numbered.ReplaceAllString(all[i].Next, "$1 N")
	}
}

// judge gathers the requirements of one report.
type judge struct {
	set       *rules.Set
	f         Facts
	effective *rules.Effective // what binds this landing
	all       *rules.Effective // what would bind it if nobody were exempt
	touched   []rules.Touched
	out       []Requirement
	wanted    []wantedCheck
	strays    map[rules.Place][]stray // once somebody asked
	pools     map[int]pool            // of the demands for approvals, by their places in out
	same      map[string]int          // places in out, by what is asked
	counted   []string                // whose approvals count for one of them
	facts     *rules.Brought
	given     []approval
	people    []Person // everybody, by login, once somebody asked
	overrides []int64  // that set something aside
}

// judge judges one requirement of the rules, or says why it does not apply.
func (j *judge) judge(q rules.Sourced, exempt bool) {
	holds, why := true, ""
	if q.When != nil {
		if j.facts == nil {
			b := j.f.brought(j.set, j.strategy(), j.touched)
			j.facts = &b
		}
		holds, why = q.When.Holds(*j.facts)
	}
	switch {
	case !holds:
		j.add(Requirement{Key: string(q.Demand), Title: q.Title, Level: q.Level, State: NotApplicable,
			Next: "asked for when " + q.When.Words()}, q.From)
		return
	case exempt:
		j.add(Requirement{Key: string(q.Demand), Title: q.Title, Level: q.Level, State: Overridden,
			Next: fmt.Sprintf("set aside: %s, who asked to land, is exempt from the protection; it is recorded with "+
				"the landing", j.f.Asker)}, q.From)
		return
	}
	from := len(j.out)
	switch q.Demand {
	case rules.Approvals:
		j.wantApprovals(q)
	case rules.Owners:
		j.owners(q)
	case rules.Objections:
		j.objections(q)
	case rules.Threads:
		j.threads(q)
	case rules.Tasks:
		j.tasks(q)
	case rules.Ticket:
		j.ticket(q)
	case rules.PathCase:
		j.pathCase(q)
	case rules.Fixups:
		j.fixups(q)
	case rules.History:
		j.history(q)
	case rules.Messages:
		j.messages(q)
	case rules.Signed:
		j.signed(q)
	case rules.Checks, rules.Deployment:
		j.wantChecks(q)
	}
	for i := from; why != "" && i < len(j.out); i++ {
		if !j.out[i].Holds() {
			j.out[i].Next += " (" + why + ")"
		}
	}
}

func (j *judge) add(q Requirement, sources []rules.Source) {
	if q.Level == "" {
		q.Level = rules.Required
	}
	if q.At == "" {
		q.At = "change"
	}
	if q.Who == nil || q.Holds() {
		q.Who = []string{}
	}
	q.Sources = sources
	if q.Sources == nil {
		q.Sources = []rules.Source{}
	}
	if q.Because == "" {
		q.Because = j.because(sources)
	}
	for n, key := 2, q.Key; slices.ContainsFunc(j.out, func(o Requirement) bool { return o.Key == q.Key }); n++ {
		q.Key = fmt.Sprintf("%s/%d", key, n)
	}
	j.out = append(j.out, q)
}

// shownAlready says whether a requirement that asks the same is in the report; if so, it gets the sources too, and
// required wins over advisory. asks is equal for those that ask the same.
func (j *judge) shownAlready(asks string, level rules.Level, from []rules.Source) bool {
	i, shown := j.same[asks]
	if !shown {
		if j.same == nil {
			j.same = map[string]int{}
		}
		j.same[asks] = len(j.out) // where the caller puts it
		return false
	}
	q := &j.out[i]
	q.Sources, q.Level = rules.Stronger(q.Level, q.Sources, level, from)
	q.Because = rules.Because(q.Sources)
	return true
}

// because names sources in words. A requirement's own were put into words when the rules were combined.
func (j *judge) because(sources []rules.Source) string {
	for i := range j.effective.Requirements {
		if q := &j.effective.Requirements[i]; len(sources) > 0 && len(q.From) == len(sources) &&
			&q.From[0] == &sources[0] {
			return q.Because
		}
	}
	return rules.Because(sources)
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
	if j.f.SourceGone {
		j.add(Requirement{Key: "source", Title: "the branch " + j.f.Source + " is there", Because: "every change",
			State: Unmet, Need: 1, Who: j.f.Authors,
			Next: fmt.Sprintf("%s was deleted: push it again (git push origin %.10s:refs/heads/%s), or close the "+
				"change (tavrin change close %d)", j.f.Source, j.f.Head, j.f.Source, j.f.Number)}, nil)
	}
	if j.f.TargetGone && j.f.State != "landed" {
		j.add(Requirement{Key: "target", Title: "the branch " + j.f.Target + " is there", Because: "every change",
			State: Unmet, Need: 1,
			Next: fmt.Sprintf("%s was deleted or renamed: bring it back under that name, or close the change "+
				"(tavrin change close %d) and open it for another branch", j.f.Target, j.f.Number)}, nil)
	}
}

// shown asks that the change is what it is shown as: that its difference is all of it, and that none of its commits
// claims what only the service says.
func (j *judge) shown() {
	if j.f.Bases > 1 {
		j.add(Requirement{Key: "base", Title: "one difference shows what it brings", Because: "every change",
			State: Unmet, Need: 1, Who: j.f.Authors,
			Next: fmt.Sprintf("%s and %s have taken in each other's commits (%d common ancestors), so that no one "+
				"difference shows what comes: bring the branch up with tavrin change bring-up %d",
				j.f.Source, j.f.Target, j.f.Bases, j.f.Number)}, nil)
	}
	strategy := j.strategy()
	// a rebase writes anew without them
	if claims := Claims(j.f.Commits); len(claims) > 0 && strategy.Keeps() && strategy != rules.Rebase {
		j.add(Requirement{Key: "trailers", Title: "no commit claims what only the service says",
			Because: "every change", State: Unmet, Need: 1, Who: j.f.Authors,
			Next: fmt.Sprintf("%s: reword (git rebase --interactive, git commit --amend), or land by a strategy "+
				"that writes the messages anew", few(claims, "and"))}, nil)
	}
}

// dependencies asks that what the change waits for has landed where it is going.
func (j *judge) dependencies() {
	for _, d := range j.f.Dependencies {
		q := Requirement{Key: fmt.Sprintf("depends/%d", d.Number),
			Title: fmt.Sprintf("change %d has landed on %s", d.Number, j.f.Target), State: Unmet, Need: 1,
			Because: "the change itself, which depends on it", Who: j.f.Authors}
		away := fmt.Sprintf("or take the dependency away: tavrin change edit %d --depends-on …", j.f.Number)
		switch {
		case d.State == "landed" && d.Target == j.f.Target:
			q.State, q.Have = Met, 1
		case d.State == "landed":
			q.Next = fmt.Sprintf("it landed on %s: bring it to %s as well, %s", d.Target, j.f.Target, away)
		case d.State == "closed":
			q.Next = fmt.Sprintf("%q was closed: tavrin change reopen %d, %s", d.Title, d.Number, away)
		default:
			q.Next = fmt.Sprintf("%q is %s; this waits for it, and goes on by itself: tavrin change gate %d says "+
				"what it lacks", d.Title, d.State, d.Number)
		}
		j.add(q, nil)
	}
}

// asked judges what depends on who asked to land and how.
func (j *judge) asked() {
	if j.f.Asker == "" {
		return
	}
	person := j.f.People[j.f.Asker]
	q := Requirement{Key: "lander", Title: j.f.Asker + " may land", State: Met, Have: 1, Need: 1,
		Because: "every landing"}
	var sources []rules.Source
	if !person.Role.AtLeast(Writer) {
		q.State, q.Have, q.Next = Unmet, 0, j.f.Asker+" may not write here: somebody who may has to join the queue"
	}
	for _, a := range j.effective.LandBy {
		if person.IsAny(a.Who) || !person.Role.AtLeast(Writer) {
			continue
		}
		if q.State == Met {
			q.State, q.Have = Unmet, 0
			q.Next = fmt.Sprintf("landing is for %s: one of them has to join the queue", list(principals(a.Who), "or"))
		}
		sources = append(sources, a.Source) // every one that says no: whoever sets it aside needs the right from each
		q.Because = rules.Because(sources)
	}
	j.add(q, sources)
	s := Requirement{Key: "strategy", Title: fmt.Sprintf("strategy %s is allowed", j.f.Strategy), State: Met, Have: 1,
		Need: 1}
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
		return fmt.Sprintf("Not ready for %s: %s still missing (%s).", f.Target, count(len(open), "requirement"),
			strings.Join(open, "; "))
	case pending > 0:
		remain := "remain"
		if pending == 1 {
			remain = "remains"
		}
		return fmt.Sprintf("Ready for %s: only %s on the rehearsal %s.", f.Target, count(pending, "check"), remain)
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
func people(logins []string) string { return few(logins, "or") }

// few lists words, the first five when there are more than six.
func few(words []string, last string) string {
	if len(words) > 6 {
		return fmt.Sprintf("%s %s %d others", strings.Join(words[:5], ", "), last, len(words)-5)
	}
	return list(words, last)
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
