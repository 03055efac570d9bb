package rules

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"tavrin/internal/core/change"
	"tavrin/internal/core/grammar"
	"tavrin/internal/core/kind"
	"tavrin/internal/core/require"
)

// BehaviourTable writes the table for the reference.
func BehaviourTable() string {
	var out strings.Builder
	out.WriteString("| demand | on a push | by which strategies it can be broken | what is judged | when what it names is gone |\n| --- | --- | --- | --- | --- |\n")
	for _, b := range kind.All() {
		push := "not asked"
		if b.OnPush {
			push = "holds, whatever its condition"
		}
		var by []string
		for _, s := range change.Strategies {
			if !slices.Contains(b.NotBy, s) {
				by = append(by, string(s))
			}
		}
		fmt.Fprintf(&out, "| `%s` | %s | %s | %s | %s |\n", b.Name, push, strings.Join(by, ", "), b.Judged, b.Gone)
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
	By []change.Strategy
	// Else says what it does where neither is.
	Else string
	Gone string
}

const (
	nobodyLeft  = "those who are gone may not; nobody left: nobody may"
	noMore      = "who is gone is left out"
	namesNobody = "-"
)

// byAny is every strategy; byFinal those that write a final message.
var byAny, byFinal = change.Strategies, []change.Strategy{change.Squash, change.Merge, change.SquashThenMerge, change.RebaseThenMerge}

// SettingBehaviours lists every setting that is no demand, in the order of the reference.
var SettingBehaviours = slices.Concat(settings, ofRequirements())

// ofRequirements are the keys that stand beside a kind of requirement, as they are described there.
func ofRequirements() []SettingBehaviour {
	var out []SettingBehaviour
	for _, k := range require.Keys(kind.All(), requirementPath) {
		if kind.Of(k.Name()) != nil || k.Shape == grammar.Mapping {
			continue
		}
		b := SettingBehaviour{Path: k.Path, By: byAny, Else: k.Else, OnPush: k.OnPush, Gone: cmp.Or(k.Gone, namesNobody)}
		if k.Else != "" {
			b.By = nil
		}
		out = append(out, b)
	}
	return out
}

var settings = []SettingBehaviour{
	{Path: "branches{}", OnPush: true, By: byAny, Gone: "no branch matches: what uses the kind is for none, until there is one"},
	{Path: "labels{}.set_by", Else: "setting and removing the label", Gone: nobodyLeft},
	{Path: "areas{}.paths", By: byAny, Gone: "no path matches: the area is not touched"},
	{Path: "areas{}.owners", By: byAny, Gone: "an area without anybody left: its approvals cannot be given, and the gate says so"},
	{Path: "areas{}.require", By: byAny, Gone: "as the requirement says, in a protection"},
	{Path: "areas{}.reviewers", Else: "whom a new change asks for a review", Gone: noMore},
	{Path: "areas{}.optional", Else: "whom a new change is shown to", Gone: noMore},
	{Path: "areas{}.waive", By: byAny, Gone: nobodyLeft},
	{Path: "areas{}.repositories", By: byAny, Gone: "no repository matches: the area is in none, until there is one"},
	{Path: "checks{}.command", Else: "what a runner runs for the check", Gone: "no runner takes it: not met"},
	{Path: "checks{}.timeout", Else: "how long the check is waited for", Gone: namesNobody},
	{Path: "checks{}.reported_by", By: byAny, Gone: "what it reported stands, and nothing more comes"},
	{Path: "checks{}.max_age", By: byAny, Gone: namesNobody},
	{Path: "checks{}.sees", Else: "whether its pass on another commit of the same tree is taken", Gone: namesNobody},
	{Path: "checks{}.kind", By: byAny, Gone: namesNobody},
	{Path: "checks{}.environment", By: byAny, Gone: namesNobody},
	{Path: "checks{}.on_tip", Else: "on which branches' new tips it is asked for", Gone: "no such branch: asked for on none"},
	{Path: "changes.description", Else: "the description of a new change whose author gives none", Gone: namesNobody},
	{Path: "loosening.agreed_by", Else: "a change of the document that loosens it, and suspending what it protects", Gone: "nobody left: nothing loosens"},
	{Path: "protect[].name", Else: "what messages call it", Gone: namesNobody},
	{Path: "protect[].repositories", OnPush: true, By: byAny, Gone: "no repository matches: it is in force in none, until there is one"},
	{Path: "protect[].branches", OnPush: true, By: byAny, Gone: "no branch matches: it waits for one"},
	{Path: "protect[].tags", OnPush: true, Gone: "no tag matches: it waits for one"},
	{Path: "protect[].push", OnPush: true, Gone: nobodyLeft},
	{Path: "protect[].create", OnPush: true, Gone: nobodyLeft},
	{Path: "protect[].create_from", OnPush: true, Gone: "no branch matches: nothing is held, and only those who may push create one"},
	{Path: "protect[].rewrite", OnPush: true, Gone: namesNobody},
	{Path: "protect[].delete", OnPush: true, Gone: namesNobody},
	{Path: "protect[].exempt", OnPush: true, By: byAny, Gone: nobodyLeft},
	{Path: "protect[].waive", OnPush: true, By: byAny, Gone: nobodyLeft},
	{Path: "protect[].after_push.approvals_stay", By: byAny, Gone: namesNobody},
	{Path: "protect[].after_push.objections_stay", By: byAny, Gone: namesNobody},
	{Path: "protect[].land.who", By: byAny, Gone: nobodyLeft},
	{Path: "protect[].land.strategies", By: byAny, Gone: namesNobody},
	{Path: "protect[].land.default", Else: "which strategy is taken where nobody says one", Gone: namesNobody},
	{Path: "protect[].land.message", By: byFinal, Gone: namesNobody},
	{Path: "protect[].land.trailers", Else: "what is added to the final message of a squash or merge, after messages is judged", Gone: namesNobody},
	{Path: "protect[].land.delete_source", Else: "whether the source branch goes after a landing: only where whoever asked for it might delete it by a push", Gone: namesNobody},
	{Path: "protect[].queue.planner", Else: "what is rehearsed when: what has to hold for it is the same", Gone: namesNobody},
	{Path: "protect[].queue.slots", Else: "how many rehearsals run at once", Gone: namesNobody},
	{Path: "protect[].queue.reruns", Else: "how often what is red by itself is tested again before it is ejected", Gone: namesNobody},
	{Path: "protect[].queue.tests", Else: "whether what lands may be built anew from what was tested, when only other areas have changed since", Gone: namesNobody},
	{Path: "protect[].queue.on_push", Else: "whether a change stays in the queue when its branch is pushed to", Gone: namesNobody},
	{Path: "protect[].queue.urgent", Else: "who may have a change go ahead of what waits", Gone: nobodyLeft},
	{Path: "protect[].land.undo_first", Else: "who goes first in the queue: what has to hold for it is the same", Gone: namesNobody},
	{Path: "protect[].land.drop_empty", Else: "whether a rehearsal may be built that leaves commits out which change nothing", Gone: namesNobody},
	{Path: "protect[].land.join_early", Else: "whether a change joins the queue before its gate is ready", Gone: namesNobody},
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
			by = "by " + strings.Join(grammar.Texts(b.By), ", ")
		}
		fmt.Fprintf(&out, "| `%s` | %s | %s | %s | %s |\n", b.Path, push, by, cmp.Or(b.Else, "-"), b.Gone)
	}
	return out.String()
}
