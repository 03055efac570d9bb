package require

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"tavrin/internal/core/change"
	"tavrin/internal/core/grammar"
)

// Wanted is one demand for checks on one commit, gathered before it is judged so that demands for the same check
// on the same commit are one: with the lower maximum age, every check robot, and a no to skipped over a yes. An advisory
// one lends nothing of that to a required one, nor takes anything from it.
type Wanted struct {
	Kind    *Kind
	Key     string // empty: by its name
	Names   []string
	At      Place
	AtLeast int // how many have to pass; 0: all
	Title   string
	MaxAge  time.Duration
	// HealthyFor is how long a pass has to have held.
	HealthyFor time.Duration
	Skipped    bool
	Reporters  []string
	Level      Level
	From       []Source
	Because    string // the sources in words, where they are known
	None       string // why there is no name at all
}

// Want puts a demand beside the others, or into the one for the same checks on the same commit.
func (k *Case) Want(w Wanted) {
	for i := range k.wanted {
		o := &k.wanted[i]
		if o.At != w.At || o.AtLeast != w.AtLeast || o.Title != w.Title || !slices.Equal(o.Names, w.Names) ||
			!o.joins(w) {
			continue
		}
		if o.MaxAge == 0 || w.MaxAge > 0 && w.MaxAge < o.MaxAge {
			o.MaxAge = w.MaxAge
		}
		o.HealthyFor = max(o.HealthyFor, w.HealthyFor)
		o.Skipped = o.Skipped && w.Skipped
		o.Reporters = slices.Concat(o.Reporters, w.Reporters)
		o.From, o.Level = Stronger(o.Level, o.From, w.Level, w.From)
		o.Because = ""
		return
	}
	if k.wanted == nil {
		k.wanted = make([]Wanted, 0, cap(k.Outcomes)/2)
	}
	k.wanted = append(k.wanted, w)
}

// joins says whether two demands for the same checks are one: when they ask the same of them, or ask for a single check
// at the same level, so that to satisfy both is to satisfy what is asked together. Of several checks one may satisfy
// the one and another the other.
func (w *Wanted) joins(o Wanted) bool {
	same := w.MaxAge == o.MaxAge && w.HealthyFor == o.HealthyFor && w.Skipped == o.Skipped && slices.Equal(w.Reporters, o.Reporters)
	return same || w.Level == o.Level && len(w.Names) == 1
}

// WantNamed asks for every check that a name or glob stands for.
func (k *Case) WantNamed(w Wanted, c CheckName) {
	names := k.Named([]CheckName{c}, w.At)
	if len(names) == 0 {
		w.Key, w.Title = "checks/"+c.Text, fmt.Sprintf("checks %s pass on the %s", c.Text, w.At)
		w.None = fmt.Sprintf("no check that matches %s is defined or was reported on the %s", c.Text, w.At)
		k.Want(w)
	}
	for _, name := range names {
		w.Names = []string{name}
		k.Want(w)
	}
}

// Named lists the checks that names and globs stand for: those the rules define and those reported on the commit.
func (k *Case) Named(checks []CheckName, at Place) []string {
	var names []string
	for _, c := range checks {
		if !c.Several() {
			names = append(names, c.Text)
			continue
		}
		for _, d := range k.Defined {
			if c.Match(d.Name) {
				names = append(names, d.Name)
			}
		}
		for _, r := range k.reported(at) {
			if c.Match(r.Name) {
				names = append(names, r.Name)
			}
		}
	}
	slices.Sort(names)
	return slices.Compact(names)
}

// reported lists the checks of the commit that a place means.
func (k *Case) reported(at Place) []change.Check {
	switch {
	case at == AtHead:
		return k.HeadChecks
	case k.Rehearsal != nil:
		return k.Rehearsal.Checks
	}
	return nil
}

// JudgeChecks judges the demands for checks, which were gathered.
func (k *Case) JudgeChecks() {
	for _, w := range k.wanted {
		k.check(w)
	}
}

