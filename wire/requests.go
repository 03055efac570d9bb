package wire

import (
	"time"

	"tavrin/internal/core/change"
)

// NewPerson is what a person or robot is made from.
type NewPerson struct {
	Login string `json:"login" example:"wren"`
	Name  string `json:"name,omitempty" doc:"absent: the login"`
	Email string `json:"email,omitempty" doc:"that stands in their commits"`
	Robot bool   `json:"robot,omitempty"`
	Admin bool   `json:"admin,omitempty" doc:"a service administrator"`
}

// Disabling takes a disabled account, or back.
type Disabling struct {
	Disabled bool `json:"disabled"`
}

// PersonDisabled names an account.
type PersonDisabled struct {
	Login string `path:"login" example:"wren"`
	Body  Disabling
}

// NewTeam is what a team is made from.
type NewTeam struct {
	Name     string   `json:"name" example:"hydraulics"`
	Members  []string `json:"members,omitempty" doc:"logins"`
	Managers []string `json:"managers,omitempty" doc:"who may change it, besides administrators"`
}

// TeamEdit is what is to be another of a team.
type TeamEdit struct {
	Members  *[]string `json:"members,omitempty" doc:"absent: as they are"`
	Managers *[]string `json:"managers,omitempty" doc:"absent: as they are"`
}

// TeamChanged names a team.
type TeamChanged struct {
	Team string `path:"team" example:"hydraulics"`
	Body TeamEdit
}

// KeyQuery says whose keys are listed.
type KeyQuery struct {
	Login string `query:"login" doc:"absent: yourself"`
}

// NewKey is a public key to register.
type NewKey struct {
	Name string `json:"name"`
	Key  string `json:"key" doc:"in the form of authorized_keys"`
}

// WithID names one thing by its number.
type WithID struct {
	ID int64 `path:"id" minimum:"1"`
}

// NewToken is what a token is made from.
type NewToken struct {
	Login           string   `json:"login"`
	Name            string   `json:"name,omitempty" doc:"what it is for"`
	LifetimeSeconds int64    `json:"lifetime_seconds,omitempty" minimum:"0" doc:"0: 90 days"`
	ReadOnly        bool     `json:"read_only,omitempty"`
	Checks          []string `json:"checks,omitempty" doc:"HOUSE/NAME:CHECK"`
	Runner          []string `json:"runner,omitempty" doc:"HOUSE/NAME"`
}

// Credential is a token that somebody shows.
type Credential struct {
	Token string `json:"token"`
}

// InSession is a request of a console session, with or without a body.
type InSession struct {
	Session string `cookie:"tavrin_session"`
}

// Confirming shows a token again in a console session.
type Confirming struct {
	InSession
	Body Credential
}

// Confirmed says until when a console session may change rules.
type Confirmed struct {
	Until time.Time `json:"until"`
}

// NewHouse is what a house is made from.
type NewHouse struct {
	Name string `json:"name" example:"growers"`
}

// NewRepository is what a repository is made from.
type NewRepository struct {
	Name          string   `json:"name" doc:"HOUSE/NAME" example:"growers/irrigation"`
	DefaultBranch string   `json:"default_branch,omitempty" doc:"absent: that of what is imported, or main"`
	Public        bool     `json:"public,omitempty" doc:"readable without signing in"`
	ImportURL     string   `json:"import_url,omitempty"`
	Branches      []string `json:"branches,omitempty" example:"main" doc:"globs: of an import, only these branches; absent: all"`
}

// RepositoryEdit says what is to be changed of a repository itself.
type RepositoryEdit struct {
	Name          *string `json:"name,omitempty" example:"growers/watering" doc:"HOUSE/NAME, in the same house; its old name goes on saying where it went"`
	Description   *string `json:"description,omitempty" example:"Programs of the valves, and the forecast" doc:"one line"`
	DefaultBranch *string `json:"default_branch,omitempty" example:"trunk" doc:"one that there is, unless it is empty"`
	Public        *bool   `json:"public,omitempty" doc:"readable without signing in"`
	ReadOnly      *string `json:"read_only,omitempty" example:"it lives in growers/watering now" doc:"why nothing may be written to it any more; empty: it may"`
}

