package queue

import (
	"fmt"
	"strings"

	"tavrin/internal/core/change"
)

// Kind is why a rehearsal cannot be built.
type Kind string

// The kinds.
const (
	Conflicts Kind = "conflict"     // the change and the target do not go together
	Differs   Kind = "different"    // the strategy would land something else than was shown
	Empty     Kind = "nothing"      // the target has everything already
	TooMuch   Kind = "out of bound" // a bound was reached
)

// Obstacle is why a change cannot be rehearsed, and what its people need to know to go on.
type Obstacle struct {
	Kind           Kind
	Text           string // what is the matter, with the files
	Number         int
	Source, Target string
	Others         []string // other strategies that are allowed and would land what was shown
}

// Reason puts it into words, with the next step.
func (n Obstacle) Reason() string {
	update := fmt.Sprintf("update %s from %s, resolve the conflict there (git fetch origin && git rebase origin/%s), "+
		"push, and join again", n.Source, n.Target, n.Target)
	switch n.Kind {
	case Conflicts:
		return fmt.Sprintf("%s (tavrin change conflicts %d shows both sides): %s", n.Text, n.Number, update)
	case Differs:
		if len(n.Others) > 0 {
			return fmt.Sprintf("%s: join again with --strategy %s, by which what was shown would land, or %s", n.Text,
				strings.Join(n.Others, " or "), update)
		}
		return fmt.Sprintf("%s, and no other strategy that is allowed would land what was shown: %s", n.Text, update)
	case Empty:
		return n.Text + ": close the change, or push something new to it"
	case TooMuch:
		return n.Text + ": make it smaller, or ask an administrator for a larger bound"
	}
	return n.Text
}

// ApprovalsLost says that approvals of earlier revisions are not for what would land on the target as it is now.
func ApprovalsLost(lost []change.Review, number int, target, tip string) string {
	var whose []string
	for _, r := range lost {
		whose = append(whose, fmt.Sprintf("%s's of revision %d", r.By, r.Revision))
	}
	return fmt.Sprintf("approvals were for something else than would land on %s as it is now (%.10s): %s. Have the "+
		"newest revision approved (tavrin review approve %d), then join again", target, tip, strings.Join(whose,
		", "), number)
}
