package e2e

import (
	"fmt"
	"strings"
	"testing"

	"tavrin/wire"
)

// desk lists what waits for somebody, shortly.
func (w *town) desk(login string) string {
	w.t.Helper()
	items, err := w.as(login).Desk(w.t.Context())
	w.ok(err)
	var out []string
	for _, i := range items {
		out = append(out, fmt.Sprintf("%s %s %d asked=%v: %s", i.Kind, i.Repository, i.Number, i.Asked, i.What))
	}
	return strings.Join(out, "\n")
}

// What waits for each person, and what no longer does: reviews, waivers to acknowledge, answers, decisions, own changes held up.
func TestDesk(t *testing.T) {
	w := newTown(t)
	w.begin("tavrin: rules/1\nloosening: {agreed_by: [\"person:odo\", \"person:ines\"]}\nareas: {valves: {paths: valves/**, owners: team:hydraulics, require: [{approvals: 1}], reviewers: team:hydraulics}}\n" +
		"protect: [{name: trunk, branches: main, require: [{approvals: 1, from: team:hydraulics}, {objections: none}]}]\n")
	w.person("marla") // without any role
	for _, login := range []string{"odo", "tamsin", "wren", "marla"} {
		if got := w.desk(login); got != "" {
			t.Errorf("%s's desk is not empty: %s", login, got)
		}
	}
	k := w.propose("tamsin", "topic", "valves/a", "one\ntwo\n")
	has(t, w.desk("odo"), "review growers/irrigation 1 asked=true: needs 1 approval from team:hydraulics; needs 1 approval from an owner of valves (team:hydraulics)")
	has(t, w.desk("tamsin"), "own growers/irrigation 1 asked=false: Not ready for main")
	if got := w.desk("wren") + w.desk("marla"); got != "" {
		t.Errorf("others are asked: %s", got)
	}
	// A question on the author's change, its answer, and the acknowledgement after an objection.
	_, err := w.as("odo").BeginThread(t.Context(), repo, k.Number, wire.NewThread{Path: "valves/a", First: 2, Text: "why two?"})
	w.ok(err)
	has(t, w.desk("tamsin"), "answer growers/irrigation 1 asked=false: odo wrote on valves/a, line 2")
	_, err = w.as("tamsin").Reply(t.Context(), repo, k.Number, 1, wire.NewComment{Text: "measured"})
	w.ok(err)
	if strings.Contains(w.desk("tamsin"), "answer") {
		t.Error("the author has answered, and is asked still")
	}
	has(t, w.desk("odo"), "answer growers/irrigation 1 asked=false: tamsin wrote on valves/a, line 2")
	_, err = w.as("odo").Resolve(t.Context(), repo, k.Number, 1, true, "")
	w.ok(err)
	_, err = w.as("odo").Review(t.Context(), repo, k.Number, wire.NewReview{Verdict: "object", Revision: 1, Text: "not two"})
	w.ok(err)
	dir := w.clone("tamsin")
	w.must("tamsin", dir, "checkout", "-q", "topic")
	w.commit("tamsin", dir, "valves/a", "one\n", "only one")
	w.must("tamsin", dir, "push", "-q", "origin", "topic")
	has(t, w.desk("odo"), "look-again growers/irrigation 1 asked=false: you object to revision 1, and revision 2 is there")
	k.Revision = 2
	w.approve("odo", k)
	for _, login := range []string{"odo", "tamsin"} {
		if got := w.desk(login); got != "" {
			t.Errorf("%s's desk is not empty: %s", login, got)
		}
	}
	// A proposal about rules is for those who may agree to it, and not for who proposed it.
	_, err = w.as("ines").ApplyRules(t.Context(), repo, wire.NewRules{Text: "tamrin: rules/1", Reason: "x y z"}, -1)
	problem(t, err, 422, "")
	_, err = w.as("ines").ApplyRules(t.Context(), repo, wire.NewRules{Text: "tavrin: rules/1\n", Reason: "away with it"}, -1)
	w.ok(err)
	has(t, w.desk("odo"), "decide growers/irrigation 1 asked=false: ines proposed it")
	if got := w.desk("ines") + w.desk("wren"); got != "" {
		t.Errorf("others may decide: %s", got)
	}
	w.says("odo", 0, "decide", "desk")
	w.says("wren", 0, "nothing waits for you", "desk")
}