func (k *Case) check(w Wanted) {
	q := Outcome{Key: w.Key, Kind: w.Kind.Name, Group: w.Kind.Group, Title: w.Title, Level: w.Level, Need: max(w.AtLeast, 1),
		Checks: w.Names}
	if w.Key == "" {
		q.Key, q.Title = "check/"+w.Names[0], "check "+w.Names[0]+" passes on the "+string(w.At)
	}
	q.Key += "@" + string(w.At)
	if w.At == AtRehearsal {
		q.At = "rehearsal"
	}
	switch {
	case w.None != "" && (w.At == AtHead || k.Rehearsal != nil):
		q.State, q.Lacks, q.Next = Pending, w.None, "a maintainer has to define or connect one"
		if r := k.Rehearsal; w.At == AtRehearsal && !r.BuiltAt.IsZero() &&
			k.At.Sub(r.BuiltAt) >= DefaultAnswer {
			q.State, q.Next = Missing, fmt.Sprintf("none came within %s, so a maintainer has to define or connect one",
				grammar.Brief(DefaultAnswer))
		}
		k.AskMaintainers(&q)
		k.Add(q, w.Because, w.From)
		return
	case w.At == AtRehearsal && k.Rehearsal == nil:
		q.State, q.Lacks, q.Next = Pending, strings.Join(w.Names, ", ")+" not run yet", "it runs when the queue rehearses the change"
		if k.Asker == "" {
			q.AnybodyDo(DoJoin, k.ThisChange())
		}
		k.Add(q, w.Because, w.From)
		return
	}
	k.weigh(&q, w)
	k.Add(q, w.Because, w.From)
}

// weigh counts the passes of a demand and says what is with the others: it is missing when so many cannot pass any more
// that too few are left.
func (k *Case) weigh(q *Outcome, w Wanted) {
	var lost, open answers
	for _, name := range w.Names {
		declared := k.Define(name)
		var c change.Check
		for reported, i := k.reported(w.At), 0; i < len(reported); i++ {
			if reported[i].Name == name {
				c = reported[i]
				break
			}
		}
		a := k.standing(declared, c, w)
		switch a.state {
		case Met:
			q.Have++
			continue
		case Missing:
			lost = append(lost, a)
		default:
			open = append(open, a)
			if !a.ripens && (c.State == change.Passed || c.State == change.Skipped) {
				q.Rerun = append(q.Rerun, name)
			}
		}
		q.Who = append(q.Who, reporter(declared, name))
	}
	said := open
	switch {
	case q.Have >= q.Need:
		q.State, q.Rerun = Met, nil
	case q.Have+len(open) < q.Need:
		q.State, said = Missing, lost
	default:
		q.State = Pending
	}
	q.Lacks, q.Next = said.words(func(a answer) string { return a.lacks }), said.words(func(a answer) string { return a.next })
	for _, a := range said {
		q.Steps = append(q.Steps, a.steps...)
	}
	q.Who = slices.Compact(q.Who)
}

// answer is how a check stands against what is asked of it, what is missing, and what is next.
type answer struct {
	state       State
	lacks, next string
	steps       []Step
	ripens      bool // it is met by the passing of time
}

type answers []answer

func (a answers) words(of func(answer) string) string {
	texts := make([]string, len(a))
	for i := range a {
		texts[i] = of(a[i])
	}
	return strings.Join(texts, "; ")
}

