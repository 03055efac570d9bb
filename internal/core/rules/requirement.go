package rules

import (
	"fmt"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"
)

func (r *reader) requirements(d *Document, f field) []Requirement {
	seq, ok := f.value.(*ast.SequenceNode)
	if !ok {
		r.bad(f.value, fmt.Sprintf(`"require" is %s`, kindOf(f.value)), "a list, such as \"- approvals: 1\"")
		return nil
	}
	var out []Requirement
	for _, n := range seq.Values {
		if !r.within(n, "requirements", 1, MaxRequirements) {
			return nil
		}
		if q, ok := r.requirement(d, n); ok {
			q.key = q.identity()
			out = append(out, q)
		}
	}
	return out
}

func (r *reader) requirement(d *Document, n ast.Node) (Requirement, bool) {
	q := Requirement{Level: Required}
	q.Line, _ = place(n)
	before := len(r.findings)
	fields := r.keys(n, "a requirement", requirementPath)
	for _, f := range fields {
		if !slices.Contains(Demands, Demand(f.name)) {
			continue
		}
		if q.Demand != "" {
			r.bad(f.key, fmt.Sprintf("a requirement asks one thing, this one asks for %s and %s", q.Demand, f.name),
				"begin a new list item with \"- "+f.name+": …\"")
			return q, false
		}
		q.Demand = Demand(f.name)
	}
	switch q.Demand {
	case "":
		if len(r.findings) == before { // else what was meant is found wrong already
			r.bad(n, "a requirement says what it asks for", "one of "+joined(Demands))
		}
		return q, false
	case Approvals:
		q.NotFrom = []Exclusion{NotAuthor}
	case Ticket:
		q.In = parts
	case Checks, Deployment:
		q.At = []Place{AtRehearsal}
	case Owners, Objections, Threads, Tasks, PathCase, Fixups, History, Messages, Signed:
	}
	beside := besides(q.Demand)
	for _, f := range fields {
		switch {
		case f.name == string(q.Demand):
			r.demand(&q, f)
		case slices.Contains(beside, f.name):
			r.beside(d, &q, f)
		default:
			r.bad(f.key, fmt.Sprintf("%q means nothing beside %q", f.name, q.Demand),
				"one of "+strings.Join(beside, ", "))
		}
	}
	if q.Example != "" && q.Pattern != nil && !q.Pattern.MatchString(q.Example) {
		r.bad(n, fmt.Sprintf("the example %q does not match the expression %s", q.Example, q.Pattern), "one that does")
	}
	if q.AtLeast > len(q.Checks) && !slices.ContainsFunc(q.Checks, CheckName.Several) {
		r.bad(n, fmt.Sprintf("at least %d of %d checks can never pass", q.AtLeast, len(q.Checks)),
			fmt.Sprintf("at_least: at most %d", len(q.Checks)))
	}
	return q, true
}

// demand reads the value of a requirement's own key.
func (r *reader) demand(q *Requirement, f field) {
	k := keyAt(requirementPath + "." + f.name)
	switch q.Demand {
	case Approvals:
		q.Count = r.number(f, k.Low, k.High)
	case Owners, Objections, Threads, Tasks, PathCase, Fixups, History, Signed:
		oneOf(r, f, k.Allowed...)
	case Ticket, Messages:
		q.Pattern = r.expression(f)
	case Checks:
		if q.Checks = r.checkGlobs(f); len(q.Checks) == 0 {
			r.bad(f.value, "\"checks\" names none", "one name or a list of names")
		}
	case Deployment:
		q.To = r.name(f, "a place")
	}
}

