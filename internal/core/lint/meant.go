package lint

import (
	"fmt"
	"slices"
	"strings"

	"tavrin/internal/core/change"
	"tavrin/internal/core/condition"
	"tavrin/internal/core/glob"
	"tavrin/internal/core/near"
	"tavrin/internal/core/people"
	"tavrin/internal/core/require"
	"tavrin/internal/core/rules"
)

// What is well formed and may not mean what was meant: settings that fight each other, words that are nearly others,
// ways around.

// concerned says whether a protection is for the repository that the rules are linted for.
func (l *linter) concerned(p *rules.Protection) bool { return l.isFor(p.Repositories) }

// isFor says whether patterns for repositories, of which none mean all, mean the one that the rules are linted for.
func (l *linter) isFor(repositories glob.List) bool {
	return len(repositories.Patterns()) == 0 || repositories.Match(l.w.Repository[strings.LastIndexByte(l.w.Repository, '/')+1:])
}

// ForNone warns of parts of a house's document that are for none of the repositories there are.
func ForNone(doc *rules.Document, repositories []string) []Advice {
	var out []Advice
	none := func(line int, what string, texts []string, match func(string) bool) {
		if len(texts) > 0 && !slices.ContainsFunc(repositories,
			func(name string) bool { return match(name[strings.LastIndexByte(name, '/')+1:]) }) {
			out = append(out, Advice{Severity: Fragile, Line: line,
				Text: fmt.Sprintf("%s is for no repository there is now: %s matches none", what,
					strings.Join(texts, ", ")), Edit: "correct repositories"})
		}
	}
	for i := range doc.Protections {
		p := &doc.Protections[i]
		none(p.LineOf("repositories"), fmt.Sprintf("protection %q", p.Name), p.RepoText, p.Repositories.Match)
	}
	for i := range doc.Areas {
		a := &doc.Areas[i]
		none(a.LineOf("repositories"), fmt.Sprintf("area %q", a.Name), a.Repositories.Texts(), a.Repositories.Match)
	}
	return out
}

// on is what holds on a branch. It is worked out once for each: there may be many branches, and many protections that
// ask.
func (l *linter) on(branch string) *rules.Effective {
	if l.effective == nil {
		l.effective = map[string]*rules.Effective{}
	}
	if l.effective[branch] == nil {
		l.effective[branch] = l.set.For(branch)
	}
	return l.effective[branch]
}

// anyBranch is a name that nobody gives a protection for.
const anyBranch = "a-branch-of-somebody"

// everywhere warns of a protection under which nobody could push a branch to propose.
func (l *linter) everywhere(p *rules.Protection, what string) {
	if p.Branches.Match(anyBranch) && len(p.Push) == 0 {
		l.say(Fragile, p.LineOf("branches"), "push: role:writer, or fewer branches",
			"%s: it is for every branch and nobody may push to it, so that nobody can push one to propose", what)
	}
}

// condition warns of words that a condition's source nearly means, and on labels that lift what is asked.
func (l *linter) condition(when *condition.Condition, what string) {
	for _, text := range when.SourceText {
		word := strings.TrimPrefix(text, "!")
		if strings.ContainsAny(word, "*?[{") || l.kind(word) || slices.Contains(l.w.Branches, word) {
			continue
		}
		edit := "correct it, or define the kind"
		if kind := l.nearest(word); kind != "" {
			edit = fmt.Sprintf("did you mean the kind %s?", kind)
		}
		l.say(Fragile, when.Line, edit, "%s: there is no branch kind and no branch %q, which the condition's "+
			"source names", what, word)
	}
	for _, layer := range l.set.Layers() {
		for _, label := range layer.Document.Labels {
			if strings.Contains(when.Expression, label.Name) && strings.Contains(when.Expression, "labels") {
				l.say(Note, when.Line, "see who may set it", "%s: label %q may lift it, and %s may set that on a "+
					"change of their own", what, label.Name, names(label.SetBy))
			}
		}
	}
}

func (l *linter) kind(word string) bool {
	return slices.ContainsFunc(l.set.Layers(), func(x rules.Layer) bool { return x.Document.Kind(word) != nil })
}

// nearest finds the kind that a word nearly names.
func (l *linter) nearest(word string) string {
	var kinds []string
	for _, x := range l.set.Layers() {
		for _, k := range x.Document.Kinds {
			kinds = append(kinds, k.Name)
		}
	}
	return near.To(word, kinds)
}

// creation warns of branches that may be created from what nobody had to look at.
func (l *linter) creation(p *rules.Protection, what string) {
	if len(p.Create) == 0 {
		return
	}
	asks := func(branch string) bool {
		return slices.ContainsFunc(l.on(branch).Requirements, func(q require.Sourced) bool {
			return q.Level == require.Required && !q.Narrowed() &&
				q.Kind.After == "after_push.approvals_stay"
		})
	}
	for _, branch := range l.w.Branches {
		if p.HeldBy().Match(branch) && !asks(branch) {
			l.say(Fragile, p.LineOf("create"), "ask for a review there, or say create_from",
				"%s: branches may be created from what %s holds, and nothing there asks for a review", what, branch)
			return
		}
	}
}

