// Package near finds, among known names, the one that somebody meant who typed another. It promises nothing but a guess:
// what it finds goes into words such as "did you mean", and nothing is done by it.
package near

import (
	"fmt"
	"strings"
)

// most is by how many letters a name may differ.
const most = 2

// To returns the known name that a word nearly is: the same but for case, the last part of a name with slashes, or one of
// which at most two letters differ, and less than half of them. Of several the nearest, and of those the first; none: "".
func To(word string, known []string) string {
	best, least := "", min(most, (len(word)-1)/2)+1
	for _, name := range known {
		switch {
		case name == word || word == "":
		case strings.EqualFold(name, word), strings.HasSuffix(name, "/"+word):
			return name
		case abs(len(name)-len(word)) >= least:
		default:
			if n := distance(word, name); n < least {
				best, least = name, n
			}
		}
	}
	return best
}

// Meant puts what To finds into words that end a sentence: `; did you mean "x"?`, or nothing.
func Meant(word string, known []string) string {
	if name := To(word, known); name != "" {
		return fmt.Sprintf("; did you mean %q?", name)
	}
	return ""
}

// distance is how many letters have to be added, dropped, replaced or swapped with the next to make one word of another
// (the restricted form of the distance of Damerau and Levenshtein).
func distance(a, b string) int {
	rows := [3][]int{make([]int, len(b)+1), make([]int, len(b)+1), make([]int, len(b)+1)}
	for j := range rows[1] {
		rows[1][j] = j
	}
	for i := range len(a) {
		before, last, row := rows[0], rows[1], rows[2]
		row[0] = i + 1
		for j := range len(b) {
			cost := last[j]
			if a[i] != b[j] {
				cost++
			}
			row[j+1] = min(cost, last[j+1]+1, row[j]+1)
			if i > 0 && j > 0 && a[i] == b[j-1] && a[i-1] == b[j] {
				row[j+1] = min(row[j+1], before[j-1]+1)
			}
		}
		rows = [3][]int{last, row, before}
	}
	return rows[1][len(b)]
}

func abs(n int) int { return max(n, -n) }
