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

	"tavrin/internal/core/change"
	"tavrin/internal/core/condition"
	"tavrin/internal/core/people"
	"tavrin/internal/core/require"
	"tavrin/internal/core/rules"
)

// Report is the gate of one change.
type Report struct {
	Revision     int               `json:"revision"`
	RulesVersion int               `json:"rules_version"`
	HouseVersion int               `json:"house_version,omitempty" doc:"version of the house rules; absent: none"`
	Ready        bool              `json:"ready" doc:"all but what only a rehearsal can show"`
	Clear        bool              `json:"clear" doc:"everything, for the rehearsed commit"`
	Summary      string            `json:"summary" doc:"the gate in one sentence"`
	Requirements []require.Outcome `json:"requirements"`
	Reviews      []require.Weighed `json:"reviews" doc:"of the gate of one change: each approval and objection that stands, whether it counts, for what, and if not why not"`
	Approvers    []string          `json:"approvers" doc:"whose approvals count for at least one requirement; where none is asked for, whose stand"`
	Exempted     []string          `json:"exempted,omitempty" doc:"protections that do not bind who asked to land"`
	Waivers      []int64           `json:"waivers,omitempty" doc:"numbers of the waivers that waive something"`
}

// Judge gives the gate report of a change under its target's rules. A nil set is one without protections.
func Judge(set *rules.Set, f change.Facts) Report {
	r, _ := judged(set, f, false)
	return r
}

// JudgeAsked is Judge without the lines of what is not asked of the change, which most rules of a large house are of most
// changes.
func JudgeAsked(set *rules.Set, f change.Facts) Report {
	r, _ := judged(set, f, true)
	return r
}

// JudgeInFull is Judge with each review weighed, which is for showing and costs more than the rest.
func JudgeInFull(set *rules.Set, f change.Facts) Report {
	r, j := judged(set, f, false)
	r.Reviews = j.Weigh()
	return r
}

func judged(set *rules.Set, f change.Facts, brief bool) (Report, *judge) {
	j := begin(set, f)
	if j.Brief = brief; brief {
		j.Outcomes = make([]require.Outcome, 0, 8)
	}
	j.open()
	j.shown()
	j.dependencies()
	for _, q := range j.all.Requirements {
		binds := true
		if j.effective != j.all {
			q, binds = j.effective.Asked(q) // where another protection asks the same, at the level at which it does
		}
		j.judge(q, !binds)
	}
	j.areas()
	j.JudgeChecks()
	j.asked()
	j.stopped()
	j.waive()
	bound := j.effective
	r := Report{Revision: f.Revision, RulesVersion: f.RulesVersion, HouseVersion: f.HouseVersion, Requirements: j.Outcomes,
		Ready: true, Approvers: j.Approvers()}
	for _, s := range bound.Exempted {
		r.Exempted = append(r.Exempted, s.String())
	}
	r.Waivers, r.Reviews = j.waivers, []require.Weighed{}
	r.Clear = f.Rehearsal != nil
	for _, q := range r.Requirements {
		if q.Level != require.Required || q.Holds() {
			continue
		}
		r.Clear = false
		if q.At != "rehearsal" {
			r.Ready = false
		}
	}
	r.Summary = summary(f, r)
	return r, j
}

// judge makes one report.
type judge struct {
	*require.Case
	set       *rules.Set
	effective *rules.Effective // what binds this landing
	all       *rules.Effective // what would bind it if nobody were exempt
	touched   []rules.Touched
	facts     *condition.Brought
	waivers   []int64 // that waive something
}

// begin puts together what a change is judged by.
func begin(set *rules.Set, f change.Facts) *judge {
	if set == nil {
		set = rules.NewSet(f.Repository)
	}
	set = set.Without(f.Suspended)
	j := &judge{set: set, all: set.For(f.Target)}
	by := landsBy(j.all, f)
	j.touched = set.Touched(f.Comes(by))
	if j.effective = j.all; f.Asker != "" {
		asker, _ := f.People.Of(f.Asker)
		j.effective = set.Binding(f.Target, asker.Is)
	}
	lines := len(j.all.Requirements) + len(j.touched) + 3
	for _, t := range j.touched {
		lines += len(t.Requirements)
	}
	j.Case = &require.Case{Facts: f, Settings: settings(j.effective, f), Defined: set.Checks(), Define: set.Check,
		Outcomes: make([]require.Outcome, 0, lines),
		Nearly: func(path string) (string, bool) {
			area, nearly := set.NearlyIn(path)
			if !nearly {
				return "", false
			}
			return area.Name, true
		}}
	for _, t := range j.touched {
		j.Touched = append(j.Touched, areaOf(t))
	}
	return j
}

