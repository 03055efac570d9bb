// Package lint finds what is wrong with rules that are well formed: what can never hold, what one absence would
// block, what repeats or contradicts, and what matches nothing.
//
// Lint judges one document within the rules that would be in force with it, against what is known of the world:
// people, branches, files, checks seen, tokens. It does no I/O and promises an order: by line, then by text.
package lint

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"tavrin/internal/core/areas"
	"tavrin/internal/core/change"
	"tavrin/internal/core/condition"
	"tavrin/internal/core/glob"
	"tavrin/internal/core/people"
	"tavrin/internal/core/queue"
	"tavrin/internal/core/require"
	"tavrin/internal/core/rules"
)

// Severity says how bad a finding is.
type Severity string

// The severities, worst first.
const (
	Blocked Severity = "blocked" // it can never hold, or nothing can ever land
	Fragile Severity = "fragile" // it holds while nobody is away, or may not mean what was meant
	Note    Severity = "note"    // worth knowing
)

var severities = []Severity{Blocked, Fragile, Note}

// Advice is one finding about a document that can be applied.
type Advice struct {
	Severity Severity `json:"severity" enum:"blocked,fragile,note"`
	Line     int      `json:"line" doc:"in the document; counted from 1"`
	Text     string   `json:"text" doc:"what is wrong and why"`
	Edit     string   `json:"edit,omitempty" doc:"what to change"`
}

// World is what is known besides the rules. Everything is of one repository.
type World struct {
	Repository string
	People     people.Everyone // everybody with access, by login
	Known      map[string]bool // every principal that exists, such as person:odo, team:field, robot:barn
	Disabled   map[string]bool // those whose account is disabled, such as person:odo
	Branches   []string
	Paths      []string // files on the default branch; nil: not known
	// Reporters are the robots whose tokens name a check, by check; Runner says that some token takes its commands.
	Reporters map[string][]string
	Runner    bool
	Reported  map[string]time.Time // when each check was last reported
	// Told says that a webhook that is on sends check.asked of the repository.
	Told bool
	// Failing are webhooks of the repository that have failed for a day or longer.
	Failing []Failing
	At      time.Time
}

// Failing is a webhook whose destination takes nothing.
type Failing struct {
	ID      int64
	Name    string
	Since   time.Time
	Trouble string // the last failure
}

// Silent is how long a required check may go unreported before it is warned of.
const Silent = 30 * 24 * time.Hour

// Lint finds what to warn of in a document. set is the rules in force with it; of is the document's name in sources:
// empty for a repository's own.
func Lint(doc *rules.Document, set *rules.Set, of string, w World) []Advice {
	l := linter{doc: doc, set: set, of: of, w: w, paths: map[string]bool{}}
	for _, path := range w.Paths {
		l.paths[path] = true
	}
	for i := range doc.Areas {
		if l.isFor(doc.Areas[i].Repositories) {
			l.area(&doc.Areas[i])
		}
	}
	for i := range doc.Checks {
		l.check(&doc.Checks[i])
	}
	for _, label := range doc.Labels {
		l.principals(label.Line, fmt.Sprintf("label %q may be set by", label.Name), label.SetBy)
	}
	if len(doc.AgreedBy) > 0 {
		l.agreement()
	}
	for i := range doc.Protections {
		if l.concerned(&doc.Protections[i]) {
			l.protection(&doc.Protections[i])
		}
	}
	if l.of == "" {
		for _, f := range l.w.Failing {
			l.say(Fragile, 1, fmt.Sprintf("tavrin webhook deliveries %d", f.ID), "webhook %q has failed since %s: %s", f.Name,
				f.Since.Format("2006-01-02 15:04"), f.Trouble)
		}
	}
	l.combined()
	l.idle()
	l.nearly()
	l.unused()
	slices.SortStableFunc(l.out, func(a, b Advice) int {
		return cmp.Or(a.Line-b.Line,
			strings.Compare(a.Text, b.Text))
	})
	return slices.Compact(l.out)
}

// MaxTold is how many findings are told of one document.
const MaxTold = 200

