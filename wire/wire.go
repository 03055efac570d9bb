// Package wire holds the types that travel over Tavrin's API: what the service answers and what clients send.
//
// Field names on the wire are in snake_case, times in RFC 3339 and UTC, commit ids whole. The service, the Go
// client and the command line share these types, so that they cannot disagree.
package wire

import (
	"time"

	"tavrin/internal/core/change"
	"tavrin/internal/core/gate"
	"tavrin/internal/core/grammar"
	"tavrin/internal/core/guard"
	"tavrin/internal/core/journal"
	"tavrin/internal/core/require"
)

// Report, Requirement, Finding, Source and Line are defined by the packages that make them.
type (
	Report      = gate.Report
	Requirement = require.Outcome
	Step        = require.Step
	Finding     = grammar.Finding
	Source      = require.Source
	JournalLine = journal.Line
	Annotation  = change.Annotation
	JournalHead = journal.Head
)

// PreviewRefs begins the names to which everybody who may write pushes what is only to be looked at: PREVIEW/LOGIN/NAME.
const PreviewRefs = guard.Preview

// House is the home of repositories that belong together.
type House struct {
	Name         string `json:"name"`
	Role         string `json:"role" doc:"your role in the house: reader, writer, maintainer or none"`
	Repositories int    `json:"repositories" doc:"how many of its repositories you may read"`
}

// Repository is one hosted repository.
type Repository struct {
	Name          string    `json:"name" doc:"HOUSE/NAME"`
	Description   string    `json:"description"`
	DefaultBranch string    `json:"default_branch"`
	Public        bool      `json:"public" doc:"readable without signing in"`
	ReadOnly      string    `json:"read_only,omitempty" doc:"why a maintainer made it read-only; absent: it is not"`
	Role          string    `json:"role" doc:"your role: reader, writer, maintainer or none"`
	Empty         bool      `json:"empty"`
	RulesVersion  int       `json:"rules_version" doc:"0: no rules applied yet"`
	HouseVersion  int       `json:"house_version" doc:"version of its house's rules; 0: none"`
	OpenChanges   int       `json:"open_changes"`
	InQueue       int       `json:"in_queue" doc:"entries that have not ended"`
	Trouble       string    `json:"trouble,omitempty" doc:"why it is stopped and read-only; absent: it is not"`
	Imported      *Imported `json:"imported,omitempty" doc:"in the answer to an import: what it brought"`
}

// Imported is what an import brought.
type Imported struct {
	Branches int      `json:"branches"`
	Tags     int      `json:"tags"`
	LeftOut  []string `json:"left_out" doc:"branches that were not asked for"`
}

// Deleted is a repository that is deleted and can be restored.
type Deleted struct {
	Name        string    `json:"name" doc:"HOUSE/NAME"`
	DeletedBy   string    `json:"deleted_by"`
	DeletedAt   time.Time `json:"deleted_at"`
	Until       time.Time `json:"until" doc:"until when it can be restored"`
	OpenChanges int       `json:"open_changes"`
}

// Branch is one branch and what protects it.
type Branch struct {
	Name        string    `json:"name"`
	Commit      string    `json:"commit"`
	Subject     string    `json:"subject"`
	Author      string    `json:"author"`
	CommittedAt time.Time `json:"committed_at"`
	Default     bool      `json:"default"`
	Protections []string  `json:"protections" doc:"names of the protections that match"`
	Checks      string    `json:"checks" doc:"combined state of the tip's checks; empty: none reported"`
	Open        []int     `json:"open" doc:"numbers of the open changes from it or to it"`
	Landed      int       `json:"landed,omitempty" doc:"number of the change by which what it holds has landed; absent: none"`
}

// BranchDeletion is what became of deleting one branch.
type BranchDeletion struct {
	Name    string `json:"name"`
	Deleted bool   `json:"deleted"`
	Why     string `json:"why,omitempty" doc:"why it was not"`
}

// Commit is one commit of a history.
type Commit struct {
	ID         string    `json:"id"`
	Subject    string    `json:"subject"`
	Body       string    `json:"body,omitempty"`
	Author     string    `json:"author"`
	AuthoredAt time.Time `json:"authored_at"`
	Parents    []string  `json:"parents"`
	Checks     string    `json:"checks" doc:"combined state of its checks; empty: none reported"`
	Change     int       `json:"change,omitempty" doc:"number of the change that brought this commit"`
	Landed     *LandedAs `json:"landed,omitempty" doc:"the landing that brought it; absent: it was pushed, or is not on a protected branch"`
	Waiver     *Waiver   `json:"waiver,omitempty" doc:"what was waived to let this commit onto a branch"`
	Signature  string    `json:"signature,omitempty" doc:"of a change's commit: signed, or why a signature does not count, in words"`
	SignedBy   string    `json:"signed_by,omitempty" doc:"whose registered key it is"`
}

