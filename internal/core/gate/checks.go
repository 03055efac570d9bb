package gate

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"tavrin/internal/core/rules"
)

// wantedCheck is one demand for checks on one commit, gathered before it is judged so that demands for the same check
// on the same commit are one: with the shorter freshness, every witness, and a no to skipped over a yes. An advisory
// one lends nothing of that to a required one, nor takes anything from it.
type wantedCheck struct {
	key       string // empty: by its name
	names     []string
	at        rules.Place
	atLeast   int // how many have to pass; 0: all
	title     string
	fresh     time.Duration
	skipped   bool
	witnesses []string
	level     rules.Level
	from      []rules.Source
	none      string // why there is no name at all
}

// want puts a demand beside the others, or into the one for the same checks on the same commit.
func (j *judge) want(w wantedCheck) {
	for i := range j.wanted {
		o := &j.wanted[i]
		if o.at != w.at || o.atLeast != w.atLeast || o.title != w.title || !slices.Equal(o.names, w.names) ||
			!o.joins(w) {
			continue
		}
		if o.fresh == 0 || w.fresh > 0 && w.fresh < o.fresh {
			o.fresh = w.fresh
		}
		o.skipped = o.skipped && w.skipped
		o.witnesses = slices.Concat(o.witnesses, w.witnesses)
		o.from, o.level = rules.Stronger(o.level, o.from, w.level, w.from)
		return
	}
	j.wanted = append(j.wanted, w)
}

// joins says whether two demands for the same checks are one: when they ask the same of them, or ask for a single check
// at the same level, so that to satisfy both is to satisfy what is asked together. Of several checks one may satisfy
// the one and another the other.
func (w *wantedCheck) joins(o wantedCheck) bool {
	same := w.fresh == o.fresh && w.skipped == o.skipped && slices.Equal(w.witnesses, o.witnesses)
	return same || w.level == o.level && len(w.names) == 1
}

// wantChecks takes a requirement apart into demands for single checks, as far as it names them one by one.
func (j *judge) wantChecks(q rules.Sourced) {
	for _, at := range q.At {
		w := wantedCheck{at: at, fresh: q.Fresh, skipped: q.Skipped, level: q.Level, from: q.From}
		if q.Witness != "" {
			w.witnesses = []string{q.Witness}
		}
		switch {
		case q.Demand == rules.Deployment:
			w.key, w.atLeast, w.title = "deployment/"+q.To, 1, fmt.Sprintf("a deployment to %s succeeds on the %s",
				q.To, at)
			for _, c := range j.set.Checks() {
				if c.Place == q.To {
					w.names = append(w.names, c.Name)
				}
			}
			if len(w.names) == 0 {
				w.none = fmt.Sprintf("no check deploys to %s: a maintainer has to define one (kind: deployment, "+
					"place: %s)", q.To, q.To)
			}
			j.want(w)
		case q.AtLeast > 0:
			w.names, w.key = j.named(q.Checks, at), "checks"
			w.atLeast, w.title = q.AtLeast, fmt.Sprintf("at least %d of %s pass on the %s", q.AtLeast,
				Join(stringsOf(q.Checks)), at)
			j.want(w)
		default:
			for _, c := range q.Checks {
				j.wantNamed(w, c)
			}
		}
	}
}

// wantNamed asks for every check that a name or glob stands for.
func (j *judge) wantNamed(w wantedCheck, c rules.CheckName) {
	names := j.named([]rules.CheckName{c}, w.at)
	if len(names) == 0 {
		w.key, w.title = "checks/"+c.Text, fmt.Sprintf("checks %s pass on the %s", c.Text, w.at)
		w.none = fmt.Sprintf("no check that matches %s is defined by the rules or was reported on the %s", c.Text, w.at)
		j.want(w)
	}
	for _, name := range names {
		w.names = []string{name}
		j.want(w)
	}
}

// named lists the checks that names and globs stand for: those the rules define and those reported on the commit.
func (j *judge) named(checks []rules.CheckName, at rules.Place) []string {
	var names []string
	for _, c := range checks {
		if !c.Several() {
			names = append(names, c.Text)
			continue
		}
		for _, d := range j.set.Checks() {
			if c.Match(d.Name) {
				names = append(names, d.Name)
			}
		}
		for _, r := range j.reported(at) {
			if c.Match(r.Name) {
				names = append(names, r.Name)
			}
		}
	}
	slices.Sort(names)
	return slices.Compact(names)
}

// reported lists the checks of the commit that a place means.
func (j *judge) reported(at rules.Place) []Check {
	switch {
	case at == rules.AtHead:
		return j.f.HeadChecks
	case j.f.Rehearsal != nil:
		return j.f.Rehearsal.Checks
	}
	return nil
}

// checksWanted judges the demands that were gathered.
func (j *judge) checksWanted() {
	for _, w := range j.wanted {
		j.check(w)
	}
}