// Told leaves the worst MaxTold of findings, in the order of lines, and says last how many more there are.
func Told(found []Advice) []Advice {
	slices.SortStableFunc(found, func(a, b Advice) int {
		return slices.Index(severities, a.Severity) - slices.Index(severities, b.Severity)
	})
	more, next := len(found)-MaxTold, Severity("")
	if more > 0 {
		next, found = found[MaxTold].Severity, found[:MaxTold]
	}
	slices.SortStableFunc(found, func(a, b Advice) int { return a.Line - b.Line })
	if more > 0 {
		found = append(found, Advice{Severity: next, Line: found[MaxTold-1].Line,
			Text: fmt.Sprintf("and %d findings more, none of them worse than these, which are not told",
				more), Edit: "see to these first"})
	}
	return found
}

// Worst returns the worst severity among findings; empty when there are none.
func Worst(found []Advice) Severity {
	for _, s := range severities {
		if slices.ContainsFunc(found, func(a Advice) bool { return a.Severity == s }) {
			return s
		}
	}
	return ""
}

type linter struct {
	doc *rules.Document
	set *rules.Set
	of  string
	w   World
	out []Advice

	paths map[string]bool               // those of w
	met   map[*condition.Condition]bool // those whose globs some path matches

	effective map[string]*rules.Effective // by branch
}

func (l *linter) say(s Severity, line int, edit, format string, args ...any) {
	l.out = append(l.out, Advice{Severity: s, Line: line, Text: fmt.Sprintf(format, args...), Edit: edit})
}

// pool lists the people with access who are meant by principals; none mean everybody who may write. Robots never
// approve, and administrators on standby are not counted on.
func (l *linter) pool(who []people.Principal) []string {
	var logins []string
	if len(who) == 0 {
		who = require.Writers
	}
	for _, p := range l.w.People.Among(who) {
		if !p.Robot && !p.Standby {
			logins = append(logins, p.Login)
		}
	}
	return logins
}

func names(who []people.Principal) string {
	if len(who) == 0 {
		return "everybody who may write"
	}
	texts := make([]string, len(who))
	for i, p := range who {
		texts[i] = p.String()
	}
	return strings.Join(texts, ", ")
}

// principals warns of names of nobody.
func (l *linter) principals(line int, what string, who []people.Principal) {
	for _, p := range who {
		switch {
		case l.w.Disabled[p.String()]:
			l.say(Blocked, line, "enable the account, or name somebody else", "%s %s, whose account is disabled", what,
				p)
		case p.Kind != people.ByRole && !l.w.Known[p.String()]:
			l.say(Blocked, line, "make it first, or correct the name", "%s %s, which there is not", what, p)
		case p.Kind == people.ByTeam && len(l.pool([]people.Principal{p})) == 0:
			l.say(Fragile, line, fmt.Sprintf("add people to %s, or give them a role in %s", p, l.w.Repository),
				"%s %s, of whom nobody has access to %s", what, p, l.w.Repository)
		case p.Kind == people.ByLogin && !slices.Contains(l.pool([]people.Principal{p}), p.Name):
			l.say(Fragile, line, fmt.Sprintf("give %s a role in %s, or name somebody else", p, l.w.Repository),
				"%s %s, who has no access to %s", what, p, l.w.Repository)
		}
	}
}

// approvals warns of a demand for n approvals out of a pool.
func (l *linter) approvals(line int, what string, n int, who []people.Principal, notAuthor, required bool) {
	pool := l.pool(who)
	severity := func(s Severity) Severity {
		if !required {
			return Note
		}
		return s
	}
	switch {
	case len(pool) < n:
		l.say(severity(Blocked), line, fmt.Sprintf("ask for at most %d, or name more people", max(len(pool), 1)),
			"%s can never be satisfied: it asks for %d, and %s are %d with access (%s)", what, n, names(who), len(pool), orNobody(pool))
	case notAuthor && len(pool) == n && n == 1 && len(who) == 0:
		l.say(severity(Blocked), line, "own: counts, the setting for a team of one",
			"%s can never be satisfied: %s is the only person who may write, and an author's own approval does not "+
				"count", what, pool[0])
	case notAuthor && len(pool) == n:
		worst := Fragile // changes of others can still be approved
		if len(l.pool(nil)) == n {
			worst = Blocked
		}
		l.say(severity(worst), line, "ask for one less, or name more people",
			"%s cannot be satisfied for a change of their own: it asks for %d of %s, and an author's own approval "+
				"does not count", what, n, orNobody(pool))
	case len(l.pool(nil)) < 2: // of slack there can be none
	case notAuthor && len(pool) == n+1, !notAuthor && len(pool) == n:
		l.say(severity(Fragile), line, "name more people", "%s has no slack: it asks for %d of %s, so that one "+
			"absence blocks", what, n, orNobody(pool))
	}
}

