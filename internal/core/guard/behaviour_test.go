package guard

import (
	"slices"
	"strings"
	"testing"
	"time"

	"tavrin/internal/core/gate"
	"tavrin/internal/core/rules"
)

// broken is, for each demand, how it is written and a change or push that breaks it.
var broken = map[rules.Demand]struct {
	text string
	by   func(*gate.Facts)
}{
	rules.Approvals:  {"approvals: 1", func(f *gate.Facts) {}},
	rules.Owners:     {"owners: every touched area", func(f *gate.Facts) {}},
	rules.Objections: {"objections: none", func(f *gate.Facts) { f.Reviews = []gate.Review{{By: "odo", Verdict: gate.Object, Revision: 1}} }},
	rules.Threads:    {"threads: settled", func(f *gate.Facts) { f.Threads = []gate.Thread{{ID: 1, By: "odo", Where: "the change"}} }},
	rules.Tasks:      {"tasks: done", func(f *gate.Facts) { f.Description = "- [ ] tried" }},
	rules.Ticket:     {"ticket: 'FEN-[0-9]+'", func(f *gate.Facts) {}},
	rules.PathCase:   {"case: exact", func(f *gate.Facts) { f.Paths = []string{"Valves/a"} }},
	rules.Fixups:     {"fixups: none", func(f *gate.Facts) { f.Commits[0].Message = "fixup! docs: a" }},
	rules.History:    {"history: straight", func(f *gate.Facts) { f.Commits[0].Parents = 2 }},
	rules.Messages:   {"messages: '^docs: '", func(f *gate.Facts) { f.Commits[0].Message, f.Title = "a", "a" }},
	rules.Signed:     {"signed: every commit", func(f *gate.Facts) { f.Commits[0].Signature = gate.Signature{} }},
	rules.Checks:     {"checks: unit", func(f *gate.Facts) { f.Rehearsal.Checks[0].State = gate.Failed }},
	rules.Deployment: {"deployment: field", func(f *gate.Facts) {}},
}

// The table of the reference says how each demand behaves on a push, under each strategy and with a condition; this is how it
// does.
func TestBehaviourIsAsTheTableSays(t *testing.T) {
	if len(rules.Behaviours) != len(rules.Demands) {
		t.Fatalf("%d rows for %d demands", len(rules.Behaviours), len(rules.Demands))
	}
	change := func() gate.Facts {
		return gate.Facts{Repository: "growers/irrigation", Number: 7, State: "open", Title: "docs: a", Source: "topic", Target: "main", Revision: 1, Opener: "tamsin", Authors: []string{"tamsin"}, People: town,
			At: moment, Paths: []string{"valves/a"}, Files: 1, Asker: "odo", Commits: []gate.Commit{{ID: "1", Message: "docs: a", Parents: 1, Signature: gate.Signature{State: gate.Good, By: "tamsin"}}},
			Rehearsal: &gate.Rehearsal{Commit: "c", Base: "b", BuiltAt: moment.Add(-time.Minute), Checks: []gate.Check{{Name: "unit", State: gate.Passed, By: "barn"}, {Name: "trial", State: gate.Passed, By: "barn"}}}}
	}
	set := func(requirement string) *rules.Set {
		doc, found := rules.Parse("tavrin: rules/1\nareas: {valves: {paths: valves/**, owners: team:hydraulics}}\nprotect:\n  - {name: trunk, branches: main, push: role:writer, require: [{" + requirement + "}]}\n")
		if found != nil {
			t.Fatalf("%s: %v", requirement, found)
		}
		return doc.Alone(1)
	}
	of := func(d rules.Demand, r gate.Report) (gate.Requirement, bool) {
		i := slices.IndexFunc(r.Requirements, func(q gate.Requirement) bool {
			return strings.HasPrefix(q.Key, string(d)) || d == rules.Checks && strings.HasPrefix(q.Key, "check/")
		})
		if i < 0 {
			return gate.Requirement{}, false
		}
		return r.Requirements[i], true
	}
	const elsewhere = ", when: {paths: nowhere/*}"
	for _, d := range rules.Demands {
		row, b := rules.BehaviourOf(d), broken[d]
		for _, s := range rules.Strategies {
			f := change()
			f.Strategy = s
			b.by(&f)
			q, asked := of(d, gate.Judge(set(b.text), f))
			if breaks := asked && !q.Holds(); breaks == slices.Contains(row.NotBy, s) {
				t.Errorf("%s by %s: the table says that it %s be broken, and it is %s: %s", d, s, map[bool]string{true: "cannot", false: "can"}[slices.Contains(row.NotBy, s)], q.State, q.Next)
			}
			if q, asked := of(d, gate.Judge(set(b.text+elsewhere), f)); !asked || q.State != gate.NotApplicable || !strings.Contains(q.Next, "asked for when a path in nowhere/* changes") {
				t.Errorf("%s on a condition that does not hold is %+v", d, q)
			}
		}
		for _, condition := range []string{"", elsewhere} {
			f := change()
			b.by(&f)
			u := Update{Ref: "refs/heads/main", Old: strings.Repeat("a", 40), New: strings.Repeat("b", 40), Forward: true, Commits: f.Commits}
			pusher := town["odo"]
			pusher.Login = "odo"
			v := Judge(u, Facts{Repository: f.Repository, Pusher: pusher, People: town, Rules: set(b.text + condition), Default: "main", Taken: map[string]string{}})
			if v.Allowed == row.OnPush {
				t.Errorf("%s%s on a push: the table says that it holds: %v; %v", d, condition, row.OnPush, v.Lines)
			}
			if !v.Allowed && condition != "" && !strings.Contains(strings.Join(v.Lines, " "), "it holds for every push") {
				t.Errorf("%s: it is not said why: %v", d, v.Lines)
			}
		}
	}
}