// RepositoryDeletion is why a repository goes.
type RepositoryDeletion struct {
	Confirm string `json:"confirm" example:"growers/irrigation" doc:"its name once more"`
	Reason  string `json:"reason" example:"it lives in growers/watering now"`
}

// HistoryQuery says which commits are listed.
type HistoryQuery struct {
	InRepo
	At    string `query:"at" doc:"branch, tag or commit; absent: the default branch"`
	Skip  int    `query:"skip" minimum:"0"`
	Limit int    `query:"limit" minimum:"0" maximum:"200"`
}

// LinesQuery names a file whose lines are asked about.
type LinesQuery struct {
	InRepo
	At   string `query:"at" doc:"branch, tag or commit; absent: the default branch"`
	Path string `query:"path" required:"true" example:"docs/members.md"`
}

// TreeQuery names a folder or a file.
type TreeQuery struct {
	InRepo
	At   string `query:"at" doc:"branch, tag or commit; absent: the default branch"`
	Path string `query:"path" doc:"absent: the root"`
}

// RulesQuery is what calls that read about rules may be asked with.
type RulesQuery struct {
	From int  `query:"from" minimum:"0" doc:"of differences: the earlier version; 0: the empty document"`
	To   int  `query:"to" minimum:"0" doc:"of differences: the later version"`
	All  bool `query:"all" doc:"of proposals: decided ones too"`
}

// RepoRules asks about the rules of a repository.
type RepoRules struct {
	InRepo
	RulesQuery
}

// HouseRules asks about the rules of a house.
type HouseRules struct {
	InHouse
	RulesQuery
}

// RepoRulesVersion asks for a version of a repository's rules.
type RepoRulesVersion struct {
	InRepo
	Version int `query:"version" minimum:"0" doc:"absent: the newest"`
}

// HouseRulesVersion asks for a version of a house's rules.
type HouseRulesVersion struct {
	InHouse
	Version int `query:"version" minimum:"0" doc:"absent: the newest"`
}

// NewRules is a document to apply.
type NewRules struct {
	Text   string `json:"text" doc:"the document, as YAML"`
	Reason string `json:"reason" doc:"why the rules change"`
}

// RulesMatch is the condition on which rules are applied.
type RulesMatch struct {
	IfMatch string `header:"If-Match" doc:"the version last read, in quotes, or * for whatever it is"`
}

// RepoRulesApplied applies a document to a repository.
type RepoRulesApplied struct {
	InRepo
	RulesMatch
	Body NewRules
}

// HouseRulesApplied applies a document to a house.
type HouseRulesApplied struct {
	InHouse
	RulesMatch
	Body NewRules
}

// RulesReturn makes an earlier version the next one.
type RulesReturn struct {
	Version   int    `json:"version" minimum:"1" doc:"the version to return to"`
	Reason    string `json:"reason"`
	IfVersion *int   `json:"if_version,omitempty" doc:"do so only if this is the version in force"`
}

// RulesDraft is a document to be read and not applied.
type RulesDraft struct {
	Text string `json:"text" doc:"the document, as YAML"`
}

// RulesCheckQuery says as what a document is read.
type RulesCheckQuery struct {
	OfHouse bool `query:"house" doc:"read it as a house's document"`
	Body    RulesDraft
}

// SchemaQuery says of which document the schema is.
type SchemaQuery struct {
	OfHouse bool `query:"house" doc:"of a house's document"`
}

// RulesTry is a document to be tried.
type RulesTry struct {
	Text string `json:"text" doc:"the document, as YAML"`
	Last int    `json:"last,omitempty" minimum:"0" maximum:"500" doc:"how many of the last landings to judge again"`
}

// RulesTest is examples to run against rules.
type RulesTest struct {
	Text     string `json:"text,omitempty" doc:"the rules document; absent: the rules in force"`
	Examples string `json:"examples" doc:"the examples, as YAML"`
}

// BranchQuery names a branch.
type BranchQuery struct {
	InRepo
	Branch string `query:"branch" required:"true" example:"main"`
}

