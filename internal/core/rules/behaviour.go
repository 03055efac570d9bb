package rules

import (
	"cmp"
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
	{Demand: Messages, OnPush: true, Judged: "by rebase each commit's but a merge commit's, by squash the final one, by merge both, as they land but for the trailers that the service and land.trailers add; of a push each commit's", Gone: "-"},
	{Demand: Signed, OnPush: true, Judged: "the change's own commits, also where the strategy writes new ones; of a push, the commits that it brings", Gone: "a key that is taken back, or whose owner has no access: not signed"},
	{Demand: Checks, Judged: "the newest attempt on the commit that at names", Gone: "a glob that matches nothing: not met; a check that nobody reports: not met; a robot that is gone: what it reported stands, and nothing more comes"},
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

// SettingBehaviour is how a setting that is no demand behaves: what of it a direct push is judged by, by which strategies a landing
// is, and what becomes of it when what it names is gone. The reference is made from this table, and a test holds it against the
// gate and the guard.
type SettingBehaviour struct {
	Path string
	// OnPush says that a direct push to the branch, which may create, rewrite or delete it, is judged by it.
	OnPush bool
	// By are the strategies by which a landing is judged by it; nil: none is.
	By []Strategy
	// Else says what it does where neither is.
	Else string
	Gone string
}

const (
	nobodyLeft  = "those who are gone may not; nobody left: nobody may"
	noMore      = "who is gone is left out"
	neverHolds  = "the condition does not hold"
	readAnew    = "a document that names one which is not there is refused"
	namesNobody = "-"
)

// byAny is every strategy; byFinal those that write a final message.
var byAny, byFinal = Strategies, []Strategy{Squash, Merge}

// SettingBehaviours lists every setting that is no demand, in the order of the reference.
var SettingBehaviours = []SettingBehaviour{
	{Path: "branches{}", OnPush: true, By: byAny, Gone: "no branch matches: what uses the kind is for none, until there is one"},
	{Path: "labels{}.set_by", Else: "setting and removing the label", Gone: nobodyLeft},
	{Path: "areas{}.paths", By: byAny, Gone: "no path matches: the area is not touched"},
	{Path: "areas{}.owners", By: byAny, Gone: "an area without anybody left: its approvals cannot be given, and the gate says so"},
	{Path: "areas{}.checks", By: byAny, Gone: "a check that nobody reports: not met"},
	{Path: "areas{}.asks.approvals", By: byAny, Gone: namesNobody},
	{Path: "areas{}.asks.reviewers", Else: "whom a new change asks for a review", Gone: noMore},
	{Path: "areas{}.asks.optional", Else: "whom a new change is shown to", Gone: noMore},
	{Path: "areas{}.asks.override", By: byAny, Gone: nobodyLeft},
	{Path: "areas{}.repositories", By: byAny, Gone: "no repository matches: the area is in none, until there is one"},
	{Path: "checks{}.command", Else: "what a runner runs for the check", Gone: "no runner takes it: not met"},
	{Path: "checks{}.limit", Else: "how long the check is waited for", Gone: namesNobody},
	{Path: "checks{}.witness", By: byAny, Gone: "what it reported stands, and nothing more comes"},
	{Path: "checks{}.fresh", By: byAny, Gone: namesNobody},
	{Path: "checks{}.kind", By: byAny, Gone: namesNobody},
	{Path: "checks{}.place", By: byAny, Gone: namesNobody},
	{Path: "changes.description", Else: "the description of a new change whose author gives none", Gone: namesNobody},
	{Path: "loosening.agreed_by", Else: "a change of the document that loosens it, and suspending what it protects", Gone: "nobody left: nothing loosens"},
	{Path: "protect[].name", Else: "what messages call it", Gone: namesNobody},
	{Path: "protect[].repositories", OnPush: true, By: byAny, Gone: "no repository matches: it is in force in none, until there is one"},
	{Path: "protect[].branches", OnPush: true, By: byAny, Gone: "no branch matches: it waits for one"},
	{Path: "protect[].push", OnPush: true, Gone: nobodyLeft},
	{Path: "protect[].create", OnPush: true, Gone: nobodyLeft},
	{Path: "protect[].create_from", OnPush: true, Gone: "no branch matches: nothing is held, and only those who may push create one"},
	{Path: "protect[].rewrite", OnPush: true, Gone: namesNobody},
	{Path: "protect[].delete", OnPush: true, Gone: namesNobody},
	{Path: "protect[].exempt", OnPush: true, By: byAny, Gone: nobodyLeft},
	{Path: "protect[].override", OnPush: true, By: byAny, Gone: nobodyLeft},
	{Path: "protect[].after_push.approvals_stay", By: byAny, Gone: namesNobody},
	{Path: "protect[].after_push.objections_stay", By: byAny, Gone: namesNobody},
	{Path: "protect[].land.by", By: byAny, Gone: nobodyLeft},
	{Path: "protect[].land.with", By: byAny, Gone: namesNobody},
	{Path: "protect[].land.strategy", Else: "which strategy is taken where nobody says one", Gone: namesNobody},
	{Path: "protect[].land.message", By: byFinal, Gone: namesNobody},
	{Path: "protect[].land.trailers", Else: "what is added to the final message of a squash or merge, after messages is judged", Gone: namesNobody},
	{Path: "protect[].land.remove_source", Else: "whether the source branch goes after a landing: only where whoever asked for it might delete it by a push", Gone: namesNobody},
	{Path: "protect[].land.join_early", Else: "whether a change joins the queue before its gate is ready", Gone: namesNobody},
	{Path: "protect[].require[].called", Else: "what messages call the requirement", Gone: namesNobody},
	{Path: "protect[].require[].level", OnPush: true, By: byAny, Gone: namesNobody},
	{Path: "protect[].require[].from", By: byAny, Gone: "nobody left: it cannot be met, and the gate says so"},
	{Path: "protect[].require[].not_from", By: byAny, Gone: namesNobody},
	{Path: "protect[].require[].own", By: byAny, Gone: namesNobody},
	{Path: "protect[].require[].on", By: byAny, Gone: namesNobody},
	{Path: "protect[].require[].settled_by", By: byAny, Gone: "what they settled is open again"},
	{Path: "protect[].require[].in", By: byAny, Gone: namesNobody},
	{Path: "protect[].require[].example", Else: "what a refusal shows", Gone: namesNobody},
	{Path: "protect[].require[].at", By: byAny, Gone: namesNobody},
	{Path: "protect[].require[].fresh", By: byAny, Gone: namesNobody},
	{Path: "protect[].require[].at_least", By: byAny, Gone: namesNobody},
	{Path: "protect[].require[].skipped", By: byAny, Gone: namesNobody},
	{Path: "protect[].require[].witness", By: byAny, Gone: "what it reported stands, and nothing more comes"},
	{Path: "protect[].require[].when.paths", By: byAny, Gone: "no path matches: " + neverHolds},
	{Path: "protect[].require[].when.areas", By: byAny, Gone: readAnew},
	{Path: "protect[].require[].when.lines", By: byAny, Gone: namesNobody},
	{Path: "protect[].require[].when.files", By: byAny, Gone: namesNobody},
	{Path: "protect[].require[].when.source", By: byAny, Gone: "no branch matches: " + neverHolds},
	{Path: "protect[].require[].when.author", By: byAny, Gone: "nobody is one: " + neverHolds},
	{Path: "protect[].require[].when.label", By: byAny, Gone: readAnew},
	{Path: "protect[].require[].when.cel", By: byAny, Gone: "what cannot be worked out is taken to hold"},
}

// SettingTable writes the table for the reference.
func SettingTable() string {
	var out strings.Builder
	out.WriteString("| setting | a push is judged by it | a landing is judged by it | it decides besides | when what it names is gone |\n| --- | --- | --- | --- | --- |\n")
	for _, b := range SettingBehaviours {
		push, by := "no", "no"
		if b.OnPush {
			push = "yes"
		}
		if len(b.By) > 0 {
			by = "by " + strings.Join(words(b.By), ", ")
		}
		fmt.Fprintf(&out, "| `%s` | %s | %s | %s | %s |\n", b.Path, push, by, cmp.Or(b.Else, "-"), b.Gone)
	}
	return out.String()
}
