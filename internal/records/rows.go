package records

import (
	"net/url"
	"time"

	"tavrin/internal/core/change"
	"tavrin/internal/core/event"
	"tavrin/internal/core/forecast"
	"tavrin/internal/core/queue"
)

// House is the home of repositories that belong together.
type House struct {
	ID        int64
	Name      string
	CreatedAt time.Time
}

// Repository is one hosted repository. Its Git data is kept elsewhere.
type Repository struct {
	ID            int64
	HouseID       int64
	Name          string // HOUSE/NAME
	Description   string
	DefaultBranch string
	Public        bool   // readable by all
	ReadOnly      string // why a maintainer made it read-only; empty: it is not
	Changes       int    // numbers given out
	// Trouble says why it is stopped and read-only; empty: it is not.
	Trouble      string
	TroubleSince *time.Time
	DeletedBy    string
	DeletedAt    *time.Time // since when it is deleted; it can come back until it is purged
	Purged       bool       // what Git had of it is gone, and its name is another's to take
	CreatedAt    time.Time
}

// FormerName is a name that a repository had before.
type FormerName struct {
	Name         string `gorm:"primaryKey"` // HOUSE/NAME
	RepositoryID int64
}

// Account is a person or a robot.
type Account struct {
	ID       int64
	Login    string
	Name     string
	Email    string
	Robot    bool
	Admin    bool
	Disabled bool
	// MadeFor is the repository whose maintainers made it, of a check robot of theirs.
	MadeFor   *int64
	CreatedAt time.Time
}

// Team is a named set of people.
type Team struct {
	ID        int64
	Name      string
	CreatedAt time.Time
}

// TeamMember puts a person into a team.
type TeamMember struct {
	TeamID    int64
	AccountID int64
}

// Grant gives a person, a robot or a team a role in a house or a repository.
type Grant struct {
	ID           int64
	AccountID    *int64
	TeamID       *int64
	HouseID      *int64
	RepositoryID *int64
	Role         string
}

// Token is one way to prove who one is; only its hash is kept.
type Token struct {
	ID         int64
	AccountID  int64
	Name       string
	Hash       string
	Scope      string
	ExpiresAt  *time.Time
	RevokedAt  *time.Time
	LastUsedAt *time.Time
	RefusedAt  *time.Time // when a refusal of it was last put on record
	CreatedAt  time.Time
}

// TokenBinding is a repository, and for a check robot a check, that a token is for.
type TokenBinding struct {
	TokenID      int64
	RepositoryID int64
	CheckName    string
}

// Session is a browser that signed in with a token.
type Session struct {
	Hash           string
	TokenID        int64
	ExpiresAt      time.Time
	ConfirmedUntil *time.Time
}

// RulesVersion is one version of a rules document, of a repository or of a house.
type RulesVersion struct {
	ID           int64
	RepositoryID *int64
	HouseID      *int64
	Version      int
	Text         string
	Reason       string
	AppliedBy    string
	AgreedBy     string
	AppliedAt    time.Time
}

// RulesDue is a repository whose open changes are still to be looked at under other rules.
type RulesDue struct {
	RepositoryID int64 `gorm:"primaryKey"`
	After        int   // the number of the change up to which that was done
	Since        time.Time
}

// TableName is that of the schema.
func (RulesDue) TableName() string { return "rules_due" }

// RulesProposal is a document that loosens rules and waits for a second person.
type RulesProposal struct {
	ID           int64
	RepositoryID *int64
	HouseID      *int64
	BasedOn      int
	Text         string
	Protection   string
	Seconds      int64
	Reason       string
	ProposedBy   string
	ProposedAt   time.Time
	State        string
	DecidedBy    string
	DecidedAt    *time.Time
}

// Suspension puts a protection out of force for a time.
type Suspension struct {
	ID           int64
	RepositoryID *int64
	HouseID      *int64
	Protection   string
	Reason       string
	SuspendedBy  string
	CreatedAt    time.Time
	Until        time.Time
	EndedAt      *time.Time
}

// TeamManager may change a team.
type TeamManager struct {
	TeamID    int64
	AccountID int64
}

// ChangeLabel is a label that a change has.
type ChangeLabel struct {
	ChangeID int64
	Label    string
	SetBy    string
	SetAt    time.Time
}

// ChangeReviewer is somebody who was asked to review a change, or told of it.
type ChangeReviewer struct {
	ChangeID int64
	Who      string // a principal, such as team:hydraulics
	Optional bool
	Reason   string
	AskedAt  time.Time
}