func areaOf(t rules.Touched) require.Area {
	return require.Area{Name: t.Name, Document: t.From.Document, Owners: t.Owners}
}

// settings are those of a branch that kinds are judged under.
func settings(e *rules.Effective, f change.Facts) require.Settings {
	return require.Settings{ApprovalsStay: e.ApprovalsStay.Value, ObjectionsStay: e.ObjectionsStay.Value, Allowed: e.With,
		LandsBy: landsBy(e, f), Template: finalTemplate(e, f), Disputed: e.MessagesSaid > 1,
		Final: func() string { return FinalText(e, f) }}
}

// landsBy is the strategy that a change lands by: the entry's, or what it would be if somebody joined without saying.
func landsBy(e *rules.Effective, f change.Facts) change.Strategy {
	if f.Strategy != "" {
		return f.Strategy
	}
	chosen, _, _ := e.Choose("") // none where the rules leave it to whoever lands it
	return chosen
}

// judge judges one requirement of the rules, or says why it does not apply.
func (j *judge) judge(q require.Sourced, exempt bool) {
	asked, why := true, ""
	if q.Narrowed() {
		if j.facts == nil {
			b := brought(j.Facts, j.set, j.LandsBy, j.touched)
			j.facts = &b
		}
		asked, why = q.AskedOf(*j.facts)
	}
	if !asked && j.Brief {
		j.Leave(q.Kind.Name)
		return
	}
	line := q.Outcome(q.Kind.Name)
	switch {
	case !asked:
		line.State, line.Next = require.NotAsked, "asked "+q.AskedWords()
		j.Say(line, q)
		return
	case exempt:
		line.State, line.Next = require.Waived, fmt.Sprintf("waived: %s, who asked to land, is exempt from the "+
			"protection; it is recorded with the landing", j.Asker)
		j.Say(line, q)
		return
	}
	from := len(j.Outcomes)
	q.Asks.Judge(j.Case, q)
	for i := from; why != "" && i < len(j.Outcomes); i++ {
		if !j.Outcomes[i].Holds() {
			j.Outcomes[i].Next += " (" + why + ")"
		}
	}
}

// areas adds what touched areas ask by themselves.
func (j *judge) areas() {
	for i, t := range j.touched {
		for _, q := range t.Requirements {
			q.Area = &j.Touched[i]
			j.judge(q, false)
		}
	}
}

// every begins a line that stands in the gate of every change.
func every(kind string, group require.Group, title string) require.Outcome {
	return require.Outcome{Key: kind, Kind: kind, Group: group, Title: title, Because: "every change", State: require.Missing,
		Need: 1}
}

func (j *judge) say(o require.Outcome) { j.Add(o, o.Because, nil) }

func (j *judge) open() {
	q := every("open", require.OfChange, "the change is open")
	switch j.State {
	case "open":
		q.State, q.Have = require.Met, 1
	case "draft":
		q.Lacks, q.Who = "still a draft", j.Authors
		q.Next = "when it is finished, mark it as ready"
		q.Do(require.DoMarkReady, j.ThisChange())
	case "landed":
		q.Lacks, q.Next = "landed already", "it has landed already: nothing more to do"
	default:
		q.Lacks, q.Who, q.Next = "closed", j.Authors, "it is closed: reopen it, or open another"
		q.Do(require.DoReopen, j.ThisChange())
	}
	j.say(q)
	if j.SourceGone {
		q := every("source", require.OfChange, "the branch "+j.Source+" is there")
		q.Lacks, q.Who = j.Source+" deleted", j.Authors
		q.Next = fmt.Sprintf("%s was deleted: push it again, or close the change", j.Source)
		q.Do(require.DoRestore, require.Arguments{Branch: j.Source, Commit: j.Head})
		q.Do(require.DoClose, j.ThisChange())
		j.say(q)
	}
	if j.TargetGone && j.State != "landed" {
		q := every("target", require.OfChange, "the branch "+j.Target+" is there")
		q.Lacks, q.Who = j.Target+" gone", j.Authors
		q.Next = fmt.Sprintf("%s was deleted or renamed: bring it back under that name, or close the change and open it for "+
			"another branch", j.Target)
		q.Do(require.DoClose, j.ThisChange())
		j.say(q)
	}
}