// TreeEntry is one name in a folder.
type TreeEntry struct {
	Name string `json:"name"`
	Kind string `json:"kind" enum:"blob,tree,commit"`
	Size int64  `json:"size" doc:"bytes, of a file"`
}

// Tree is a folder or a file at a commit.
type Tree struct {
	Commit  string      `json:"commit"`
	Path    string      `json:"path"`
	Entries []TreeEntry `json:"entries,omitempty"`
	File    bool        `json:"file"`
	Text    string      `json:"text,omitempty" doc:"of a file; empty when binary"`
	Binary  bool        `json:"binary"`
	Partial bool        `json:"partial" doc:"there is more than is shown"`
}

// Person is a person or a robot.
type Person struct {
	Login    string   `json:"login"`
	Name     string   `json:"name"`
	Email    string   `json:"email,omitempty"`
	Robot    bool     `json:"robot"`
	Admin    bool     `json:"admin"`
	Disabled bool     `json:"disabled"`
	Teams    []string `json:"teams"`
}

// Disabled says what ended when an account was disabled, and what still names it.
type Disabled struct {
	Login    string   `json:"login"`
	Disabled bool     `json:"disabled" doc:"false: it was taken back into use; what ended before stays ended"`
	Tokens   int      `json:"tokens" doc:"how many ended; so below"`
	Sessions int      `json:"sessions"`
	Leases   int      `json:"leases" doc:"jobs that wait for another runner"`
	Feeds    int      `json:"feeds"`
	NamedBy  []string `json:"named_by" doc:"rules, teams, roles and open changes that still name it"`
}

// Refusal is how often one thing was refused to somebody for a reason of rights, since the service was started.
type Refusal struct {
	Who   string    `json:"who" doc:"login, or the address of somebody who had not signed in"`
	What  string    `json:"what" doc:"the call, or the path"`
	Why   string    `json:"why" doc:"as they were told the last time"`
	Times int       `json:"times"`
	Last  time.Time `json:"last"`
}

// Team is a named set of people.
type Team struct {
	Name     string   `json:"name"`
	Members  []string `json:"members"`
	Managers []string `json:"managers" doc:"who may change it, besides administrators"`
}

// Grant is a role that somebody has.
type Grant struct {
	Who   string `json:"who" doc:"login, or team:NAME"`
	Where string `json:"where" doc:"HOUSE or HOUSE/NAME"`
	Role  string `json:"role"`
}

// Token describes a token; the token itself is shown once, when it is made.
type Token struct {
	ID         int64      `json:"id"`
	Login      string     `json:"login"`
	Name       string     `json:"name"`
	Scope      string     `json:"scope" enum:"all,read,checks,runner"`
	Bindings   []string   `json:"bindings" doc:"HOUSE/NAME:CHECK for reporting checks, HOUSE/NAME for a runner"`
	ExpiresAt  *time.Time `json:"expires_at,omitempty"`
	RevokedAt  *time.Time `json:"revoked_at,omitempty"`
	LastUsedAt *time.Time `json:"last_used_at,omitempty"`
	CreatedAt  time.Time  `json:"created_at"`
	Secret     string     `json:"secret,omitempty" doc:"the token, in the answer that makes it and never again"`
}

// Me is who is asking.
type Me struct {
	Person
	Scope     string     `json:"scope"`
	Confirmed *time.Time `json:"confirmed_until,omitempty" doc:"of a console session: until when rules may be changed without showing the token again"`
}

