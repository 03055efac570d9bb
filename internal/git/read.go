package git

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"time"

	"tavrin/internal/core/carry"
)

// ErrNotFound is returned for a commit, ref or path that the repository does not have.
var ErrNotFound = errors.New("not found in the repository")

// Ref is a name and the object it points at.
type Ref struct {
	Name string
	ID   string
}

// Refs lists the refs below a prefix such as "refs/heads/", by name.
func (r *Repo) Refs(ctx context.Context, prefix string) ([]Ref, error) {
	out, err := r.run(ctx, nil, "for-each-ref", "--format=%(objectname) %(refname)", prefix)
	if err != nil {
		return nil, err
	}
	var refs []Ref
	for line := range strings.Lines(string(out)) {
		id, name, _ := strings.Cut(strings.TrimSuffix(line, "\n"), " ")
		refs = append(refs, Ref{Name: name, ID: id})
	}
	return refs, nil
}

// Tip returns the commit a full ref name points at, or ErrNotFound.
func (r *Repo) Tip(ctx context.Context, ref string) (string, error) {
	if err := CheckRef(ref); err != nil {
		return "", err
	}
	out, err := r.run(ctx, nil, "rev-parse", "--verify", "--quiet", "--end-of-options", ref+"^{commit}")
	if err != nil {
		if exitCode(err) == 1 {
			return "", fmt.Errorf("ref %s: %w", ref, ErrNotFound)
		}
		return "", err
	}
	return trimmedID(out), nil
}

// trimmedID returns the last line of output: with --end-of-options, rev-parse of 2.39 prints that option too.
func trimmedID(out []byte) string {
	s := strings.TrimSpace(string(out))
	return s[strings.LastIndexByte(s, '\n')+1:]
}

// HasCommit says whether the repository has the commit.
func (r *Repo) HasCommit(ctx context.Context, id string) bool {
	if !IsID(id) {
		return false
	}
	out, err := r.run(ctx, nil, "cat-file", "-t", id)
	return err == nil && strings.TrimSpace(string(out)) == "commit"
}

// IsAncestor says whether commit a is b or comes before it.
func (r *Repo) IsAncestor(ctx context.Context, a, b string) (bool, error) {
	_, err := r.run(ctx, nil, "merge-base", "--is-ancestor", a, b)
	if exitCode(err) == 1 {
		return false, nil
	}
	return err == nil, err
}

// MergeBase returns the best common ancestor of two commits, or ErrNotFound when they share none.
func (r *Repo) MergeBase(ctx context.Context, a, b string) (string, error) {
	out, err := r.run(ctx, nil, "merge-base", a, b)
	if exitCode(err) == 1 {
		return "", fmt.Errorf("common ancestor of %.10s and %.10s: %w", a, b, ErrNotFound)
	}
	return strings.TrimSpace(string(out)), err
}

// Commit is what a list of commits shows.
type Commit struct {
	ID             string
	Parents        []string
	Author         Signature
	CommitterEmail string
	CommittedAt    time.Time
	Subject        string
	Body           string
}

// Signature is a name, an address and a time as a commit has them: text, not proof of who it was.
type Signature struct {
	Name  string
	Email string
	When  time.Time
}

const logFormat = "%H%x00%P%x00%an%x00%ae%x00%aI%x00%ce%x00%cI%x00%s%x00%b%x00%x01"

// Log lists commits reachable from the commit `from` and not from those in `not`, newest first.
func (r *Repo) Log(ctx context.Context, from string, not []string, skip, limit int) ([]Commit, error) {
	args := []string{"log", "--topo-order", "--no-show-signature", "--format=" + logFormat, fmt.Sprintf("--skip=%d", skip),
		fmt.Sprintf("--max-count=%d", limit), from}
	for _, n := range not {
		args = append(args, "^"+n)
	}
	out, err := r.run(ctx, nil, append(args, "--")...)
	if err != nil {
		return nil, err
	}
	var commits []Commit
	for record := range strings.SplitSeq(string(out), "\x01") {
		f := strings.Split(strings.TrimPrefix(record, "\n"), "\x00")
		if len(f) < 9 {
			continue
		}
		authored, _ := time.Parse(time.RFC3339, f[4])
		committed, _ := time.Parse(time.RFC3339, f[6])
		commits = append(commits, Commit{
			ID: f[0], Parents: strings.Fields(f[1]), Author: Signature{f[2], f[3], authored.UTC()},
			CommitterEmail: f[5], CommittedAt: committed.UTC(), Subject: f[7], Body: strings.TrimSpace(f[8]),
		})
	}
	return commits, nil
}

// AheadBehind counts the commits that a commit has and a ref has not, and the other way round.
func (r *Repo) AheadBehind(ctx context.Context, commit, ref string) (ahead, behind int, err error) {
	out, err := r.run(ctx, nil, "rev-list", "--count", "--left-right", commit+"..."+ref, "--")
	if err != nil {
		return 0, 0, err
	}
	_, err = fmt.Sscan(string(out), &ahead, &behind)
	return ahead, behind, err
}

// HasBranch says whether there is a branch of that name now. It reads Git's files and starts no process, since it is
// asked for every gate.
func (r *Repo) HasBranch(branch string) bool {
	if info, err := os.Stat(filepath.Join(r.dir, "refs", "heads", filepath.FromSlash(branch))); err == nil && info.Mode().IsRegular() {
		return true
	}
	packed, err := os.ReadFile(filepath.Join(r.dir, "packed-refs"))
	return err == nil && bytes.Contains(packed, []byte(" refs/heads/"+branch+"\n"))
}