// PushedCommit says whose authenticated pushes brought a commit, or pointed at one that had come with another's.
type PushedCommit struct {
	RepositoryID int64
	CommitID     string
	Login        string
}

// Change is a proposal to bring a source branch into a target branch.
type Change struct {
	ID           int64
	RepositoryID int64
	Number       int
	Title        string
	Description  string
	Source       string
	Target       string
	State        string
	Revision     int
	OpenedBy     string
	LandedCommit string
	Undoes       int    // number of the change whose landing it was prepared to take back
	UndoHead     string // the commit that was prepared
	CreatedAt    time.Time
	UpdatedAt    time.Time
}

// Revision is one state of a change's source branch.
type Revision struct {
	ID         int64
	ChangeID   int64
	Number     int
	Head       string
	Base       string
	PushedBy   string
	LastPusher string
	Authors    []string `gorm:"serializer:json"`
	SameAsLast bool
	// earlier revisions that bring the same, each compared with this one
	SameAs  []int              `gorm:"serializer:json"`
	Bases   int                // best common ancestors with the target
	Kind    event.RevisionKind // first, added, rebased, folded or rewritten
	Paths   []string           `gorm:"serializer:json"`
	Ways    change.Ways        `gorm:"serializer:json"` // which of them are more than changed
	Files   int
	Added   int
	Removed int
	// Commits are those it brings, as the gate knows them; nil in records from before they were kept.
	Commits       []BroughtCommit `gorm:"serializer:json"`
	CommitAuthors []string        `gorm:"serializer:json"`
	// History is what the commits bring one by one.
	History   BroughtHistory `gorm:"serializer:json"`
	CreatedAt time.Time
}

// BroughtHistory is what a revision's commits bring one by one.
type BroughtHistory struct {
	Hidden  []string `json:"hidden,omitempty"` // paths that the difference does not show
	Files   int      `json:"files,omitempty"`  // of the largest commit
	Added   int      `json:"added,omitempty"`
	Removed int      `json:"removed,omitempty"`

	Ways change.Ways `json:"ways,omitzero"` // of all paths that commits touch
}

// BroughtCommit is one commit that a revision brings to its target.
type BroughtCommit struct {
	ID      string `json:"id"`
	Message string `json:"message"`
	Parents int    `json:"parents"`
	Email   string `json:"email,omitempty"` // its author's, as the commit has it
	// On are the branches that hold it, or the commit that it says it was picked from, but the source; see changes.Trace.
	On     []string `json:"on,omitempty"`
	Signed bool     `json:"signed,omitempty"` // it carries a signature, by whomever
	// Key is the fingerprint of the key that it is signed by, where the signature could be read and fits.
	Key          string `json:"key,omitempty"`
	BadSignature string `json:"bad_signature,omitempty"` // why it does not fit
	Reserved     string `json:"reserved,omitempty"`      // a trailer of its message that only the service writes
}

// Review is one word of a reviewer on a revision.
type Review struct {
	ID          int64
	ChangeID    int64
	Revision    int
	Login       string
	Verdict     string
	Text        string
	Title       string // the change's when it was given
	Description string
	Teams       []string `gorm:"serializer:json"` // of who gave it, then
	CreatedAt   time.Time
	WithdrawnAt *time.Time
}

// CheckRun is one attempt of one check on one commit.
type CheckRun struct {
	ID             int64
	RepositoryID   int64
	CommitID       string
	Name           string
	Attempt        int
	State          string
	Link           string
	Summary        string
	Log            string `gorm:"serializer:packed"`
	ReportedBy     string
	Runner         bool
	Silent         bool // it ended because nobody answered
	Command        string
	TimeoutSeconds int
	AskedFor       string
	ChangeNumber   int                 // of the change for which it was asked for; 0: of none
	Target         string              // of that change
	Milliseconds   int64               // that it took
	Numbers        map[string]float64  `gorm:"serializer:json"` // such as coverage
	Annotations    []change.Annotation `gorm:"serializer:json"`
	RanOn          string              // the commit on which it passed, where that is another of the same tree
	Parts          []CheckPart         `gorm:"serializer:json"` // that it is reported in
	PartsOf        int                 // how many there are; 0: it is reported as a whole
	LeaseHash      string
	LeaseUntil     *time.Time
	LeaseToken     int64      // the token that the lease was taken with
	FetchedAt      *time.Time // when a check robot first fetched the commit
	StartedAt      *time.Time
	FinishedAt     *time.Time
	CreatedAt      time.Time
}

// CommitTree is the tree of a commit on which checks are asked for.
type CommitTree struct {
	RepositoryID int64  `gorm:"primaryKey"`
	CommitID     string `gorm:"primaryKey"`
	Tree         string
}

