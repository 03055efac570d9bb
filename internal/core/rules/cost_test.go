package rules

import (
	"fmt"
	"testing"

	"tavrin/internal/core/condition"
)

// A condition on each of ten thousand paths stays below the bound on what an expression may cost.
func TestExpressionsReachTenThousandPaths(t *testing.T) {
	paths := make([]string, 10_000)
	for i := range paths {
		paths[i] = fmt.Sprintf("firmware/valves/part%d/file%d.c", i%100, i)
	}
	for _, cel := range []string{`paths.exists(p, p.endsWith(".md"))`, `paths.all(p, p.startsWith("firmware/"))`} {
		want := cel[6] == 'a'
		if holds, why := conditioned(t, "cel: '"+cel+"'").Holds(condition.Brought{Paths: paths}); holds != want || why != "" {
			t.Errorf("%s: %v, %q", cel, holds, why)
		}
	}
}
