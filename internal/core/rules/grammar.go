package rules

import (
	"slices"

	"tavrin/internal/core/change"
	"tavrin/internal/core/grammar"
	"tavrin/internal/core/kind"
	"tavrin/internal/core/require"
)

const (
	intersection = "intersection: everyone has to be in every list"
	added        = "all of them apply"
	fixed        = "a repository adds its own and never redefines those of its house"
)

// Keys lists every key of the document, in the order of the reference.
var Keys = slices.Concat(definitions, require.Keys(kind.OfAreas(), areaRequirementPath), defining, protecting, require.Keys(kind.All(), requirementPath), landing)

// Where requirements stand.
const (
	requirementPath     = "protect[].require[]"
	areaRequirementPath = "areas{}.require[]"
)

// theGrammar is how documents are read.
var theGrammar = grammar.New(Keys)

var definitions = []grammar.Key{
	{Path: "tavrin", Shape: grammar.Word, Allowed: []string{Format}, Means: "the form of the document", Absent: "refused", Together: "each document states its own", Example: "tavrin: rules/1"},

	{Path: "branches", Shape: grammar.Named, Means: "branch kinds: names for sets of branches", Absent: "no kinds", Together: fixed, Example: "branches: {trunk: main}"},
	{Path: "branches{}", Shape: grammar.Globs, Means: "the globs of one kind, for branches that exist now or later; case-sensitive", Absent: "-", Together: fixed, Example: "release: [release/**, \"!release/old-*\"]"},

	{Path: "labels", Shape: grammar.Named, Means: "labels that conditions may ask for", Absent: "no labels", Together: fixed, Example: "labels: {urgent: {set_by: team:duty}}"},
	{Path: "labels{}.set_by", Shape: grammar.Who, Means: "who may set and remove the label", Absent: "refused: a label that anybody may set would loosen rules", Together: intersection, Example: "set_by: team:duty"},

	{Path: "areas", Shape: grammar.Named, Means: "named parts of the tree", Absent: "no areas", Together: "every area that matches a path applies; " + fixed, Example: "areas: {docs: {paths: docs/**, owners: team:field}}"},
	{Path: "areas{}.paths", Shape: grammar.Globs, Means: "the paths in it; a leading ! takes out", Absent: "refused", Together: added, Example: "paths: [firmware/valves/**, \"!**/*.md\"]"},
	{Path: "areas{}.owners", Shape: grammar.Who, Means: "who owns it", Absent: "refused", Together: added, Example: "owners: [\"team:hydraulics\", \"person:odo\"]"},
	{Path: "areas{}.reviewers", Shape: grammar.Who, Means: "who is asked to review a new change that touches it", Absent: "nobody", Together: added, Example: "reviewers: team:hydraulics"},
	{Path: "areas{}.optional", Shape: grammar.Who, Means: "who is told of a new change that touches it, without being asked", Absent: "nobody", Together: added, Example: "optional: person:odo"},
	{Path: "areas{}.waive", Shape: grammar.WhoOrNone, Means: "who may waive what the area requires, case by case: with a reason, for a time, and acknowledged by somebody else afterwards", Absent: "nobody", Together: "everyone who asks the same has to allow it", Example: "waive: team:duty"},
	{Path: "areas{}.repositories", Shape: grammar.Globs, House: true, Means: "names of the repositories it is for", Absent: "every repository of the house", Together: "-", Example: "repositories: irrigation"},
	{Path: "areas{}.require", Shape: grammar.List, Means: "what has to hold of every change that touches it; approvals are its owners' unless from says otherwise", Absent: "nothing of its own", Together: require.Conjunction, Example: "require: [{approvals: 1}, {checks: valve-bench}]"},
}

