package git

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// Wherever a ref stands among packed ones, tags with what they stand for between them, it is found, and what is not there is not.
func TestPackedRefsAreFound(t *testing.T) {
	rng := rand.New(rand.NewPCG(8, 1))
	for round := range 400 {
		names := map[string]string{}
		for range rng.IntN(30) {
			name := fmt.Sprintf("refs/%s/%c%d", []string{"heads", "tags", "tavrin/revisions"}[rng.IntN(3)], 'a'+rune(rng.IntN(3)), rng.IntN(40))
			names[name] = fmt.Sprintf("%040x", rng.Uint64())
		}
		var text strings.Builder
		text.WriteString("# pack-refs with: peeled fully-peeled sorted \n")
		var all []string
		for name := range names {
			all = append(all, name)
		}
		slices.Sort(all)
		for _, name := range all {
			fmt.Fprintf(&text, "%s %s\n", names[name], name)
			if strings.HasPrefix(name, "refs/tags/") && rng.IntN(2) == 0 {
				fmt.Fprintf(&text, "^%040x\n", rng.Uint64())
			}
		}
		dir := t.TempDir()
		if len(names) > 0 || round%2 == 0 {
			if err := os.WriteFile(filepath.Join(dir, "packed-refs"), []byte(text.String()), 0o600); err != nil {
				t.Fatal(err)
			}
		}
		for range 40 {
			name := fmt.Sprintf("refs/%s/%c%d", []string{"heads", "tags", "tavrin/revisions", "zeta"}[rng.IntN(4)], 'a'+rune(rng.IntN(3)), rng.IntN(40))
			f := RefFiles{dir: dir}
			if at, err := f.At(name); err != nil || at != names[name] {
				t.Fatalf("%s is at %q, %v, and not at %q of\n%s", name, at, err, names[name], text.String())
			}
		}
		for _, prefix := range []string{"refs/heads/", "refs/tags/", "refs/zeta/"} {
			want := slices.ContainsFunc(all, func(name string) bool { return strings.HasPrefix(name, prefix) })
			f := RefFiles{dir: dir}
			if any, err := f.Any(prefix); err != nil || any != want {
				t.Fatalf("below %s is something: %v, %v, of\n%s", prefix, any, err, text.String())
			}
		}
	}
}

// The refs that are listed from Git's files are those that git lists itself, packed or not, moved or deleted since.
func TestRefsAreThoseThatGitLists(t *testing.T) {
	rng := rand.New(rand.NewPCG(8, 2))
	dir := t.TempDir()
	run := func(in string, args ...string) string {
		t.Helper()
		cmd := exec.Command("git", append([]string{"--git-dir", dir}, args...)...)
		cmd.Stdin = strings.NewReader(in)
		cmd.Env = append(os.Environ(), "GIT_CONFIG_GLOBAL=/dev/null", "GIT_AUTHOR_NAME=a", "GIT_AUTHOR_EMAIL=a@b.invalid", "GIT_COMMITTER_NAME=a", "GIT_COMMITTER_EMAIL=a@b.invalid")
		out, err := cmd.CombinedOutput()
		if err != nil {
			t.Fatalf("git %v: %v: %s", args, err, out)
		}
		return strings.TrimSpace(string(out))
	}
	run("", "init", "--quiet", "--bare", dir)
	tree := run("", "hash-object", "-t", "tree", "-w", "--stdin")
	var commits []string
	for n := range 4 {
		commits = append(commits, run("", "commit-tree", "-m", fmt.Sprint(n), tree))
	}
	bare := Open(&Program{}, dir)
	for range 12 {
		var in strings.Builder
		seen := map[string]bool{}
		for range 1 + rng.IntN(12) {
			name := fmt.Sprintf("refs/%s/%c%d", []string{"heads", "tags", "heads/deep", "tavrin/revisions/3"}[rng.IntN(4)], 'a'+rune(rng.IntN(3)), rng.IntN(9))
			if seen[name] {
				continue
			}
			seen[name] = true
			if rng.IntN(3) == 0 {
				fmt.Fprintf(&in, "delete %s\n", name)
			} else {
				fmt.Fprintf(&in, "update %s %s\n", name, commits[rng.IntN(len(commits))])
			}
		}
		run(in.String(), "update-ref", "--stdin")
		if rng.IntN(3) == 0 {
			run("", "pack-refs", "--all")
		}
		if rng.IntN(4) == 0 {
			run("", "tag", "--force", "-a", "-m", "t", fmt.Sprintf("t%d", rng.IntN(3)), commits[0])
		}
		for _, prefix := range []string{"refs/", "refs/heads/", "refs/tags/", "refs/heads/deep/", "refs/zeta/"} {
			refs, err := bare.Refs(t.Context(), prefix)
			if err != nil {
				t.Fatal(err)
			}
			var got []string
			for _, r := range refs {
				got = append(got, r.ID+" "+r.Name)
			}
			if want := run("", "for-each-ref", "--format=%(objectname) %(refname)", prefix); strings.Join(got, "\n") != want {
				t.Fatalf("below %s are\n%s\nand git lists\n%s", prefix, strings.Join(got, "\n"), want)
			}
		}
	}
}