// What becomes of a demand when what it names is gone is as the table says.
func TestDemandsOnWhatIsGone(t *testing.T) {
	base := gate.Facts{Repository: "growers/irrigation", Number: 7, State: "open", Target: "main", Source: "topic", Revision: 1, Authors: []string{"tamsin"}, People: town, At: moment, Paths: []string{"valves/a"},
		Asker: "odo", Strategy: rules.Rebase, Rehearsal: &gate.Rehearsal{Commit: "c", Base: "b", BuiltAt: moment.Add(-time.Minute)}}
	for _, c := range []struct {
		requirement, areas string
		change             func(*gate.Facts)
		key                string
		state              gate.State
		says               string
	}{
		{"approvals: 1, from: team:gone", "", nil, "approvals", gate.Unmet, "nobody could give one"},
		{"owners: every touched area", "areas: {valves: {paths: valves/**, owners: team:gone}}\n", nil, "owners/valves", gate.Unmet, "nobody could give one"},
		{"owners: every touched area", "", nil, "owners", gate.NotApplicable, "touches no area"},
		{"objections: none", "", func(f *gate.Facts) { f.Reviews = []gate.Review{{By: "gone", Verdict: gate.Object, Revision: 1}} }, "objections", gate.Unmet, "gone objects"},
		{"threads: settled", "", nil, "threads", gate.NotApplicable, "no discussion"},
		{"threads: settled", "", func(f *gate.Facts) { f.Threads = []gate.Thread{{By: "odo", Where: "a", SettledBy: "gone"}} }, "threads", gate.Unmet, "gone settled without the right to"},
		{"tasks: done", "", nil, "tasks", gate.NotApplicable, "no checklist"},
		{"case: exact", "", nil, "case", gate.Met, ""},
		{"signed: every commit", "", func(f *gate.Facts) {
			f.Commits = []gate.Commit{{ID: "1", Message: "a", Signature: gate.Signature{State: gate.Good, By: "gone"}}}
		}, "signed", gate.Unmet, "no access any more"},
		{"checks: 'bench *'", "", nil, "checks/bench *", gate.Pending, "no check that matches"},
		{"checks: unit", "", nil, "check/unit", gate.Pending, "waiting for"},
		{"deployment: field", "", nil, "deployment/field", gate.Pending, "no check deploys to field"},
	} {
		doc, found := rules.Parse("tavrin: rules/1\n" + c.areas + "protect:\n  - {name: trunk, branches: main, require: [{" + c.requirement + "}]}\n")
		if found != nil {
			t.Fatalf("%s: %v", c.requirement, found)
		}
		f := base
		if c.change != nil {
			c.change(&f)
		}
		report := gate.Judge(doc.Alone(1), f)
		i := slices.IndexFunc(report.Requirements, func(q gate.Requirement) bool { return strings.HasPrefix(q.Key, c.key) })
		if i < 0 {
			t.Errorf("%s: nothing called %s in %+v", c.requirement, c.key, report.Requirements)
		} else if q := report.Requirements[i]; q.State != c.state || !strings.Contains(q.Next, c.says) {
			t.Errorf("%s is %s: %q", c.requirement, q.State, q.Next)
		}
	}
}
