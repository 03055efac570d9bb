package change

import (
	"fmt"
	"slices"
	"strings"
)

// Annotation is what a check says about lines of a file.
type Annotation struct {
	Path     string `json:"path" doc:"from the top of the repository" example:"valves/open.go"`
	Line     int    `json:"line" minimum:"1" doc:"the first, counted from 1"`
	LastLine int    `json:"last_line,omitempty" doc:"absent: only the first"`
	Level    string `json:"level" enum:"note,warning,error"`
	Text     string `json:"text"`
}

// worst orders the answers of the parts of a check from the worst to the best. A part that was skipped has not passed: whether
// that is enough for the whole is the rule's to say.
var worst = []CheckState{Errored, Failed, Cancelled, Skipped, Passed}

// RollUp tells how a check stands that has so many parts, of which these have been reported, and says so in a line. It has no
// answer before every part has; then it is that of the worst.
func RollUp(parts []CheckState, of int) (CheckState, string) {
	count := map[CheckState]int{}
	ended := 0
	for _, p := range parts {
		count[p]++
		if p.Final() {
			ended++
		}
	}
	var said []string
	for _, s := range append(slices.Clone(worst), Running, Waiting) {
		if count[s] > 0 {
			said = append(said, fmt.Sprintf("%d %s", count[s], s))
		}
	}
	words := fmt.Sprintf("%d of %d parts have ended: %s", ended, of, strings.Join(said, ", "))
	if ended < of {
		return Running, words
	}
	words = fmt.Sprintf("%d parts: %s", of, strings.Join(said, ", "))
	for _, s := range worst {
		if count[s] > 0 {
			return s, words
		}
	}
	return Running, words // there is no part
}

// SignaturesOf says what becomes of signatures at a landing that writes commits anew: so many of the change's own are lost, and
// the new commits are signed with a key of the service's, or with none. Empty: there is nothing to say.
func SignaturesOf(lost int, with string) string {
	var said []string
	switch {
	case lost == 1:
		said = append(said, "One commit of the change is signed, and is written anew: its signature does not come with it.")
	case lost > 1:
		said = append(said, fmt.Sprintf("%d commits of the change are signed, and are written anew: their signatures do not come with them.", lost))
	}
	if with != "" {
		said = append(said, fmt.Sprintf("What is written anew is signed with the service's key, %s.", with))
	}
	return strings.Join(said, " ")
}

// Prepared is what a change was prepared to do: to take back the landing of another, by one commit, its first revision.
type Prepared struct {
	Undoes int    // number of the other change; 0: nothing was prepared
	Commit string // that was prepared
}

// Still returns the number of the change that is taken back by a revision, where this brings what was prepared and, commit by
// commit, nothing on the way: the commit itself, or what brings the same as the first revision; 0: it does something else.
func (p Prepared) Still(head string, sameAs []int, hidden []string) int {
	if (head == p.Commit || slices.Contains(sameAs, 1)) && len(hidden) == 0 {
		return p.Undoes
	}
	return 0
}