// PatternQuery is a glob or a branch kind.
type PatternQuery struct {
	InRepo
	Pattern string `query:"pattern" required:"true" maxLength:"512" example:"release/**"`
}

// Decision is a word on a proposal.
type Decision struct {
	ID    int64 `json:"id" minimum:"1"`
	Agree bool  `json:"agree" doc:"false: decline"`
}

// NewSuspension suspends a protection.
type NewSuspension struct {
	Protection string `json:"protection"`
	ForSeconds int64  `json:"for_seconds" minimum:"60" maximum:"604800"`
	Reason     string `json:"reason"`
}

// Resumption ends a suspension.
type Resumption struct {
	Protection string `json:"protection"`
}

// PathQuery names a path.
type PathQuery struct {
	InRepo
	Path string `query:"path" required:"true" maxLength:"4096" example:"docs/members.md"`
}

// GapsQuery says how deep folders are counted.
type GapsQuery struct {
	InRepo
	Depth int `query:"depth" minimum:"1" maximum:"10" default:"2" doc:"how deep folders are counted"`
}

// AskedReviewers are those who are asked for a review.
type AskedReviewers struct {
	Who      []string `json:"who" minItems:"1" maxItems:"20" doc:"person:LOGIN or team:NAME"`
	Optional bool     `json:"optional,omitempty" doc:"tell them, without asking"`
}

// LabelEdit sets and removes labels.
type LabelEdit struct {
	Set    []string `json:"set,omitempty"`
	Remove []string `json:"remove,omitempty"`
}

// ChangeFilter selects changes; what is absent selects nothing out.
type ChangeFilter struct {
	State  string `query:"state" enum:"draft,open,landed,closed,all" doc:"absent: draft and open"`
	Before int    `query:"before" minimum:"0" doc:"numbers below it, for the next page"`
	Limit  int    `query:"limit" minimum:"0" maximum:"200" doc:"absent: fifty"`
	Target string `query:"target" doc:"of that branch"`
	By     string `query:"by" doc:"opened by that login"`
	Label  string `query:"label"`
	Search string `query:"search" maxLength:"200" doc:"in the title or the source branch, whatever the case"`
}

// ChangeQuery lists changes of a repository.
type ChangeQuery struct {
	InRepo
	ChangeFilter
}

// NewChange is what a change is made from.
type NewChange struct {
	Source      string  `json:"source" example:"valves-open-slowly"`
	Target      string  `json:"target,omitempty" doc:"absent: the default branch"`
	Title       string  `json:"title" example:"valves: open slowly"`
	Description *string `json:"description,omitempty" doc:"Markdown; absent: as the rules have new changes begin"`
	Draft       bool    `json:"draft,omitempty"`
	DependsOn   []int   `json:"depends_on,omitempty" doc:"numbers of changes that it waits for"`
}

// ChangeEdit is what is to be altered; what is absent stays as it is.
type ChangeEdit struct {
	Title       *string `json:"title,omitempty"`
	Description *string `json:"description,omitempty" doc:"Markdown"`
	Draft       *bool   `json:"draft,omitempty"`
	Target      *string `json:"target,omitempty" doc:"another branch to go to: a new revision is made, and it leaves the queue"`
	DependsOn   *[]int  `json:"depends_on,omitempty" doc:"numbers of the changes that it waits for, in place of those before"`
}

// PreviewQuery is a change that is not opened yet.
type PreviewQuery struct {
	InRepo
	Source string `query:"source" required:"true"`
	Target string `query:"target" doc:"absent: the default branch"`
	Title  string `query:"title"`
}

// BranchUpdate says how a source branch is brought up to its target.
type BranchUpdate struct {
	Strategy string `json:"strategy,omitempty" enum:"rebase,merge" doc:"absent: rebase"`
}

// NewReview is a reviewer's word.
type NewReview struct {
	Verdict  change.Verdict `json:"verdict" enum:"approve,object,comment"`
	Revision int            `json:"revision,omitempty" minimum:"0" doc:"the one that was read; a comment may leave it out"`
	Text     string         `json:"text,omitempty" doc:"Markdown"`
	Drafts   bool           `json:"drafts,omitempty" doc:"send your draft comments with it, in one go"`
}