// Change is a proposal to bring a source branch into a target branch.
type Change struct {
	Repository      string            `json:"repository"`
	Number          int               `json:"number"`
	Title           string            `json:"title"`
	Description     string            `json:"description" doc:"Markdown"`
	DescriptionHTML string            `json:"description_html,omitempty" doc:"of one change: the description laid out, safe to show"`
	Source          string            `json:"source"`
	Target          string            `json:"target"`
	State           string            `json:"state" enum:"draft,open,landed,closed"`
	Revision        int               `json:"revision"`
	Head            string            `json:"head"`
	Base            string            `json:"base"`
	Hidden          []string          `json:"hidden,omitempty" doc:"the first hundred paths that its commits touch and its difference does not show; by a strategy that keeps the commits they come to the target too"`
	SourceGone      bool              `json:"source_gone,omitempty" doc:"there is no such source branch now: the change stays at its newest revision, and may land"`
	Ready           bool              `json:"ready"`
	Summary         string            `json:"summary" doc:"the gate in one sentence"`
	OpenedBy        string            `json:"opened_by"`
	Authors         []string          `json:"authors" doc:"who counts as author"`
	Labels          []string          `json:"labels"`
	Tickets         []string          `json:"tickets" doc:"referred to in the title, description, source branch and messages"`
	TicketLinks     map[string]string `json:"ticket_links" doc:"where they lead, of those of which the rules say so"`
	TicketAnswers   []TicketAnswer    `json:"ticket_answers" doc:"what the house's tracker says of those of which the rules want to know"`
	DependsOn       []int             `json:"depends_on" doc:"numbers of the changes that it waits for"`
	Reviewers       []Reviewer        `json:"reviewers" doc:"who was asked to review it, or told of it"`
	Files           int               `json:"files"`
	Added           int               `json:"added"`
	Removed         int               `json:"removed"`
	LandedCommit    string            `json:"landed_commit,omitempty"`
	Ahead           int               `json:"ahead,omitempty" doc:"of one open change: commits it has and its target has not"`
	Behind          int               `json:"behind,omitempty" doc:"of one open change: commits its target has and it has not; the queue brings them together, nobody has to"`
	Conflicts       []string          `json:"conflicts" doc:"files in which it was found not to go together with its target, the first fifty; empty: none was found"`
	Strategies      []LandingStrategy `json:"strategies,omitempty" doc:"of one change: by which the rules have it land"`
	Strategy        change.Strategy   `json:"strategy,omitempty" doc:"of one change: by which it lands where nobody says another; absent: whoever joins has to say"`
	Message         string            `json:"message,omitempty" doc:"of one change: the message of a final commit where nobody types another, without trailers"`
	Entry           *Entry            `json:"entry,omitempty" doc:"its newest place in the queue"`
	Waivers         []Waiver          `json:"waivers" doc:"what was waived for it, newest first"`
	CreatedAt       time.Time         `json:"created_at"`
	UpdatedAt       time.Time         `json:"updated_at"`
}

// LandingStrategy is a strategy by which a change may land.
type LandingStrategy struct {
	Strategy change.Strategy `json:"strategy"`
	Final    bool            `json:"final" doc:"a commit is made for the landing, with a message of its own"`
}

// Revision is one state of a change's source branch.
type Revision struct {
	Number         int       `json:"number"`
	Head           string    `json:"head"`
	Base           string    `json:"base"`
	PushedBy       string    `json:"pushed_by"`
	SameDifference bool      `json:"same_difference" doc:"brings exactly what the revision before brought"`
	Kind           string    `json:"kind" enum:",first,added,rebased,folded,rewritten,retargeted" doc:"what it did to the one before: first, added, rebased, folded (fixups, and nothing else), rewritten or retargeted (it goes to another branch); empty: not kept"`
	Files          int       `json:"files"`
	Added          int       `json:"added"`
	Removed        int       `json:"removed"`
	Commits        []Commit  `json:"commits,omitempty"`
	CreatedAt      time.Time `json:"created_at"`
}

// Review is one word of a reviewer.
type Review struct {
	ID        int64    `json:"id"`
	By        string   `json:"by"`
	Revision  int      `json:"revision"`
	Verdict   string   `json:"verdict" enum:"approve,object,comment"`
	Text      string   `json:"text" doc:"Markdown"`
	Altered   []string `json:"altered,omitempty" doc:"what of the change's title and description was altered after the review, in words"`
	HTML      string   `json:"html" doc:"the text laid out, safe to show"`
	Withdrawn bool     `json:"withdrawn"`
	Standing  bool     `json:"standing" doc:"it is this person's present word"`
	// Weighed is said at once to who reviews.
	Weighed   *require.Weighed `json:"weighed,omitempty" doc:"in the answer to an approval or objection: whether it counts, for what, and if not why not"`
	CreatedAt time.Time        `json:"created_at"`
}

