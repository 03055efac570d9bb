package main

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
)

// made is the commits of one change.
type made struct {
	number int
	login  string
	path   string
	added  int
	head   string // of its branch
	tree   string
	base   string // the commit that it stands on
	landed string // empty: it is open
}

// history writes a repository's commits: a first one with its files, a change after the other landed on it, and those that are
// open each on a branch of its own. It returns the first commit and the changes in their order.
func history(ctx context.Context, dir string, files, landed, open, spare int, who func(change int) string) (string, []made, error) {
	var in bytes.Buffer
	when := 1_700_000_000
	commit := func(ref string, mark int, from string, by, message, path, text string) {
		when += 60
		fmt.Fprintf(&in, "commit %s\nmark :%d\nauthor %s <%s@fennmoor.invalid> %d +0000\ncommitter %s <%s@fennmoor.invalid> %d +0000\ndata %d\n%s\n",
			ref, mark, by, by, when, by, by, when, len(message), message)
		if from != "" {
			fmt.Fprintf(&in, "from %s\n", from)
		}
		if path != "" {
			fmt.Fprintf(&in, "M 100644 inline %s\ndata %d\n%s\n", path, len(text), text)
		}
	}
	pathOf := func(n int) string {
		return fmt.Sprintf("%s/part-%d/file-%d.txt", areaNames[n%len(areaNames)], n%25, n%max(1, files))
	}
	commit("refs/heads/main", 1, "", "wren", "the first furrow", "", "")
	for n := range files {
		text := fmt.Sprintf("file %d\n%s", n, strings.Repeat("a line of it\n", 10))
		fmt.Fprintf(&in, "M 100644 inline %s\ndata %d\n%s\n", pathOf(n), len(text), text)
	}
	out := make([]made, landed+open)
	for i := range out {
		m := &out[i]
		m.number, m.login, m.added = i+1, who(i+1), 1+i%40
		m.path = fmt.Sprintf("%s/part-%d/change-%d.txt", areaNames[i%len(areaNames)], i%25, i+1)
		text := strings.Repeat(fmt.Sprintf("change %d\n", i+1), m.added)
		ref := fmt.Sprintf("refs/tavrin/revisions/%d/1", m.number)
		tip := ":1"
		if before := min(i, landed); before > 0 {
			tip = fmt.Sprintf(":%d", 1+2*before)
		}
		commit(ref, 2*m.number, tip, m.login, fmt.Sprintf("Work on change %d", m.number), m.path, text)
		if i < landed {
			commit("refs/heads/main", 2*m.number+1, tip, m.login, fmt.Sprintf("%s\n\nApproved-by: grower", title(m.number)), m.path, text)
		} else {
			fmt.Fprintf(&in, "reset refs/heads/work/%d\nfrom :%d\n\n", m.number, 2*m.number)
		}
	}
	for n := range spare {
		fmt.Fprintf(&in, "reset refs/heads/spare/%d\nfrom :1\n\n", n)
	}
	marks := filepath.Join(dir, "scale-marks")
	cmd := exec.CommandContext(ctx, "git", "--git-dir", dir, "fast-import", "--quiet", "--force", "--export-marks="+marks)
	cmd.Stdin = &in
	if text, err := cmd.CombinedOutput(); err != nil {
		return "", nil, fmt.Errorf("%s: %w: %s", dir, err, text)
	}
	ids, err := readMarks(marks)
	if err != nil {
		return "", nil, err
	}
	for i := range out {
		m := &out[i]
		m.head, m.base = ids[2*m.number], ids[1]
		if before := min(i, landed); before > 0 {
			m.base = ids[1+2*before]
		}
		if i < landed {
			m.landed = ids[2*m.number+1]
		}
	}
	if err := trees(ctx, dir, out); err != nil {
		return "", nil, err
	}
	for _, args := range [][]string{{"pack-refs", "--all"}, {"repack", "-adq"}, {"commit-graph", "write", "--reachable"}} {
		cmd := exec.CommandContext(ctx, "git", append([]string{"--git-dir", dir}, args...)...)
		if text, err := cmd.CombinedOutput(); err != nil {
			return "", nil, fmt.Errorf("%s: %w: %s", dir, err, text)
		}
	}
	return ids[1], out, os.Remove(marks)
}

// readMarks reads which commit each mark became.
func readMarks(file string) (map[int]string, error) {
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	ids := map[int]string{}
	for line := range strings.Lines(string(text)) {
		var mark int
		var id string
		if _, err := fmt.Sscanf(line, ":%d %s", &mark, &id); err != nil {
			return nil, err
		}
		ids[mark] = id
	}
	return ids, nil
}

// trees finds the tree of each head.
func trees(ctx context.Context, dir string, all []made) error {
	var in strings.Builder
	for _, m := range all {
		fmt.Fprintf(&in, "%s^{tree}\n", m.head)
	}
	cmd := exec.CommandContext(ctx, "git", "--git-dir", dir, "cat-file", "--batch-check=%(objectname)")
	cmd.Stdin = strings.NewReader(in.String())
	out, err := cmd.Output()
	if err != nil {
		return err
	}
	lines := bufio.NewScanner(bytes.NewReader(out))
	for i := range all {
		if !lines.Scan() {
			return fmt.Errorf("%s: git told of %d trees", dir, i)
		}
		all[i].tree = lines.Text()
	}
	return nil
}

func title(number int) string { return fmt.Sprintf("Close valve %d in the evening", number) }