// together warns of what kinds have to say of all that holds for a branch.
func (l *linter) together(branch string, e *rules.Effective) {
	for _, q := range e.Requirements {
		if r, findings := q.Asks.(require.LintedOnBranch); findings && q.Level == require.Required {
			r.LintOn(onBranch{l, branch, e}, q)
		}
	}
}

// stricter warns of settings of a repository that have no effect, because its house is stricter on every branch there
// is that they are for.
func (l *linter) stricter(p *rules.Protection, what string) {
	if l.of != "" {
		return
	}
	var all []*rules.Effective
	for _, branch := range l.w.Branches {
		if p.Branches.Match(branch) {
			all = append(all, l.on(branch))
		}
	}
	if len(all) == 0 {
		return
	}
	for _, s := range []struct {
		key string
		by  func(*rules.Effective) []require.Source // that make it what it is, whatever the repository says; none: nobody
	}{
		{"rewrite", func(e *rules.Effective) []require.Source { return ofHouse(e.Rewrite.From) }},
		{"delete", func(e *rules.Effective) []require.Source { return ofHouse(e.Delete.From) }},
		{"after_push.approvals_stay", func(e *rules.Effective) []require.Source { return ofHouse(e.ApprovalsStay.From) }},
		{"after_push.objections_stay", func(e *rules.Effective) []require.Source { return ofHouse(e.ObjectionsStay.From) }},
		{"queue.planner", func(e *rules.Effective) []require.Source { return ofHouse(e.Queue.Planner.From) }},
		{"queue.slots", func(e *rules.Effective) []require.Source { return ofHouse(e.Queue.Slots.From) }},
		{"queue.reruns", func(e *rules.Effective) []require.Source { return ofHouse(e.Queue.Reruns.From) }},
		{"queue.tests", func(e *rules.Effective) []require.Source { return ofHouse(e.Queue.Tests.From) }},
		{"queue.on_push", func(e *rules.Effective) []require.Source { return ofHouse(e.Queue.OnPush.From) }},
		{"land.undo_first", func(e *rules.Effective) []require.Source { return ofHouse(e.UndoFirst.From) }},
		{"land.drop_empty", func(e *rules.Effective) []require.Source { return ofHouse(e.DropEmpty.From) }},
		{"land.join_early", func(e *rules.Effective) []require.Source { return ofHouse(e.JoinEarly.From) }},
		{"push", func(e *rules.Effective) []require.Source { return leavesNobody(e.Push, p.Push) }},
		{"create", func(e *rules.Effective) []require.Source { return leavesNobody(e.Create, p.Create) }},
		{"land.default", func(e *rules.Effective) []require.Source { return withoutHouse(e, p.Default) }},
	} {
		if p.Says(s.key) {
			l.overruled(p.LineOf(s.key), what, s.key, all, s.by)
		}
	}
	for _, strategy := range p.With {
		l.overruled(p.LineOf("land.strategies"), what, fmt.Sprintf("%s in land.strategies", strategy), all,
			func(e *rules.Effective) []require.Source { return withoutHouse(e, strategy) })
	}
}

// overruled says that a setting has no effect, if on all branches somebody else makes it what it is.
func (l *linter) overruled(line int, what, setting string, all []*rules.Effective, by func(*rules.Effective) []require.Source) {
	if !slices.ContainsFunc(all, func(e *rules.Effective) bool { return len(by(e)) == 0 }) {
		from, are := by(all[0]), "is"
		if len(from) > 1 {
			are = "are"
		}
		l.say(Note, line, "leave it out", "%s: %s has no effect: %s %s stricter", what, setting, require.Because(from), are)
	}
}

// ofHouse returns the sources if all are a house's.
func ofHouse(from []require.Source) []require.Source {
	if slices.ContainsFunc(from, func(s require.Source) bool { return s.Document == "" }) {
		return nil
	}
	return from
}

// leavesNobody returns the house's protections that let nobody do what a repository lets somebody do.
func leavesNobody(all []rules.Allowance, own []people.Principal) []require.Source {
	var by []require.Source
	for _, a := range all {
		if a.Source.Document != "" && len(a.Who) == 0 && len(own) > 0 {
			by = append(by, a.Source)
		}
	}
	return by
}

// withoutHouse returns the house's protections that do not allow a strategy.
func withoutHouse(e *rules.Effective, strategy change.Strategy) []require.Source {
	if strategy == "" || slices.Contains(e.With, strategy) {
		return nil
	}
	var by []require.Source
	for _, m := range e.Protections {
		if m.Source.Document != "" && len(m.With) > 0 && !slices.Contains(m.With, strategy) {
			by = append(by, m.Source)
		}
	}
	return by
}
