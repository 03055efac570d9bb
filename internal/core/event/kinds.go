package event

import "time"

// What the examples are made of.
const (
	tip    = "9f1c7b2a4e6d8053b1c2d3e4f5a60718293a4b5c"
	before = "4d2e8f10a3b5c7d9e1f2031425364758697a8b9c"
	sum    = "5f70bf18a086007016e948b04aed3b82103a36bea41755b6cddfaf10ace3c6ef"
)

var (
	at      = time.Date(2026, 11, 2, 8, 30, 0, 0, time.UTC)
	change  = OfChange{4}
	thread  = OfThread{change, 12, "valves/open.go, line 30"}
	check   = OfCheck{"unit", tip, 1, 4, "main"}
	waived  = OfWaiver{3, 4, "refs/heads/main", "ines"}
	waives  = []Requirement{{"approvals", "2 approvals"}}
	moved   = RefMove{"refs/heads/main", before, tip, 7}
	hook    = OfWebhook{2, "builds", "growers/irrigation"}
	tracker = OfTracker{"growers", "tickets.example"}
	frozen  = OfFreeze{3, "harvest", "growers/irrigation", []string{"main"}}
	said    = Word{change, 2, "the valve closes too late"}
	placed  = Placed{change, "ready; waiting for those ahead"}
)

