package wire

import "time"

// Waiver is a decision to let one landing or push through although named requirements do not hold.
type Waiver struct {
	ID              int64      `json:"id"`
	Number          int        `json:"number,omitempty" doc:"of the change; absent: it is for a push"`
	Branch          string     `json:"branch" doc:"that it lets something onto"`
	Revision        int        `json:"revision,omitempty" doc:"of the change; it counts for no other"`
	Commit          string     `json:"commit,omitempty" doc:"of a push; it counts for no other"`
	Tip             string     `json:"tip" doc:"where the branch stood; it counts only while it stands there"`
	Waives          []Waived   `json:"waives" doc:"what it waives"`
	Reason          string     `json:"reason"`
	By              string     `json:"by"`
	MadeAt          time.Time  `json:"made_at"`
	Until           time.Time  `json:"until"`
	State           string     `json:"state" enum:"open,used,lapsed" doc:"open: it may still be used; used: it let something through; lapsed: it did not"`
	Why             string     `json:"why,omitempty" doc:"why it lapsed"`
	UsedAs          string     `json:"used_as,omitempty" doc:"the commit that it let through"`
	UsedAt          *time.Time `json:"used_at,omitempty"`
	AcknowledgedBy  string     `json:"acknowledged_by,omitempty" doc:"who acknowledged it; absent of a used one: nobody yet"`
	AcknowledgedAt  *time.Time `json:"acknowledged_at,omitempty"`
	Acknowledgement string     `json:"acknowledgement,omitempty" doc:"what they found"`
}

// Waived is one requirement that a waiver waives.
type Waived struct {
	Key     string `json:"key"`
	Title   string `json:"title" doc:"what is asked; a waiver is for this and for nothing that is asked under its key later"`
	Because string `json:"because,omitempty" doc:"where the demand comes from; in a plan only"`
}

// WaiverPlan says exactly what a waiver would waive, before it is made.
type WaiverPlan struct {
	Waives  []Waived   `json:"waives"`
	Left    []LeftOpen `json:"left" doc:"what would still stand in the way"`
	Tip     string     `json:"tip"`
	Confirm string     `json:"confirm" doc:"to be sent back: it stands for exactly this revision or commit, this tip and these requirements"`
}

// LeftOpen is a requirement that a waiver would leave as it is.
type LeftOpen struct {
	Key   string `json:"key"`
	Title string `json:"title"`
	Why   string `json:"why,omitempty" doc:"why you may not waive it; absent: you may, and did not name it"`
}
