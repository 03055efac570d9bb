package rules

import "strings"

// Shape is how a key's value is written.
type Shape string

// The shapes. Where a list of words, names or globs is meant, a single one may stand without the brackets.
const (
	Text       Shape = "text"
	Lines      Shape = "lines" // one text or a list
	Number     Shape = "number"
	Truth      Shape = "true or false"
	Duration   Shape = "duration"
	Word       Shape = "word"
	Words      Shape = "words"
	Globs      Shape = "globs"
	Who        Shape = "principals"
	WhoOrNone  Shape = "principals or nobody"
	RobotName  Shape = "robot"
	Expression Shape = "expression"
	Mapping    Shape = "mapping"
	Named      Shape = "named entries"
	List       Shape = "list of entries"
	Amount     Shape = "amount"
)

// Key is one key of the rules document: how it is written, what it means, what its absence means, and what becomes
// of it where several protections, documents or areas state it.
type Key struct {
	// Path is where it stands: "." goes into a mapping, "[]" into the entries of a list, "{}" into named entries.
	Path     string
	Shape    Shape
	Allowed  []string // of Word and Words
	Low      int      // of Number
	High     int
	Means    string
	Absent   string
	Together string
	Example  string // the key with a value, as YAML
	House    bool   // only in house rules
	// Demands are the demands beside which it may stand in a requirement; empty: beside every one.
	Demands []Demand
}

// Name returns the last part of the path.
func (k Key) Name() string { return k.Path[strings.LastIndexAny(k.Path, ".]}")+1:] }

func words[T ~string](list []T) []string {
	out := make([]string, len(list))
	for i, w := range list {
		out[i] = string(w)
	}
	return out
}

const (
	conjunction  = "never blended: every one stays, and the gate is all of them; those that ask the same are shown once with every source"
	partOf       = "part of what the requirement asks; another value makes another requirement beside it"
	intersection = "intersection: everyone has to be in every list"
	added        = "all of them apply"
	fixed        = "a repository adds its own and never redefines those of its house"
)