// CheckPart is one part of a check that is reported in several.
type CheckPart struct {
	Name    string            `json:"name"`
	State   change.CheckState `json:"state"`
	Link    string            `json:"link,omitempty"`
	Summary string            `json:"summary,omitempty"`
	At      time.Time         `json:"at"`
}

// ReportKey is a key under which a robot has reported something, so that the same report counts once.
type ReportKey struct {
	RepositoryID int64
	Login        string
	Key          string
	SHA256       string `gorm:"column:sha256"` // of the report
	CheckRunID   int64
	CreatedAt    time.Time
}

// Queue is what the queue of one target branch knows, as core/queue has it.
type Queue struct {
	ID           int64
	RepositoryID int64
	Target       string
	Version      int64          // events it was told
	State        queue.State    `gorm:"serializer:json"`
	Watch        forecast.Watch `gorm:"serializer:json"` // how long its changes took to land
}

// QueueEvent is something that a queue was told.
type QueueEvent struct {
	QueueID int64
	Version int64 // of the queue, with it
	Event   string
}

// QueueState is what a queue knew at one version.
type QueueState struct {
	QueueID int64
	Version int64
	At      time.Time
	State   queue.State    `gorm:"serializer:json"`
	Watch   forecast.Watch `gorm:"serializer:json"`
}

// Entry is one change's place in a queue.
type Entry struct {
	ID           int64
	RepositoryID int64
	ChangeID     int64
	Target       string
	State        string
	Place        int64
	Strategy     string
	Message      string
	DeleteSource bool
	JoinedBy     string
	Reason       string
	Rehearsal    int64 // number of the one that it is shown with; 0: none
	Cause        string
	Touches      queue.Touched `gorm:"serializer:json"` // as it was when it joined
	Lines        int
	Waited       int64 // milliseconds in each state, once it has ended
	Queued       int64
	Rehearsed    int64
	Landed       int64
	CreatedAt    time.Time
	EndedAt      *time.Time
}

// ReadyToLanded is for how long it was in line, once it has ended.
func (e Entry) ReadyToLanded() time.Duration {
	return time.Duration(e.Queued+e.Rehearsed+e.Landed) * time.Millisecond
}

// Rehearsal is one entry's part of a rehearsal: its commit, built, or about to be built, on those before it.
type Rehearsal struct {
	ID          int64
	QueueID     int64
	Number      int64 // by which the queue knows the rehearsal
	Position    int   // in its path, from 0
	EntryID     int64
	Revision    int
	Base        string
	Head        string
	Strategy    string
	Message     string
	AuthorName  string
	AuthorEmail string
	AuthoredAt  time.Time
	CommittedAt time.Time
	Approvers   []string `gorm:"serializer:json"`
	SameAs      []int    `gorm:"serializer:json"` // earlier revisions that bring the same to its base
	CommitID    string
	Tree        string
	Tested      string // the commit whose checks count for it, once the whole is built
	LeftOut     int    // commits that it left out, since they would have changed nothing
	Ended       string
	CreatedAt   time.Time
}

// Conflict is an open change that was found not to go together with its target.
type Conflict struct {
	ChangeID int64 `gorm:"primaryKey"`
	Revision int
	Target   string
	Tip      string
	Files    []string `gorm:"serializer:json"`
	More     int
	Landed   []int `gorm:"serializer:json"` // numbers of changes that touched the files since
	FoundAt  time.Time
}

// Cursor is how far somebody who follows the journal has come.
type Cursor struct {
	Name string `gorm:"primaryKey"`
	Seq  int64
}

// Intent is the record, made beforehand, that a protected branch is about to move.
type Intent struct {
	ID           int64
	RepositoryID int64
	Kind         string
	Ref          string
	Old          string
	New          string
	Actor        string
	EntryID      *int64
	RehearsalID  *int64 // the entry's part of it
	LeadID       *int64 // of those that move the branch together the first; nil: it is
	Revision     int
	RulesVersion int
	HouseVersion int
	WaiverID     *int64  // that a push rests on
	Takes        []int64 `gorm:"serializer:json"`   // comments whose suggestions a push applies
	Facts        string  `gorm:"serializer:packed"` // that a landing rests on, in the form in which they are kept; afterwards its statement has them
	Digest       string  // of the facts
	Report       string  `gorm:"serializer:packed"` // of a landing: the gate as it was judged, in the form in which it is signed; afterwards its statement has it
	Outcome      string
	CreatedAt    time.Time
}

