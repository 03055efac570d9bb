package trials_test

import (
	"testing"

	"tavrin/internal/core/change"
	"tavrin/internal/lab"
	"tavrin/wire"
)

const one = "tavrin: rules/1\nprotect:\n  - name: trunk\n    branches: main\n    require: [{approvals: 1}]\n"
const two = "tavrin: rules/1\nprotect:\n  - name: trunk\n    branches: main\n    require: [{approvals: 2}]\n"

// A trial says what a document would change, as the gate says it once it is in force, and changes nothing.
func TestATrialIsAsItComes(t *testing.T) {
	l := lab.New(t)
	ctx := t.Context()
	l.Rules(one)
	l.Commit("main", "", "a=1")
	l.Commit("topic", "main", "a=2")
	l.Open(l.Person("wren", "writer"), "topic")
	_, err := l.Changes.Review(ctx, l.Person("odo", "writer"), lab.Name, 1, wire.NewReview{Verdict: change.Approve, Revision: 1})
	l.Ok(err)
	ready := func() bool {
		t.Helper()
		r, err := l.Facts.Gate(ctx, l.Admin, lab.Name, 1)
		l.Ok(err)
		return r.Ready
	}
	for _, c := range []struct {
		doc, outcome string
		loosens      bool
	}{{two, "blocked", false}, {one, "freed", true}} {
		before := ready()
		v, err := l.Trials.TryRules(ctx, l.Admin, lab.Name, c.doc, 10)
		l.Ok(err)
		if len(v.Changes) != 1 || v.Changes[0].Outcome != c.outcome || v.Loosens != c.loosens || ready() != before {
			t.Errorf("the trial says %+v, loosens %v; ready was %v and is %v", v.Changes, v.Loosens, before, ready())
		}
		l.Rules(c.doc)
		if ready() != v.Changes[0].ReadyThen || before != v.Changes[0].ReadyNow {
			t.Errorf("in force, the gate is ready: %v; the trial said %+v", ready(), v.Changes[0])
		}
	}
	v, err := l.Trials.TryRules(ctx, l.Admin, lab.Name, "tavrin: rules/1\nprotect: 7\n", 0)
	l.Ok(err)
	if len(v.Findings) == 0 {
		t.Error("a document that cannot be read has no findings")
	}
}

func TestExamples(t *testing.T) {
	l := lab.New(t)
	l.Rules(one)
	_, err := l.Trials.TestRules(t.Context(), l.Admin, lab.Name, "", "examples: 7")
	if err == nil {
		t.Error("examples that cannot be read are run")
	}
}
