package wire

import "time"

// Override is a decision to let one landing or push through although named requirements do not hold.
type Override struct {
	ID       int64      `json:"id"`
	Number   int        `json:"number,omitempty" doc:"of the change; absent: it is for a push"`
	Branch   string     `json:"branch" doc:"that it lets something onto"`
	Revision int        `json:"revision,omitempty" doc:"of the change; it counts for no other"`
	Commit   string     `json:"commit,omitempty" doc:"of a push; it counts for no other"`
	Tip      string     `json:"tip" doc:"where the branch stood; it counts only while it stands there"`
	Aside    []SetAside `json:"aside" doc:"what it sets aside"`
	Because  string     `json:"because"`
	By       string     `json:"by"`
	MadeAt   time.Time  `json:"made_at"`
	Until    time.Time  `json:"until"`
	State    string     `json:"state" enum:"open,used,lapsed" doc:"open: it may still be used; used: it let something through; lapsed: it did not"`
	Why      string     `json:"why,omitempty" doc:"why it lapsed"`
	UsedAs   string     `json:"used_as,omitempty" doc:"the commit that it let through"`
	UsedAt   *time.Time `json:"used_at,omitempty"`
	LookedBy string     `json:"looked_by,omitempty" doc:"who had the second look; absent of a used one: nobody yet"`
	LookedAt *time.Time `json:"looked_at,omitempty"`
	Look     string     `json:"look,omitempty" doc:"what they found"`
}

// SetAside is one requirement that an override sets aside.
type SetAside struct {
	Key     string `json:"key"`
	Title   string `json:"title" doc:"what is asked; an override is for this and for nothing that is asked under its key later"`
	Because string `json:"because,omitempty" doc:"where the demand comes from; in a plan only"`
}

// OverridePlan says exactly what an override would set aside, before it is made.
type OverridePlan struct {
	Aside   []SetAside `json:"aside"`
	Left    []LeftOpen `json:"left" doc:"what would still stand in the way"`
	Tip     string     `json:"tip"`
	Confirm string     `json:"confirm" doc:"to be sent back: it stands for exactly this revision or commit, this tip and these requirements"`
}

// LeftOpen is a requirement that an override would leave as it is.
type LeftOpen struct {
	Key   string `json:"key"`
	Title string `json:"title"`
	Why   string `json:"why,omitempty" doc:"why you may not set it aside; absent: you may, and did not name it"`
}