// Reading says what of a change is read, and how.
type Reading struct {
	Revision int    `query:"revision" minimum:"0" doc:"absent: the newest"`
	Since    int    `query:"since" minimum:"0" doc:"another revision: what came after it, without what came only from the target"`
	Commit   string `query:"commit" doc:"one commit of the revision, by its id or enough of the beginning"`
	Space    string `query:"space" enum:"shown,ignored" doc:"ignored: lines that differ only in white space are the same"`
	Context  int    `query:"context" minimum:"0" maximum:"10000" doc:"lines around what differs; absent: three"`
}

// DiffQuery asks for a difference.
type DiffQuery struct {
	InChange
	Reading
	Files bool `query:"files" doc:"only the list of files; each is then asked for by itself"`
}

// FileQuery asks for one file of a difference.
type FileQuery struct {
	InChange
	Reading
	File string `path:"file" doc:"as the list of files names it"`
}

// FileTick says that a file was read.
type FileTick struct {
	Read     bool `json:"read"`
	Revision int  `json:"revision,omitempty" minimum:"0" doc:"the one that was read; absent: the newest"`
}

// FileTicked names a file of a difference.
type FileTicked struct {
	InChange
	File string `path:"file" doc:"as the list of files names it"`
	Body FileTick
}

// Look says up to which revision somebody has looked.
type Look struct {
	Revision int `json:"revision,omitempty" minimum:"0" doc:"absent: the newest"`
}

// NewThread is what a discussion is begun with.
type NewThread struct {
	Revision   int     `json:"revision,omitempty" minimum:"0" doc:"the one that was looked at; absent: the newest"`
	Commit     string  `json:"commit,omitempty" doc:"of a commit of the change"`
	Path       string  `json:"path,omitempty" doc:"of a file"`
	Before     bool    `json:"before,omitempty" doc:"the lines are those of the file before the change"`
	First      int     `json:"first_line,omitempty" doc:"counted from 1; absent: the whole file"`
	Last       int     `json:"last_line,omitempty" doc:"absent: the first"`
	Text       string  `json:"text,omitempty" doc:"Markdown; may be left out beside a suggestion"`
	NoAnswer   bool    `json:"no_answer,omitempty" doc:"it needs no answer, and never blocks"`
	Suggestion *string `json:"suggestion,omitempty" doc:"what the lines should be; empty: they should go"`
}

// NewComment is a reply in a discussion.
type NewComment struct {
	Text       string  `json:"text,omitempty" doc:"Markdown; may be left out beside a suggestion"`
	Suggestion *string `json:"suggestion,omitempty" doc:"what the discussion's lines should be; empty: they should go"`
}

// NewText is a text in place of another.
type NewText struct {
	Text string `json:"text" doc:"Markdown"`
}

// CommentEdited names a comment.
type CommentEdited struct {
	InThread
	Comment int64 `path:"comment" minimum:"1"`
	Body    NewText
}

// AppliedSuggestions are suggestions to make a commit of.
type AppliedSuggestions struct {
	Comments []int64 `json:"comments" doc:"whose suggestions to apply"`
}

// DraftSaved is a comment to keep for a review.
type DraftSaved struct {
	InChange
	Thread int64 `query:"thread" minimum:"0" doc:"the discussion it replies in; absent: it begins one"`
	Body   NewThread
}

// OneDraft names a draft comment.
type OneDraft struct {
	InChange
	ID int64 `path:"id" minimum:"1"`
}

// Resolution resolves a discussion, or opens it again.
type Resolution struct {
	Resolved bool   `json:"resolved"`
	Text     string `json:"text,omitempty" doc:"what was decided, or the ticket that continues it"`
}

