package event

import (
	"fmt"
	"strings"
	"time"
)

// OfCheck is part of every event of an attempt of a check.
type OfCheck struct {
	Name    string `json:"name"`
	Commit  string `json:"commit"`
	Attempt int    `json:"attempt" doc:"counted from 1"`
	// Number is that of the change for whose sake it was asked for.
	Number int    `json:"change,omitempty" doc:"the change for which it was asked for; absent: none"`
	Target string `json:"target,omitempty" doc:"the branch that the change is for"`
}

// OfChange is the number of the change for whose sake it was asked for; 0: of none. Other changes may depend on it too.
func (c OfCheck) OfChange() int { return c.Number }

// CheckedOn is the commit that the check is on, and the change for whose sake it was asked for; 0: of none.
func (c OfCheck) CheckedOn() (commit string, change int) { return c.Commit, c.Number }

// Branches is the target of the change that the check is for.
func (c OfCheck) Branches() []string { return only(c.Target) }

// Subject is commit/ID.
func (c OfCheck) Subject() string { return "commit/" + c.Commit }

// CheckAsked says that a check was asked for on a commit.
type CheckAsked struct {
	OfCheck
	For string `json:"for,omitempty" doc:"such as change/4 or rehearsal/7"`
}

// Text implements Event.
func (e CheckAsked) Text(string) string {
	purpose := ""
	if e.For != "" {
		purpose = ", for " + e.For
	}
	return fmt.Sprintf("check %s was asked for on %s%s (attempt %d)", e.Name, short(e.Commit), purpose, e.Attempt)
}

// CheckReported says that somebody reported a check.
type CheckReported struct {
	OfCheck
	State   string             `json:"state"`
	Summary string             `json:"summary,omitempty"`
	Link    string             `json:"link,omitempty" doc:"where to read more"`
	Part    string             `json:"part,omitempty" doc:"the part that was reported; the state is that of the whole"`
	Seconds float64            `json:"seconds,omitempty" doc:"how long it took"`
	Numbers map[string]float64 `json:"numbers,omitempty" doc:"such as coverage"`
}

// Text implements Event.
func (e CheckReported) Text(by string) string {
	return fmt.Sprintf("%s reported %s as %s on %s (attempt %d)", by, e.Name, e.State, short(e.Commit), e.Attempt)
}

// CheckReused says that the pass of a check that sees only the tree counts on another commit with the same one.
type CheckReused struct {
	OfCheck
	For   string `json:"for,omitempty" doc:"such as change/4 or rehearsal/7"`
	RanOn string `json:"ran_on" doc:"the commit on which it passed"`
	Tree  string `json:"tree" doc:"of both commits"`
	By    string `json:"by" doc:"the login that reported the pass"`
}

// Text implements Event.
func (e CheckReused) Text(string) string {
	return fmt.Sprintf("the pass of %s on %s counts on %s, for %s: its tree is the same", e.Name, short(e.RanOn), short(e.Commit), e.For)
}

// CheckTimedOut says that nobody answered for a check in time.
type CheckTimedOut struct {
	OfCheck
	Within string `json:"within" doc:"the time that there was, such as 1h"`
}

// Text implements Event.
func (e CheckTimedOut) Text(string) string {
	return fmt.Sprintf("nobody answered for %s on %s within %s (attempt %d)", e.Name, short(e.Commit), e.Within,
		e.Attempt)
}

// CheckGivenBack says that a check that a runner had taken waits for another.
type CheckGivenBack struct {
	OfCheck
	Why string `json:"why"`
}

// Text implements Event.
func (e CheckGivenBack) Text(string) string {
	return fmt.Sprintf("%s waits on %s for another runner: %s", e.Name, short(e.Commit), e.Why)
}

// QueueJoined says that a change joined the queue of its target.
type QueueJoined struct {
	OfChange
	Target       string `json:"target"`
	Strategy     string `json:"strategy"`
	Why          string `json:"why,omitempty" doc:"why by this strategy, where nobody said one"`
	DeleteSource bool   `json:"delete_source"`
}

// Branches is the target.
func (e QueueJoined) Branches() []string { return only(e.Target) }

// Text implements Event.
func (e QueueJoined) Text(by string) string {
	return fmt.Sprintf("%s joined change %d to the queue of %s, by %s%s", by, e.Number, e.Target, e.Strategy, e.Why)
}

// Placed is part of every event in which an entry goes on in its queue.
type Placed struct {
	OfChange
	Reason string `json:"reason"`
}

func (p Placed) text(verb, state string) string {
	return fmt.Sprintf("change %d %s %s: %s", p.Number, verb, state, p.Reason)
}

// QueueSentBack says that an entry waits for its gate again.
type QueueSentBack struct{ Placed }

// Text implements Event.
func (e QueueSentBack) Text(string) string { return e.text("is", "waiting") }

// QueueQueued says that an entry is ready and in line.
type QueueQueued struct{ Placed }

// Text implements Event.
func (e QueueQueued) Text(string) string { return e.text("is", "queued") }

// RehearsalBegun says that an entry's rehearsal is built.
type RehearsalBegun struct{ Placed }

// Text implements Event.
func (e RehearsalBegun) Text(string) string { return e.text("is", "rehearsing") }

// LandingBegun says that an entry is landing.
type LandingBegun struct{ Placed }

// Text implements Event.
func (e LandingBegun) Text(string) string { return e.text("is", "landing") }