func orNobody(logins []string) string {
	switch {
	case len(logins) == 0:
		return "nobody"
	case len(logins) > 6:
		return strings.Join(logins[:6], ", ") + fmt.Sprintf(" and %d others", len(logins)-6)
	}
	return strings.Join(logins, ", ")
}

func (l *linter) area(a *rules.Area) {
	l.principals(a.LineOf("owners"), fmt.Sprintf("area %q is owned by", a.Name), a.Owners)
	l.principals(a.LineOf("reviewers"), fmt.Sprintf("area %q asks for reviews by", a.Name), a.Reviewers)
	l.principals(a.LineOf("optional"), fmt.Sprintf("area %q tells", a.Name), a.Optional)
	l.approvals(a.LineOf("owners"), fmt.Sprintf("an owner's approval of area %q", a.Name), 1, a.Owners, true, true)
	what := fmt.Sprintf("area %q", a.Name)
	l.requirements(a.Require, linting{l: l, what: what, owners: a.Owners})
}

// requirements warns of what a protection or an area requires.
func (l *linter) requirements(all []require.Requirement, r linting) {
	for i := range all {
		l.requirement(&all[i], r)
		for j := range all[:i] {
			if l.beside(&all[j], &all[i], r) {
				break // the first says it
			}
		}
	}
}

func (l *linter) check(c *rules.Check) {
	if c.ReportedBy != "" && !l.w.Known["robot:"+c.ReportedBy] {
		l.say(Blocked, c.LineOf("reported_by"), "make the robot first, or correct the name",
			"check %q is reported by robot:%s, which there is not", c.Name, c.ReportedBy)
	}
	if c.Command == "" || l.w.Paths == nil {
		return
	}
	for word := range strings.FieldsSeq(c.Command) {
		path := strings.TrimPrefix(strings.Trim(word, "\"'"), "./")
		if l.paths[path] && len(l.set.AreasOf(path)) == 0 {
			l.say(Fragile, c.LineOf("command"), fmt.Sprintf("add %s to an area", path),
				"check %q runs %s, which nobody owns: a change may edit it so that it passes", c.Name, path)
		}
	}
}

func (l *linter) agreement() {
	line := l.doc.LineOf("loosening")
	l.principals(line, "loosening is agreed by", l.doc.AgreedBy)
	if pool := l.pool(l.doc.AgreedBy); len(pool) < 2 {
		l.say(Fragile, line, "name more people", "loosening needs another person than the one who proposes, and %s "+
			"are only %s", names(l.doc.AgreedBy), orNobody(pool))
	}
}

// reporter warns of a check that nobody can or does report.
func (l *linter) reporter(line int, name string, required bool) {
	c := l.set.Check(name)
	severity := Blocked
	if !required {
		severity = Note
	}
	last, seen := l.w.Reported[name]
	switch {
	case c.Command != "" && !l.w.Runner:
		l.say(severity, line, fmt.Sprintf("tavrin token create ROBOT --runner %s, and start a runner with it",
			l.w.Repository),
			"check %q is a command, and no runner's token is for %s", name, l.w.Repository)
	case c.Command != "":
	case len(l.w.Reporters[name]) == 0:
		l.say(severity, line, fmt.Sprintf("tavrin token create ROBOT --check %s:%q", l.w.Repository, name),
			"check %q can be reported by nobody: no robot has a token for it", name)
	case c.ReportedBy != "" && !slices.Contains(l.w.Reporters[name], c.ReportedBy):
		l.say(severity, line, fmt.Sprintf("tavrin token create %s --check %s:%q", c.ReportedBy, l.w.Repository, name),
			"check %q is for robot:%s to report, which has no token for it", name, c.ReportedBy)
	case !seen:
		told := ""
		if !l.w.Told {
			told = ", and no webhook tells anybody that it is asked for"
		}
		l.say(Fragile, line, fmt.Sprintf("look whether its name is right (tavrin check list), or see how far it comes: tavrin check connect %q --watch", name),
			"check %q has never been reported%s", name, told)
	case l.w.At.Sub(last) > Silent:
		l.say(Fragile, line, "look whether it was renamed: tavrin check list",
			"check %q was last reported on %s, more than %d days ago", name, last.Format("2006-01-02"), int(Silent.Hours()/24))
	}
}