// NewReport is what a check robot says of a check.
type NewReport struct {
	Commit  string            `json:"commit" doc:"its id, or enough of the beginning to tell it from all others"`
	Name    string            `json:"name" example:"valve-bench"`
	State   change.CheckState `json:"state" enum:"waiting,running,passed,failed,errored,skipped,cancelled"`
	Link    string            `json:"link,omitempty" doc:"where to read more"`
	Summary string            `json:"summary,omitempty" doc:"what came out, in a line"`
	Attempt int               `json:"attempt,omitempty" minimum:"0" doc:"which attempt is answered; needed from the second on"`

	Seconds     float64            `json:"seconds,omitempty" doc:"how long it took; absent: from the first report to the last"`
	Log         string             `json:"log,omitempty" doc:"the end of what it wrote; the last 64 KiB are kept"`
	Numbers     map[string]float64 `json:"numbers,omitempty" doc:"such as coverage or tests_passed, at most 20"`
	Annotations []Annotation       `json:"annotations,omitempty" doc:"about lines of files, at most 50"`
	Part        string             `json:"part,omitempty" doc:"of a check that runs in several parts: which this is" example:"arm64"`
	PartsOf     int                `json:"parts_of,omitempty" doc:"how many parts there are; the check ends when all have"`
	Key         string             `json:"key,omitempty" doc:"of your own: the same report under the same key counts once"`
}

// NewReports is what a check robot says of several checks: all are taken, or none.
type NewReports struct {
	Reports []NewReport `json:"reports"`
}

// GrantQuery asks for roles.
type GrantQuery struct {
	Where string `query:"where" required:"true" example:"growers/irrigation" doc:"HOUSE or HOUSE/NAME"`
}

// WantedQuery asks for checks that wait for a report.
type WantedQuery struct {
	InRepo
	Taken bool `query:"taken" doc:"those that a worker has taken on, and that are running"`
}

// CheckClaim is what a worker of a check robot can take on.
type CheckClaim struct {
	Name string `json:"name,omitempty" example:"valve-bench" doc:"only that check; absent: any that the token names"`
	Wait int    `json:"wait_seconds,omitempty" minimum:"0" maximum:"25" doc:"how long to wait for one; absent: not at all"`
}

// CheckQuery names a check of a repository.
type CheckQuery struct {
	InRepo
	Check string `query:"check" required:"true" example:"valve-bench"`
}

// NewConnection says which check is to be answered for by which robot.
type NewConnection struct {
	Check string `json:"check" example:"valve-bench"`
	Robot string `json:"robot" doc:"login; it is made where there is none" example:"bench"`
}

// InCommit names a commit.
type InCommit struct {
	InRepo
	Commit string `path:"commit" doc:"its id, or enough of the beginning"`
}

// CheckNamed names a check.
type CheckNamed struct {
	Name string `json:"name"`
}

// CheckRerun asks for a check of a commit once more.
type CheckRerun struct {
	InCommit
	Body CheckNamed
}

// InJob names a job, and carries its lease.
type InJob struct {
	ID            int64  `path:"id" minimum:"1"`
	Authorization string `header:"Authorization" doc:"Bearer and the job's lease"`
}

// JobResult is a runner's answer.
type JobResult struct {
	State   change.CheckState `json:"state" enum:"passed,failed,errored,skipped,cancelled"`
	Summary string            `json:"summary,omitempty"`
	Log     string            `json:"log,omitempty" doc:"the end of what it wrote"`
}

// JobFinished answers a job.
type JobFinished struct {
	InJob
	Body JobResult
}

// QueueQuery says which line is shown.
type QueueQuery struct {
	InRepo
	Branch string `query:"branch" doc:"absent: the default branch"`
}

// DecisionQuery asks what a queue's planner decided.
type DecisionQuery struct {
	InRepo
	Branch string    `query:"branch" doc:"absent: the default branch"`
	Number int       `query:"number" minimum:"0" doc:"of a change: what was decided about it and its rehearsals; absent: about all"`
	Since  time.Time `query:"since" doc:"absent: from the beginning, as far as the limit goes"`
	Until  time.Time `query:"until" doc:"absent: until now"`

	Rehearsal int64 `query:"rehearsal" minimum:"0" doc:"number of a rehearsal: what was decided about it"`
	Weighed   bool  `query:"weighed" doc:"with what was thought of each change, and what the paths that could have been rehearsed were worth"`

	Limit int `query:"limit" minimum:"1" maximum:"1000" default:"100" doc:"the newest so many"`
}

