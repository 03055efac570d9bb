package rehearsal

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"tavrin/internal/git/workshop"
	"tavrin/internal/sidebyside"
)

// bigHistory is a repository of 50,000 files and 5,000 commits in which a branch of ten commits stands beside a target that has
// moved on by 200 commits.
func bigHistory(b *testing.B) (w *shop, base, head string) {
	b.Helper()
	w = newShop(b)
	for i := range 50000 {
		dir := filepath.Join(w.Dir, fmt.Sprintf("d%d/e%d", i/2500, i/50%50))
		if i%50 == 0 {
			os.MkdirAll(dir, 0o755)
		}
		os.WriteFile(filepath.Join(dir, fmt.Sprintf("f%d", i)), []byte(workshop.Lines(20, map[int]string{0: fmt.Sprint(i)})), 0o644)
	}
	w.Commit("start")
	var years strings.Builder
	for i := range 5000 {
		fmt.Fprintf(&years, "commit refs/heads/main\ncommitter Ines Varga <ines@fennmoor.example> %d +0000\ndata 5\nentry\n%sM 644 inline d%d/e%d/f%d\ndata %d\n%s\n",
			1789990000+i, []string{"from refs/heads/main^0\n", ""}[min(i, 1)], i*9/2500, i*9/50%50, i*9, len(fmt.Sprint(i)), fmt.Sprint(i))
	}
	if out, err := w.TryWith(strings.NewReader(years.String()), "fast-import", "--quiet"); err != nil {
		b.Fatal(out)
	}
	w.Git("reset", "-q", "--hard", "main")
	w.Git("branch", "topic")
	edit := func(n int, who string, from int) {
		for i := range n {
			f := (from + i*700) % 50000
			w.Write(fmt.Sprintf("d%d/e%d/f%d", f/2500, f/50%50, f), workshop.Lines(20, map[int]string{0: fmt.Sprint(f), 10: who}))
			w.Git("commit", "-q", "-a", "-m", fmt.Sprintf("%s %d", who, i))
		}
	}
	edit(200, "main", 3)
	w.Git("checkout", "-q", "topic")
	edit(10, "topic", 17)
	w.Push()
	w.Git("--git-dir="+w.Bare, "repack", "-adq")
	return w, w.Git("rev-parse", "main"), w.Git("rev-parse", "topic")
}

// A rehearsal of a ten-commit rebase beside git rebase in a kept worktree: built and stored durably, as for a landing, and
// built by processes that have served before, to see whether it can be.
func BenchmarkRebaseOfTenCommits(b *testing.B) {
	w, base, head := bigHistory(b)
	n := 0
	of := func(do func(p Plan) error) func() time.Duration {
		return func() time.Duration {
			p := plan(Rebase, base, head)
			n++
			p.Committer.When = p.Committer.When.AddDate(0, 0, n) // so that the objects are new each time
			return sidebyside.Time(func() {
				if err := do(p); err != nil {
					b.Fatal(err)
				}
			})
		}
	}
	theirs := func() time.Duration {
		w.Git("checkout", "-q", "-B", "again", "topic")
		return sidebyside.Time(func() {
			if out, err := w.Try("rebase", "-q", "main"); err != nil {
				b.Fatal(strings.TrimSpace(out))
			}
		})
	}
	b.Run("durable", func(b *testing.B) {
		sidebyside.Measure(b, of(func(p Plan) error {
			_, err := Build(b.Context(), w.Repo, p)
			return err
		}), theirs)
	})
	b.Run("warm", func(b *testing.B) {
		sidebyside.Measure(b, of(func(p Plan) error { return Try(b.Context(), w.Repo, p) }), theirs)
	})
}

func BenchmarkSquashRehearsal(b *testing.B) {
	w, base, head := bigHistory(b)
	n := 0
	for b.Loop() {
		p := plan(Squash, base, head)
		n++
		p.Committer.When = p.Committer.When.AddDate(0, 0, n)
		if _, err := Build(b.Context(), w.Repo, p); err != nil {
			b.Fatal(err)
		}
	}
}