func (l *linter) protection(p *rules.Protection) {
	what := fmt.Sprintf("protection %q", p.Name)
	if p.TagText == nil { // what is looked for is about branches
		l.branches(p, what)
		l.everywhere(p, what)
		l.creation(p, what)
		l.stricter(p, what)
	}
	for key, who := range map[string][]people.Principal{"push": p.Push, "create": p.Create, "exempt": p.Exempt,
		"waive": p.Waive, "land.who": p.LandBy, "queue.urgent": p.Queue.Urgent} {
		l.principals(p.LineOf(key), fmt.Sprintf("%s: %s names", what, key), who)
	}
	if len(p.Exempt) > 0 {
		l.say(Note, p.LineOf("exempt"), "", "%s does not bind %s", what, names(p.Exempt))
	}
	if p.LandBy != nil {
		switch pool := l.pool(p.LandBy); {
		case len(pool) == 0:
			l.say(Blocked, p.LineOf("land.who"), "name somebody with access", "%s: nobody may ask to land", what)
		case len(pool) == 1 && len(l.pool(nil)) > 1:
			l.say(Fragile, p.LineOf("land.who"), "name more people",
				"%s: only %s may ask to land, so that one absence blocks", what, pool[0])
		}
	}
	l.queue(p, what)
	l.requirements(p.Require, linting{l: l, what: what, with: p.With})
}

// queue warns of what a protection says of a queue and that comes to nothing.
func (l *linter) queue(p *rules.Protection, what string) {
	q := &p.Queue
	if q.Planner == queue.OneByOne && q.Slots > 1 {
		l.say(Note, p.LineOf("queue.slots"), "leave one of the two out", "%s: one change is rehearsed at a time, so that %d slots are not used", what, q.Slots)
	}
	if q.Tests == rules.ByArea && len(l.set.Areas()) == 0 {
		l.say(Fragile, p.LineOf("queue.tests"), "define areas, or leave it out", "%s: no area is defined, so that every change touches everything and nothing goes side by side", what)
	}
	if q.Urgent != nil && len(l.pool(q.Urgent)) == 0 {
		l.say(Fragile, p.LineOf("queue.urgent"), "name somebody with access", "%s: nobody may have a change go ahead of what waits", what)
	}
}

func (l *linter) branches(p *rules.Protection, what string) {
	matched := slices.ContainsFunc(l.w.Branches, p.Branches.Match)
	if matched || len(l.w.Branches) == 0 {
		return
	}
	severity := Note
	if !strings.ContainsAny(strings.Join(p.Branches.Texts(), ""), "*?[{") {
		severity = Fragile // a plain name is meant for a branch that is there
	}
	l.say(severity, p.LineOf("branches"), "look at tavrin browse branches", "%s: no branch there is now matches %s",
		what, strings.Join(p.Branches.Texts(), ", "))
}

// requirement warns of one requirement: what its kind has to say, and what there is to say of its condition.
func (l *linter) requirement(q *require.Requirement, r linting) {
	if asks, findings := q.Asks.(require.Linted); findings {
		asks.Lint(r, q)
	}
	for _, when := range []*condition.Condition{q.When, q.Unless} {
		if when == nil {
			continue
		}
		l.condition(when, r.what)
		if when.PathsText != nil && l.w.Paths != nil && !l.holdsSomewhere(when) {
			l.say(Fragile, when.Line, "correct the globs", "%s: no file there is now matches the condition's paths %s",
				r.what, strings.Join(when.PathsText, ", "))
		}
	}
}

// holdsSomewhere says whether some file is one that a condition is about. All conditions are asked about each file at
// once: there may be hundreds of them, and half a million files.
func (l *linter) holdsSomewhere(when *condition.Condition) bool {
	if l.met == nil {
		var lists []glob.List
		var of []*condition.Condition
		for q := range l.doc.Requirements() {
			for _, when := range []*condition.Condition{q.When, q.Unless} {
				if when != nil && when.PathsText != nil {
					lists, of = append(lists, when.Paths), append(of, when)
				}
			}
		}
		index := glob.NewIndex(lists)
		l.met = map[*condition.Condition]bool{}
		var space [16]int
		for _, path := range l.w.Paths {
			for _, n := range index.Of(path, space[:0]) {
				l.met[of[n]] = true
			}
		}
	}
	return l.met[when]
}

