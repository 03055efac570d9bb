// Package often says how often a test goes through cases that it makes up: a few times in every run, so that the suite
// stays quick, and as many times more as TAVRIN_OFTEN says in a long run of its own (make properties).
package often

import (
	"os"
	"strconv"
)

// Times is n, or that many times what TAVRIN_OFTEN says.
func Times(n int) int {
	if more, err := strconv.Atoi(os.Getenv("TAVRIN_OFTEN")); err == nil && more > 0 {
		return n * more
	}
	return n
}