// NewForecast asks how a queue would do.
type NewForecast struct {
	Branch   string      `json:"branch,omitempty" doc:"absent: the default branch"`
	Days     int         `json:"days,omitempty" doc:"how many of the last days are gone through again, from 1 to 90; absent: 14"`
	Settings NewSettings `json:"settings,omitempty" doc:"what would be otherwise"`
	Arrivals float64     `json:"arrivals,omitempty" doc:"how many times as many changes would come, from 0.1 to 20"`
	Freeze   *NewFreeze  `json:"freeze,omitempty" doc:"freezes that would have been in force, moved back by whole weeks"`
	Work     *NewWork    `json:"work,omitempty" doc:"what comes; absent: what has come to the queue of late"`
}

// NewSettings are settings of a queue that might be; what is absent stays as it is.
type NewSettings struct {
	Slots   int    `json:"slots,omitempty"`
	Reruns  *int   `json:"reruns,omitempty"`
	Tests   string `json:"tests,omitempty" enum:"strict,by_area"`
	Planner string `json:"planner,omitempty" enum:"adaptive,one-at-a-time"`
}

// NewWork describes what comes to a queue.
type NewWork struct {
	PerHour     float64 `json:"per_hour" doc:"changes that come in an hour" example:"6"`
	Minutes     float64 `json:"minutes" doc:"that the checks of a rehearsal take, in the middle" example:"10"`
	Red         float64 `json:"red" doc:"of 100 changes, those that are red by themselves" example:"10"`
	Flaky       float64 `json:"flaky,omitempty" doc:"of 100 runs, those that are red by nobody's fault"`
	Conflicting float64 `json:"conflicting,omitempty" doc:"of 100 pairs that touch the same, those that do not go together"`
	Areas       int     `json:"areas,omitempty" doc:"how many there are; absent: one"`
}

// InForecast names a forecast.
type InForecast struct {
	ID string `path:"id" doc:"of the forecast"`
}

// NumbersQuery asks how a queue has done.
type NumbersQuery struct {
	InRepo
	Branch string `query:"branch" doc:"absent: the default branch"`
	Days   int    `query:"days" minimum:"1" maximum:"366" default:"14" doc:"that are counted, up to now"`
}

// NewEntry is how a change is to land.
type NewEntry struct {
	Strategy     change.Strategy `json:"strategy,omitempty" doc:"absent: the rules' default"`
	Message      string          `json:"message,omitempty" doc:"of a squash or merge; absent: as the rules say"`
	DeleteSource *bool           `json:"delete_source,omitempty" doc:"absent: as the rules say"`
}

// WaiverQuery says which waivers are listed.
type WaiverQuery struct {
	InRepo
	Open bool `query:"open" doc:"only those that may still be used, and those not acknowledged yet"`
}

// WaiverWish is what somebody wants to waive.
type WaiverWish struct {
	Requirements []string `json:"requirements,omitempty" doc:"keys; absent: everything that you may waive"`
}

// NewWaiver waives requirements of a change for one landing.
type NewWaiver struct {
	Requirements []string `json:"requirements,omitempty" doc:"keys; absent: everything that you may waive"`
	Reason       string   `json:"reason"`
	ForSeconds   int64    `json:"for_seconds,omitempty" minimum:"0" doc:"absent: an hour; at most a day"`
	Confirm      string   `json:"confirm,omitempty" doc:"from the plan"`
}

// PushWish is a push that somebody wants to allow themselves.
type PushWish struct {
	Branch string `json:"branch"`
	Commit string `json:"commit" doc:"one that the repository has already"`
}

// NewPushWaiver allows oneself one push against the rules.
type NewPushWaiver struct {
	Branch     string `json:"branch"`
	Commit     string `json:"commit" doc:"one that the repository has already"`
	Reason     string `json:"reason"`
	ForSeconds int64  `json:"for_seconds,omitempty" minimum:"0" doc:"absent: an hour; at most a day"`
	Confirm    string `json:"confirm,omitempty" doc:"from the plan"`
}