// Check is the newest attempt of one check on one commit.
type Check struct {
	Name     string `json:"name"`
	Commit   string `json:"commit"`
	State    string `json:"state" enum:"waiting,running,passed,failed,errored,skipped,cancelled"`
	Attempt  int    `json:"attempt"`
	Link     string `json:"link,omitempty"`
	Summary  string `json:"summary,omitempty"`
	By       string `json:"by,omitempty" doc:"robot that reported it"`
	Runner   bool   `json:"runner" doc:"it ran as a command on a runner"`
	AskedFor string `json:"asked_for,omitempty" doc:"change/NUMBER, rehearsal/ID or branch/NAME; empty: nobody asked"`
	Change   int    `json:"change,omitempty" doc:"the change for which it was asked for"`
	Target   string `json:"target,omitempty" doc:"the branch that the change is for"`
	Log      string `json:"log,omitempty" doc:"the end of its log; beside an entry of a queue, the last lines of what did not pass"`

	Seconds     float64            `json:"seconds,omitempty" doc:"how long it took"`
	Numbers     map[string]float64 `json:"numbers,omitempty"`
	Annotations []Annotation       `json:"annotations,omitempty" doc:"about lines of files"`
	Parts       []CheckPart        `json:"parts,omitempty" doc:"that it was reported in so far"`
	PartsOf     int                `json:"parts_of,omitempty" doc:"how many parts there are"`
	RanOn       string             `json:"ran_on,omitempty" doc:"the commit on which it passed, where that is another of the same tree"`

	StartedAt  *time.Time `json:"started_at,omitempty"`
	FinishedAt *time.Time `json:"finished_at,omitempty"`
	CreatedAt  time.Time  `json:"created_at"`
}

// RedTip says that a check that the rules want on the tip of a branch has failed there.
type RedTip struct {
	Branch  string    `json:"branch"`
	Commit  string    `json:"commit"`
	Check   string    `json:"check"`
	State   string    `json:"state" enum:"failed,errored"`
	Summary string    `json:"summary,omitempty"`
	Link    string    `json:"link,omitempty"`
	Since   time.Time `json:"since"`
}

// Snippet is something to paste.
type Snippet struct {
	Name  string `json:"name" example:"poll"`
	Means string `json:"means" doc:"what it is good for"`
	Text  string `json:"text"`
}

// CheckProgress says how far the newest attempt of a check has come.
type CheckProgress struct {
	Name     string      `json:"name"`
	Commit   string      `json:"commit,omitempty"`
	Attempt  int         `json:"attempt,omitempty"`
	AskedFor string      `json:"asked_for,omitempty"`
	State    string      `json:"state,omitempty"`
	Steps    []CheckStep `json:"steps" doc:"asked, delivered, fetched, running, verdict, in this order"`
}

// CheckStep is one step of the way to a verdict.
type CheckStep struct {
	Name string     `json:"name" enum:"asked,delivered,fetched,running,verdict"`
	At   *time.Time `json:"at,omitempty" doc:"absent: not yet"`
	Text string     `json:"text,omitempty" doc:"how, or why not"`
}

// CheckPart is one part of a check that is reported in several.
type CheckPart struct {
	Name    string `json:"name"`
	State   string `json:"state"`
	Link    string `json:"link,omitempty"`
	Summary string `json:"summary,omitempty"`
}

// CheckName is a check that was reported, or that the rules name.
type CheckName struct {
	Name     string     `json:"name"`
	Demanded bool       `json:"demanded" doc:"the rules ask for it"`
	Command  string     `json:"command,omitempty"`
	Reports  int        `json:"reports"`
	LastSeen *time.Time `json:"last_seen,omitempty"`
}

// Entry is one change's place in a queue.
type Entry struct {
	ID           int64      `json:"id"`
	Number       int        `json:"number" doc:"of the change"`
	Title        string     `json:"title"`
	Target       string     `json:"target"`
	Position     int        `json:"position" doc:"1 is next; 0 when it has ended"`
	State        string     `json:"state" enum:"waiting,queued,rehearsing,landing,landed,ejected,withdrawn"`
	Strategy     string     `json:"strategy"`
	Message      string     `json:"message,omitempty"`
	DeleteSource bool       `json:"delete_source"`
	JoinedBy     string     `json:"joined_by"`
	Reason       string     `json:"reason" doc:"why it is where it is"`
	Ahead        []int      `json:"ahead,omitempty" doc:"changes that are ahead of it in line, the first ones"`
	Likely       *Likely    `json:"likely,omitempty" doc:"when it is likely to land; absent: it has ended"`
	Cause        string     `json:"cause,omitempty" doc:"why it was ejected, in a word"`
	Rehearsal    *Rehearsal `json:"rehearsal,omitempty"`
	CreatedAt    time.Time  `json:"created_at"`
	EndedAt      *time.Time `json:"ended_at,omitempty"`
}

