package queue

import (
	"cmp"
	"fmt"
	"strconv"
	"strings"
	"time"

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
	With           []int    // changes that touched the same files since, of a conflict
}

// Reason puts it into words, with the next step.
func (n Obstacle) Reason() string {
	update := fmt.Sprintf("update %s from %s, resolve the conflict there (git fetch origin && git rebase origin/%s), "+
		"push, and join again", n.Source, n.Target, n.Target)
	switch n.Kind {
	case Conflicts:
		with := ""
		if len(n.With) > 0 {
			with = fmt.Sprintf(", touched by change %s since", numbers(n.With))
		}
		return fmt.Sprintf("%s%s (tavrin change conflicts %d shows both sides): %s", n.Text, with, n.Number, update)
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

// Troubled says that something was tried in vain for a reason of the service's own.
func Troubled(what, trouble string, until time.Time) string {
	return fmt.Sprintf("%s, which is not about the change: %s. It is tried again at %s", what, trouble,
		until.Format("15:04:05 MST"))
}

const redWithOthers = "it was red with others, and is tested apart from them"

// InLine says why an entry that is queued is in no rehearsal that may land it.
func (s *State) InLine(e *Entry) string {
	if e.Rehearsal != 0 {
		return redWithOthers
	}
	return cmp.Or(s.obstacle(e), "ready; waiting for those ahead")
}

// obstacle says what keeps an entry in line from being rehearsed, if it is more than that others are ahead.
func (s *State) obstacle(e *Entry) string {
	switch {
	case e.Resting(s.At):
		return e.Rest.Words
	case s.Tip == "":
		return "the target is gone"
	}
	for _, x := range s.Apart {
		if before, last := x.Entries[:len(x.Entries)-1], x.Entries[len(x.Entries)-1]; last == e.ID {
			return fmt.Sprintf("it does not go together with change %s, ahead of it: %s", numbers(s.Changes(before)), x.Why)
		}
	}
	return ""
}

// Together says with what an entry is rehearsed, and whether once more; empty: by itself, for the first time.
func (s *State) Together(e *Entry) string {
	if r := s.Rehearsal(e.Rehearsal); !e.Doubted && (r == nil || len(r.Path) < 2) {
		return ""
	}
	return string(s.together(nil, e))
}

// together adds to a text how an entry is rehearsed.
func (s *State) together(text []byte, e *Entry) []byte {
	if e.Doubted {
		return append(text, "it was red by itself, and is tested once more"...)
	}
	r := s.Rehearsal(e.Rehearsal)
	if r == nil || len(r.Path) < 2 {
		return append(text, "it is rehearsed on the tip"...)
	}
	text = append(text, "it is rehearsed with change "...)
	others := 0
	for _, id := range r.Path {
		if i, found := s.at(id); found && id != e.ID {
			if others++; others > 1 && others == len(r.Path)-1 {
				text = append(text, " and "...)
			} else if others > 1 {
				text = append(text, ", "...)
			}
			text = strconv.AppendInt(text, int64(s.Entries[i].Change), 10)
		}
	}
	return text
}

// Changes are the numbers of entries' changes, those that ended with the newest event too.
func (s *State) Changes(ids []int64) []int {
	of := make([]int, 0, len(ids))
	for _, id := range ids {
		if i, found := s.at(id); found {
			of = append(of, s.Entries[i].Change)
		}
	}
	return of
}

func numbers(of []int) string {
	text := make([]byte, 0, 8*len(of))
	for i, n := range of {
		switch {
		case i > 0 && i == len(of)-1:
			text = append(text, " and "...)
		case i > 0:
			text = append(text, ", "...)
		}
		text = strconv.AppendInt(text, int64(n), 10)
	}
	return string(text)
}
