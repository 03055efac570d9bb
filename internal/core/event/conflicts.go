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
		with = ", since " + listedChanges(e.With) + " landed"
	}
	return fmt.Sprintf("revision %d of change %d does not go together with %s in %s%s", e.Revision, e.Number, e.Target, e.files(), with)
}

// listedChanges names changes in a sentence.
func listedChanges(numbers []int) string {
	those := make([]string, len(numbers))
	for i, n := range numbers {
		those[i] = fmt.Sprintf("change %d", n)
	}
	return listedAnd(those)
}

// ToPusher says it to who has just pushed to the change.
func (e ConflictFound) ToPusher(repo string) string {
	return fmt.Sprintf("Change %d does not go together with %s in %s: tavrin change conflicts %d --repo %s", e.Number, e.Target, e.files(), e.Number, repo)
}

// InLine says it of an entry that waits in a queue.
func (e ConflictFound) InLine() string {
	return fmt.Sprintf("it does not go together with %s in %s, and would leave the queue when its turn comes (tavrin change conflicts %d)", e.Target, e.files(), e.Number)
}

// files names the first of the files, and says how many there are besides.
func (e ConflictFound) files() string {
	first := e.Files[:min(3, len(e.Files))]
	if more := e.More + len(e.Files) - len(first); more > 0 {
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