// beside reads a key that stands beside a requirement's own.
func (r *reader) beside(d *Document, q *Requirement, f field) {
	k := keyAt(requirementPath + "." + f.name)
	switch f.name {
	case "called":
		if q.Called = r.text(f); len(q.Called) > 80 || odd(q.Called) != "" {
			r.bad(f.value, "\"called\" is not a title", "a few words on one line, at most 80 characters")
		}
	case "level":
		q.Level = oneOf(r, f, Required, Advisory)
	case "when":
		q.When = r.condition(d, f)
	case "from":
		if q.From = r.principals(f, false); len(q.From) == 0 {
			r.bad(f.value, "\"from\" names nobody, so nobody's approval could count",
				"team:NAME, person:LOGIN or role:ROLE; leave it out for everybody who may write")
		}
	case "not_from":
		for _, x := range someOf(r, f, exclusions...) {
			if x != NotAuthor { // who is meant anyway, but for own: counts
				q.NotFrom = append(q.NotFrom, x)
			}
		}
	case "own":
		if oneOf(r, f, k.Allowed...) == "counts" {
			q.NotFrom = slices.DeleteFunc(q.NotFrom, func(x Exclusion) bool { return x == NotAuthor })
		}
	case "on":
		oneOf(r, f, k.Allowed...)
		q.Newest = true
	case "settled_by":
		q.SettledBy = r.principals(f, false)
	case "in":
		q.In = someOf(r, f, parts...)
	case "example":
		q.Example = r.text(f)
	case "at":
		if q.At = someOf(r, f, AtRehearsal, AtHead); len(q.At) == 0 {
			r.bad(f.value, "\"at\" names no commit", "head, rehearsal, or both in a list")
		}
	case "fresh":
		q.Fresh = r.fresh(f)
	case "at_least":
		q.AtLeast = r.number(f, k.Low, k.High)
	case "skipped":
		q.Skipped = oneOf(r, f, k.Allowed...) == "counts"
	case "witness":
		q.Witness = r.robot(f)
	}
}

// condition reads a "when".
func (r *reader) condition(d *Document, f field) *Condition {
	c := &Condition{Lines: Unbounded, Files: Unbounded, OfHouse: r.under.OfHouse}
	c.Line, _ = place(f.key)
	fields := r.keys(f.value, `"when"`, requirementPath+".when")
	for _, g := range fields {
		switch g.name {
		case "paths":
			c.Paths, c.PathsText = r.globs(g)
		case "areas":
			c.Areas = r.texts(g)
			for _, name := range c.Areas {
				if !hasArea(d, name) && (r.under.House == nil || !hasArea(r.under.House, name)) && !r.under.Accepted {
					r.bad(g.value, fmt.Sprintf("there is no area %q", name),
						"the name of an area of this document or of the house's")
				}
			}
		case "lines":
			c.Lines = r.amount(g)
		case "files":
			c.Files = r.amount(g)
		case "source":
			c.SourceText = r.texts(g)
			c.Source, c.stands = r.branches(d, g, c.SourceText)
		case "author":
			c.Author = r.principals(g, false)
		case "label":
			c.Labels = r.texts(g)
			for _, name := range c.Labels {
				known := func(d *Document) bool {
					return d != nil && slices.ContainsFunc(d.Labels, func(l Label) bool { return l.Name == name })
				}
				if !known(d) && !known(r.under.House) && !r.under.Accepted {
					r.bad(g.value, fmt.Sprintf("the label %q is not defined", name),
						"labels: {"+name+": {set_by: …}}, so that it is plain who may set it")
				}
			}
		case "cel":
			c.Expression = strings.TrimSpace(r.text(g))
			if c.Expression == "" {
				continue
			}
			var err error
			if c.program, err = compiled(c.Expression); err != nil {
				r.bad(g.value, fmt.Sprintf("\"cel\" cannot be read: %v", err),
					"an expression of type bool over "+variableNames())
			}
		}
	}
	if len(fields) == 0 {
		r.bad(f.value, "\"when\" states nothing", "one of "+strings.Join(keysUnder(requirementPath+".when", true),
			", "))
	}
	return c
}

func hasArea(d *Document, name string) bool {
	return slices.ContainsFunc(d.Areas, func(a Area) bool { return a.Name == name })
}

func variableNames() string {
	names := make([]string, len(Variables))
	for i, v := range Variables {
		names[i] = v[0]
	}
	return strings.Join(names, ", ")
}
