package event

import (
	"fmt"
	"strings"
	"time"
)

// OfFreeze is part of every event about a freeze.
type OfFreeze struct {
	Freeze   int64    `json:"freeze" doc:"its number"`
	Name     string   `json:"name"`
	Of       string   `json:"of" doc:"HOUSE/NAME or HOUSE"`
	Branches []string `json:"branches" doc:"globs"`
}

// Subject is freeze/NUMBER.
func (f OfFreeze) Subject() string { return fmt.Sprintf("freeze/%d", f.Freeze) }

func (f OfFreeze) named() string {
	return fmt.Sprintf("freeze %d, %q, of %s in %s", f.Freeze, f.Name, strings.Join(f.Branches, ", "), f.Of)
}

// FreezePlanned says that nothing lands on some branches at some times.
type FreezePlanned struct {
	OfFreeze
	Begins  time.Time `json:"begins" doc:"the first time"`
	Ends    time.Time `json:"ends"`
	Recurs  bool      `json:"recurs"`
	Reason  string    `json:"reason"`
	FromICS bool      `json:"from_calendar" doc:"it was read from an iCalendar file"`
}

// Text implements Event.
func (e FreezePlanned) Text(by string) string {
	recurs := ""
	if e.Recurs {
		recurs = ", and again"
	}
	return fmt.Sprintf("%s planned %s from %s to %s%s: %s", by, e.named(), e.Begins.UTC().Format(minute), e.Ends.UTC().Format(minute), recurs, e.Reason)
}

const minute = "2006-01-02 15:04 UTC"

// FreezeBegun says that from now on nothing lands on some branches.
type FreezeBegun struct {
	OfFreeze
	Ends   time.Time `json:"ends"`
	Reason string    `json:"reason"`
}

// Text implements Event.
func (e FreezeBegun) Text(string) string {
	return fmt.Sprintf("%s has begun, until %s: %s", e.named(), e.Ends.UTC().Format(minute), e.Reason)
}

// FreezeEnded says that changes land again.
type FreezeEnded struct {
	OfFreeze
	Early  bool   `json:"early" doc:"somebody ended it before its time"`
	Reason string `json:"reason,omitempty" doc:"why, where somebody did"`
}

// Text implements Event.
func (e FreezeEnded) Text(by string) string {
	if e.Early {
		return fmt.Sprintf("%s ended %s: %s", by, e.named(), e.Reason)
	}
	return e.named() + " is over"
}

// FreezeDeleted says that a freeze comes no more.
type FreezeDeleted struct {
	OfFreeze
	Reason string `json:"reason"`
}

// Text implements Event.
func (e FreezeDeleted) Text(by string) string {
	return fmt.Sprintf("%s deleted %s: %s", by, e.named(), e.Reason)
}

// QueueHeld says that a person holds a queue: nothing lands until somebody frees it.
type QueueHeld struct {
	Branch string `json:"branch"`
	Reason string `json:"reason"`
}

// Subject is branch/NAME.
func (e QueueHeld) Subject() string { return "branch/" + e.Branch }

// Branches is the queue's.
func (e QueueHeld) Branches() []string { return only(e.Branch) }

// Text implements Event.
func (e QueueHeld) Text(by string) string {
	return fmt.Sprintf("%s holds the queue of %s: %s", by, e.Branch, e.Reason)
}

// QueueFreed says that a held queue goes on.
type QueueFreed struct {
	Branch string `json:"branch"`
	Reason string `json:"reason,omitempty"`
}

// Subject is branch/NAME.
func (e QueueFreed) Subject() string { return "branch/" + e.Branch }

// Branches is the queue's.
func (e QueueFreed) Branches() []string { return only(e.Branch) }

// Text implements Event.
func (e QueueFreed) Text(by string) string {
	return strings.TrimSuffix(fmt.Sprintf("%s freed the queue of %s: %s", by, e.Branch, e.Reason), ": ")
}
