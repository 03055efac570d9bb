package git

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"tavrin/internal/git/internal/process"
)

// Ref is a name and the object it points at.
type Ref struct {
	Name string
	ID   string
}

// Refs lists the refs below a prefix such as "refs/heads/", by name. It reads Git's files and starts no process: every push asks, and
// there may be thousands.
func (r RefStore) Refs(ctx context.Context, prefix string) ([]Ref, error) {
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	if head, err := os.Stat(filepath.Join(r.at.Dir, "HEAD")); err != nil || head.IsDir() {
		return nil, fmt.Errorf("list the refs of %s: it is no repository", r.at.Dir)
	}
	return r.RefFiles().below(prefix)
}

// below lists refs. Those with a file of their own are read first: what is packed meanwhile is found among the packed ones then. A
// name that stands for another one is none of the service's, and left out, as what is no id is.
func (f *RefFiles) below(prefix string) ([]Ref, error) {
	root := strings.TrimSuffix(prefix, "/")
	loose := map[string]string{}
	err := filepath.WalkDir(filepath.Join(f.dir, filepath.FromSlash(root)), func(path string, d fs.DirEntry, err error) error {
		if errors.Is(err, fs.ErrNotExist) {
			return nil // it went meanwhile
		}
		if err != nil || d.IsDir() || strings.HasSuffix(d.Name(), ".lock") {
			return err
		}
		text, err := os.ReadFile(path)
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if id := strings.TrimSpace(string(text)); err == nil && IsID(id) {
			loose[filepath.ToSlash(strings.TrimPrefix(path, f.dir+string(filepath.Separator)))] = id
		}
		return err
	})
	if err != nil {
		return nil, err
	}
	if f.packed, err = os.ReadFile(filepath.Join(f.dir, "packed-refs")); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	var refs []Ref
	for at := 0; at < len(f.packed); {
		name, next := refLine(f.packed, at)
		if name != "" && strings.HasPrefix(name, root) && (len(name) == len(root) || name[len(root)] == '/') {
			id := string(f.packed[at : at+40])
			if now, moved := loose[name]; moved {
				id = now
				delete(loose, name)
			}
			refs = append(refs, Ref{Name: name, ID: id})
		}
		at = next
	}
	for name, id := range loose {
		refs = append(refs, Ref{Name: name, ID: id})
	}
	slices.SortFunc(refs, func(a, b Ref) int { return strings.Compare(a.Name, b.Name) })
	return refs, nil
}