var defining = []grammar.Key{
	{Path: "checks", Shape: grammar.Named, Means: "what this repository's checks are", Absent: "none defined: checks are reported from outside", Together: fixed, Example: "checks: {unit: {command: make test}}"},
	{Path: "checks{}.command", Shape: grammar.Text, Means: "the command line that a runner runs with sh -c in a clean checkout", Absent: "the check is reported from outside", Together: fixed, Example: "command: make test"},
	{Path: "checks{}.timeout", Shape: grammar.Duration, High: 168, Means: "how long the command may run, or how long an answer from outside may take before the check counts as errored, is asked for once more, and then ends the change's rehearsal: from 1s to 168h", Absent: "10m for a command, 1h from outside", Together: fixed, Example: "timeout: 90s"},
	{Path: "checks{}.reported_by", Shape: grammar.RobotName, Means: "the only robot that may report it", Absent: "any robot whose token names the check", Together: "intersection: with another in a requirement, nobody's answer counts", Example: "reported_by: robot:previewer"},
	{Path: "checks{}.max_age", Shape: grammar.Duration, High: 720, Means: "how long a pass counts after it was reported: from 1m to 720h; on the rehearsal it is then run again", Absent: "for ever", Together: "the shorter", Example: "max_age: 12h"},
	{Path: "checks{}.sees", Shape: grammar.Word, Allowed: []string{"commit", "tree"}, Means: "what its result depends on: with tree, on nothing but the files, so that its pass on a commit counts for every other commit with the same files, and none is tested twice; not for what reads messages, authors, history or the branch's name", Absent: "commit", Together: fixed, Example: "sees: tree"},
	{Path: "checks{}.kind", Shape: grammar.Word, Allowed: []string{"deployment"}, Means: "that its pass means a deployment", Absent: "an ordinary check", Together: fixed, Example: "kind: deployment"},
	{Path: "checks{}.environment", Shape: grammar.Text, Means: "where it deploys to; needed with kind: deployment", Absent: "-", Together: fixed, Example: "environment: proving-field"},
	{Path: "checks{}.on_tip", Shape: grammar.Globs, Means: "branches, by kind or glob, on every new tip of which it is asked for: what follows a landing, such as a build or a deployment", Absent: "only where a requirement asks for it", Together: fixed, Example: "on_tip: main"},

	{Path: "changes", Shape: grammar.Mapping, Means: "what new changes begin with", Absent: "with nothing", Together: "all of them apply", Example: "changes: {description: \"- [ ] the growers were told\"}"},
	{Path: "changes.description", Shape: grammar.Text, Means: "what the description of a new change begins with, where its author gives none; boxes (- [ ] …) make a checklist, for which tasks: done can ask", Absent: "an empty description", Together: "the house's comes first, the repository's after an empty line", Example: "description: \"- [ ] tried on a bench valve\""},

	{Path: "loosening", Shape: grammar.Mapping, Means: "what a change of this document needs that loosens it", Absent: "whoever may apply rules may loosen them", Together: "each document states its own", Example: "loosening: {agreed_by: role:maintainer}"},
	{Path: "loosening.agreed_by", Shape: grammar.Who, Means: "who else has to agree: one of them, not the one who proposes", Absent: "refused", Together: "each document states its own", Example: "agreed_by: [\"team:stewards\"]"},
}

var protecting = []grammar.Key{
	{Path: "protect", Shape: grammar.List, Means: "the protections", Absent: "nothing is protected", Together: "every one that matches a branch applies, in no order", Example: "protect: [{name: trunk, branches: trunk, push: nobody}]"},
	{Path: "protect[].name", Shape: grammar.Text, Means: "a few words that every message names", Absent: "refused", Together: "unique in its document", Example: "name: trunk and releases"},
	{Path: "protect[].repositories", Shape: grammar.Globs, House: true, Means: "names of the repositories it is for", Absent: "every repository of the house", Together: "-", Example: "repositories: [irrigation, \"ledger-*\"]"},
	{Path: "protect[].branches", Shape: grammar.Globs, Means: "branch kinds or globs", Absent: "it is for tags", Together: "every protection that matches applies", Example: "branches: [trunk, release]"},
	{Path: "protect[].tags", Shape: grammar.Globs, Means: "globs for tags, in place of branches: who may make one (create), whether it may move (rewrite) or go (delete), and whether it is signed", Absent: "it is for branches", Together: "every protection that matches applies", Example: "tags: v*"},
	{Path: "protect[].push", Shape: grammar.WhoOrNone, Means: "who may push directly", Absent: "nobody", Together: intersection + "; empty means nobody", Example: "push: robot:release-bot"},
	{Path: "protect[].create", Shape: grammar.WhoOrNone, Means: "who may create a matching branch by pushing a commit that is held already, by a branch that create_from names; of tags, who may make one", Absent: "those who may push; of tags, nobody", Together: intersection, Example: "create: role:maintainer"},
	{Path: "protect[].create_from", Shape: grammar.Globs, Means: "branch kinds or globs of the branches of which one has to hold the commit", Absent: "the branches of this protection", Together: "each protection that matches has to find the commit held", Example: "create_from: trunk"},
	{Path: "protect[].rewrite", Shape: grammar.Word, Allowed: grammar.Texts(permissions), Means: "whether history may be rewritten; of tags, whether maintainers who may make one may move it", Absent: "never", Together: "never over allowed", Example: "rewrite: never"},
	{Path: "protect[].delete", Shape: grammar.Word, Allowed: grammar.Texts(permissions), Means: "whether the branch may be deleted; of tags, whether maintainers who may make one may delete it", Absent: "never", Together: "never over allowed", Example: "delete: never"},
	{Path: "protect[].exempt", Shape: grammar.WhoOrNone, Means: "whom this protection does not bind; each use is shown and recorded", Absent: "nobody: administrators are bound like everybody", Together: "from the protection that states it only", Example: "exempt: robot:release-bot"},
	{Path: "protect[].waive", Shape: grammar.WhoOrNone, Means: "who may waive what this protection asks, case by case: with a reason, for a time, and acknowledged by somebody else afterwards", Absent: "nobody", Together: "per requirement, intersection: everyone who asks it has to allow it; what an area asks is waived by those whom the area names", Example: "waive: team:duty"},
	{Path: "protect[].require", Shape: grammar.List, Means: "what has to hold before a change lands", Absent: "nothing", Together: require.Conjunction, Example: "require: [{approvals: 1}]"},
}