// Landing is a change that has landed.
type Landing struct {
	ID           int64
	RepositoryID int64
	ChangeID     int64
	EntryID      int64
	IntentID     int64
	Old          string
	New          string
	Strategy     string
	Revision     int
	RulesVersion int
	HouseVersion int
	Statement    string `gorm:"serializer:packed"`
	LandedBy     string
	LandedAt     time.Time
}

// JournalLine is one line of the journal. At is kept as text because it is part of what is hashed.
type JournalLine struct {
	Seq          int64 `gorm:"primaryKey"`
	At           string
	Actor        string
	Kind         string
	RepositoryID int64
	Repository   string
	Subject      string
	Text         string
	Data         string
	Prev         string
	Hash         string
}

// Thread is a discussion about a change.
type Thread struct {
	ID          int64
	ChangeID    int64
	Revision    int
	CommitID    string
	Path        string
	Before      bool
	FirstLine   int
	LastLine    int
	Quoted      string
	NeedsAnswer bool
	BegunBy     string
	BegunAt     time.Time
	ResolvedBy  string
	ResolvedAt  *time.Time
	Outcome     string
}

// Comment is what somebody said in a thread.
type Comment struct {
	ID       int64
	ThreadID int64
	Login    string
	Text     string
	// Suggestion is what the thread's lines should be; nil: it suggests nothing; empty: they should go.
	Suggestion *string
	AppliedAs  string // the commit that applied it
	AppliedBy  string
	CreatedAt  time.Time
	EditedAt   *time.Time
}

// DraftComment is a comment that a reviewer has not sent yet.
type DraftComment struct {
	ID         int64
	ChangeID   int64
	Login      string
	ThreadID   *int64 // that it replies in; nil: it begins one
	Thread     Thread `gorm:"serializer:json"` // the one that it begins
	Text       string
	Suggestion *string
	CreatedAt  time.Time
}

// CommentVersion is what a comment said before it was edited.
type CommentVersion struct {
	CommentID int64
	Text      string
	Until     time.Time
}

// AccountKey is a public key by which a person signs commits.
type AccountKey struct {
	ID          int64
	AccountID   int64
	Name        string
	Fingerprint string
	Text        string
	CreatedAt   time.Time
	RemovedAt   *time.Time
}

// Waived is a requirement as whoever waived it saw it.
type Waived struct {
	Key   string `json:"key"`
	Title string `json:"title"`
}

// Waiver is a decision to waive requirements of one landing or push.
type Waiver struct {
	ID              int64
	RepositoryID    int64
	ChangeID        *int64 // nil: it is for a push
	Ref             string
	Tip             string // where the ref stood
	Revision        int
	New             string   // of a push: the commit
	Waives          []Waived `gorm:"serializer:json"`
	Reason          string
	MadeBy          string
	MadeAt          time.Time
	Until           time.Time
	UsedAt          *time.Time
	UsedAs          string
	EndedAt         *time.Time // it lapsed without being used
	EndedWhy        string
	AcknowledgedBy  string
	AcknowledgedAt  *time.Time
	Acknowledgement string
}

// ChangeDependency says that a change waits for another one of its repository to land.
type ChangeDependency struct {
	ChangeID int64
	OnID     int64
}

// ChangeLook says up to which revision a person has looked at a change.
type ChangeLook struct {
	ChangeID int64
	Login    string
	Revision int
	At       time.Time
}

// FileTick says that a person has read a file of a change, at a revision.
type FileTick struct {
	ChangeID int64
	Login    string
	File     string // hash of its path
	Revision int
}

// Follow says that a person follows a change or a repository, or wants to hear nothing of a change of theirs.
type Follow struct {
	Login        string
	RepositoryID int64
	ChangeID     *int64 // nil: the repository
	Muted        bool
	CreatedAt    time.Time
}

// Feed is the private address of a person's Atom feed; only its hash is kept.
type Feed struct {
	ID        int64
	AccountID int64
	Hash      string
	CreatedAt time.Time
	RevokedAt *time.Time
}

// LandedCommit says which landing brought a commit to its target.
type LandedCommit struct {
	RepositoryID int64
	CommitID     string
	LandingID    int64
}

// LandedSource says that a commit of a change landed, in these clothes or others.
type LandedSource struct {
	RepositoryID int64
	CommitID     string
	LandingID    int64
}