// QueueEjected says that the service took an entry out.
type QueueEjected struct{ Placed }

// Text implements Event.
func (e QueueEjected) Text(string) string { return e.text("was", "ejected") }

// QueueRaised says that somebody had a change go ahead of what waits in its queue.
type QueueRaised struct {
	OfChange
	Target string `json:"target"`
	Reason string `json:"reason"`
}

// Branches is the target.
func (e QueueRaised) Branches() []string { return only(e.Target) }

// Text implements Event.
func (e QueueRaised) Text(by string) string {
	return fmt.Sprintf("%s had change %d go ahead of what waits for %s: %s", by, e.Number, e.Target, e.Reason)
}

// QueueWithdrawn says that a person took an entry out.
type QueueWithdrawn struct{ Placed }

// Text implements Event.
func (e QueueWithdrawn) Text(string) string { return e.text("was", "withdrawn") }

// RehearsalBuilt says that an entry was rehearsed as a commit: that of the last of those that are rehearsed together.
type RehearsalBuilt struct {
	OfChange
	Rehearsal int64  `json:"rehearsal"`
	Target    string `json:"target"`
	Commit    string `json:"commit"`
	Base      string `json:"base" doc:"the commit that it stands on: the target's, or that of the one before it"`
	With      []int  `json:"with,omitempty" doc:"changes that it stands on, in their order: it supposes that they land"`
	Tree      string `json:"tree"`
	Strategy  string `json:"strategy"`
	Revision  int    `json:"revision"`
}

// Branches is the target.
func (e RehearsalBuilt) Branches() []string { return only(e.Target) }

// Text implements Event.
func (e RehearsalBuilt) Text(string) string {
	if len(e.With) > 0 {
		return fmt.Sprintf("change %d was rehearsed as %s on %s, for %s", e.Number, short(e.Commit), listedChanges(e.With), e.Target)
	}
	return fmt.Sprintf("change %d was rehearsed as %s on %s's %s", e.Number, short(e.Commit), e.Target, short(e.Base))
}

// Requirement is one that was waived, as whoever did it saw it.
type Requirement struct {
	Key   string `json:"key"`
	Title string `json:"title"`
}

// OfWaiver is part of every event of a waiver: of a change's requirements, or of what stands against a push.
type OfWaiver struct {
	Waiver int64  `json:"waiver" doc:"its number"`
	Number int    `json:"number,omitempty" doc:"of the change; absent: it is for a push"`
	Ref    string `json:"ref" doc:"the branch"`
	MadeBy string `json:"made_by"`
}

// Branches is the branch that it lets something onto.
func (w OfWaiver) Branches() []string { return []string{branch(w.Ref)} }

// Subject is the change, or the branch of a push.
func (o OfWaiver) Subject() string {
	if o.Number != 0 {
		return OfChange{o.Number}.Subject()
	}
	return o.Ref
}

// Change returns the number of the change; 0: it is for a push.
func (o OfWaiver) Change() int { return o.Number }

// WaiverMade says that requirements were waived for one landing or push.
type WaiverMade struct {
	OfWaiver
	What   string        `json:"what" doc:"what it is for, in words"`
	Waives []Requirement `json:"waives"`
	Reason string        `json:"reason"`
	Until  time.Time     `json:"until"`
	Tip    string        `json:"tip" doc:"where the branch stood"`
	Commit string        `json:"commit,omitempty" doc:"that may be pushed"`
	Of     int           `json:"revision,omitempty" doc:"of the change"`
}

// Text implements Event.
func (e WaiverMade) Text(by string) string {
	titles := make([]string, len(e.Waives))
	for i, r := range e.Waives {
		titles[i] = r.Title
	}
	return fmt.Sprintf("%s waived for %s until %s: %s; reason: %s", by, e.What,
		e.Until.Format("2006-01-02 15:04 UTC"), strings.Join(titles, "; "), e.Reason)
}

// WaiverUsed says that a branch moved on the strength of a waiver.
type WaiverUsed struct {
	OfWaiver
	Commit string        `json:"commit"`
	Waives []Requirement `json:"waives"`
	Reason string        `json:"reason"`
}

// Text implements Event.
func (e WaiverUsed) Text(string) string {
	return fmt.Sprintf("waiver %d of %s let %s onto %s; somebody else has to acknowledge it", e.Waiver, e.MadeBy,
		short(e.Commit), branch(e.Ref))
}

// WaiverLapsed says that a waiver can let nothing through any more.
type WaiverLapsed struct {
	OfWaiver
	Why string `json:"why"`
}

// Text implements Event.
func (e WaiverLapsed) Text(string) string {
	return fmt.Sprintf("waiver %d of %s lapsed unused: %s", e.Waiver, e.MadeBy, e.Why)
}

// WaiverAcknowledged says that somebody else has acknowledged a waiver that was used.
type WaiverAcknowledged struct {
	Waiver int64  `json:"waiver" doc:"its number"`
	MadeBy string `json:"made_by"`
	Words  string `json:"text" doc:"what they found"`
}

// Subject is waiver/NUMBER.
func (e WaiverAcknowledged) Subject() string { return fmt.Sprintf("waiver/%d", e.Waiver) }

// Text implements Event.
func (e WaiverAcknowledged) Text(by string) string {
	return fmt.Sprintf("%s acknowledged waiver %d of %s: %s", by, e.Waiver, e.MadeBy, e.Words)
}
