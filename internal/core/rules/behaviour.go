package rules

import (
	"fmt"
	"slices"
	"strings"
)

// Behaviour is how one demand behaves where its own description leaves it open. The reference is made from this table, and a
// test holds it against the gate and the guard.
type Behaviour struct {
	Demand Demand
	// OnPush says that it holds for direct pushes too.
	OnPush bool
	// NotBy are the strategies by which a landing cannot break it.
	NotBy []Strategy
	// Judged says what of a change is looked at.
	Judged string
	// Gone says what becomes of it when what it names is gone, or there is nothing that it could be about.
	Gone string
}

// Behaviours lists every demand, in the order of the reference.
var Behaviours = []Behaviour{
	{Demand: Approvals, Judged: "the approvals that stand, for the newest revision or, as after_push says, an earlier one", Gone: "a team, person or role that is gone: nobody's approval counts, and the gate says that nobody could give one"},
	{Demand: Owners, Judged: "every area that a path which comes lies in", Gone: "no area touched: not applicable; an area without anybody left: it cannot be met, and the gate says so"},
	{Demand: Objections, Judged: "the objections that stand", Gone: "an objection of somebody without access still stands: it is set aside, or they are given access again"},
	{Demand: Threads, Judged: "every discussion", Gone: "no discussion: not applicable; settled by somebody who may not any more: open again"},
	{Demand: Tasks, Judged: "the boxes of the description as it is now", Gone: "no checklist: not applicable"},
	{Demand: Ticket, Judged: "the parts of the change that in names, as they are now", Gone: "-"},
	{Demand: PathCase, Judged: "every path that comes, against the areas", Gone: "no areas: met"},
	{Demand: Fixups, NotBy: []Strategy{Squash}, Judged: "the commits' first lines", Gone: "-"},
	{Demand: History, OnPush: true, NotBy: []Strategy{Rebase, Squash}, Judged: "whether the strategy makes a merge commit; of a push, the commits that it brings", Gone: "-"},
	{Demand: Messages, OnPush: true, Judged: "by rebase each commit's but a merge commit's, by squash the final one, by merge both, as they land but for the service's own trailers; of a push each commit's", Gone: "-"},
	{Demand: Signed, OnPush: true, Judged: "the change's own commits, also where the strategy writes new ones; of a push, the commits that it brings", Gone: "a key that is taken back, or whose owner has no access: not signed"},
	{Demand: Checks, Judged: "the newest attempt on the commit that at names", Gone: "a glob that matches nothing: not met; a check that nobody reports: not met; a robot that is gone: its answers count no more than it can give them"},
	{Demand: Deployment, Judged: "the checks of kind deployment with that place", Gone: "no check deploys there: not met"},
}

// BehaviourOf returns the row of a demand.
func BehaviourOf(d Demand) Behaviour {
	for _, b := range Behaviours {
		if b.Demand == d {
			return b
		}
	}
	return Behaviour{Demand: d}
}

// BehaviourTable writes the table for the reference.
func BehaviourTable() string {
	var out strings.Builder
	out.WriteString("| demand | on a push | by which strategies it can be broken | what is judged | when what it names is gone |\n| --- | --- | --- | --- | --- |\n")
	for _, b := range Behaviours {
		push := "not asked"
		if b.OnPush {
			push = "holds, whatever its condition"
		}
		var by []string
		for _, s := range Strategies {
			if !slices.Contains(b.NotBy, s) {
				by = append(by, string(s))
			}
		}
		fmt.Fprintf(&out, "| `%s` | %s | %s | %s | %s |\n", b.Demand, push, strings.Join(by, ", "), b.Judged, b.Gone)
	}
	return out.String()
}