// Likely is when a change in line is likely to land, by how long it took those before it in the same queue.
type Likely struct {
	Half  *time.Time `json:"half,omitempty" doc:"half of those like it have landed by then; absent: it cannot be said"`
	Most  *time.Time `json:"most,omitempty" doc:"nine of ten have"`
	Words string     `json:"words" doc:"what it rests on, or why it cannot be said"`
}

// Rehearsal is a commit built as if what it stands on had landed.
type Rehearsal struct {
	ID     int64   `json:"id"`
	Number int64   `json:"number" doc:"of the rehearsal, in its queue"`
	Path   []int   `json:"path" doc:"changes that are rehearsed together, in the order in which they stand on one another"`
	Base   string  `json:"base"`
	Commit string  `json:"commit"`
	Tested string  `json:"tested" doc:"the commit that the checks run on: that of the last of the path"`
	Checks []Check `json:"checks"`

	Since time.Time `json:"since" doc:"it was built, or tested once more"`
}

// QueueRehearsal is one of the rehearsals that a queue has at once.
type QueueRehearsal struct {
	Number int64     `json:"number"`
	Path   []int     `json:"path" doc:"changes that it would land, in the order in which they stand on one another"`
	Base   string    `json:"base" doc:"the commit that the first stands on"`
	Commit string    `json:"commit,omitempty" doc:"that its checks run on; absent: it is being built"`
	State  string    `json:"state" enum:"building,running,passed,red,rebuilding" doc:"rebuilding: what was tested is built anew on the tip, which has only other areas changed"`
	Since  time.Time `json:"since"`
	Worth  float64   `json:"worth" doc:"how many landings it was thought worth when it was begun"`
	Reruns int       `json:"reruns" doc:"how often it was tested once more"`
	Why    string    `json:"why" doc:"what it waits for, or was"`
}

// QueueDecision is something that a queue's planner decided.
type QueueDecision struct {
	At        time.Time `json:"at"`
	Told      string    `json:"told" doc:"what the queue was told"`
	Do        string    `json:"do" enum:"line up,send back to waiting,discard the rehearsal,eject,explain,build a rehearsal,build what was tested on the tip,ask for the checks once more,land,leave a slot free"`
	Number    int       `json:"number" doc:"of the change"`
	Rehearsal int64     `json:"rehearsal,omitempty"`
	Path      []int     `json:"path" doc:"changes of the rehearsal"`
	Why       string    `json:"why"`
	Weighed   *Weighing `json:"weighed,omitempty" doc:"of a slot that was given, or left free, where it is asked for"`
}

// Weighing is what was thought and weighed when a slot was given.
type Weighing struct {
	Busy    int       `json:"busy" doc:"slots that were taken"`
	Slots   int       `json:"slots"`
	Least   float64   `json:"least" doc:"landings that a path had to be worth"`
	Thought []Thought `json:"thought" doc:"of each change in line, in order"`
	Options []Option  `json:"options" doc:"paths that were looked at, the best first"`
}

// Thought is how likely a change was thought to be good.
type Thought struct {
	Number int     `json:"number"`
	Good   float64 `json:"good" doc:"from 0 to 1"`
	Why    string  `json:"why"`
}

// Option is a path that could have been rehearsed.
type Option struct {
	Path  []int   `json:"path"`
	Worth float64 `json:"worth" doc:"in landings"`
}

// QueueSupposes is what a queue's planner supposes, from what happened lately.
type QueueSupposes struct {
	Guilty  float64 `json:"guilty" doc:"share of changes that are red by their own fault"`
	Flaky   float64 `json:"flaky" doc:"share of runs that are red by nobody's fault"`
	Seconds int     `json:"seconds" doc:"that checks take; 0: not known yet"`
	Words   string  `json:"words" doc:"the same, in a sentence"`
}

// Kept is how what was said about when changes would land came out.
type Kept struct {
	Of   int `json:"of" doc:"changes that landed lately, and of which something was said when they lined up"`
	Half int `json:"half" doc:"those that landed within the time within which half were to"`
	Most int `json:"most" doc:"those within the time within which nine of ten were to"`
}

