package wire

import "time"

// DeskItem is one thing that waits for a person.
type DeskItem struct {
	Kind       string    `json:"kind" enum:"review,look-again,answer,own,decide" doc:"an approval of yours would help; what you objected to has changed; a discussion waits for your word; a change of yours is held up; a proposal about rules may be decided by you"`
	Repository string    `json:"repository" doc:"HOUSE/NAME; of a proposal: where the rules are"`
	Number     int       `json:"number" doc:"of the change; of a proposal: its number"`
	Title      string    `json:"title"`
	What       string    `json:"what" doc:"what it waits for, in words"`
	Asked      bool      `json:"asked" doc:"of a review: you, or a team of yours, were asked by name"`
	Since      time.Time `json:"since"`
}
