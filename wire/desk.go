package wire

import "time"

// DeskItem is one thing that waits for a person.
type DeskItem struct {
	Kind       string    `json:"kind" enum:"disk,stopped,red-tip,silent,webhook,acknowledge,review,look-again,ejected,conflict,answer,own,decide" doc:"the disk is nearly full; a repository is stopped and read-only; a check failed on the tip of a branch; nobody answers for a check; a webhook has given up deliveries, or was switched off; something landed against its rules and not acknowledged yet; an approval of yours would help; what you objected to has changed; the queue sent back a change of yours, or one that you asked to land; a change of yours does not go together with its target; a discussion waits for your word; a change of yours is held up; a proposal about rules may be decided by you"`
	Repository string    `json:"repository" doc:"HOUSE/NAME; of a proposal: where the rules are"`
	Number     int       `json:"number" doc:"of the change; of a proposal: its number"`
	ID         int64     `json:"id,omitempty" doc:"of the waiver, the thread, the proposal or the webhook; absent: it is about none"`
	Title      string    `json:"title"`
	What       string    `json:"what" doc:"what it waits for, in words"`
	Asked      bool      `json:"asked" doc:"of a review: you, or a team of yours, were asked by name"`
	Since      time.Time `json:"since"`
}

// Preview is what a change would meet that is not opened yet.
type Preview struct {
	Source      string      `json:"source"`
	Target      string      `json:"target"`
	Head        string      `json:"head"`
	Base        string      `json:"base"`
	Commits     int         `json:"commits"`
	Files       int         `json:"files"`
	Added       int         `json:"added"`
	Removed     int         `json:"removed"`
	Description string      `json:"description" doc:"what its description would begin with"`
	Conflict    string      `json:"conflict" doc:"why it does not merge now, in words; empty: it merges"`
	Report      Report      `json:"report" doc:"the gate as it would be"`
	Areas       ChangeAreas `json:"areas"`
	Reviewers   []Reviewer  `json:"reviewers" doc:"who would be asked, or told"`
}
