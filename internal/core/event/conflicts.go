package event

import (
	"fmt"
	"strings"
)

// ConflictFound says that a change does not go together with its target.
type ConflictFound struct {
	OfChange
	Target   string   `json:"target"`
	Tip      string   `json:"tip" doc:"of the target"`
	Revision int      `json:"revision"`
	Files    []string `json:"files" doc:"in which they do not go together; the first fifty"`
	More     int      `json:"more,omitempty" doc:"how many files besides"`
	With     []int    `json:"with" doc:"changes that landed and touched them since the change began"`
}

// Branches is the target.
func (e ConflictFound) Branches() []string { return only(e.Target) }

// Text implements Event.
func (e ConflictFound) Text(string) string {
	with := ""
	if len(e.With) > 0 {
		var those []string
		for _, n := range e.With {
			those = append(those, fmt.Sprintf("change %d", n))
		}
		with = ", since " + listedAnd(those) + " landed"
	}
	return fmt.Sprintf("revision %d of change %d does not go together with %s in %s%s", e.Revision, e.Number, e.Target, FewFiles(e.Files, e.More), with)
}

// FewFiles names the first of some files, and says how many there are besides.
func FewFiles(files []string, more int) string {
	first := files[:min(3, len(files))]
	if more += len(files) - len(first); more > 0 {
		return fmt.Sprintf("%s and %d more", strings.Join(first, ", "), more)
	}
	return strings.Join(first, ", ")
}

// ConflictGone says that a change goes together with its target again.
type ConflictGone struct {
	OfChange
	Target   string `json:"target"`
	Tip      string `json:"tip" doc:"of the target"`
	Revision int    `json:"revision"`
}

// Branches is the target.
func (e ConflictGone) Branches() []string { return only(e.Target) }

// Text implements Event.
func (e ConflictGone) Text(string) string {
	return fmt.Sprintf("revision %d of change %d goes together with %s again", e.Revision, e.Number, e.Target)
}