// Keys lists every key of the document, in the order of the reference.
var Keys = []Key{
	{Path: "tavrin", Shape: Word, Allowed: []string{Format}, Means: "the form of the document", Absent: "refused", Together: "each document states its own", Example: "tavrin: rules/1"},

	{Path: "branches", Shape: Named, Means: "branch kinds: names for sets of branches", Absent: "no kinds", Together: fixed, Example: "branches: {trunk: main}"},
	{Path: "branches{}", Shape: Globs, Means: "the globs of one kind, for branches that exist now or later; case-sensitive", Absent: "-", Together: fixed, Example: "release: [release/**, \"!release/old-*\"]"},

	{Path: "labels", Shape: Named, Means: "labels that conditions may ask for", Absent: "no labels", Together: fixed, Example: "labels: {urgent: {set_by: team:duty}}"},
	{Path: "labels{}.set_by", Shape: Who, Means: "who may set and remove the label", Absent: "refused: a label that anybody may set would loosen rules", Together: intersection, Example: "set_by: team:duty"},

	{Path: "areas", Shape: Named, Means: "named parts of the tree", Absent: "no areas", Together: "every area that matches a path applies; " + fixed, Example: "areas: {docs: {paths: docs/**, owners: team:field}}"},
	{Path: "areas{}.paths", Shape: Globs, Means: "the paths in it; a leading ! takes out", Absent: "refused", Together: added, Example: "paths: [firmware/valves/**, \"!**/*.md\"]"},
	{Path: "areas{}.owners", Shape: Who, Means: "who owns it", Absent: "refused", Together: added, Example: "owners: [\"team:hydraulics\", \"person:odo\"]"},
	{Path: "areas{}.checks", Shape: Lines, Means: "checks that a change touching it has to pass on its rehearsal", Absent: "none of its own", Together: added, Example: "checks: valve-bench"},
	{Path: "areas{}.asks", Shape: Mapping, Means: "what the area asks by itself of every change that touches it", Absent: "nothing", Together: added, Example: "asks: {approvals: 1, reviewers: team:hydraulics}"},
	{Path: "areas{}.asks.approvals", Shape: Number, Low: 0, High: 20, Means: "how many approvals by its owners, an author's own not counting", Absent: "0", Together: added, Example: "approvals: 2"},
	{Path: "areas{}.asks.reviewers", Shape: Who, Means: "who is asked to review a new change that touches it", Absent: "nobody", Together: added, Example: "reviewers: team:hydraulics"},
	{Path: "areas{}.asks.optional", Shape: Who, Means: "who is told of a new change that touches it, without being asked", Absent: "nobody", Together: added, Example: "optional: person:odo"},
	{Path: "areas{}.asks.override", Shape: WhoOrNone, Means: "who may set aside what the area asks, case by case: with a reason, for a time, and with a second look afterwards", Absent: "nobody", Together: "everyone who asks the same has to allow it", Example: "override: team:duty"},
	{Path: "areas{}.repositories", Shape: Globs, House: true, Means: "names of the repositories it is for", Absent: "every repository of the house", Together: "-", Example: "repositories: irrigation"},

	{Path: "checks", Shape: Named, Means: "what this repository's checks are", Absent: "none defined: checks are reported from outside", Together: fixed, Example: "checks: {unit: {command: make test}}"},
	{Path: "checks{}.command", Shape: Text, Means: "the command line that a runner runs with sh -c in a clean checkout", Absent: "the check is reported from outside", Together: fixed, Example: "command: make test"},
	{Path: "checks{}.limit", Shape: Duration, Means: "how long the command may run, or how long an answer from outside may take before the check counts as errored, is asked for once more, and then ends the change's rehearsal: from 1s to 168h", Absent: "10m for a command, 1h from outside", Together: fixed, Example: "limit: 90s"},
	{Path: "checks{}.witness", Shape: RobotName, Means: "the only robot that may report it", Absent: "any robot whose token names the check", Together: "intersection: with another in a requirement, nobody's answer counts", Example: "witness: robot:previewer"},
	{Path: "checks{}.fresh", Shape: Duration, Means: "how long a pass counts after it was reported: from 1m to 720h; on the rehearsal it is then run again", Absent: "for ever", Together: "the shorter", Example: "fresh: 12h"},
	{Path: "checks{}.kind", Shape: Word, Allowed: []string{"deployment"}, Means: "that its pass means a deployment", Absent: "an ordinary check", Together: fixed, Example: "kind: deployment"},
	{Path: "checks{}.place", Shape: Text, Means: "where it deploys to; needed with kind: deployment", Absent: "-", Together: fixed, Example: "place: proving-field"},

	{Path: "changes", Shape: Mapping, Means: "what new changes begin with", Absent: "with nothing", Together: "all of them apply", Example: "changes: {description: \"- [ ] the growers were told\"}"},
	{Path: "changes.description", Shape: Text, Means: "what the description of a new change begins with, where its author gives none; boxes (- [ ] …) make a checklist, for which tasks: done can ask", Absent: "an empty description", Together: "the house's comes first, the repository's after an empty line", Example: "description: \"- [ ] tried on a bench valve\""},

	{Path: "loosening", Shape: Mapping, Means: "what a change of this document needs that loosens it", Absent: "whoever may apply rules may loosen them", Together: "each document states its own", Example: "loosening: {agreed_by: role:maintainer}"},
	{Path: "loosening.agreed_by", Shape: Who, Means: "who else has to agree: one of them, not the one who proposes", Absent: "refused", Together: "each document states its own", Example: "agreed_by: [\"team:stewards\"]"},

	{Path: "protect", Shape: List, Means: "the protections", Absent: "nothing is protected", Together: "every one that matches a branch applies, in no order", Example: "protect: [{name: trunk, branches: trunk, push: nobody}]"},
	{Path: "protect[].name", Shape: Text, Means: "a few words that every message names", Absent: "refused", Together: "unique in its document", Example: "name: trunk and releases"},
	{Path: "protect[].repositories", Shape: Globs, House: true, Means: "names of the repositories it is for", Absent: "every repository of the house", Together: "-", Example: "repositories: [irrigation, \"ledger-*\"]"},
	{Path: "protect[].branches", Shape: Globs, Means: "branch kinds or globs", Absent: "refused", Together: "every protection that matches applies", Example: "branches: [trunk, release]"},
	{Path: "protect[].push", Shape: WhoOrNone, Means: "who may push directly", Absent: "nobody", Together: intersection + "; empty means nobody", Example: "push: robot:release-bot"},
	{Path: "protect[].create", Shape: WhoOrNone, Means: "who may create a matching branch by pushing a commit that is held already, by a branch that create_from names", Absent: "those who may push", Together: intersection, Example: "create: role:maintainer"},
	{Path: "protect[].create_from", Shape: Globs, Means: "branch kinds or globs of the branches of which one has to hold the commit", Absent: "the branches of this protection", Together: "each protection that matches has to find the commit held", Example: "create_from: trunk"},
	{Path: "protect[].rewrite", Shape: Word, Allowed: words(permissions), Means: "whether history may be rewritten", Absent: "never", Together: "never over allowed", Example: "rewrite: never"},
	{Path: "protect[].delete", Shape: Word, Allowed: words(permissions), Means: "whether the branch may be deleted", Absent: "never", Together: "never over allowed", Example: "delete: never"},
	{Path: "protect[].exempt", Shape: WhoOrNone, Means: "whom this protection does not bind; each use is shown and recorded", Absent: "nobody: administrators are bound like everybody", Together: "from the protection that states it only", Example: "exempt: robot:release-bot"},
	{Path: "protect[].override", Shape: WhoOrNone, Means: "who may set aside what this protection asks, case by case: with a reason, for a time, and with a second look afterwards", Absent: "nobody", Together: "per requirement, intersection: everyone who asks it has to allow it; what an area asks is set aside by those whom the area names", Example: "override: team:duty"},
	{Path: "protect[].require", Shape: List, Means: "what has to hold before a change lands", Absent: "nothing", Together: conjunction, Example: "require: [{approvals: 1}]"},

	{Path: "protect[].require[].approvals", Shape: Number, Low: 1, High: 20, Means: "that many approvals", Absent: "-", Together: conjunction, Example: "approvals: 2"},
	{Path: "protect[].require[].owners", Shape: Word, Allowed: []string{"every touched area"}, Means: "one owner's approval of each touched area", Absent: "-", Together: conjunction, Example: "owners: every touched area"},
	{Path: "protect[].require[].objections", Shape: Word, Allowed: []string{"none"}, Means: "nobody's objection stands", Absent: "-", Together: conjunction, Example: "objections: none"},
	{Path: "protect[].require[].threads", Shape: Word, Allowed: []string{"settled"}, Means: "every discussion is settled", Absent: "-", Together: conjunction, Example: "threads: settled"},
	{Path: "protect[].require[].tasks", Shape: Word, Allowed: []string{"done"}, Means: "every box of the description's checklist (- [ ] …) is ticked", Absent: "-", Together: conjunction, Example: "tasks: done"},
	{Path: "protect[].require[].ticket", Shape: Expression, Means: "a ticket is referred to: some part of the change matches the regular expression", Absent: "-", Together: conjunction, Example: "ticket: \"FEN-[0-9]+\""},
	{Path: "protect[].require[].case", Shape: Word, Allowed: []string{"exact"}, Means: "no path that comes would lie in an area but for upper and lower case: on many file systems it is the same file, and nobody owns it", Absent: "-", Together: conjunction, Example: "case: exact"},
	{Path: "protect[].require[].fixups", Shape: Word, Allowed: []string{"none"}, Means: "no commit for folding (fixup!, squash!, amend!) is left, unless the strategy folds it", Absent: "-", Together: conjunction, Example: "fixups: none"},
	{Path: "protect[].require[].history", Shape: Word, Allowed: []string{"straight"}, Means: "no merge commit comes to the branch, by landing or by push", Absent: "-", Together: conjunction, Example: "history: straight"},
	{Path: "protect[].require[].messages", Shape: Expression, Means: "every message that comes to the branch, by landing or by push, matches the regular expression", Absent: "-", Together: conjunction, Example: "messages: \"^[a-z-]+: .+\""},
	{Path: "protect[].require[].signed", Shape: Word, Allowed: []string{"every commit"}, Means: "every commit of the change carries a signature by a registered key of somebody; holds for pushes too", Absent: "-", Together: conjunction, Example: "signed: every commit"},
	{Path: "protect[].require[].checks", Shape: Lines, Means: "checks that pass, by name or by glob", Absent: "-", Together: conjunction + "; of one check on one commit the shorter freshness, every witness and a no to skipped count", Example: "checks: [unit, \"bench *\"]"},
	{Path: "protect[].require[].deployment", Shape: Text, Means: "a deployment to that place succeeded: a check of kind deployment with that place", Absent: "-", Together: conjunction, Example: "deployment: proving-field"},

	{Path: "protect[].require[].called", Shape: Text, Means: "a title of your own", Absent: "titled by what it asks", Together: partOf, Example: "called: many eyes"},
	{Path: "protect[].require[].level", Shape: Word, Allowed: words([]Level{Required, Advisory}), Means: "whether it blocks; advisory ones are shown in the same detail", Absent: "required", Together: "required over advisory, where both ask the same", Example: "level: advisory"},
	{Path: "protect[].require[].when", Shape: Mapping, Means: "when it is asked for; everything stated has to be so", Absent: "always", Together: "narrows the requirement it is on, nothing else", Example: "when: {lines: over 400}"},
	{Path: "protect[].require[].from", Shape: Who, Demands: []Demand{Approvals}, Means: "whose approvals count", Absent: "those of everybody who may write", Together: partOf, Example: "from: [\"team:agronomy\", \"team:field\"]"},
	{Path: "protect[].require[].not_from", Shape: Words, Allowed: words(exclusions), Demands: []Demand{Approvals}, Means: "whose approvals do not count: author (opener, whoever's push contributed, registered addresses), who is meant in any case unless own says otherwise, last_pusher, commit_authors (whoever brought or wrote a commit)", Absent: "author", Together: partOf, Example: "not_from: [author, last_pusher]"},
	{Path: "protect[].require[].own", Shape: Word, Allowed: []string{"does_not_count", "counts"}, Demands: []Demand{Approvals}, Means: "whether an author's own approval counts: for a team of one", Absent: "does_not_count", Together: partOf, Example: "own: counts"},
	{Path: "protect[].require[].on", Shape: Word, Allowed: []string{"newest_revision"}, Demands: []Demand{Approvals}, Means: "only approvals given on the newest revision count", Absent: "as after_push.approvals_stay says", Together: partOf, Example: "on: newest_revision"},
	{Path: "protect[].require[].settled_by", Shape: Who, Demands: []Demand{Threads}, Means: "whose settling counts", Absent: "that of everybody who may write", Together: partOf, Example: "settled_by: role:maintainer"},
	{Path: "protect[].require[].in", Shape: Words, Allowed: words(parts), Demands: []Demand{Ticket}, Means: "where the ticket may be referred to", Absent: "anywhere", Together: partOf, Example: "in: [title, commits]"},
	{Path: "protect[].require[].example", Shape: Text, Demands: []Demand{Ticket, Messages}, Means: "one that fits, for the refusal", Absent: "the refusal shows the expression alone", Together: partOf, Example: "example: \"valves: open slowly\""},
	{Path: "protect[].require[].at", Shape: Words, Allowed: []string{string(AtRehearsal), string(AtHead)}, Demands: []Demand{Checks, Deployment}, Means: "on which commit: the change's head, the rehearsal, or both", Absent: "rehearsal", Together: "at head and at rehearsal are separate demands", Example: "at: [head, rehearsal]"},
	{Path: "protect[].require[].fresh", Shape: Duration, Demands: []Demand{Checks, Deployment}, Means: "how long a pass counts: from 1m to 720h", Absent: "as the check itself says", Together: "the shorter", Example: "fresh: 12h"},
	{Path: "protect[].require[].at_least", Shape: Number, Low: 1, High: 100, Demands: []Demand{Checks}, Means: "how many of the named checks have to pass", Absent: "all", Together: partOf, Example: "at_least: 2"},
	{Path: "protect[].require[].skipped", Shape: Word, Allowed: []string{"counts", "does_not_count"}, Demands: []Demand{Checks}, Means: "whether a skipped check counts as passed", Absent: "does_not_count", Together: "does_not_count over counts", Example: "skipped: counts"},
	{Path: "protect[].require[].witness", Shape: RobotName, Demands: []Demand{Checks}, Means: "only this robot's answer counts", Absent: "as the check itself says", Together: "intersection: each named witness has to be the one that answered", Example: "witness: robot:barn"},

	{Path: "protect[].require[].when.paths", Shape: Globs, Means: "a changed path is in the globs", Absent: "whatever the paths", Together: "with the condition's other keys: and", Example: "paths: firmware/**"},
	{Path: "protect[].require[].when.areas", Shape: Lines, Means: "one of the areas is touched", Absent: "whatever the areas", Together: "with the condition's other keys: and", Example: "areas: [ledger]"},
	{Path: "protect[].require[].when.lines", Shape: Amount, Means: "so many lines are added and removed together", Absent: "whatever the size", Together: "with the condition's other keys: and", Example: "lines: over 400"},
	{Path: "protect[].require[].when.files", Shape: Amount, Means: "so many files are changed", Absent: "whatever the size", Together: "with the condition's other keys: and", Example: "files: \"over 10, under 100\""},
	{Path: "protect[].require[].when.source", Shape: Globs, Means: "the source branch is of the kind or matches the glob", Absent: "whatever the source", Together: "with the condition's other keys: and", Example: "source: hotfix"},
	{Path: "protect[].require[].when.author", Shape: Who, Means: "somebody who counts as author is one of them", Absent: "whoever the author", Together: "with the condition's other keys: and", Example: "author: team:contractors"},
	{Path: "protect[].require[].when.label", Shape: Lines, Means: "the change has one of the labels, which the document must define", Absent: "whatever the labels", Together: "with the condition's other keys: and", Example: "label: urgent"},
	{Path: "protect[].require[].when.cel", Shape: Text, Means: "an expression in CEL holds; one that cannot be worked out is taken to hold", Absent: "no expression", Together: "with the condition's other keys: and", Example: "cel: \"size(areas) > 2 || removed > 1000\""},

	{Path: "protect[].after_push", Shape: Mapping, Means: "what a push does to what reviewers said before it", Absent: "as its keys say", Together: "key by key", Example: "after_push: {approvals_stay: never}"},
	{Path: "protect[].after_push.approvals_stay", Shape: Word, Allowed: words(stays), Means: "whether approvals outlive a push: if_unchanged proves by merging again that the difference is the approved one", Absent: "if_unchanged", Together: "never over if_unchanged over always", Example: "approvals_stay: if_unchanged"},
	{Path: "protect[].after_push.objections_stay", Shape: Word, Allowed: words(stays), Means: "whether objections outlive a push", Absent: "always", Together: "always over if_unchanged over never: dropping an objection loosens", Example: "objections_stay: if_unchanged"},

	{Path: "protect[].land", Shape: Mapping, Means: "how changes land", Absent: "as its keys say", Together: "key by key", Example: "land: {with: [rebase, squash]}"},
	{Path: "protect[].land.by", Shape: Who, Means: "who may ask to land", Absent: "everybody who may write", Together: intersection, Example: "by: role:maintainer"},
	{Path: "protect[].land.with", Shape: Words, Allowed: words(Strategies), Means: "the strategies allowed", Absent: "all", Together: "intersection; none left means that nothing can land", Example: "with: [rebase, squash]"},
	{Path: "protect[].land.strategy", Shape: Word, Allowed: words(Strategies), Means: "the default strategy", Absent: "the first allowed, and it is said", Together: "the one all agree on, else the person chooses", Example: "strategy: rebase"},
	{Path: "protect[].land.message", Shape: Text, Means: "template of the final message of a squash or merge; {title} {description} {number} {source} {target} {repository} {author} are filled in", Absent: "\"{title}\\n\\n{description}\"", Together: "all that state one must agree, else the template of absence is used and lint says so", Example: "message: \"{title} (#{number})\""},
	{Path: "protect[].land.trailers", Shape: Lines, Means: "templates of trailers added to the final message, with the same placeholders", Absent: "only the service's own", Together: "all of them are added", Example: "trailers: \"Proposed-by: {author}\""},
	{Path: "protect[].land.remove_source", Shape: Truth, Means: "whether the source branch is removed after landing, unless the person says otherwise", Absent: "false", Together: "all that state one must agree, else false and lint says so", Example: "remove_source: true"},
	{Path: "protect[].land.join_early", Shape: Truth, Means: "whether a change may join the queue before its gate is ready", Absent: "true", Together: "false over true", Example: "join_early: false"},
}