// shown asks that the change is what it is shown as: that its difference is all of it, and that none of its commits
// claims what only the service says.
func (j *judge) shown() {
	if j.Bases > 1 {
		q := every("base", require.OfChange, "one difference shows what it brings")
		q.Lacks, q.Who = "branches that merged each other", j.Authors
		q.Next = fmt.Sprintf("%s and %s have merged each other's commits (%d common ancestors), so that no one "+
			"difference shows what comes: update the branch", j.Source, j.Target, j.Bases)
		q.Do(require.DoUpdate, j.ThisChange())
		j.say(q)
	}
	strategy := j.LandsBy
	// a rebase writes anew without them
	if claims := Claims(j.Commits); len(claims) > 0 && strategy.Keeps() && !strategy.Replays() {
		q := every("trailers", require.OfContent, "no commit claims what only the service says")
		q.Lacks = require.Count(len(claims), "commit") + " with a trailer that is the service's"
		q.Next = fmt.Sprintf("%s: reword, or land by a strategy that writes the messages anew", require.Few(claims, "and"))
		j.MendedBy(&q, require.DoReword)
		j.say(q)
	}
}

// dependencies asks that what the change waits for has landed where it is going.
func (j *judge) dependencies() {
	for _, d := range j.Dependencies {
		q := every("depends", require.OfChange, fmt.Sprintf("change %d has landed on %s", d.Number, j.Target))
		q.Key = fmt.Sprintf("depends/%d", d.Number)
		q.Because, q.Who = "the change itself, which depends on it", j.Authors
		q.Lacks = fmt.Sprintf("change %d not landed on %s", d.Number, j.Target)
		other := require.Arguments{Change: d.Number}
		switch {
		case d.State == "landed" && d.Target == j.Target:
			q.State, q.Have = require.Met, 1
		case d.State == "landed":
			q.Next = fmt.Sprintf("it landed on %s: bring it to %s as well, or remove the dependency", d.Target, j.Target)
		case d.State == "closed":
			q.Next = fmt.Sprintf("%q was closed: reopen it, or remove the dependency", d.Title)
			q.Do(require.DoReopen, other)
		default:
			q.Next = fmt.Sprintf("%q is %s; this waits for it, and goes on by itself", d.Title, d.State)
			q.AnybodyDo(require.DoSeeGate, other)
		}
		q.Do(require.DoEditDependencies, j.ThisChange())
		j.say(q)
	}
}

// asked judges what depends on who asked to land and how.
func (j *judge) asked() {
	if j.Asker == "" {
		return
	}
	person, _ := j.People.Of(j.Asker)
	q := every("lander", require.OfLanding, j.Asker+" may land")
	q.State, q.Have, q.Because = require.Met, 1, "every landing"
	lacks := func(next string) {
		q.State, q.Have, q.Next = require.Missing, 0, next
		q.Lacks = j.Asker + " may not land it"
		q.Do(require.DoRejoin, j.ThisChange())
	}
	var sources []require.Source
	if !person.Role.AtLeast(people.Writer) {
		lacks(j.Asker + " may not write here: somebody who may has to join the queue")
	}
	for _, a := range j.effective.LandBy {
		if person.IsAny(a.Who) || !person.Role.AtLeast(people.Writer) {
			continue
		}
		if q.State == require.Met {
			lacks(fmt.Sprintf("landing is for %s: one of them has to join the queue", require.List(people.Texts(a.Who), "or")))
		}
		sources = append(sources, a.Source) // every one that says no: whoever waives it needs the right from each
		q.Because = require.Because(sources)
	}
	j.Add(q, q.Because, sources)
	s := every("strategy", require.OfLanding, fmt.Sprintf("strategy %s is allowed", j.Strategy))
	s.State, s.Have, s.Because = require.Met, 1, ""
	if len(j.effective.WithFrom) == 0 {
		s.Because = "every landing"
	}
	if !slices.Contains(j.effective.With, j.Strategy) {
		s.State, s.Have, s.Lacks = require.Missing, 0, fmt.Sprintf("%s not allowed", j.Strategy)
		s.Next = fmt.Sprintf("leave the queue and join again with one of: %s", Join(j.effective.With))
		if len(j.effective.With) == 0 {
			s.Next = "the matching protections leave no strategy: a maintainer has to change the rules"
			j.AskMaintainers(&s)
		} else {
			with := j.ThisChange()
			with.Strategies = texts(j.effective.With)
			s.AnybodyDo(require.DoRejoin, with)
		}
	}
	j.Add(s, s.Because, j.effective.WithFrom)
}

