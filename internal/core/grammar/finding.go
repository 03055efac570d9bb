package grammar

import (
	"fmt"
	"regexp"
)

// Finding is one thing wrong with a document, and where.
type Finding struct {
	Line    int    `json:"line" doc:"counted from 1"`
	Column  int    `json:"column" doc:"counted from 1"`
	Message string `json:"message" doc:"what is wrong"`
	Right   string `json:"right,omitempty" doc:"what would be right"`
	Excerpt string `json:"excerpt,omitempty" doc:"the lines around it, the place marked"`
}

// String gives the finding in one paragraph without the file's name: "12:5: message; right".
func (f Finding) String() string {
	s := fmt.Sprintf("%d:%d: %s", f.Line, f.Column, f.Message)
	if f.Right != "" {
		s += "; " + f.Right
	}
	return s
}

const (
	// MaxFindings is how many findings are told at once; that there are more is the last one.
	MaxFindings = 50
	// MaxProtections is how many protections one document may have, MaxRequirements how many requirements they may ask
	// for together, MaxPatterns how many patterns of branches it may hold and MaxItems how many entries all its lists
	// together: what is asked of a document grows with the product of some of them.
	MaxProtections, MaxRequirements, MaxPatterns, MaxItems = 100, 500, 1000, 20_000
)

// The forms of names.
var (
	NameForm  = regexp.MustCompile(`^[a-z0-9][a-z0-9._-]{0,63}$`)
	CheckForm = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9 ._/:-]{0,99}$`)
	loginForm = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,38}$`)
	roleNames = []string{"reader", "writer", "maintainer"}
)