// beside warns of two requirements of one protection that repeat each other or do not go together, and says whether
// it did.
func (l *linter) beside(a, b *require.Requirement, r linting) bool {
	if a.SameAs(b) {
		l.say(Note, b.Line, "leave one out", "%s: line %d asks the same already", r.what, a.Line)
		return true
	}
	asks, findings := a.Asks.(require.LintedBeside)
	return findings && a.Kind == b.Kind && asks.LintBeside(r, a, b)
}

// combined warns of what the protections of a branch together leave.
func (l *linter) combined() {
	branches := slices.Clone(l.w.Branches)
	for i := range l.doc.Protections { // and branches that may come: names that a plain pattern gives
		for _, p := range l.doc.Protections[i].Branches.Texts() {
			if !strings.ContainsAny(p, "*?[{!\\") {
				branches = append(branches, p)
			}
		}
	}
	slices.Sort(branches)
	for _, branch := range slices.Compact(branches) {
		e := l.on(branch)
		if !e.Protected {
			continue
		}
		l.together(branch, e)
		if len(e.With) == 0 {
			l.at(e.WithFrom, Blocked, "allow a strategy in both",
				"%s: together %s leave no strategy, so that nothing can land", branch, require.Because(e.WithFrom))
		}
		if e.DefaultsSaid > 1 {
			l.at(e.DefaultFrom, Fragile, "state the same default, or one only",
				"%s: %s state different default strategies, so that everybody has to choose", branch, require.Because(e.DefaultFrom))
		}
		if e.MessagesSaid > 1 {
			l.at(e.Message.From, Fragile, "state the same message, or one only",
				"%s: %s state different messages, so that neither is used", branch, require.Because(e.Message.From))
		}
		if e.DeletesSaid > 1 {
			l.at(e.DeleteSource.From, Fragile, "state the same", "%s: %s disagree on removing the source branch, so "+
				"that it is kept", branch, require.Because(e.DeleteSource.From))
		}
		for key, lists := range map[string][]rules.Allowance{"land.who": e.LandBy, "push": e.Push} {
			l.intersection(branch, key, lists)
		}
		for _, q := range e.Requirements {
			if len(q.From) > 1 && !l.sameProtection(q.From) {
				l.at(q.From, Note, "", "%s: %s ask the same (%s), which is shown once", branch, require.Because(q.From),
					q.Titled)
			}
		}
	}
}

func (l *linter) sameProtection(from []require.Source) bool {
	return !slices.ContainsFunc(from, func(s require.Source) bool {
		return s.Protection != from[0].Protection || s.Document != from[0].Document
	})
}

// intersection warns of lists of which each names somebody and all together nobody.
func (l *linter) intersection(branch, key string, lists []rules.Allowance) {
	if len(lists) < 2 {
		return
	}
	var from []require.Source
	left := 0
	for p := range l.w.People.All() {
		in := !slices.ContainsFunc(lists, func(a rules.Allowance) bool { return !p.IsAny(a.Who) })
		if in && p.Login != "" {
			left++
		}
	}
	for _, a := range lists {
		if len(a.Who) == 0 {
			return // nobody is meant
		}
		from = append(from, a.Source)
	}
	if left == 0 {
		severity := Fragile
		if key == "land.who" {
			severity = Blocked
		}
		l.at(from, severity, "name somebody in both", "%s: nobody is in every list of %s that applies (%s)", branch,
			key, require.Because(from))
	}
}

// at warns of something that comes from several places, on the first that stands in this document.
func (l *linter) at(from []require.Source, s Severity, edit, format string, args ...any) {
	for _, source := range from {
		if source.Document == l.of {
			l.say(s, source.Line, edit, format, args...)
			return
		}
	}
}

// maxNearly is how many files are named that lie in an area but for upper and lower case.
const maxNearly = 10