// limited returns at most max bytes of a command's output.
func (r *Repo) limited(ctx context.Context, max int, args ...string) (string, bool, error) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	w := &limit{left: max, full: cancel}
	err := r.stream(ctx, nil, w, args...)
	if w.over {
		err = nil
	}
	return w.buf.String(), w.over, err
}

type limit struct {
	buf  bytes.Buffer
	left int
	over bool
	full func()
}

func (l *limit) Write(p []byte) (int, error) {
	if len(p) > l.left {
		l.buf.Write(p[:l.left])
		l.left, l.over = 0, true
		l.full()
		return 0, io.ErrShortWrite
	}
	l.left -= len(p)
	return l.buf.Write(p)
}

// TreeEntry is one name in a folder of a commit.
type TreeEntry struct {
	Name string
	Kind string // blob, tree or commit (a submodule)
	Size int64  // of a blob, in bytes
}

// Paths lists the files of a commit, all folders through, at most so many.
func (r *Repo) Paths(ctx context.Context, commit string, limit int) ([]string, error) {
	out, err := r.run(ctx, nil, "ls-tree", "-r", "-z", "--name-only", "--end-of-options", commit)
	if err != nil {
		return nil, err
	}
	paths := []string{}
	for path := range strings.SplitSeq(string(out), "\x00") {
		if path != "" && len(paths) < limit {
			paths = append(paths, path)
		}
	}
	return paths, nil
}

// Tree lists a folder of a commit; the empty path is the root.
func (r *Repo) Tree(ctx context.Context, commit, path string) ([]TreeEntry, error) {
	out, err := r.run(ctx, nil, "ls-tree", "-z", "-l", "--end-of-options", commit+":"+strings.Trim(path, "/"))
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
		size, _ := strconv.ParseInt(f[3], 10, 64)
		entries = append(entries, TreeEntry{Name: name, Kind: f[1], Size: size})
	}
	return entries, nil
}

// File returns at most max bytes of a file at a commit, and whether there is more.
func (r *Repo) File(ctx context.Context, commit, path string, max int) (string, bool, error) {
	text, more, err := r.limited(ctx, max, "cat-file", "blob", commit+":"+path)
	if err != nil {
		return "", false, fmt.Errorf("file %q at %.10s: %w", path, commit, ErrNotFound)
	}
	return text, more, nil
}

// PackOfCommit writes a pack with one commit, its trees and its files, without history: what a runner checks out.
func (r *Repo) PackOfCommit(ctx context.Context, commit string, w io.Writer) error {
	list, err := r.run(ctx, nil, "rev-list", "--objects", "--no-walk=unsorted", commit, "--")
	if err != nil {
		return err
	}
	return r.stream(ctx, bytes.NewReader(list), w, "pack-objects", "-q", "--stdout")
}

// ErrMoved is returned when a ref no longer stands where the caller said it did.
var ErrMoved = errors.New("the ref has moved meanwhile")

// Move is one ref to be moved from Old to New; an empty Old creates it, an empty New deletes it.
type Move struct {
	Ref, Old, New string
}

// MoveRefs moves refs by compare-and-swap, all of them or none, synced to disk.
func (r *Repo) MoveRefs(ctx context.Context, moves ...Move) error {
	var in strings.Builder
	in.WriteString("start\x00")
	for _, m := range moves {
		if err := CheckRef(m.Ref); err != nil {
			return err
		}
		if (m.New != "" && !IsID(m.New)) || (m.Old != "" && !IsID(m.Old)) {
			return fmt.Errorf("move %s: %q or %q is not an object id", m.Ref, m.Old, m.New)
		}
		switch {
		case m.New == "":
			fmt.Fprintf(&in, "delete %s\x00%s\x00", m.Ref, m.Old)
		case m.Old == "":
			fmt.Fprintf(&in, "create %s\x00%s\x00", m.Ref, m.New)
		default:
			fmt.Fprintf(&in, "update %s\x00%s\x00%s\x00", m.Ref, m.New, m.Old)
		}
	}
	in.WriteString("prepare\x00commit\x00")
	_, err := r.run(ctx, strings.NewReader(in.String()), "update-ref", "-z", "--stdin")
	if err != nil && (strings.Contains(err.Error(), "but expected") || strings.Contains(err.Error(), "reference already exists") ||
		strings.Contains(err.Error(), "unable to resolve reference")) {
		return fmt.Errorf("%w: %w", ErrMoved, err)
	}
	return err
}

// Keep makes a name of the service's own point at a commit, wherever it pointed before, so that it is not lost.
func (r *Repo) Keep(ctx context.Context, name, commit string) error {
	_, err := r.run(ctx, nil, "update-ref", ReservedRefs+name, commit)
	return err
}

// Moved says what became of a path between two commits.
type Moved struct {
	Path  string       // its name in the newer; empty: it is gone
	Hunks []carry.Hunk // what changed in it, in ascending order
}

var hunkHead = regexp.MustCompile(`(?m)^@@ -(\d+)(?:,(\d+))? \+\d+(?:,(\d+))? @@`)

// Follow says what became of a path between two commits, renames found.
func (r *Repo) Follow(ctx context.Context, from, to, path string) (Moved, error) {
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
	out, err := r.run(ctx, nil, "diff", "--no-color", "--no-ext-diff", "--no-textconv", "-U0", from+":"+path, to+":"+now, "--")
	if err != nil {
		return Moved{}, err
	}
	m := Moved{Path: now}
	number := func(s string) int {
		if s == "" {
			return 1
		}
		n, _ := strconv.Atoi(s)
		return n
	}
	for _, h := range hunkHead.FindAllStringSubmatch(string(out), -1) {
		m.Hunks = append(m.Hunks, carry.Hunk{OldStart: number(h[1]), Old: number(h[2]), New: number(h[3])})
	}
	return m, nil
}