// standing says how a check's report stands against what the rules declare of the check and ask here, and what is next.
func (k *Case) standing(declared Check, c change.Check, w Wanted) answer {
	by := reporter(declared, declared.Name)
	foreign := func(format string, args ...any) answer {
		return answer{state: Missing, lacks: fmt.Sprintf("%s reported by %s, who does not count", c.Name, c.By),
			next: fmt.Sprintf(format, args...)}
	}
	switch {
	case c.State == change.NotReported || c.State == change.Waiting: // asked for or not, nobody has begun it
		a := answer{state: Pending, lacks: declared.Name + " not reported", next: "waiting for " + by}
		if other := k.renamed(declared.Name, w.At); other != "" {
			a.next += fmt.Sprintf("; %s was reported on the %s: if that is its new name, a maintainer has to change "+
				"the rules", other, w.At)
		}
		return a
	case c.State == change.Running:
		return answer{state: Pending, lacks: c.Name + " still running", next: cmp.Or(c.By, by) + " runs it"}
	case declared.Command != "" && !c.Runner:
		return foreign("the rules define it as a command: only a runner's answer counts")
	case declared.ReportedBy != "" && declared.ReportedBy != c.By:
		return foreign("the rules say reported_by robot:%s", declared.ReportedBy)
	}
	if i := slices.IndexFunc(w.Reporters, func(login string) bool { return login != c.By }); i >= 0 {
		return foreign("the requirement says reported_by robot:%s", w.Reporters[i])
	}
	if c.State == change.Passed || c.State == change.Skipped && w.Skipped {
		if until := c.At.Add(w.HealthyFor); w.HealthyFor > 0 && !c.At.IsZero() && k.At.Before(until) {
			return answer{state: Pending, ripens: true,
				lacks: fmt.Sprintf("%s healthy for %s of %s", c.Name, grammar.Brief(max(k.At.Sub(c.At), 0).Truncate(time.Minute)), grammar.Brief(w.HealthyFor)),
				next:  "it goes on by itself at " + until.UTC().Format("2006-01-02 15:04 MST")}
		}
		return k.age(declared, c, w)
	}
	a := answer{state: Missing, lacks: fmt.Sprintf("%s %s", c.Name, c.State)}
	switch {
	case c.State == change.Skipped:
		a.lacks += ", which does not count as passed"
	case c.Summary != "":
		a.lacks += " (" + c.Summary + ")"
	}
	a.steps = []Step{{Action: DoPush, Arguments: k.OnSource(), Who: k.Authors}}
	if w.At == AtRehearsal {
		a.next = "fix the change and push, then join again; joining again without a push runs it once more"
		a.steps = append(a.steps, Step{Action: DoJoin, Arguments: k.ThisChange(), Who: []string{}})
		return a
	}
	a.next = "fix the change and push, or ask for another attempt"
	a.steps = append(a.steps, Step{Action: DoRerun, Arguments: Arguments{Change: k.Number, Check: c.Name, Commit: k.Head}, Who: []string{}})
	return a
}

// renamed finds a check that was reported on a commit, is asked for by nobody, and may be the new name of one that was
// not.
func (k *Case) renamed(name string, at Place) string {
	strays, known := k.strays[at]
	if !known {
		strays = k.unasked(at)
		if k.strays == nil {
			k.strays = map[Place][]stray{}
		}
		k.strays[at] = strays
	}
	if len(strays) == 0 {
		return ""
	}
	wanted := string(letters(nil, name))
	for _, s := range strays {
		long, short := s.letters, wanted
		if len(long) < len(short) {
			long, short = short, long
		}
		if strings.Contains(long, short) {
			return s.name
		}
	}
	return ""
}

// stray is a check that was reported and is asked for by nobody, and its name as letters.
type stray struct {
	name, letters string
	end           int // of its letters in those of all
}

// unasked lists the strays of a commit.
func (k *Case) unasked(at Place) []stray {
	asked := make(map[string]bool, len(k.wanted))
	for _, w := range k.wanted {
		for _, name := range w.Names {
			asked[name] = true
		}
	}
	reported := k.reported(at)
	out := make([]stray, 0, len(reported))
	var all []byte // of every name, so that there is one text to keep
	for _, c := range reported {
		if !asked[c.Name] {
			out = append(out, stray{name: c.Name})
			all = letters(all, c.Name)
			out[len(out)-1].end = len(all)
		}
	}
	text, from := string(all), 0
	for i := range out {
		out[i].letters, from = text[from:out[i].end], out[i].end
	}
	return out
}

// letters adds a name to a text in small letters, without what separates its words.
func letters(to []byte, name string) []byte {
	for _, c := range []byte(name) {
		switch c {
		case ' ', '.', '_', '/', ':', '-':
		default:
			if 'A' <= c && c <= 'Z' {
				c += 'a' - 'A'
			}
			to = append(to, c)
		}
	}
	return to
}

// age says whether a pass is young enough to count.
func (k *Case) age(declared Check, c change.Check, w Wanted) answer {
	fresh := w.MaxAge
	if fresh == 0 || declared.MaxAge > 0 && declared.MaxAge < fresh {
		fresh = declared.MaxAge
	}
	if fresh == 0 || k.At.IsZero() || c.At.IsZero() {
		return answer{state: Met}
	}
	if age := k.At.Sub(c.At); age > fresh {
		return answer{state: Pending, lacks: fmt.Sprintf("%s passed %s ago", c.Name, grammar.Brief(age.Truncate(time.Minute))),
			next: fmt.Sprintf("a pass counts for %s, so it is wanted again", grammar.Brief(fresh))}
	}
	return answer{state: Met}
}

func reporter(c Check, name string) string {
	switch {
	case c.Command != "":
		return "a runner"
	case c.ReportedBy != "":
		return "robot:" + c.ReportedBy
	default:
		return "a robot that reports " + name
	}
}