// nearly warns of files that would lie in an area if upper and lower case were the same.
func (l *linter) nearly() {
	said := 0
	for _, path := range l.w.Paths {
		area, nearly := l.set.NearlyIn(path)
		if !nearly || area.From.Document != l.of {
			continue
		}
		if said++; said > maxNearly {
			l.say(Fragile, area.LineOf("paths"), "", "area %q: more files differ from its paths by upper and lower "+
				"case alone", area.Name)
			return
		}
		l.say(Fragile, area.LineOf("paths"), "rename the file, or add its spelling; {case: exact} refuses new ones",
			"area %q: %s differs from its paths by upper and lower case alone, so that nobody of it owns the file", area.Name, path)
	}
}

// unused warns of keys that have no effect where they stand.
func (l *linter) unused() {
	for i := range l.doc.Protections {
		p := &l.doc.Protections[i]
		if !l.concerned(p) {
			continue
		}
		what := fmt.Sprintf("protection %q", p.Name)
		idle := func(key, why string) {
			if p.Says(key) {
				l.say(Note, p.LineOf(key), "leave it out", "%s: %s has no effect: %s", what, key, why)
			}
		}
		if len(p.With) == 1 {
			idle("land.default", fmt.Sprintf("%s is the only strategy that is allowed", p.With[0]))
		}
		if len(p.With) > 0 && !slices.ContainsFunc(p.With, change.Strategy.Final) {
			const why = "the strategies that are allowed keep the messages of the commits"
			idle("land.message", why)
			idle("land.trailers", why)
		}
		if !l.decides(p, "after_push.approvals_stay") {
			idle("after_push.approvals_stay", "nothing asks for approvals there")
		}
		if !l.decides(p, "after_push.objections_stay") {
			idle("after_push.objections_stay", "nothing asks that objections be resolved there (objections: none)")
		}
	}
	demanded := l.set.Demanded()
	for i := range l.doc.Checks {
		c := &l.doc.Checks[i]
		named := slices.ContainsFunc(demanded, func(d rules.Check) bool { return d.Name == c.Name }) ||
			l.wantedByGlob(c.Name)
		switch {
		case named || len(c.OnTip) > 0:
		case c.Environment == "":
			l.say(Note, c.Line, "ask for it in a protection or an area, on_tip: BRANCHES, or leave it out",
				"check %q is defined, and nothing asks for it", c.Name)
		case !l.deployedTo(c.Environment):
			l.say(Note, c.Line, fmt.Sprintf("require: [{deployment: %s}], on_tip: BRANCHES, or leave it out", c.Environment),
				"check %q deploys to %s, and nothing asks for a deployment there", c.Name, c.Environment)
		}
	}
}

// deployedTo says whether some requirement in force asks for a deployment to an environment.
func (l *linter) deployedTo(environment string) bool {
	for _, layer := range l.set.Layers() {
		for q := range layer.Document.Requirements() {
			if q.Environment() == environment {
				return true
			}
		}
	}
	return false
}

// decides says whether something is asked for of which a setting decides what a push does to it: what a protection says
// of pushes holds for what others ask on the same branches too.
func (l *linter) decides(p *rules.Protection, setting string) bool {
	for _, layer := range l.set.Layers() {
		for q := range layer.Document.Requirements() {
			if q.Kind.After == setting {
				return true
			}
		}
	}
	return slices.ContainsFunc(p.Require, func(q require.Requirement) bool { return q.Kind.After == setting })
}

// wantedByGlob says whether some requirement's glob means a check.
func (l *linter) wantedByGlob(name string) bool {
	for _, layer := range l.set.Layers() {
		for q := range layer.Document.Requirements() {
			if slices.ContainsFunc(q.CheckNames(), func(c require.CheckName) bool { return c.Match(name) }) {
				return true
			}
		}
	}
	return false
}

// idle warns of patterns of areas that match nothing.
func (l *linter) idle() {
	if l.w.Paths == nil {
		return
	}
	for _, x := range areas.IdlePatterns(l.set, l.w.Paths) {
		if x.Area.From.Document != l.of {
			continue
		}
		if strings.HasPrefix(x.Pattern, "!") {
			l.say(Note, x.Area.LineOf("paths"), "", "area %q: %s takes no file out now", x.Area.Name, x.Pattern)
		} else {
			l.say(Fragile, x.Area.LineOf("paths"), "correct the glob, or leave it out",
				"area %q: %s matches no file there is now", x.Area.Name, x.Pattern)
		}
	}
}