// Webhook is a standing order to send events of a repository, of a house's repositories, or of the service.
type Webhook struct {
	ID           int64
	HouseID      *int64
	RepositoryID *int64
	Name         string
	URL          string            // a template
	Kinds        []string          `gorm:"serializer:json"`
	Branches     []string          `gorm:"serializer:json"`
	Paths        []string          `gorm:"serializer:json"`
	Condition    string            // an expression over the event; empty: always
	Secret       string            // that deliveries are signed with
	OldSecret    string            // that signs beside it
	OldUntil     *time.Time        // until when it does
	Headers      map[string]string `gorm:"serializer:json"`
	Body         string            // a template; empty: the event itself
	ContentType  string
	AnyOrder     bool       // deliveries do not wait for those before them
	Off          string     // why nothing is sent; empty: it is sent
	FailingSince *time.Time // the first failure after the last success
	Trouble      string     // the last failure, since then
	MadeBy       string
	CreatedAt    time.Time
	DeletedAt    *time.Time
}

// Sends says whether events of a repository, or of none, are the webhook's to send, as far as it goes by whose they are.
func (h *Webhook) Sends(repo *Repository) bool {
	switch {
	case h.RepositoryID != nil:
		return repo != nil && repo.ID == *h.RepositoryID
	case h.HouseID != nil:
		return repo != nil && repo.HouseID == *h.HouseID
	}
	return true
}

// Delivery is one event on its way by one webhook.
type Delivery struct {
	ID        int64
	WebhookID int64
	Message   string // its id, the same at every try
	Seq       int64  // of the line of the journal; 0: a test
	Kind      string
	State     string // waiting, delivered, parked, or dropped: it was not for the webhook after all
	Attempts  int
	NextAt    *time.Time
	Payload   string `gorm:"serializer:packed"` // as it was first sent, and is sent again
	CreatedAt time.Time
	EndedAt   *time.Time
}

// DeliveryAttempt is one try.
type DeliveryAttempt struct {
	ID           int64
	DeliveryID   int64
	Number       int // counted from 1
	At           time.Time
	Milliseconds int64
	URL          string
	Request      map[string]string `gorm:"serializer:json"` // headers, secrets masked
	Status       int               // of the answer; 0: none came
	Response     map[string]string `gorm:"serializer:json"` // headers
	Answer       string            // the beginning of its body
	Error        string            // why there is none, or why it is no success
}

// MailChoice says how often somebody is sent a digest by mail.
type MailChoice struct {
	Login   string    `gorm:"primaryKey"`
	Every   string    // day or week
	Since   time.Time // up to when the last one that was sent told
	NextAt  time.Time
	Trouble string // why the last one could not be sent; empty: it was
}

// Tracker is what a house asks about tickets.
type Tracker struct {
	HouseID      int64             `gorm:"primaryKey;autoIncrement:false"`
	URL          string            // with {ticket} in it
	Headers      map[string]string `gorm:"serializer:json"`
	SetBy        string
	SetAt        time.Time
	FailingSince *time.Time // the first failure after the last answer
	Trouble      string     // the last failure, since then
	Tries        int        // failures in a row
	TryAt        *time.Time // until then it is not asked
}

// Host is who is asked.
func (t Tracker) Host() string {
	u, err := url.Parse(t.URL)
	if err != nil {
		return ""
	}
	return u.Host
}

// TicketWant says that a change's gate wants to know of a ticket.
type TicketWant struct {
	ChangeID int64
	HouseID  int64
	Ticket   string
	MaxAge   int64 // for how long an answer counts, in seconds
}

// TicketAnswer is the newest answer of a house's tracker about a ticket that somebody wants to know of.
type TicketAnswer struct {
	HouseID    int64  `gorm:"primaryKey;autoIncrement:false"`
	Ticket     string `gorm:"primaryKey"`
	State      string // open, closed or none; empty: no answer yet
	Title      string
	AnsweredAt *time.Time
	Trouble    string // what was wrong when it was asked last, since then
	Tries      int    // that came to nothing in a row
	DueAt      time.Time
}

// Freeze is why nothing lands on some branches at some times: planned, or, as a hold, until somebody frees the queue.
type Freeze struct {
	ID           int64
	HouseID      *int64 // of all its repositories
	RepositoryID *int64 // or of this one
	Hold         bool
	Name         string
	Reason       string
	Branches     []string  `gorm:"serializer:json"` // globs; a hold: the one branch
	Calendar     string    // an event in iCalendar, which says when; empty: its one time does
	Zone         string    // where times are meant that name none
	Through      time.Time // up to when its times are worked out
	MadeBy       string
	CreatedAt    time.Time
	DeletedAt    *time.Time
}

// FreezeTime is one time of a freeze.
type FreezeTime struct {
	ID       int64
	FreezeID int64
	Begins   time.Time
	Ends     *time.Time // nil: when somebody frees the queue
	State    string     // planned, on, or over, as far as that was told
}