// QueueNumbers is how a queue has done.
type QueueNumbers struct {
	Branch       string         `json:"branch"`
	Since        time.Time      `json:"since"`
	Until        time.Time      `json:"until"`
	Landed       int            `json:"landed"`
	Ejected      int            `json:"ejected"`
	Withdrawn    int            `json:"withdrawn"`
	CheckMinutes float64        `json:"check_minutes" doc:"for which checks of rehearsals ran"`
	MinutesEach  float64        `json:"minutes_each" doc:"the same, for each change that landed"`
	Cancelled    int            `json:"cancelled" doc:"runs of checks that were called off"`
	Stages       []StageNumbers `json:"stages" doc:"of what landed"`
	Ejections    []Ejections    `json:"ejections" doc:"by cause, the most frequent first"`
	Checks       []CheckNumbers `json:"checks"`
	Times        []TimeNumbers  `json:"times" doc:"by the day, or over two days and less by the hour, in UTC; those without any are left out"`
	Kept         Kept           `json:"kept"`
}

// StageNumbers is how long changes that landed were in a stage.
type StageNumbers struct {
	Stage string  `json:"stage" enum:"waiting,queued,rehearsing,landing,ready to landed"`
	Means string  `json:"means"`
	Half  float64 `json:"half" doc:"seconds, within which half of them were"`
	Most  float64 `json:"most" doc:"seconds, within which nine of ten were"`
}

// Ejections counts what was ejected for one cause.
type Ejections struct {
	Cause string `json:"cause" doc:"checks, conflict, push, closed, approvals, and so on"`
	Count int    `json:"count"`
}

// CheckNumbers counts the runs of one check on rehearsals.
type CheckNumbers struct {
	Name      string  `json:"name"`
	Runs      int     `json:"runs"`
	Minutes   float64 `json:"minutes"`
	Failed    int     `json:"failed"`
	Reruns    int     `json:"reruns" doc:"runs that were asked for once more"`
	Flakes    int     `json:"flakes" doc:"of them, those that passed where it had failed"`
	Cancelled int     `json:"cancelled"`
	Reused    int     `json:"reused" doc:"passes on another commit of the same tree, which were taken instead"`
}

// TimeNumbers counts one day, or one hour.
type TimeNumbers struct {
	From         time.Time `json:"from"`
	Landed       int       `json:"landed"`
	Ejected      int       `json:"ejected"`
	Half         float64   `json:"half" doc:"seconds from ready to landed"`
	Most         float64   `json:"most"`
	CheckMinutes float64   `json:"check_minutes"`
}

// Forecast is how a queue would do.
type Forecast struct {
	ID      string           `json:"id"`
	Branch  string           `json:"branch"`
	State   string           `json:"state" enum:"running,ready,stopped,failed"`
	Done    float64          `json:"done" doc:"the share that is worked out, from 0 to 1"`
	Of      string           `json:"of" doc:"what it rests on"`
	AsItWas *ForecastFigures `json:"as_it_was,omitempty" doc:"how the queue did in truth; absent: the work is described"`
	Columns []ForecastColumn `json:"columns" doc:"as it is, and as it was asked for; none before it is ready"`
}

// ForecastColumn is one way in which a queue might be.
type ForecastColumn struct {
	Name     string          `json:"name"`
	Settings QueueSettings   `json:"settings"`
	Figures  ForecastFigures `json:"figures"`
	Oracle   ForecastFigures `json:"oracle" doc:"with a planner that knows beforehand which changes are good: no queue can do much better"`
	Words    string          `json:"words,omitempty" doc:"what it is beside the first, in a sentence"`
}

// ForecastFigures are how a queue does, in the mean of several goes.
type ForecastFigures struct {
	Landed       float64   `json:"landed"`
	Ejected      float64   `json:"ejected"`
	Wrongly      float64   `json:"wrongly" doc:"of those that were ejected, the innocent"`
	Half         float64   `json:"half" doc:"minutes from ready to landed, within which half of them landed"`
	Most         float64   `json:"most" doc:"minutes, within which nine of ten did"`
	Late         float64   `json:"late" doc:"minutes, within which nineteen of twenty did"`
	CheckMinutes float64   `json:"check_minutes"`
	MinutesEach  float64   `json:"minutes_each" doc:"minutes of checks for each that landed"`
	Runs         float64   `json:"runs" doc:"rehearsals whose checks ran"`
	Cancelled    float64   `json:"cancelled" doc:"of them, those that were called off"`
	Within       []float64 `json:"within" doc:"minutes within which each further twentieth landed, from none to all"`
	Overrun      bool      `json:"overrun" doc:"more came than it could land"`
	OverrunDay   int       `json:"overrun_day,omitempty" doc:"on which day"`
}