// Tip returns the commit a full ref name points at, or ErrNotFound.
func (r RefStore) Tip(ctx context.Context, ref string) (string, error) {
	if err := CheckRef(ref); err != nil {
		return "", err
	}
	out, err := r.at.Run(ctx, nil, "rev-parse", "--verify", "--quiet", "--end-of-options", ref+"^{commit}")
	if err != nil {
		if process.ExitCode(err) == 1 {
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

// HasBranch says whether there is a branch of that name now. It reads Git's files and starts no process, since it is
// asked for every gate.
func (r RefStore) HasBranch(branch string) bool {
	at, err := r.At("refs/heads/" + branch)
	return err == nil && at != ""
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
func (r RefStore) MoveRefs(ctx context.Context, moves ...Move) error {
	defer r.at.Use()()
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
		if allNew(moves) {
			return r.makeRefs(ctx, moves)
		}
		_, err := r.at.Run(ctx, strings.NewReader(in.String()), "update-ref", "-z", "--stdin")
		return err
	})
	if err == nil {
		return r.syncNames(moves)
	}
	for _, m := range moves { // whether something has moved is asked of the refs, not of what git says
		if at, lookErr := r.At(m.Ref); lookErr == nil && at != m.Old {
			return fmt.Errorf("%w: %w", ErrMoved, err)
		}
	}
	return err
}

// syncNames has it on disk where refs stand that have moved.
func (r RefStore) syncNames(moves []Move) error {
	folders := map[string]bool{}
	for _, m := range moves {
		if folders[filepath.Dir(filepath.Join(r.at.Dir, filepath.FromSlash(m.Ref)))] = true; m.New == "" {
			folders[r.at.Dir] = true // where the packed ones are
		}
	}
	for dir := range folders {
		if err := process.SyncFolder(dir); err != nil && !errors.Is(err, fs.ErrNotExist) { // the last of a folder may have gone
			return err
		}
	}
	return nil
}

// writingRefs writes refs, and once more where a lock that was left behind stood in the way.
func (r RefStore) writingRefs(moves []Move, write func() error) error {
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
		removed = os.Remove(filepath.Join(r.at.Dir, name)) == nil || removed
	}
	if !removed {
		return err
	}
	return write()
}

// At returns what a ref points at now; empty: there is no such ref. It reads Git's files and starts no process.
func (r RefStore) At(ref string) (string, error) { return r.RefFiles().At(ref) }

// RefFiles reads where refs point from Git's files, many after each other. It starts no process.
type RefFiles struct {
	dir    string
	packed []byte
}

// RefFiles returns a reader of refs. It is for one use at a time.
func (r RefStore) RefFiles() *RefFiles { return &RefFiles{dir: r.at.Dir} }

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

// among finds a ref among the packed ones. Git writes them sorted, and says so; a file in which it does not is gone through.
func (f *RefFiles) among(ref string) string {
	if !sortedRefs(f.packed) {
		i := bytes.Index(f.packed, []byte(" "+ref+"\n"))
		if i < 40 {
			return ""
		}
		return string(f.packed[i-40 : i])
	}
	if id, name := packedFrom(f.packed, ref); name == ref {
		return id
	}
	return ""
}

func sortedRefs(packed []byte) bool {
	header, _, _ := bytes.Cut(packed, []byte("\n"))
	return bytes.HasPrefix(header, []byte("# ")) && bytes.Contains(header, []byte(" sorted"))
}

// packedFrom finds the first of sorted packed refs whose name is not before another; none: both are empty.
func packedFrom(packed []byte, from string) (id, name string) {
	low, high := 0, len(packed) // beginnings of lines: the one looked for begins in between, or is the last
	for low < high {
		at := bytes.LastIndexByte(packed[:low+(high-low)/2], '\n') + 1
		line, next := refLine(packed, at)
		if line == "" || line >= from { // of a header, or of what a tag stands for, the one before decides
			if line == "" {
				for at > low && line == "" {
					at = bytes.LastIndexByte(packed[:at-1], '\n') + 1
					line, _ = refLine(packed, at)
				}
			}
			if line != "" && line >= from {
				high = at
				continue
			}
		}
		low = next
	}
	for at := low; at < len(packed); {
		line, next := refLine(packed, at)
		if line != "" {
			return string(packed[at : at+40]), line
		}
		at = next
	}
	return "", ""
}

// refLine is the name that a line of packed refs holds, and where the next line begins; empty: it is a comment, or says what the tag
// before it stands for.
func refLine(packed []byte, at int) (name string, next int) {
	end := bytes.IndexByte(packed[at:], '\n')
	if end < 0 {
		end = len(packed) - at
	}
	line := packed[at : at+end]
	if next = min(len(packed), at+end+1); len(line) < 42 || line[0] == '#' || line[0] == '^' {
		return "", next
	}
	return string(line[41:]), next
}

// Any says whether there is any ref below a prefix that ends with a slash.
func (f *RefFiles) Any(prefix string) (bool, error) {
	found := errors.New("found")
	err := filepath.WalkDir(filepath.Join(f.dir, filepath.FromSlash(prefix)), func(_ string, d fs.DirEntry, err error) error {
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err == nil && !d.IsDir() && !strings.HasSuffix(d.Name(), ".lock") {
			return found
		}
		return err
	})
	if err != nil {
		if err == found {
			return true, nil
		}
		return false, err
	}
	packed, err := os.ReadFile(filepath.Join(f.dir, "packed-refs"))
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	if err != nil || !sortedRefs(packed) {
		return bytes.Contains(packed, []byte(" "+prefix)), err
	}
	_, name := packedFrom(packed, prefix)
	return strings.HasPrefix(name, prefix), nil
}

// Keep makes a name of the service's own point at a commit, wherever it pointed before, so that it is not lost.
func (r RefStore) Keep(ctx context.Context, name, commit string) error {
	defer r.at.Use()()
	return r.writingRefs([]Move{{Ref: ReservedRefs + name}}, func() error {
		_, err := r.at.Run(ctx, nil, "update-ref", ReservedRefs+name, commit)
		return err
	})
}
