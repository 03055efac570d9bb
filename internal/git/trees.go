package git

import (
	"context"
	"fmt"
	"io"
	"regexp"
	"strconv"
	"strings"

	"tavrin/internal/core/carry"
)

// TreeEntry is one name in a folder of a commit.
type TreeEntry struct {
	Name string
	Kind string // blob, tree or commit (a submodule)
	Size int64  // of a blob, in bytes
}

// Paths lists the files of a commit, all folders through; more than the bound allows are an error.
func (r Trees) Paths(ctx context.Context, commit string) ([]string, error) {
	out, err := r.at.Run(ctx, nil, "ls-tree", "-r", "-z", "--name-only", "--end-of-options", commit)
	if err != nil {
		return nil, err
	}
	paths := []string{}
	for path := range strings.SplitSeq(string(out), "\x00") {
		if path != "" {
			paths = append(paths, path)
		}
	}
	if b := r.at.Bounds(); int64(len(paths)) > b.PushTreePaths {
		return nil, b.Reach("push.tree-paths", "%.10s holds %d files", commit, len(paths))
	}
	return paths, nil
}

// Tree lists a folder of a commit; the empty path is the root.
func (r Trees) Tree(ctx context.Context, commit, path string) ([]TreeEntry, error) {
	out, err := r.at.Run(ctx, nil, "ls-tree", "-z", "-l", "--end-of-options", commit+":"+strings.Trim(path, "/"))
	if err != nil {
		return nil, fmt.Errorf("folder %q at %.10s: %w", path, commit, ErrNotFound)
	}
	var entries []TreeEntry
	for record := range strings.SplitSeq(string(out), "\x00") {
		meta, name, ok := strings.Cut(record, "\t")
		f := strings.Fields(meta)
		if !ok || len(f) != 4 {
			continue
		}
		size, _ := strconv.ParseInt(f[3], 10, 64) // "-" for what is no file: none
		entries = append(entries, TreeEntry{Name: name, Kind: f[1], Size: size})
	}
	return entries, nil
}

// File returns at most max bytes of a file at a commit, and whether there is more.
func (r Trees) File(ctx context.Context, commit, path string, max int) (string, bool, error) {
	text, more, err := r.at.Limited(ctx, max, "cat-file", "blob", commit+":"+path)
	if err != nil {
		return "", false, fmt.Errorf("file %q at %.10s: %w", path, commit, ErrNotFound)
	}
	return text, more, nil
}

// HasFile says whether there is a file at a path of a commit.
func (r Trees) HasFile(ctx context.Context, commit, path string) bool {
	out, _, err := r.at.Limited(ctx, 100, "cat-file", "-t", commit+":"+path)
	return err == nil && strings.TrimSpace(out) == "blob"
}

// SendFile writes the bytes of a file, as they are stored.
func (r Trees) SendFile(ctx context.Context, commit, path string, w io.Writer) error {
	return r.at.Stream(ctx, nil, w, "cat-file", "blob", commit+":"+path)
}

// TreeOf returns the tree of a commit.
func (r Trees) TreeOf(ctx context.Context, commit string) (string, error) {
	out, err := r.at.Run(ctx, nil, "rev-parse", "--verify", "--quiet", commit+"^{tree}")
	return strings.TrimSpace(string(out)), err
}

// Moved says what became of a path between two commits.
type Moved struct {
	Path  string       // its name in the newer; empty: it is gone
	Hunks []carry.Hunk // what changed in it, in ascending order
}

var hunkHead = regexp.MustCompile(`(?m)^@@ -(\d+)(?:,(\d+))? \+\d+(?:,(\d+))? @@`)

// Follow says what became of a path between two commits, renames found.
func (r Trees) Follow(ctx context.Context, from, to, path string) (Moved, error) {
	if from == to {
		return Moved{Path: path}, nil
	}
	files, err := r.Diff(ctx, from, to)
	if err != nil {
		return Moved{}, err
	}
	now := path
	changed := false
	for _, f := range files {
		switch {
		case f.OldPath == path:
			now, changed = f.Path, true
		case f.Path == path && f.Status == "deleted":
			return Moved{}, nil
		case f.Path == path && f.OldPath == "":
			changed = true
		}
	}
	if !changed {
		return Moved{Path: path}, nil
	}
	out, err := r.at.Run(ctx, nil, "diff", "--no-color", "--no-ext-diff", "--no-textconv", "--text", "-U0", from+":"+path,
		to+":"+now, "--")
	if err != nil {
		return Moved{}, err
	}
	m := Moved{Path: now}
	number := func(s string) int {
		if s == "" {
			return 1
		}
		n, _ := strconv.Atoi(s) // digits, by the expression
		return n
	}
	for _, h := range hunkHead.FindAllStringSubmatch(string(out), -1) {
		m.Hunks = append(m.Hunks, carry.Hunk{OldStart: number(h[1]), Old: number(h[2]), New: number(h[3])})
	}
	return m, nil
}