// QueueSettings is what the rules say of a queue.
type QueueSettings struct {
	Planner string `json:"planner" enum:"adaptive,one-at-a-time"`
	Slots   int    `json:"slots"`
	Reruns  int    `json:"reruns"`
	Tests   string `json:"tests" enum:"strict,by_area"`
	OnPush  string `json:"on_push" enum:"stay,back,leave"`
}

// Queue is the line of changes for one target branch.
type Queue struct {
	Branch     string           `json:"branch"`
	Tip        string           `json:"tip"`
	Caption    string           `json:"caption" doc:"what is happening, in a sentence"`
	Entries    []Entry          `json:"entries" doc:"alive, in order"`
	Rehearsals []QueueRehearsal `json:"rehearsals" doc:"those that are under way, oldest first"`
	Settings   QueueSettings    `json:"settings"`
	Supposes   QueueSupposes    `json:"supposes"`
	Kept       Kept             `json:"kept"`
	Recent     []Entry          `json:"recent" doc:"ended, newest first"`
	Stops      []Stop           `json:"stops" doc:"why nothing lands on the branch now: freezes, and who holds the queue"`
	Red        []RedTip         `json:"red" doc:"checks that the rules want on the branch's tip and that have failed there"`
	// Silent are checks that were asked for and that nobody answers.
	Silent []SilentCheck `json:"silent" doc:"checks of the repository that were asked for and are not answered: half of their time is over, they were asked for once more, or no runner takes them"`
}

// Conflicts is where a change and its target do not go together.
type Conflicts struct {
	Target   string         `json:"target"`
	Tip      string         `json:"tip"`
	Source   string         `json:"source"`
	Head     string         `json:"head"`
	Files    []ConflictFile `json:"files"`
	Commands []string       `json:"commands" doc:"to resolve them in a clone; none where there is nothing to resolve"`
}

// ConflictFile is one file in which two sides do not go together.
type ConflictFile struct {
	Path   string   `json:"path"`
	What   string   `json:"what,omitempty" doc:"what is the matter, where it is more than lines"`
	Places []string `json:"places" doc:"what stands on both sides, with the lines around it, as Git marks it; of text, the first twenty"`
	More   int      `json:"more,omitempty" doc:"places besides"`
	With   []int    `json:"with" doc:"numbers of the changes that touched the file on the target since"`
}

// LandingPreview is what a landing would bring to the target as it is now.
type LandingPreview struct {
	Strategy       change.Strategy   `json:"strategy"`
	Target         string            `json:"target"`
	Base           string            `json:"base" doc:"the target's tip"`
	Commits        []PreviewedCommit `json:"commits" doc:"newest first"`
	Obstacle       string            `json:"obstacle,omitempty" doc:"why nothing would come"`
	Signatures     string            `json:"signatures,omitempty" doc:"what becomes of signatures, in words"`
	SignaturesLost int               `json:"signatures_lost,omitempty" doc:"signed commits of the change that do not come as they are: their signatures do not come"`
	SignedWith     string            `json:"signed_with,omitempty" doc:"the service's public key, as OpenSSH writes it, with which the new commits are signed; absent: they are not signed"`
}

// PreviewedCommit is one commit of a LandingPreview.
type PreviewedCommit struct {
	ID      string `json:"id,omitempty" doc:"of a commit of the change that comes as it is; absent: it would be made"`
	Subject string `json:"subject"`
	Body    string `json:"body"`
	Author  string `json:"author"`
	Parents int    `json:"parents"`
	Kept    bool   `json:"kept" doc:"it comes as it is"`
}

// Stop is why nothing lands on a branch for a time.
type Stop struct {
	Freeze int64      `json:"freeze,omitempty" doc:"its number; absent: somebody holds the queue, or the disk is nearly full"`
	Disk   bool       `json:"disk,omitempty" doc:"the service holds the queue itself, since the disk is nearly full"`
	Words  string     `json:"words" example:"main is frozen: harvest"`
	Next   string     `json:"next" doc:"why, how long, and who may end it"`
	By     string     `json:"by"`
	Since  time.Time  `json:"since"`
	Until  *time.Time `json:"until,omitempty" doc:"absent: until somebody frees it"`
}

