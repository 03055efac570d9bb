package git

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
)

// Written is a file as a commit is to have it.
type Written struct {
	Path, Text string
}

// CommitFiles makes a commit on top of another in which some of its files have other content. It touches no ref. The
// files must be there, as files: neither folders nor links.
func (r *Repo) CommitFiles(ctx context.Context, parent string, files []Written, author, committer Signature,
	message string) (string, error) {
	tree, err := r.rewritten(ctx, parent, func(view *Repo, entries *bytes.Buffer) error {
		for _, f := range files {
			out, err := view.run(ctx, nil, "--literal-pathspecs", "ls-files", "-s", "-z", "--", f.Path)
			if err != nil {
				return err
			}
			mode, _, _ := strings.Cut(string(out), " ")
			if _, path, _ := strings.Cut(strings.TrimSuffix(string(out), "\x00"), "\t"); path != f.Path ||
				!strings.HasPrefix(mode, "100") {
				return fmt.Errorf("file %q at %.10s: %w", f.Path, parent, ErrNotFound)
			}
			blob, err := view.run(ctx, strings.NewReader(f.Text), "hash-object", "-w", "--stdin")
			if err != nil {
				return err
			}
			fmt.Fprintf(entries, "%s %s\t%s\x00", mode, strings.TrimSpace(string(blob)), f.Path)
		}
		return nil
	})
	if err != nil {
		return "", err
	}
	return r.writeCommit(ctx, commitText(tree, []string{parent}, author, committer, message))
}

// rewritten returns the tree of a commit, or a tree, with some entries altered: alter writes them in the form of
// "git update-index --index-info", and may look into an index that holds the tree.
func (r *Repo) rewritten(ctx context.Context, tree string, alter func(view *Repo,
	entries *bytes.Buffer) error) (string, error) {
	dir, err := os.MkdirTemp(r.dir, scratchPrefix)
	if err != nil {
		return "", fmt.Errorf("make a folder for an index: %w", err)
	}
	defer os.RemoveAll(dir)
	view := &Repo{program: r.program, dir: r.dir, env: append(append([]string{}, r.env...),
		"GIT_INDEX_FILE="+filepath.Join(dir, "index"))}
	if _, err := view.run(ctx, nil, "read-tree", tree); err != nil {
		return "", err
	}
	var entries bytes.Buffer
	if err := alter(view, &entries); err != nil {
		return "", err
	}
	if _, err := view.run(ctx, &entries, "update-index", "-z", "--index-info"); err != nil {
		return "", err
	}
	out, err := view.run(ctx, nil, "write-tree")
	return strings.TrimSpace(string(out)), err
}
