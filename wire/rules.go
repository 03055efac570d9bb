package wire

import (
	"time"

	"tavrin/internal/core/lint"
	"tavrin/internal/core/rules"
	"tavrin/internal/core/trial"
)

// Advice, Difference and Result are defined by the packages that make them.
type (
	Advice        = lint.Advice
	Difference    = rules.Difference
	ExampleResult = trial.Result
)

// Rules is one version of a rules document.
type Rules struct {
	Version   int       `json:"version" doc:"0: none applied yet"`
	Text      string    `json:"text"`
	Reason    string    `json:"reason"`
	AppliedBy string    `json:"applied_by"`
	AgreedBy  string    `json:"agreed_by,omitempty" doc:"the second person, where one was needed"`
	AppliedAt time.Time `json:"applied_at"`
	ToJudge   int       `json:"to_judge,omitempty" doc:"open changes for which it is still to be found out which checks the rules in force ask for; it goes on by itself, and nothing lands by other rules meanwhile"`
}

// RulesApplied is what came of applying a document: a version in force, or a proposal that waits for a second person.
type RulesApplied struct {
	Rules
	Unchanged   bool         `json:"unchanged" doc:"the document is the one in force already, to the letter: no version was made of it"`
	Differences []Difference `json:"differences" doc:"from the version before, with what loosens"`
	Proposal    *Proposal    `json:"proposal,omitempty" doc:"present: nothing is in force yet"`
	Advice      []Advice     `json:"advice" doc:"what lint comments on"`
}

// Proposal is a loosening that waits for a second person, or waited.
type Proposal struct {
	ID          int64        `json:"id"`
	RulesOf     string       `json:"rules_of" doc:"HOUSE or HOUSE/NAME"`
	BasedOn     int          `json:"based_on" doc:"the version in force when it was made"`
	Text        string       `json:"text,omitempty" doc:"the proposed document"`
	Protection  string       `json:"protection,omitempty" doc:"the protection to be suspended, when it is not about a document"`
	ForSeconds  int64        `json:"for_seconds,omitempty" doc:"for how long"`
	Reason      string       `json:"reason"`
	ProposedBy  string       `json:"proposed_by"`
	ProposedAt  time.Time    `json:"proposed_at"`
	State       string       `json:"state" enum:"open,agreed,declined,overtaken"`
	DecidedBy   string       `json:"decided_by,omitempty"`
	DecidedAt   *time.Time   `json:"decided_at,omitempty"`
	Differences []Difference `json:"differences" doc:"from the version in force"`
	AgreedBy    []string     `json:"agreed_by" doc:"who may agree, as the document in force says; not the one who proposed"`
}

// Suspension is a protection that is out of force for a time.
type Suspension struct {
	RulesOf    string    `json:"rules_of" doc:"HOUSE or HOUSE/NAME"`
	Protection string    `json:"protection"`
	By         string    `json:"by"`
	Reason     string    `json:"reason"`
	From       time.Time `json:"from"`
	Until      time.Time `json:"until"`
}

// Suspended is what came of suspending a protection: it is suspended, or a proposal waits for a second person.
type Suspended struct {
	Suspension
	Proposal *Proposal `json:"proposal,omitempty" doc:"present: nothing is suspended yet"`
}

// RulesCheck is the outcome of reading a document without applying it.
type RulesCheck struct {
	Valid    bool         `json:"valid"`
	Findings []Finding    `json:"findings"`
	Says     []Protection `json:"says" doc:"what its protections say, when it is valid"`
	Advice   []Advice     `json:"advice" doc:"what lint comments on, when it is valid and a place was named"`
}

// Protection is what one protection of a document says by itself.
type Protection struct {
	Name      string   `json:"name"`
	Branches  []string `json:"branches" doc:"kinds and globs; empty: it is for tags"`
	Tags      []string `json:"tags" doc:"globs; empty: it is for branches"`
	Sentences []string `json:"sentences"`
}

