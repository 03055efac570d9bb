package git

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"

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
	at, err := r.At("refs/heads/" + branch)
	return err == nil && at != ""
}

// TreeEntry is one name in a folder of a commit.
type TreeEntry struct {
	Name string
	Kind string // blob, tree or commit (a submodule)
	Size int64  // of a blob, in bytes
}

// Paths lists the files of a commit, all folders through; more than the bound allows are an error.
func (r *Repo) Paths(ctx context.Context, commit string) ([]string, error) {
	out, err := r.run(ctx, nil, "ls-tree", "-r", "-z", "--name-only", "--end-of-options", commit)
	if err != nil {
		return nil, err
	}
	paths := []string{}
	for path := range strings.SplitSeq(string(out), "\x00") {
		if path != "" {
			paths = append(paths, path)
		}
	}
	if b := r.program.bounds(); int64(len(paths)) > b.PushTreePaths {
		return nil, b.Reach("push.tree-paths", "%.10s holds %d files", commit, len(paths))
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
		size, _ := strconv.ParseInt(f[3], 10, 64) // "-" for what is no file: none
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

// HasFile says whether there is a file at a path of a commit.
func (r *Repo) HasFile(ctx context.Context, commit, path string) bool {
	out, _, err := r.limited(ctx, 100, "cat-file", "-t", commit+":"+path)
	return err == nil && strings.TrimSpace(out) == "blob"
}

// SendFile writes the bytes of a file, as they are stored.
func (r *Repo) SendFile(ctx context.Context, commit, path string, w io.Writer) error {
	return r.stream(ctx, nil, w, "cat-file", "blob", commit+":"+path)
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

// MoveRefs moves refs by compare-and-swap, all of them or none, synced to disk. Only the sole writer of the repository
// may call it: a lock that stands in the way was left by a process that was killed, and is removed. After an error,
// also ErrMoved, the refs are to be looked at before it is said that nothing has moved: git may have been killed after
// it.
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
	err := r.writingRefs(moves, func() error {
		_, err := r.run(ctx, strings.NewReader(in.String()), "update-ref", "-z", "--stdin")
		return err
	})
	if err == nil {
		return nil
	}
	for _, m := range moves { // whether something has moved is asked of the refs, not of what git says
		if at, lookErr := r.At(m.Ref); lookErr == nil && at != m.Old {
			return fmt.Errorf("%w: %w", ErrMoved, err)
		}
	}
	return err
}

// writingRefs writes refs, and once more where a lock that was left behind stood in the way.
func (r *Repo) writingRefs(moves []Move, write func() error) error {
	err := write()
	if err == nil {
		return nil
	}
	removed := false
	locks := []string{"HEAD.lock", "packed-refs.lock"}
	for _, m := range moves {
		locks = append(locks, filepath.FromSlash(m.Ref)+".lock")
	}
	for _, name := range locks {
		removed = os.Remove(filepath.Join(r.dir, name)) == nil || removed
	}
	if !removed {
		return err
	}
	return write()
}

// At returns what a ref points at now; empty: there is no such ref. It reads Git's files and starts no process.
func (r *Repo) At(ref string) (string, error) { return r.RefFiles().At(ref) }

// RefFiles reads where refs point from Git's files, many after each other. It starts no process.
type RefFiles struct {
	dir    string
	packed []byte
}

// RefFiles returns a reader of refs. It is for one use at a time.
func (r *Repo) RefFiles() *RefFiles { return &RefFiles{dir: r.dir} }

// At returns where a ref points; empty: there is no such ref. A ref has a file of its own, or stands in packed-refs.
// Git packs by writing there first and removing the file then: what is in neither may have been packed since
// packed-refs was read.
func (f *RefFiles) At(ref string) (string, error) {
	text, err := os.ReadFile(filepath.Join(f.dir, filepath.FromSlash(ref)))
	if id := strings.TrimSpace(string(text)); err == nil && IsID(id) {
		return id, nil
	}
	if id := f.among(ref); id != "" {
		return id, nil
	}
	f.packed, err = os.ReadFile(filepath.Join(f.dir, "packed-refs"))
	if errors.Is(err, fs.ErrNotExist) {
		err = nil
	}
	return f.among(ref), err
}

func (f *RefFiles) among(ref string) string {
	i := bytes.Index(f.packed, []byte(" "+ref+"\n"))
	if i < 40 {
		return ""
	}
	return string(f.packed[i-40 : i])
}

// Keep makes a name of the service's own point at a commit, wherever it pointed before, so that it is not lost.
func (r *Repo) Keep(ctx context.Context, name, commit string) error {
	return r.writingRefs([]Move{{Ref: ReservedRefs + name}}, func() error {
		_, err := r.run(ctx, nil, "update-ref", ReservedRefs+name, commit)
		return err
	})
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
	out, err := r.run(ctx, nil, "diff", "--no-color", "--no-ext-diff", "--no-textconv", "--text", "-U0", from+":"+path,
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