// Freeze is planned times at which nothing lands.
type Freeze struct {
	ID           int64        `json:"id"`
	Of           string       `json:"of" doc:"HOUSE/NAME, or HOUSE: all its repositories" example:"growers/irrigation"`
	Name         string       `json:"name" example:"harvest"`
	Reason       string       `json:"reason"`
	Branches     []string     `json:"branches" doc:"globs"`
	Now          bool         `json:"now" doc:"it is in force"`
	Times        []FreezeTime `json:"times" doc:"the first five of those that are asked for"`
	Further      int          `json:"further" doc:"times besides, as far as they are worked out: 400 days"`
	FromCalendar bool         `json:"from_calendar"`
	MadeBy       string       `json:"made_by"`
	CreatedAt    time.Time    `json:"created_at"`
}

// FreezeTime is one time of a freeze.
type FreezeTime struct {
	Begins time.Time `json:"begins"`
	Ends   time.Time `json:"ends"`
	Now    bool      `json:"now"`
}

// NewFreeze plans freezes: one at a time that is given, or those of a calendar.
type NewFreeze struct {
	Of       string     `json:"of" doc:"HOUSE/NAME, or HOUSE: all its repositories" example:"growers/irrigation"`
	Name     string     `json:"name,omitempty" doc:"absent: as the calendar calls them" example:"harvest"`
	Reason   string     `json:"reason" example:"everybody is in the fields"`
	Branches []string   `json:"branches,omitempty" doc:"globs; absent: the repository's default branch"`
	Begins   *time.Time `json:"begins,omitempty"`
	Ends     *time.Time `json:"ends,omitempty"`
	Calendar string     `json:"calendar,omitempty" doc:"an iCalendar file (RFC 5545), of which each event is a freeze"`
	Zone     string     `json:"zone,omitempty" doc:"where times of the calendar are meant that name no time zone; absent: UTC" example:"Europe/Berlin"`
}

// Job is a check for a runner to run.
type Job struct {
	ID             int64  `json:"id"`
	Repository     string `json:"repository"`
	Commit         string `json:"commit"`
	Check          string `json:"check"`
	Attempt        int    `json:"attempt"`
	Command        string `json:"command"`
	TimeoutSeconds int    `json:"timeout_seconds"`
	Lease          string `json:"lease" doc:"token for this commit and this attempt, and nothing else"`
	LeaseSeconds   int    `json:"lease_seconds" doc:"how long the lease holds without a sign of life"`
}

// Landing is one landed change with its statement.
type Landing struct {
	Number       int       `json:"number"`
	Target       string    `json:"target"`
	Old          string    `json:"old"`
	New          string    `json:"new"`
	Strategy     string    `json:"strategy"`
	Revision     int       `json:"revision"`
	RulesVersion int       `json:"rules_version"`
	HouseVersion int       `json:"house_version,omitempty" doc:"absent: the house had no rules"`
	LandedBy     string    `json:"landed_by"`
	LandedAt     time.Time `json:"landed_at"`
	Report       Report    `json:"report" doc:"the gate as it was judged then"`
	Statement    string    `json:"statement" doc:"DSSE envelope with an in-toto statement"`
}

// SignedHead is the newest line of the journal, signed by the service.
type SignedHead struct {
	JournalHead
	PublicKey string `json:"public_key" doc:"Ed25519, base64"`
	SSHKey    string `json:"ssh_key,omitempty" doc:"the same key as OpenSSH writes it: a service that signs the commits it writes signs them with it"`
	Signature string `json:"signature" doc:"Ed25519 over \"tavrin journal head\", seq and hash, a line each; base64"`
}

// RunnerPlace lets a runner find out whether it can read the service's data.
type RunnerPlace struct {
	Path   string `json:"path" doc:"a file in the service's folder, on the service's machine"`
	SHA256 string `json:"sha256" doc:"of that file's content"`
}

// Key is a public key by which a person signs commits.
type Key struct {
	ID          int64     `json:"id"`
	Login       string    `json:"login"`
	Name        string    `json:"name"`
	Kind        string    `json:"kind" doc:"such as ssh-ed25519"`
	Fingerprint string    `json:"fingerprint" doc:"SHA-256, as ssh-keygen shows it"`
	CreatedAt   time.Time `json:"created_at"`
}

// SilentCheck is a check that was asked for and that nobody answers.
type SilentCheck struct {
	Name    string     `json:"name"`
	Commit  string     `json:"commit"`
	For     string     `json:"for" doc:"such as change/4 or rehearsal/7"`
	Attempt int        `json:"attempt"`
	Since   time.Time  `json:"since" doc:"when it was first asked for"`
	Until   *time.Time `json:"until,omitempty" doc:"when this attempt ends as errored; absent: it waits for a runner"`
	Runner  bool       `json:"runner" doc:"it waits for a runner to take it"`
}