// BranchRules explains what protects one branch.
type BranchRules struct {
	Branch       string         `json:"branch"`
	Exists       bool           `json:"exists" doc:"there is such a branch now"`
	Protected    bool           `json:"protected"`
	Protections  []string       `json:"protections"`
	Version      int            `json:"version"`
	HouseVersion int            `json:"house_version" doc:"0: the house has no rules"`
	Kinds        []string       `json:"kinds" doc:"branch kinds it is of"`
	Sentences    []RuleSentence `json:"sentences"`
}

// RuleSentence is one effective setting in words, with its places.
type RuleSentence struct {
	Setting string   `json:"setting" doc:"the key it is about, such as push, require or land.strategies"`
	Text    string   `json:"text"`
	Level   string   `json:"level,omitempty" doc:"of a requirement: required or advisory"`
	Sources []Source `json:"sources"`
	FixedBy string   `json:"fixed_by,omitempty" doc:"the house that sets it, so that the repository cannot lower it"`
}

// RulesTrial is what a document would change if it were applied.
type RulesTrial struct {
	Findings    []Finding      `json:"findings" doc:"present: it could not be applied"`
	Advice      []Advice       `json:"advice"`
	Differences []Difference   `json:"differences" doc:"from the version in force"`
	Loosens     bool           `json:"loosens"`
	SecondBy    []string       `json:"second_by" doc:"who else would have to agree; empty: nobody"`
	Branches    []BranchTrial  `json:"branches" doc:"branches whose effective settings would change"`
	Changes     []ChangeTrial  `json:"changes" doc:"every open change"`
	Landed      []LandingTrial `json:"landed" doc:"the last landings, judged again"`
	Queues      []QueueTrial   `json:"queues" doc:"queues that would have other settings, and in which something has landed of late"`
}

// QueueTrial is what other settings of a queue would have changed.
type QueueTrial struct {
	Repository string           `json:"repository"`
	Branch     string           `json:"branch"`
	Was        QueueSettings    `json:"was"`
	Would      QueueSettings    `json:"would"`
	With       string           `json:"with" doc:"what is other, in a few words"`
	Words      string           `json:"words" doc:"what it would have changed, or why that cannot be said"`
	Now        *ForecastFigures `json:"now,omitempty" doc:"as it is, by the forecast"`
	Then       *ForecastFigures `json:"then,omitempty" doc:"as it would be"`
}

// BranchTrial is what would change for one branch.
type BranchTrial struct {
	Repository string   `json:"repository"`
	Branch     string   `json:"branch" doc:"empty: what is of no branch, such as areas, tags, checks and labels"`
	Gone       []string `json:"gone" doc:"sentences that would no longer hold"`
	Come       []string `json:"come" doc:"sentences that would hold"`
}

// ChangeTrial is what would change for one open change.
type ChangeTrial struct {
	Repository string   `json:"repository"`
	Number     int      `json:"number"`
	Title      string   `json:"title"`
	Target     string   `json:"target"`
	ReadyNow   bool     `json:"ready_now"`
	ReadyThen  bool     `json:"ready_then"`
	Outcome    string   `json:"outcome" enum:"blocked,freed,unchanged,different" doc:"different: as ready as now, for other reasons"`
	Missing    []string `json:"missing" doc:"what would be missing then and is not now"`
	Dropped    []string `json:"dropped" doc:"what is missing now and would not be then"`
}

// LandingTrial is what would have become of one landing.
type LandingTrial struct {
	Repository string    `json:"repository"`
	Number     int       `json:"number"`
	Title      string    `json:"title"`
	Target     string    `json:"target"`
	LandedAt   time.Time `json:"landed_at"`
	Stopped    bool      `json:"stopped"`
	By         []string  `json:"by" doc:"what would have been missing, and where it is asked"`
}

// ExampleResults is how examples came out under rules.
type ExampleResults struct {
	Passed  int             `json:"passed"`
	Failed  int             `json:"failed"`
	Results []ExampleResult `json:"results"`
}

// Template is a document to start from.
type Template struct {
	Name string `json:"name"`
	For  string `json:"for" doc:"the way of working it is for"`
	Text string `json:"text"`
}