// Every document is read by these, which follow from Keys and are made once.
var (
	keyByPath = func() map[string]Key {
		all := make(map[string]Key, len(Keys))
		for _, k := range Keys {
			all[k.Path] = k
		}
		return all
	}()
	namesUnder      = under(true)
	namesUnderOwn   = under(false)
	namesBesideEach = func() map[Demand][]string {
		all := map[Demand][]string{}
		for _, d := range Demands {
			all[d] = beside(d)
		}
		return all
	}()
)

// under lists the names of the keys that may stand directly in each mapping, by its path.
func under(house bool) map[string][]string {
	names := map[string][]string{}
	for _, k := range Keys {
		if k.Name() != "" && (house || !k.House) {
			names[parent(k.Path)] = append(names[parent(k.Path)], k.Name())
		}
	}
	return names
}

// keysUnder returns the names of the keys that may stand directly in the mapping at a path.
func keysUnder(path string, house bool) []string {
	if house {
		return namesUnder[path]
	}
	return namesUnderOwn[path]
}

// parent is the path of the mapping that a key stands in: "" for the document.
func parent(path string) string {
	if i := strings.LastIndexByte(path, '.'); i >= 0 {
		return path[:i]
	}
	return ""
}

// keyAt returns the key at a path.
func keyAt(path string) Key {
	if k, ok := keyByPath[path]; ok {
		return k
	}
	return Key{Path: path}
}

// besides lists the keys that may stand in a requirement beside its demand.
func besides(d Demand) []string { return namesBesideEach[d] }

func beside(d Demand) []string {
	var names []string
	for _, k := range Keys {
		if parent(k.Path) != requirementPath || k.Name() == string(d) {
			continue
		}
		asks := len(k.Demands) == 0
		for _, other := range Demands {
			asks = asks && k.Name() != string(other)
		}
		for _, one := range k.Demands {
			asks = asks || one == d
		}
		if asks {
			names = append(names, k.Name())
		}
	}
	return names
}

const requirementPath = "protect[].require[]"
