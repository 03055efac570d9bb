package git

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"tavrin/internal/sidebyside"
)

// bigHistory is a repository of 50,000 files in which a branch of ten commits stands beside a target that has
// moved on by 50 commits.
func bigHistory(b *testing.B) (w *workshop, base, head string) {
	b.Helper()
	w = newWorkshop(b)
	for i := range 50000 {
		dir := filepath.Join(w.dir, fmt.Sprintf("d%d/e%d", i/2500, i/50%50))
		if i%50 == 0 {
			os.MkdirAll(dir, 0o755)
		}
		os.WriteFile(filepath.Join(dir, fmt.Sprintf("f%d", i)), []byte(lines(20, map[int]string{0: fmt.Sprint(i)})), 0o644)
	}
	w.commit("start")
	w.git("branch", "topic")
	edit := func(n int, who string, from int) {
		for i := range n {
			f := from + i*700
			w.write(fmt.Sprintf("d%d/e%d/f%d", f/2500, f/50%50, f), lines(20, map[int]string{0: fmt.Sprint(f), 10: who}))
			w.git("commit", "-q", "-a", "-m", fmt.Sprintf("%s %d", who, i))
		}
	}
	edit(50, "main", 3)
	w.git("checkout", "-q", "topic")
	edit(10, "topic", 17)
	w.push()
	w.git("--git-dir="+w.repo.dir, "repack", "-adq")
	return w, w.git("rev-parse", "main"), w.git("rev-parse", "topic")
}

// A rehearsal of a ten-commit rebase, durable on disk, beside git rebase in a kept worktree.
func BenchmarkRebaseOfTenCommits(b *testing.B) {
	w, base, head := bigHistory(b)
	n := 0
	sidebyside.Measure(b, func() time.Duration {
		p := plan(Rebase, base, head)
		n++
		p.Committer.When = p.Committer.When.AddDate(0, 0, n) // so that the objects are new each time
		return sidebyside.Time(func() {
			if _, err := w.repo.Build(b.Context(), p); err != nil {
				b.Fatal(err)
			}
		})
	}, func() time.Duration {
		w.git("checkout", "-q", "-B", "again", "topic")
		return sidebyside.Time(func() {
			if out, err := w.try("rebase", "-q", "main"); err != nil {
				b.Fatal(strings.TrimSpace(out))
			}
		})
	})
}

func BenchmarkSquashRehearsal(b *testing.B) {
	w, base, head := bigHistory(b)
	n := 0
	for b.Loop() {
		p := plan(Squash, base, head)
		n++
		p.Committer.When = p.Committer.When.AddDate(0, 0, n)
		if _, err := w.repo.Build(b.Context(), p); err != nil {
			b.Fatal(err)
		}
	}
}