// stopped adds why nothing lands on the target now. It holds up the landing alone: what is ready goes on being rehearsed, so
// that it can land when the time is over.
func (j *judge) stopped() {
	for _, s := range j.Stops {
		kind, title := "freeze", j.Target+" is not frozen"
		if s.Hold {
			kind, title = "hold", "the queue of "+j.Target+" is not held"
		}
		q := every(kind, require.OfLanding, title)
		q.Key, q.At, q.State, q.Because = fmt.Sprintf("%s/%d", kind, s.ID), "rehearsal", require.Pending, "every landing"
		q.Lacks, q.Next = j.Target+" "+s.Says(), s.Next(j.Target)
		if s.House == "" {
			q.Who = j.Maintainers()
		}
		j.say(q)
	}
}

// GoesFirst says whether a change goes before the others in its queue: it rests on a waiver, which is for the target's present
// tip, or it takes back a landing and the rules have that go first.
func GoesFirst(set *rules.Set, f change.Facts, r Report) bool {
	return len(r.Waivers) > 0 || f.Undoes != 0 && set.Without(f.Suspended).For(f.Target).UndoFirst.Value
}

// Rehearsed says what the rehearsal in the facts has shown: that every check which is asked of it has passed, or why it cannot
// be clear any more. What holds up the landing alone is not counted: a freeze, a tip that is red.
func (r Report) Rehearsed() (passed bool, red string) {
	passed = true
	for _, q := range r.Requirements {
		switch {
		case q.At != "rehearsal" || q.Level != require.Required || q.Holds():
		case q.State == require.Missing:
			return false, q.Told()
		default:
			passed = passed && stops(q)
		}
	}
	return passed, ""
}

// Stopped says whether something about this change holds up its landing alone, however it is rehearsed: its target's red tip. What
// holds up all of a branch, as a freeze does, the queue is told by itself.
func (r Report) Stopped() bool {
	return slices.ContainsFunc(r.Requirements, func(q require.Outcome) bool {
		return q.Kind == "tip" && q.Level == require.Required && q.State == require.Pending
	})
}

// stops says of a requirement of the rehearsal that no check is waited for.
func stops(q require.Outcome) bool { return q.Group != require.OfChecks || q.Kind == "tip" }

// SentBack is the report of a change that the queue has ejected, and why, until somebody asks for it to land again: it is
// not said to be ready without a word of that. pushed says whether a revision came since.
func (r Report) SentBack(why string, pushed bool) Report {
	switch {
	case !r.Ready:
		r.Summary = "Ejected from the queue. " + r.Summary
	case pushed:
		r.Summary = "Ejected from the queue before the last push, and not in it since. " + r.Summary
	default:
		r.Summary = fmt.Sprintf("Ejected from the queue: %s.", strings.TrimSuffix(why, "."))
	}
	return r
}

// summary puts the gate in one sentence.
func summary(f change.Facts, r Report) string {
	if f.State == "landed" {
		return fmt.Sprintf("Change %d has landed on %s.", f.Number, f.Target)
	}
	var open, stopped []string
	pending := 0
	for _, q := range r.Requirements {
		if q.Level != require.Required || q.Holds() {
			continue
		}
		switch {
		case q.Kind == "freeze" || q.Kind == "hold":
			stopped = append(stopped, q.Lacks)
			continue
		case q.At == "rehearsal":
			pending++
			continue
		}
		open = append(open, q.Lacks)
	}
	switch {
	case r.Clear:
		return fmt.Sprintf("Clear: rehearsed commit %.10s may land on %s.", f.Rehearsal.Commit, f.Target)
	case len(open) > 0:
		return fmt.Sprintf("Not ready for %s: %s.", f.Target, strings.Join(open, "; "))
	case len(stopped) > 0:
		return fmt.Sprintf("Ready, and nothing lands now: %s.", strings.Join(stopped, "; "))
	case pending > 0:
		remain := "remain"
		if pending == 1 {
			remain = "remains"
		}
		return fmt.Sprintf("Ready for %s: only %s on the rehearsal %s.", f.Target, require.Count(pending, "check"), remain)
	default:
		return fmt.Sprintf("Ready for %s.", f.Target)
	}
}

// Join lists words with commas.
func Join[T ~string](words []T) string { return strings.Join(texts(words), ", ") }

func texts[T ~string](words []T) []string {
	out := make([]string, len(words))
	for i, w := range words {
		out[i] = string(w)
	}
	return out
}