var landing = []grammar.Key{
	{Path: "protect[].after_push", Shape: grammar.Mapping, Means: "what a push does to what reviewers said before it", Absent: "as its keys say", Together: "key by key", Example: "after_push: {approvals_stay: never}"},
	{Path: "protect[].after_push.approvals_stay", Shape: grammar.Word, Allowed: grammar.Texts(require.Stays), Means: "whether approvals outlive a push: if_unchanged proves by merging again that the difference is the approved one", Absent: "if_unchanged", Together: "never over if_unchanged over always", Example: "approvals_stay: if_unchanged"},
	{Path: "protect[].after_push.objections_stay", Shape: grammar.Word, Allowed: grammar.Texts(require.Stays), Means: "whether objections outlive a push", Absent: "always", Together: "always over if_unchanged over never: dropping an objection loosens", Example: "objections_stay: if_unchanged"},

	{Path: "protect[].land", Shape: grammar.Mapping, Means: "how changes land", Absent: "as its keys say", Together: "key by key", Example: "land: {strategies: [rebase, squash]}"},
	{Path: "protect[].land.who", Shape: grammar.Who, Means: "who may ask to land", Absent: "everybody who may write", Together: intersection, Example: "who: role:maintainer"},
	{Path: "protect[].land.strategies", Shape: grammar.Words, Allowed: grammar.Texts(change.Strategies), Means: "the strategies allowed", Absent: "all", Together: "intersection; none left means that nothing can land", Example: "strategies: [rebase, squash]"},
	{Path: "protect[].land.default", Shape: grammar.Word, Allowed: grammar.Texts(change.Strategies), Means: "the default strategy", Absent: "the first allowed, and it is said", Together: "the one all agree on, else the person chooses", Example: "default: rebase"},
	{Path: "protect[].land.message", Shape: grammar.Text, Means: "template of the final message of a squash or merge; {title} {description} {number} {source} {target} {repository} {author} are filled in", Absent: "\"{title}\\n\\n{description}\"", Together: "all that state one must agree, else the template of absence is used and lint says so", Example: "message: \"{title} (#{number})\""},
	{Path: "protect[].land.trailers", Shape: grammar.Lines, Means: "templates of trailers added to the final message, with the same placeholders", Absent: "only the service's own", Together: "all of them are added", Example: "trailers: \"Proposed-by: {author}\""},
	{Path: "protect[].land.delete_source", Shape: grammar.Truth, Means: "whether the source branch is removed after landing, unless the person says otherwise", Absent: "false", Together: "all that state one must agree, else false and lint says so", Example: "delete_source: true"},
	{Path: "protect[].land.join_early", Shape: grammar.Truth, Means: "whether a change may join the queue before its gate is ready", Absent: "true", Together: "false over true", Example: "join_early: false"},
	{Path: "protect[].land.undo_first", Shape: grammar.Truth, Means: "whether a change that tavrin change undo prepared, and that brings what it brought then, goes before the others in the queue", Absent: "false", Together: "all that state one must agree, else false", Example: "undo_first: true"},
	{Path: "protect[].queue", Shape: grammar.Mapping, Means: "how the queue of these branches rehearses and lands", Absent: "as its keys say", Together: "key by key", Example: "queue: {slots: 8, reruns: 1}"},
	{Path: "protect[].queue.planner", Shape: grammar.Word, Allowed: grammar.Texts(planners), Means: "what is rehearsed: adaptive takes what is likeliest to be needed, one-at-a-time the first in line and nothing else", Absent: "adaptive", Together: "one-at-a-time over adaptive", Example: "planner: one-at-a-time"},
	{Path: "protect[].queue.slots", Shape: grammar.Number, Low: 1, High: MaxSlots, Means: "how many rehearsals have their checks run at once, from 1 to 64; about 2.3 times the changes that join during one run of the checks is worth having", Absent: "4", Together: "the fewest stated", Example: "slots: 8"},
	{Path: "protect[].queue.reruns", Shape: grammar.Number, High: MaxReruns, Means: "how often a change that is red by itself is tested once more before it is ejected, from 0 to 5", Absent: "1", Together: "the fewest", Example: "reruns: 2"},
	{Path: "protect[].queue.tests", Shape: grammar.Word, Allowed: grammar.Texts(tests), Means: "strict: what lands is the tested commit, to the byte; by_area: changes that touch different areas are tested and landed side by side, and a path in no area touches everything", Absent: "strict", Together: "strict over by_area", Example: "tests: by_area"},
	{Path: "protect[].queue.on_push", Shape: grammar.Word, Allowed: grammar.Texts(onPushes), Means: "what a push to a change in line does: it keeps its place, goes to the end of the line, or has to join again", Absent: "stay", Together: "leave over back over stay", Example: "on_push: back"},
	{Path: "protect[].queue.urgent", Shape: grammar.Who, Means: "who may have a change go ahead of what waits, with a reason", Absent: "role:maintainer", Together: intersection, Example: "urgent: team:duty"},
	{Path: "protect[].land.drop_empty", Shape: grammar.Truth, Means: "whether a commit of the change that would change nothing on the branch is left out when it is replayed; if not, the strategy is refused then", Absent: "true", Together: "false over true", Example: "drop_empty: false"},
}