// Kinds lists every kind of event, in the order of the reference.
var Kinds = []Kind{
	// Changes: who has a part in one hears of it, and who follows the repository of the larger steps.
	{Name: "change.opened", Means: "Somebody proposes to bring one branch into another.", Touches: Repository, Hears: Both, Leaves: true,
		Example: ChangeOpened{change, "Close valves in the evening", "evening", "main", "open"}},
	{Name: "change.edited", Means: "A change was edited; what is absent stayed.", Touches: Repository, Hears: Part, Leaves: true,
		Example: ChangeEdited{OfChange: change, DependsOn: &[]int{3}}},
	{Name: "change.revised", Means: "A change has another revision.", Touches: Own, Hears: Part, Leaves: true,
		Example: ChangeRevised{change, 2, Added, "main", tip, before, false, []string{"wren"}}},
	{Name: "change.closed", Means: "A change was closed.", Touches: Repository, Hears: Both, Leaves: true, Example: ChangeClosed{change}},
	{Name: "change.reopened", Means: "A closed change was reopened.", Touches: Repository, Hears: Part, Leaves: true, Example: ChangeReopened{change}},
	{Name: "change.labelled", Means: "A change has other labels.", Touches: Own, Hears: Part, Leaves: true,
		Example: ChangeLabelled{change, []string{"urgent"}, []string{}}},
	{Name: "change.traced", Means: "Other branches were found to hold the commits of a change, where rules ask for that.", Touches: Own, Leaves: true,
		Example: ChangeTraced{change, 2, []string{"main"}}},
	{Name: "change.landed", Means: "A change has landed.", Touches: Repository, Hears: Both, Leaves: true, Moves: true,
		Example: ChangeLanded{change, "Close valves in the evening", "main", before, tip, "", "squash", 2, 7, 3, sum, sum, []string{"FEN-31"}}},
	{Name: "change.conflict-found", Means: "A change was found not to go together with its target, or in other files than before.", Touches: Nothing, Hears: Part, Leaves: true,
		Example: ConflictFound{change, "main", tip, 2, []string{"valves/open.go"}, 0, []int{7}}},
	{Name: "change.conflict-gone", Means: "A change goes together with its target again.", Touches: Nothing, Hears: Part, Leaves: true, Example: ConflictGone{change, "main", tip, 2}},

	{Name: "ticket.answered", Means: "The tracker's answer about a ticket of a change is another than before, or the one before had grown too old.", Touches: Own, Leaves: true,
		Example: TicketAnswered{change, "FEN-31", "open", "", "tickets.example"}},

	// Reviews and discussions.
	{Name: "review.asked", Means: "People were asked to look at a change, or told of it.", Touches: Own, Hears: Part, Leaves: true,
		Example: ReviewAsked{change, []string{"team:hydraulics"}, false, true}},
	{Name: "review.approved", Means: "Somebody approved a revision.", Touches: Own, Hears: Part, Leaves: true, Example: ReviewApproved{said}},
	{Name: "review.objected", Means: "Somebody objected to a revision.", Touches: Own, Hears: Part, Leaves: true, Example: ReviewObjected{said}},
	{Name: "review.commented", Means: "Somebody commented on a revision.", Touches: Own, Hears: Part, Leaves: true, Example: ReviewCommented{said}},
	{Name: "review.withdrawn", Means: "Somebody withdrew an approval or an objection.", Touches: Own, Hears: Part, Leaves: true,
		Example: ReviewWithdrawn{change, 2, "object"}},
	{Name: "thread.begun", Means: "Somebody began a discussion.", Touches: Own, Hears: Part, Leaves: true, Example: ThreadBegun{thread}},
	{Name: "thread.replied", Means: "Somebody replied in a discussion.", Touches: Own, Hears: Part, Leaves: true, Example: ThreadReplied{thread}},
	{Name: "thread.edited", Means: "Somebody edited a comment.", Touches: Own, Leaves: true, Example: ThreadEdited{thread}},
	{Name: "thread.resolved", Means: "A discussion was resolved.", Touches: Own, Hears: Part, Leaves: true, Example: ThreadResolved{thread, "done in revision 3"}},
	{Name: "thread.reopened", Means: "A discussion was reopened.", Touches: Own, Hears: Part, Leaves: true, Example: ThreadReopened{thread}},

	// Checks.
	{Name: "check.asked", Means: "A check was asked for on a commit.", Touches: Commit, Leaves: true, Example: CheckAsked{check, "change/4"}},
	{Name: "check.reported", Means: "A check was reported.", Touches: Commit, Leaves: true,
		Example: CheckReported{check, "passed", "214 tests", "https://builds.example/7", "", 41.5, map[string]float64{"coverage": 81.4}}},
	{Name: "check.reused", Means: "The pass of a check counts on another commit of the same tree.", Touches: Commit, Leaves: true,
		Example: CheckReused{check, "rehearsal/7", before, tip, "builder"}},
	{Name: "check.timed-out", Means: "Nobody answered for a check in time.", Touches: Commit, Leaves: true, Example: CheckTimedOut{check, "1h"}},
	{Name: "check.given-back", Means: "A check that a runner had taken waits for another.", Touches: Commit, Leaves: true,
		Example: CheckGivenBack{check, "its runner fell silent"}},

	// Queues and landings.
	{Name: "queue.held", Means: "A person holds a queue: nothing lands until somebody frees it.", Touches: Repository, Hears: Followers, Leaves: true,
		Example: QueueHeld{"main", "the east ditch floods"}},
	{Name: "queue.freed", Means: "A held queue goes on.", Touches: Repository, Hears: Followers, Leaves: true, Example: QueueFreed{"main", "the ditch is dry"}},
	{Name: "freeze.planned", Means: "Nothing is to land on some branches at some times.", Touches: Repository, Leaves: true,
		Example: FreezePlanned{frozen, at, at.Add(48 * time.Hour), false, "everybody is in the fields", false}},
	{Name: "freeze.begun", Means: "From now on nothing lands on some branches.", Touches: Repository, Hears: Followers, Leaves: true,
		Example: FreezeBegun{frozen, at.Add(48 * time.Hour), "everybody is in the fields"}},
	{Name: "freeze.ended", Means: "A freeze is over: changes land again.", Touches: Repository, Hears: Followers, Leaves: true,
		Example: FreezeEnded{frozen, true, "it rains"}},
	{Name: "freeze.deleted", Means: "A freeze comes no more.", Touches: Repository, Leaves: true, Example: FreezeDeleted{frozen, "the harvest is in"}},
	{Name: "queue.joined", Means: "A change joined the queue of its target.", Touches: Own, Leaves: true, Example: QueueJoined{change, "main", "squash", "", false}},
	{Name: "queue.sent-back", Means: "An entry waits for its gate again.", Touches: Own, Leaves: true, Example: QueueSentBack{placed}},
	{Name: "queue.queued", Means: "An entry is ready and in line.", Touches: Own, Leaves: true, Example: QueueQueued{placed}},
	{Name: "rehearsal.begun", Means: "An entry's rehearsal has begun.", Touches: Own, Leaves: true, Example: RehearsalBegun{placed}},
	{Name: "landing.begun", Means: "An entry has begun to land.", Touches: Own, Leaves: true, Example: LandingBegun{placed}},
	{Name: "queue.ejected", Means: "The service took an entry out of its queue.", Touches: Own, Hears: Part, Leaves: true, Example: QueueEjected{placed}},
	{Name: "queue.raised", Means: "A person had an entry go ahead of what waits in its queue.", Touches: Own, Hears: Part, Leaves: true, Example: QueueRaised{change, "main", "the east ditch floods"}},
	{Name: "queue.withdrawn", Means: "A person took an entry out of its queue.", Touches: Own, Hears: Part, Leaves: true, Example: QueueWithdrawn{placed}},
	{Name: "rehearsal.built", Means: "An entry was rehearsed as a commit.", Touches: Own, Leaves: true,
		Example: RehearsalBuilt{change, 9, "main", tip, before, []int{3}, tip, "squash", 2}},
	{Name: "waiver.made", Means: "Requirements were waived for one landing or push.", Touches: Own, Hears: Both, Leaves: true,
		Example: WaiverMade{waived, "revision 2 of change 4", waives, "the pumps stand still", at, before, "", 2}},
	{Name: "waiver.used", Means: "A branch moved by a waiver.", Touches: Own, Hears: Both, Leaves: true,
		Example: WaiverUsed{waived, tip, waives, "the pumps stand still"}},
	{Name: "waiver.lapsed", Means: "A waiver can let nothing through any more.", Touches: Own, Hears: Part, Leaves: true,
		Example: WaiverLapsed{waived, "its time is over"}},
	{Name: "waiver.acknowledged", Means: "Somebody else acknowledged a waiver that was used.", Touches: Nothing, Leaves: true,
		Example: WaiverAcknowledged{3, "ines", "it was right; the test is repaired"}},

	// Branches and tags.
	{Name: "branch.created", Means: "A push made a branch.", Touches: Branch, Leaves: true, Moves: true, Example: BranchCreated{RefMove{moved.Ref, "", tip, 7}}},
	{Name: "branch.moved", Means: "A push moved a branch.", Touches: Branch, Leaves: true, Moves: true, Example: BranchMoved{moved}},
	{Name: "branch.deleted", Means: "A branch was deleted, by a push or after its change landed.", Touches: Branch, Leaves: true, Moves: true,
		Example: BranchDeleted{RefMove{"refs/heads/evening", tip, "", 7}, true}},
	{Name: "branch.kept", Means: "The source branch of a change that landed was not removed.", Touches: Nothing, Leaves: true,
		Example: BranchKept{"refs/heads/evening", 4, "only an exemption would allow it"}},
	{Name: "tag.created", Means: "A push made a tag.", Touches: Nothing, Leaves: true, Moves: true, Example: TagCreated{RefMove{"refs/tags/v4", "", tip, 7}}},
	{Name: "tag.moved", Means: "A push moved a tag.", Touches: Nothing, Leaves: true, Moves: true, Example: TagMoved{RefMove{"refs/tags/v4", before, tip, 7}}},
	{Name: "tag.deleted", Means: "A push deleted a tag.", Touches: Nothing, Leaves: true, Moves: true, Example: TagDeleted{RefMove{"refs/tags/v4", tip, "", 7}}},
	{Name: "preview.created", Means: "Somebody pushed to a preview space of theirs.", Touches: Nothing, Leaves: true,
		Example: PreviewCreated{RefMove{"refs/preview/wren/try", "", tip, 7}}},
	{Name: "preview.moved", Means: "Somebody pushed to a preview space of theirs again.", Touches: Nothing, Leaves: true,
		Example: PreviewMoved{RefMove{"refs/preview/wren/try", before, tip, 7}}},
	{Name: "preview.deleted", Means: "A preview space is gone.", Touches: Nothing, Leaves: true,
		Example: PreviewDeleted{RefMove{"refs/preview/wren/try", tip, "", 0}, true}},

	// Rules.
	{Name: "rules.applied", Means: "A version of a rules document is in force.", Touches: Repository, Hears: Followers, Leaves: true,
		Example: RulesApplied{"growers/irrigation", 8, "two approvals for the valves", "", sum}},
	{Name: "rules.proposed", Means: "A loosening of rules waits for a second person.", Touches: Nothing, Leaves: true,
		Example: RulesProposed{"growers/irrigation", 5, "", 8, "one approval is enough in winter"}},
	{Name: "rules.agreed", Means: "A second person agreed to a loosening.", Touches: Nothing, Leaves: true,
		Example: RulesAgreed{Decision{"growers/irrigation", 5, "wren", "one approval is enough in winter"}}},
	{Name: "rules.declined", Means: "A loosening was declined, or taken back.", Touches: Nothing, Leaves: true,
		Example: RulesDeclined{Decision{"growers/irrigation", 5, "wren", "one approval is enough in winter"}}},
	{Name: "rules.suspended", Means: "A protection is out of force for a time.", Touches: Repository, Hears: Followers, Leaves: true,
		Example: RulesSuspended{"growers/irrigation", "trunk", at, "the build machine is being moved"}},
	{Name: "rules.resumed", Means: "A protection that was suspended holds again.", Touches: Repository, Hears: Followers, Leaves: true,
		Example: RulesResumed{"growers/irrigation", "trunk", "its time is over"}},
	{Name: "rules.exempted", Means: "Something passes because who asked is exempt from a protection.", Touches: Nothing, Leaves: true,
		Example: RulesExempted{4, "refs/heads/main", tip, []string{"protection trunk"}, "ines"}},

	// Houses and repositories.
	{Name: "house.created", Means: "A house was made.", Touches: Nothing, Example: HouseCreated{"growers"}},
	{Name: "repository.created", Means: "A repository was made.", Touches: Repository, Leaves: true,
		Example: RepositoryCreated{"growers/irrigation", "", []Ref{{"refs/heads/main", tip}}}},
	{Name: "repository.stopped", Means: "A repository is read-only until an administrator has looked.", Touches: Repository, Leaves: true, Apart: true,
		Example: RepositoryStopped{"growers/irrigation", "its refs cannot be read"}},
	{Name: "repository.resumed", Means: "A repository is no longer stopped.", Touches: Repository, Leaves: true, Apart: true,
		Example: RepositoryResumed{"growers/irrigation"}},
	{Name: "repository.edited", Means: "A maintainer changed something of a repository itself.", Touches: Repository, Leaves: true, Apart: true,
		Example: RepositoryEdited{"growers/irrigation", []string{"the default branch is trunk"}}},
	{Name: "repository.renamed", Means: "A repository has another name.", Touches: Repository, Hears: Followers, Leaves: true, Apart: true,
		Example: RepositoryRenamed{"growers/irrigation", "growers/watering"}},
	{Name: "repository.deleted", Means: "A repository is deleted; it can be restored for a while.", Touches: Repository, Leaves: true, Apart: true,
		Example: RepositoryDeleted{"growers/irrigation", "it lives in growers/watering now", at}},
	{Name: "repository.restored", Means: "A deleted repository is back.", Touches: Repository, Leaves: true, Apart: true,
		Example: RepositoryRestored{"growers/irrigation"}},
	{Name: "repository.purged", Means: "What Git had of a deleted repository is gone for good.", Touches: Repository, Leaves: true, Apart: true,
		Example: RepositoryPurged{"growers/irrigation", "growers/~3"}},

	// Webhooks themselves. Where events go is nobody's business outside.
	{Name: "webhook.created", Means: "Events are sent somewhere from now on.", Touches: Nothing,
		Example: WebhookCreated{hook, "builds.example", []string{"check.asked"}}},
	{Name: "webhook.edited", Means: "Somebody changed what a webhook sends, or where to.", Touches: Nothing,
		Example: WebhookEdited{hook, []string{"events"}}},
	{Name: "webhook.deleted", Means: "A webhook is gone.", Touches: Nothing, Example: WebhookDeleted{hook}},
	{Name: "webhook.secret-replaced", Means: "Deliveries are signed by another secret; the one before signs too for a day.", Touches: Nothing,
		Example: WebhookSecretReplaced{hook}},

	// Trackers themselves.
	{Name: "tracker.set", Means: "Another tracker answers for a house.", Touches: Everything,
		Example: TrackerSet{tracker, "", "the rules ask for open tickets"}},
	{Name: "tracker.removed", Means: "A house has no tracker any more.", Touches: Everything, Example: TrackerRemoved{tracker, "we moved"}},

	// People and access. None of it leaves the service.
	{Name: "person.created", Means: "A person was made.", Touches: Everything, Example: PersonCreated{"wren", false, false}},
	{Name: "robot.created", Means: "A robot was made.", Touches: Nothing, Example: RobotCreated{"bench"}},
	{Name: "admin.recovered", Means: "Somebody on the machine itself made an administrator.", Touches: Everything, Example: AdminRecovered{"ines", 41}},
	{Name: "account.disabled", Means: "An account was disabled.", Touches: Everything, Example: AccountDisabled{"odo", 2, 1, 0}},
	{Name: "account.enabled", Means: "An account was enabled again.", Touches: Everything, Example: AccountEnabled{"odo"}},
	{Name: "team.created", Means: "A team was made.", Touches: Everything, Example: TeamCreated{"hydraulics", []string{"wren"}, []string{"ines"}}},
	{Name: "team.changed", Means: "A team has other members or managers.", Touches: Everything,
		Example: TeamChanged{Team: "hydraulics", Was: []string{"wren"}, Members: &[]string{"odo", "wren"}}},
	{Name: "role.granted", Means: "Somebody has another role in a house or a repository.", Touches: Repository, Apart: true, Example: RoleGranted{"team:hydraulics", "growers", "writer"}},
	{Name: "key.added", Means: "Somebody registered a key by which they sign commits.", Touches: Everything,
		Example: KeyAdded{"wren", "SHA256:2j1c9Yq0Zr8XwF3m", "ssh-ed25519 AAAAC3Nz"}},
	{Name: "key.removed", Means: "A key no longer counts.", Touches: Everything, Example: KeyRemoved{6, "SHA256:2j1c9Yq0Zr8XwF3m"}},
	{Name: "token.created", Means: "A token was made.", Touches: Nothing,
		Example: TokenCreated{OfToken{17}, "build", "bench", "checks", []string{"growers/irrigation:unit"}, at}},
	{Name: "token.revoked", Means: "A token was revoked.", Touches: Nothing, Example: TokenRevoked{OfToken{17}, "build"}},
	{Name: "token.refused", Means: "A token was used that is no longer valid.", Touches: Nothing,
		Example: TokenRefused{OfToken{17}, "build", "bench", "it was revoked on 2026-11-02 08:30"}},
	{Name: "signin.shut-out", Means: "Too many sign-ins failed from one address.", Touches: Nothing, Example: SigninShutOut{"192.0.2.7"}},
	{Name: "session.begun", Means: "Somebody signed in to the console.", Touches: Nothing, Example: SessionBegun{OfToken{17}}},
	{Name: "session.confirmed", Means: "Somebody showed the token again that their session was begun with.", Touches: Nothing,
		Example: SessionConfirmed{OfToken{17}, at}},
	{Name: "feed.made", Means: "Somebody's feed has a new private address.", Touches: Nothing, Example: FeedMade{"wren"}},
	{Name: "feed.revoked", Means: "The address of somebody's feed no longer works.", Touches: Nothing, Example: FeedRevoked{"wren"}},

	// The service itself.
	{Name: "service.restored", Means: "The service goes on from a backup.", Touches: Nothing, Example: ServiceRestored{at, 4120, sum}},
	{Name: "service.loss-accepted", Means: "Somebody on the machine itself accepted that something is missing.", Touches: Nothing,
		Example: LossAccepted{4120, 1, []string{"refs/heads/main of growers/irrigation"}}},
	{Name: "key.replaced", Means: "The service signs with another key.", Touches: Nothing, Example: KeyReplaced{"MCowBQYDK2VwAyEA"}},
}
