// Package fold decides which commits are folded into which: what "git rebase --autosquash" makes of commits whose
// subjects begin with fixup!, squash! or amend!.
//
// The gate judges by it what messages will come, and the builder builds by it: both from here, so that they agree.
package fold

import (
	"regexp"
	"strings"
)

// Commit is one commit of a change, merge commits left out.
type Commit struct {
	ID      string
	Message string
}

// Folded is one commit that comes of it: the commit at Into, with those at With folded into it in that order, and its
// message.
type Folded struct {
	Into    int
	With    []int
	Message string
}

// marked begins the subject of a commit that is meant to be folded into another.
var marked = regexp.MustCompile(`^(fixup|squash|amend)! *`)

// Marked says whether a commit of that message is meant to be folded into another.
func Marked(message string) bool {
	return strings.HasPrefix(message, "fixup! ") || strings.HasPrefix(message, "squash! ") || strings.HasPrefix(message, "amend! ")
}

// Plan decides it for commits in the order in which they were made, the oldest first. As in Git, the target of a marked
// commit comes before it and is, in this order: the first whose subject is what follows the marks; the one whose id
// begins with it; the first whose subject begins with it. One without a target stays a commit of its own. As in Git, several
// are folded in their order.
func Plan(commits []Commit) []Folded {
	subjects := make([]string, len(commits))
	first := map[string]int{} // by subject
	next, tail := make([]int, len(commits)), make([]int, len(commits))
	folded := make([]bool, len(commits))
	for i, c := range commits {
		subjects[i], next[i], tail[i] = subject(c.Message), -1, -1
		into := -1
		if Marked(subjects[i]) {
			into = target(commits[:i], subjects[:i], first, wanted(subjects[i]))
		}
		if into < 0 {
			if _, there := first[subjects[i]]; !there {
				first[subjects[i]] = i
			}
			continue
		}
		folded[i] = true
		behind := into
		if tail[into] >= 0 {
			behind = tail[into]
		}
		next[i], next[behind], tail[into] = next[behind], i, i
	}
	var out []Folded
	for i := range commits {
		if folded[i] {
			continue
		}
		f := Folded{Into: i, Message: Text(commits[i].Message)}
		squashed := false
		for j := next[i]; j >= 0; j = next[j] {
			f.With = append(f.With, j)
			squashed = squashed || strings.HasPrefix(subjects[j], "squash! ")
			f.Message = joined(f.Message, Text(commits[j].Message), squashed)
		}
		if squashed {
			f.Message = tidied(f.Message)
		}
		out = append(out, f)
	}
	return out
}

// wanted is what follows the marks of a subject.
func wanted(subject string) string {
	for {
		rest := marked.ReplaceAllString(subject, "")
		if rest == subject {
			return rest
		}
		subject = rest
	}
}

func target(commits []Commit, subjects []string, first map[string]int, wanted string) int {
	if i, there := first[wanted]; there {
		return i
	}
	if isID.MatchString(wanted) {
		found := -1
		for i, c := range commits {
			if strings.HasPrefix(c.ID, wanted) {
				if found >= 0 {
					return -1 // it names several
				}
				found = i
			}
		}
		if found >= 0 {
			return found
		}
	}
	for i, s := range subjects {
		if strings.HasPrefix(s, wanted) {
			return i
		}
	}
	return -1
}

var isID = regexp.MustCompile(`^[0-9a-f]{4,64}$`)

// Text is the message with which Git writes a commit anew: without the blank lines before its subject.
func Text(message string) string {
	for message != "" {
		line, rest, _ := strings.Cut(message, "\n")
		if !blank(line) {
			break
		}
		message = rest
	}
	return message
}

// blank says whether a line is one to Git.
func blank(line string) bool { return strings.Trim(line, " \t\r\n") == "" }

// parts cuts a message into the lines of its first paragraph and what follows.
func parts(message string) (subject []string, rest string) {
	rest = Text(message)
	for rest != "" {
		line, after, _ := strings.Cut(rest, "\n")
		if blank(line) {
			break
		}
		subject, rest = append(subject, strings.TrimRight(line, " \t\r")), after
	}
	return subject, Text(rest)
}

// subject is the first paragraph of a message in one line.
func subject(message string) string {
	lines, _ := parts(message)
	return strings.Join(lines, " ")
}

// body is a message without its first paragraph.
func body(message string) string {
	_, rest := parts(message)
	return rest
}

// tidied is a message as Git leaves it after somebody edited it, but for lines that begin with #: without white space at the
// end of lines, and with single blank lines, inside only.
func tidied(message string) string {
	var out strings.Builder
	gap := false
	for line := range strings.Lines(message) {
		if blank(line) {
			gap = true
			continue
		}
		if gap && out.Len() > 0 {
			out.WriteByte('\n')
		}
		gap = false
		out.WriteString(strings.TrimRight(line, " \t\r\n") + "\n")
	}
	return out.String()
}

// joined is the message of a commit into which another is folded: as it was, by fixup!; with the other's body behind it, by
// squash!; the other's body in its place, by amend!, where it has one. As in Git, nothing that a squash! brought is replaced:
// an amend! behind one counts as one.
func joined(message, other string, squashed bool) string {
	more := body(other)
	switch {
	case strings.HasPrefix(other, "fixup! "), strings.TrimSpace(more) == "":
		return message
	case squashed:
		return strings.TrimRight(message, "\n") + "\n\n" + more
	}
	return more
}
