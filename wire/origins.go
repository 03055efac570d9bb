package wire

import "time"

// LandedAs says which landing brought a commit to a branch.
type LandedAs struct {
	Number    int      `json:"number" doc:"of the change"`
	Title     string   `json:"title"`
	Target    string   `json:"target"`
	Strategy  string   `json:"strategy"`
	LandedBy  string   `json:"landed_by" doc:"who asked for it to land"`
	Authors   []string `json:"authors"`
	Approvers []string `json:"approvers" doc:"whose approvals counted"`
	Top       bool     `json:"top" doc:"the branch moved to this commit; false: it came below that one"`
}

// LineOrigins says where the lines of a file come from.
type LineOrigins struct {
	Commit  string       `json:"commit" doc:"at which the file was looked at"`
	Path    string       `json:"path"`
	Origins []LineOrigin `json:"origins" doc:"in order, without gaps"`
}

// LineOrigin is a run of lines that one commit brought.
type LineOrigin struct {
	First      int       `json:"first" doc:"counted from 1"`
	Last       int       `json:"last"`
	Commit     string    `json:"commit"`
	Subject    string    `json:"subject"`
	Author     string    `json:"author"`
	AuthoredAt time.Time `json:"authored_at"`
	Landed     *LandedAs `json:"landed,omitempty" doc:"the landing that brought the commit; absent: it was pushed"`
}