// PatternMatches is what a glob matches now.
type PatternMatches struct {
	Pattern  string   `json:"pattern" doc:"a glob, never a regular expression; case-sensitive"`
	Kind     bool     `json:"kind" doc:"it is the name of a branch kind and stands for the kind's globs"`
	Globs    []string `json:"globs"`
	Branches []string `json:"branches"`
}

// Area is one part of the tree with its owners.
type Area struct {
	Name      string   `json:"name"`
	Paths     []string `json:"paths"`
	Owners    []string `json:"owners"`
	People    []string `json:"people" doc:"owners by login, those with access"`
	Requires  []string `json:"requires" doc:"what the area itself requires of a change that touches it, in words"`
	Reviewers []string `json:"reviewers" doc:"asked to review a new change that touches it"`
	Optional  []string `json:"optional" doc:"told of a new change that touches it"`
	Waive     []string `json:"waive" doc:"who may waive what it requires"`
	Source    Source   `json:"source"`
	FixedBy   string   `json:"fixed_by,omitempty" doc:"the house that defines it"`
	Files     int      `json:"files" doc:"on the default branch"`
}

// PathOwners says who owns a path, and why.
type PathOwners struct {
	Path  string      `json:"path"`
	Files int         `json:"files" doc:"how many files on the default branch it stands for; 0: it is not there now"`
	Areas []OwnerArea `json:"areas" doc:"empty: nobody owns it"`
}

// OwnerArea is one area of a path.
type OwnerArea struct {
	Area    string   `json:"area"`
	Pattern string   `json:"pattern" doc:"the glob that brings the path into the area"`
	Owners  []string `json:"owners"`
	People  []string `json:"people" doc:"owners by login, those with access"`
	Source  Source   `json:"source"`
	FixedBy string   `json:"fixed_by,omitempty"`
}

// ChangeAreas says which areas a change touches and whose approval is enough.
type ChangeAreas struct {
	Number   int           `json:"number"`
	Areas    []TouchedArea `json:"areas"`
	Unowned  []string      `json:"unowned" doc:"changed paths that lie in no area"`
	Enough   []string      `json:"enough" doc:"the smallest set of people whose approvals would meet what is open"`
	Exact    bool          `json:"exact" doc:"false: there may be a smaller set"`
	Hopeless []string      `json:"hopeless" doc:"requirements that no approvals can meet"`
}

// TouchedArea is one area that a change touches.
type TouchedArea struct {
	OwnerArea
	Paths []string `json:"paths"`
}

// OwnershipGaps says what nobody owns and which globs match nothing.
type OwnershipGaps struct {
	Commit  string        `json:"commit" doc:"the tip of the default branch"`
	Folders []FolderShare `json:"folders" doc:"the whole tree first"`
	Idle    []IdlePattern `json:"idle" doc:"globs that match nothing"`
}

// FolderShare is how much of a folder somebody owns.
type FolderShare struct {
	Folder  string `json:"folder" doc:"empty: the whole tree"`
	Files   int    `json:"files"`
	Unowned int    `json:"unowned"`
}

// IdlePattern is a glob of an area that matches nothing.
type IdlePattern struct {
	Area    string `json:"area"`
	Pattern string `json:"pattern"`
	Source  Source `json:"source"`
}

// ReviewLoad is how much of the open reviews lies on one person's desk.
type ReviewLoad struct {
	Login string `json:"login"`
	Could int    `json:"could" doc:"open changes that their approval would help"`
	Only  int    `json:"only" doc:"of those, how many nobody else could help"`
	Asked int    `json:"asked" doc:"open changes for which they or a team of theirs was asked"`
	Given int    `json:"given" doc:"open changes that they have approved or objected to"`
}

// Reviewer is somebody who was asked to review a change, or told of it.
type Reviewer struct {
	Who      string `json:"who" doc:"person:LOGIN, team:NAME or role:ROLE"`
	Optional bool   `json:"optional" doc:"told, not asked"`
	Reason   string `json:"reason"`
}