// Acknowledging says what somebody found of another's waiver.
type Acknowledging struct {
	Text string `json:"text" doc:"what you found"`
}

// WaiverAcknowledged names a waiver.
type WaiverAcknowledged struct {
	InRepo
	Waiver int64 `path:"waiver" minimum:"1"`
	Body   Acknowledging
}

// NotificationQuery says how many are listed.
type NotificationQuery struct {
	Limit int `query:"limit" minimum:"0" maximum:"500" doc:"absent: fifty"`
}

// Seen says up to which line of the journal somebody has seen their notifications.
type Seen struct {
	Seq int64 `json:"seq" minimum:"0"`
}

// DigestQuery says how far a digest looks back.
type DigestQuery struct {
	Since time.Time `query:"since" required:"true"`
}

// FollowChoice says whether somebody hears of something.
type FollowChoice struct {
	Follow bool `json:"follow"`
}

// JournalQuery says which lines are listed.
type JournalQuery struct {
	Repository string `query:"repository" doc:"HOUSE/NAME; absent: of everything that you may read"`
	After      int64  `query:"after" minimum:"0" doc:"lines after this one, oldest first"`
	From       int64  `query:"from" minimum:"0" doc:"this line and those after it, oldest first; 1: from the beginning"`
	Before     int64  `query:"before" minimum:"0" doc:"lines before this one, newest first"`
	Limit      int    `query:"limit" minimum:"0" maximum:"500" default:"50"`
}

// EarlierHead is a head that was exported earlier, from which the journal must go on.
type EarlierHead struct {
	Seq       int64  `query:"seq" minimum:"0" doc:"absent: none"`
	Hash      string `query:"hash"`
	PublicKey string `query:"public_key"`
	Signature string `query:"signature"`
	Whole     bool   `query:"whole" doc:"from the first line on, although the service has a signed checkpoint of its own"`
}

// TrackerSet says which tracker a house asks.
type TrackerSet struct {
	InHouse
	Body NewTracker
}

// TrackerTry names a ticket to ask a tracker about.
type TrackerTry struct {
	Ticket string `json:"ticket" example:"FEN-31"`
}

// TrackerAsked asks the tracker of a house about a ticket.
type TrackerAsked struct {
	InHouse
	Body TrackerTry
}

// Reasoned gives a reason.
type Reasoned struct {
	Reason string `json:"reason" example:"we moved"`
}

// TrackerGone leaves a house without a tracker.
type TrackerGone struct {
	InHouse
	Body Reasoned
}

// FreezeQuery says whose freezes are listed.
type FreezeQuery struct {
	Of  string `query:"of" doc:"HOUSE/NAME or HOUSE" example:"growers/irrigation"`
	All bool   `query:"all" doc:"those that are over, too"`
}

// FreezeEnded ends a freeze, this time or for good.
type FreezeEnded struct {
	WithID
	Body Reasoned
}

// Holding says which queue is held or freed, and why.
type Holding struct {
	Branch string `json:"branch,omitempty" doc:"absent: the default branch" example:"main"`
	Reason string `json:"reason" example:"the east ditch floods"`
}

// LandingQuestion asks which commits a landing would bring.
type LandingQuestion struct {
	Strategy string `query:"strategy" doc:"absent: the entry's, or the rules' default"`
	Message  string `query:"message" maxLength:"16384" doc:"of a final commit; absent: the entry's, or from the rules' template"`
}

// LandingAsked asks it of a change.
type LandingAsked struct {
	InChange
	LandingQuestion
}

// BranchAt is a branch where somebody has seen it.
type BranchAt struct {
	Name   string `json:"name" example:"tamsin/east"`
	Commit string `json:"commit" doc:"where it stands; one that has moved is not deleted"`
}

// BranchesToDelete names branches to delete.
type BranchesToDelete struct {
	Branches []BranchAt `json:"branches" maxItems:"100"`
}
