package carry

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
)

// Replacement puts Text in the place of the lines from First to Last, counted from 1. An empty Text takes them out.
type Replacement struct {
	First, Last int
	Text        string
}

// Replace puts replacements into a text. They must not overlap. Lines keep the text's way of ending: where a line that
// goes ended with a carriage return, those that come do too; where the text's last line ended without a line feed, the
// new last one does as well.
func Replace(text string, with ...Replacement) (string, error) {
	with = slices.Clone(with)
	slices.SortFunc(with, func(a, b Replacement) int { return cmp.Compare(a.First, b.First) })
	lines := strings.SplitAfter(text, "\n")
	if lines[len(lines)-1] == "" {
		lines = lines[:len(lines)-1]
	}
	var out strings.Builder
	next := 1
	for _, r := range with {
		switch {
		case r.First < next && r.First > 0 && next > 1:
			return "", fmt.Errorf("two replacements are for line %d", r.First)
		case r.First < 1 || r.Last < r.First || r.Last > len(lines):
			return "", fmt.Errorf("there are no lines %d to %d in a text of %d lines", r.First, r.Last, len(lines))
		}
		for _, line := range lines[next-1 : r.First-1] {
			out.WriteString(line)
		}
		out.WriteString(r.ended(lines[r.First-1], lines[r.Last-1]))
		next = r.Last + 1
	}
	for _, line := range lines[next-1:] {
		out.WriteString(line)
	}
	return out.String(), nil
}

// ended is the replacement's text with lines that end as those do in whose place it comes.
func (r Replacement) ended(first, last string) string {
	if r.Text == "" {
		return ""
	}
	text := strings.TrimSuffix(strings.ReplaceAll(r.Text, "\r\n", "\n"), "\n")
	end := "\n"
	if strings.HasSuffix(first, "\r\n") {
		end = "\r\n"
	}
	text = strings.ReplaceAll(text, "\n", end)
	if strings.HasSuffix(last, "\n") {
		text += end
	}
	return text
}