func (j *judge) check(w wantedCheck) {
	q := Requirement{Key: w.key, Title: w.title, Level: w.level, Need: max(w.atLeast, 1), Checks: w.names}
	if w.key == "" {
		q.Key, q.Title = "check/"+w.names[0], "check "+w.names[0]+" passes on the "+string(w.at)
	}
	q.Key += "@" + string(w.at)
	if w.at == rules.AtRehearsal {
		q.At = "rehearsal"
	}
	switch {
	case w.none != "" && (w.at == rules.AtHead || j.f.Rehearsal != nil):
		q.State, q.Next = Pending, w.none
		if r := j.f.Rehearsal; w.at == rules.AtRehearsal && !r.BuiltAt.IsZero() &&
			j.f.At.Sub(r.BuiltAt) >= rules.DefaultAnswer {
			q.State, q.Next = Unmet, fmt.Sprintf("%s, and none came within %s: a maintainer has to define or "+
				"connect one", w.none, rules.Brief(rules.DefaultAnswer))
		}
		j.add(q, w.from)
		return
	case w.at == rules.AtRehearsal && j.f.Rehearsal == nil:
		q.State, q.Next = Pending, fmt.Sprintf("it runs when the change is rehearsed: tavrin queue join %d", j.f.Number)
		if j.f.Asker != "" {
			q.Next = "it runs when the queue rehearses the change"
		}
		j.add(q, w.from)
		return
	}
	j.weigh(&q, w)
	j.add(q, w.from)
}

// weigh counts the passes of a demand and says what is with the others: it is unmet when so many cannot pass any more
// that too few are left.
func (j *judge) weigh(q *Requirement, w wantedCheck) {
	var lost, open []string
	for _, name := range w.names {
		declared := j.set.Check(name)
		var c Check
		if i := slices.IndexFunc(j.reported(w.at), func(c Check) bool { return c.Name == name }); i >= 0 {
			c = j.reported(w.at)[i]
		}
		state, next := j.standing(declared, c, w)
		switch state {
		case Met:
			q.Have++
		case Unmet:
			lost = append(lost, next)
			q.Who = append(q.Who, reporter(declared, name))
		default:
			open = append(open, next)
			q.Who = append(q.Who, reporter(declared, name))
			if c.State == Passed || c.State == Skipped {
				q.Again = append(q.Again, name)
			}
		}
	}
	switch {
	case q.Have >= q.Need:
		q.State, q.Again = Met, nil
	case q.Have+len(open) < q.Need:
		q.State, q.Next = Unmet, strings.Join(lost, "; ")
	default:
		q.State, q.Next = Pending, strings.Join(open, "; ")
	}
	q.Who = slices.Compact(q.Who)
}

// standing says how a check's report stands against what the rules declare of the check and ask here, and what is next.
func (j *judge) standing(declared rules.Check, c Check, w wantedCheck) (State, string) {
	by := reporter(declared, declared.Name)
	switch {
	case c.State == NotReported || c.State == Waiting: // asked for or not, nobody has begun it
		next := "waiting for " + by
		if other := j.renamed(declared.Name, w.at); other != "" {
			next += fmt.Sprintf("; %s was reported on the %s: if that is its new name, a maintainer has to change "+
				"the rules", other, w.at)
		}
		return Pending, next
	case c.State == Running:
		return Pending, c.Name + " is running"
	case declared.Command != "" && !c.Runner:
		return Unmet, fmt.Sprintf("%s was reported by %s, but the rules define it as a command: only a runner's "+
			"answer counts", c.Name, c.By)
	case declared.Witness != "" && declared.Witness != c.By:
		return Unmet, fmt.Sprintf("%s was reported by %s, but the rules name robot:%s as its witness", c.Name, c.By,
			declared.Witness)
	}
	if i := slices.IndexFunc(w.witnesses, func(login string) bool { return login != c.By }); i >= 0 {
		return Unmet, fmt.Sprintf("%s was reported by %s, but the requirement names robot:%s as its witness", c.Name,
			c.By, w.witnesses[i])
	}
	if c.State == Passed || c.State == Skipped && w.skipped {
		return j.freshness(declared, c, w)
	}
	next := fmt.Sprintf("%s %s", c.Name, c.State)
	switch {
	case c.State == Skipped:
		next += ", which does not count as passed"
	case c.Summary != "":
		next += " (" + c.Summary + ")"
	}
	if w.at == rules.AtRehearsal {
		return Unmet, next + ": mend the change and push, then join again; joining again by itself runs it once more"
	}
	return Unmet, next + fmt.Sprintf(": mend the change and push, or ask for another attempt with tavrin check "+
		"again --name %q", c.Name)
}

// renamed finds a check that was reported on a commit, is asked for by nobody, and may be the new name of one that was
// not.
func (j *judge) renamed(name string, at rules.Place) string {
	strays, known := j.strays[at]
	if !known {
		strays = j.unasked(at)
		if j.strays == nil {
			j.strays = map[rules.Place][]stray{}
		}
		j.strays[at] = strays
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
func (j *judge) unasked(at rules.Place) []stray {
	asked := make(map[string]bool, len(j.wanted))
	for _, w := range j.wanted {
		for _, name := range w.names {
			asked[name] = true
		}
	}
	reported := j.reported(at)
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

// freshness says whether a pass is young enough to count.
func (j *judge) freshness(declared rules.Check, c Check, w wantedCheck) (State, string) {
	fresh := w.fresh
	if fresh == 0 || declared.Fresh > 0 && declared.Fresh < fresh {
		fresh = declared.Fresh
	}
	if fresh == 0 || j.f.At.IsZero() || c.At.IsZero() {
		return Met, ""
	}
	if age := j.f.At.Sub(c.At); age > fresh {
		return Pending, fmt.Sprintf("%s passed %s ago, and a pass counts for %s: it is wanted again", c.Name,
			rules.Brief(age.Truncate(time.Minute)), rules.Brief(fresh))
	}
	return Met, ""
}

func reporter(c rules.Check, name string) string {
	switch {
	case c.Command != "":
		return "a runner"
	case c.Witness != "":
		return "robot:" + c.Witness
	default:
		return "a witness for " + name
	}
}
