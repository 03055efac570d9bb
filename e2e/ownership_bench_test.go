package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"tavrin/internal/core/glob"
	"tavrin/internal/sidebyside"
)

// ownership makes patterns in which gitignore's semantics and ours agree (anchored folders with everything below, and
// names or endings at any depth), and paths of which about half are matched.
func ownership(patterns, paths int) (globs, names []string) {
	for i := range patterns {
		switch i % 10 {
		case 0:
			globs = append(globs, fmt.Sprintf("**/*.e%d", i))
		case 1:
			globs = append(globs, fmt.Sprintf("**/Name%d", i))
		case 2:
			globs = append(globs, fmt.Sprintf("part%d/*/valves/**", i))
		default:
			globs = append(globs, fmt.Sprintf("part%d/module%d/**", i/20, i))
		}
	}
	for i := range paths {
		n := i * 7 % (2 * patterns)
		switch i % 10 {
		case 0:
			names = append(names, fmt.Sprintf("deep/%d/x.e%d", i, n/10*10))
		case 1:
			names = append(names, fmt.Sprintf("deep/%d/Name%d", i, n/10*10+1))
		case 2:
			names = append(names, fmt.Sprintf("part%d/m/valves/f%d.c", n/10*10+2, i))
		default:
			names = append(names, fmt.Sprintf("part%d/module%d/src/f%d.c", n/20, n, i))
		}
	}
	return globs, names
}

// indexOf makes the index of patterns, each a list of its own.
func indexOf(t testing.TB, globs []string) *glob.Index {
	lists := make([]glob.List, len(globs))
	for i, g := range globs {
		var err error
		if lists[i], err = glob.CompileList([]string{g}); err != nil {
			t.Fatal(err)
		}
	}
	return glob.NewIndex(lists)
}

// ignored asks git which of the names its ignore rules match.
func ignored(t testing.TB, dir string, input string) string {
	cmd := exec.Command("git", "check-ignore", "--no-index", "--stdin")
	cmd.Dir, cmd.Stdin = dir, strings.NewReader(input)
	cmd.Env = append(os.Environ(), "GIT_CONFIG_GLOBAL=/dev/null", "GIT_CONFIG_NOSYSTEM=1")
	out, err := cmd.Output()
	if err != nil && cmd.ProcessState.ExitCode() != 1 {
		t.Fatal(err)
	}
	return string(out)
}

func ignoring(t testing.TB, globs []string) string {
	dir := t.TempDir()
	if out, err := exec.Command("git", "init", "-q", dir).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	if err := os.WriteFile(filepath.Join(dir, ".git/info/exclude"), []byte(strings.Join(globs, "\n")+"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	return dir
}

// Where gitignore's semantics and ours agree, so do the answers.
func TestIndexAnswersAsGitDoes(t *testing.T) {
	globs, names := ownership(1000, 3000)
	index := indexOf(t, globs)
	var owned []string
	for _, name := range names {
		if len(index.Of(name, nil)) > 0 {
			owned = append(owned, name)
		}
	}
	theirs := strings.Fields(ignored(t, ignoring(t, globs), strings.Join(names, "\n")+"\n"))
	if !slices.Equal(owned, theirs) {
		t.Errorf("%d names by the index, %d by git", len(owned), len(theirs))
	}
	if len(owned) < 500 || len(owned) > 2500 {
		t.Errorf("%d of %d names are matched: the test says little", len(owned), len(names))
	}
}

// The owners of 10,000 paths against 10,000 patterns: reading the patterns, making the index and asking it, beside git
// check-ignore with the same patterns; and the asking alone.
func BenchmarkOwnersOf10000Paths(b *testing.B) {
	globs, names := ownership(10_000, 10_000)
	dir, input := ignoring(b, globs), strings.Join(names, "\n")+"\n"
	index := indexOf(b, globs)
	var asking []time.Duration
	hits := 0
	sidebyside.Measure(b, func() time.Duration {
		asking = append(asking, sidebyside.Time(func() {
			for _, name := range names {
				hits += len(index.Of(name, nil))
			}
		}))
		return sidebyside.Time(func() {
			fresh := indexOf(b, globs)
			for _, name := range names {
				hits += len(fresh.Of(name, nil))
			}
		})
	}, func() time.Duration {
		return sidebyside.Time(func() { ignored(b, dir, input) })
	})
	slices.Sort(asking)
	b.ReportMetric(float64(asking[len(asking)/2])/float64(time.Millisecond), "ms-asking-alone")
	if hits == 0 {
		b.Error("nothing is owned")
	}
}
