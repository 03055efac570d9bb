package event

import "fmt"

// OfTracker is part of every event about the tracker of a house.
type OfTracker struct {
	House string `json:"house"`
	Host  string `json:"host" doc:"that is asked"`
}

// Subject is house/NAME.
func (t OfTracker) Subject() string { return "house/" + t.House }

// TrackerSet says that another tracker answers for a house from now on.
type TrackerSet struct {
	OfTracker
	Before string `json:"before,omitempty" doc:"host of the one before"`
	Reason string `json:"reason"`
}

// Text implements Event.
func (e TrackerSet) Text(by string) string {
	before := ""
	if e.Before != "" {
		before = ", in place of " + e.Before
	}
	return fmt.Sprintf("%s has house %s ask %s about tickets%s: %s", by, e.House, e.Host, before, e.Reason)
}

// TrackerRemoved says that a house has no tracker any more.
type TrackerRemoved struct {
	OfTracker
	Reason string `json:"reason"`
}

// Text implements Event.
func (e TrackerRemoved) Text(by string) string {
	return fmt.Sprintf("%s removed the tracker of house %s, %s: %s", by, e.House, e.Host, e.Reason)
}

// TicketAnswered says that a tracker's answer about a ticket of a change is another than before.
type TicketAnswered struct {
	OfChange
	Ticket string `json:"ticket"`
	State  string `json:"state" enum:"open,closed,none" doc:"none: there is no such ticket"`
	Before string `json:"before,omitempty" enum:"open,closed,none" doc:"absent: it is the first answer"`
	Host   string `json:"host" doc:"of the tracker"`
}

// Text implements Event.
func (e TicketAnswered) Text(string) string {
	if e.State == "none" {
		return fmt.Sprintf("%s says that there is no ticket %s, which %s refers to", e.Host, e.Ticket, e.Subject())
	}
	return fmt.Sprintf("%s says that ticket %s, which %s refers to, is %s", e.Host, e.Ticket, e.Subject(), e.State)
}
