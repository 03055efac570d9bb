package git

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"tavrin/internal/git/internal/process"
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
			out, err := view.at.Run(ctx, nil, "--literal-pathspecs", "ls-files", "-s", "-z", "--", f.Path)
			if err != nil {
				return err
			}
			mode, _, _ := strings.Cut(string(out), " ")
			if _, path, _ := strings.Cut(strings.TrimSuffix(string(out), "\x00"), "\t"); path != f.Path ||
				!strings.HasPrefix(mode, "100") {
				return fmt.Errorf("file %q at %.10s: %w", f.Path, parent, ErrNotFound)
			}
			blob, err := view.at.Run(ctx, strings.NewReader(f.Text), "hash-object", "-w", "--stdin")
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
	return r.WriteCommit(ctx, CommitText(tree, []string{parent}, author, committer, message))
}

// rewritten returns the tree of a commit, or a tree, with some entries altered: alter writes them in the form of
// "git update-index --index-info", and may look into an index that holds the tree.
func (r *Repo) rewritten(ctx context.Context, tree string, alter func(view *Repo,
	entries *bytes.Buffer) error) (string, error) {
	dir, err := os.MkdirTemp(r.at.Dir, process.ScratchPrefix)
	if err != nil {
		return "", fmt.Errorf("make a folder for an index: %w", err)
	}
	defer os.RemoveAll(dir)
	view := On(r.at.With("GIT_INDEX_FILE=" + filepath.Join(dir, "index")))
	if _, err := view.at.Run(ctx, nil, "read-tree", tree); err != nil {
		return "", err
	}
	var entries bytes.Buffer
	if err := alter(view, &entries); err != nil {
		return "", err
	}
	if _, err := view.at.Run(ctx, &entries, "update-index", "-z", "--index-info"); err != nil {
		return "", err
	}
	out, err := view.at.Run(ctx, nil, "write-tree")
	return strings.TrimSpace(string(out)), err
}

// Replaced returns a tree in which some paths stand as another commit has them.
func (r *Repo) Replaced(ctx context.Context, tree, commit string, paths []string) (string, error) {
	return r.rewritten(ctx, tree, func(view *Repo, entries *bytes.Buffer) error {
		for _, p := range paths {
			fmt.Fprintf(entries, "0 %s\t%s\x00", ZeroID, p)
		}
		has, err := view.at.Run(ctx, nil, append([]string{"--literal-pathspecs", "ls-tree", "-z", "-r", "--full-tree",
			commit, "--"}, paths...)...)
		for record := range strings.SplitSeq(string(has), "\x00") {
			meta, path, ok := strings.Cut(record, "\t")
			if f := strings.Fields(meta); ok && len(f) == 3 {
				fmt.Fprintf(entries, "%s %s\t%s\x00", f[0], f[2], path)
			}
		}
		return err
	})
}

// PackOfCommit writes a pack with one commit, its trees and its files, without history: what a runner checks out.
func (r *Repo) PackOfCommit(ctx context.Context, commit string, w io.Writer) error {
	list, err := r.at.Run(ctx, nil, "rev-list", "--objects", "--no-walk=unsorted", commit, "--")
	if err != nil {
		return err
	}
	return r.at.Stream(ctx, bytes.NewReader(list), w, "pack-objects", "-q", "--stdout")
}

// WriteCommit stores a commit and returns its id.
func (r *Repo) WriteCommit(ctx context.Context, text string) (string, error) {
	out, err := r.at.Run(ctx, strings.NewReader(text), "hash-object", "-t", "commit", "-w", "--stdin")
	return strings.TrimSpace(string(out)), err
}
