package git

import (
	"bufio"
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

// Git gives each new ref a file of its own, synced by itself, and packing them takes each file away again: a thousand of them took two
// seconds on a disk. Where many come at once they are written where packed refs stand, in one file, as Git does for a new clone
// (gitformat: "packed-refs" in gitrepository-layout(5) and git-pack-refs(1)).

// manyNewRefs is from how many on new refs are written packed.
const manyNewRefs = 50

// allNew says whether moves are all of new refs, and many.
func allNew(moves []Move) bool {
	return len(moves) >= manyNewRefs && !slices.ContainsFunc(moves, func(m Move) bool { return m.Old != "" || m.New == "" })
}

// packedRef is a line of packed-refs, and what it stands for if it is a tag.
type packedRef struct {
	Ref
	peeled string
}

const (
	peeledRefs = "# pack-refs with: peeled fully-peeled sorted \n"
	plainRefs  = "# pack-refs with: sorted \n" // of some tags it is not written what they stand for
)

// makeRefs makes many refs at once, all of them or none. Only the sole writer may call it.
func (r RefStore) makeRefs(ctx context.Context, moves []Move) error {
	lock := filepath.Join(r.at.Dir, "packed-refs.lock")
	f, err := os.OpenFile(lock, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
	if err != nil {
		return err
	}
	err = r.writeWith(ctx, f, moves)
	if err = errors.Join(err, f.Close()); err == nil {
		err = os.Rename(lock, filepath.Join(r.at.Dir, "packed-refs"))
	}
	if err != nil {
		return errors.Join(err, os.Remove(lock))
	}
	return process.SyncFolder(r.at.Dir)
}

// writeWith writes the packed refs out with new ones, synced to disk.
func (r RefStore) writeWith(ctx context.Context, f *os.File, moves []Move) error {
	there, err := r.Refs(ctx, "refs/")
	if err != nil {
		return err
	}
	if err := fit(there, moves); err != nil {
		return err
	}
	was, err := os.ReadFile(filepath.Join(r.at.Dir, "packed-refs"))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	header := peeledRefs
	if first, _, _ := bytes.Cut(was, []byte("\n")); len(was) > 0 && !bytes.Contains(first, []byte(" fully-peeled")) {
		header = plainRefs
	}
	all, err := readPacked(was)
	if err != nil {
		return err
	}
	stands, err := r.standFor(ctx, moves)
	if err != nil {
		return err
	}
	for _, m := range moves {
		all = append(all, packedRef{Ref{m.Ref, m.New}, stands[m.New]})
	}
	slices.SortFunc(all, func(a, b packedRef) int { return strings.Compare(a.Name, b.Name) })
	w := bufio.NewWriter(f)
	w.WriteString(header)
	for _, ref := range all {
		fmt.Fprintf(w, "%s %s\n", ref.ID, ref.Name)
		if ref.peeled != "" {
			fmt.Fprintf(w, "^%s\n", ref.peeled)
		}
	}
	return errors.Join(w.Flush(), f.Sync())
}

// readPacked reads packed refs: all of them, or an error.
func readPacked(text []byte) ([]packedRef, error) {
	var all []packedRef
	for at := 0; at < len(text); {
		name, next := refLine(text, at)
		line := strings.TrimSuffix(string(text[at:next]), "\n")
		switch {
		case name != "":
			all = append(all, packedRef{Ref: Ref{name, line[:40]}})
		case len(all) > 0 && line[0] == '^' && IsID(line[1:]):
			all[len(all)-1].peeled = line[1:]
		case at > 0 || line[0] != '#':
			return nil, fmt.Errorf("packed-refs has the line %.80q, which cannot be read", line)
		}
		at = next
	}
	return all, nil
}

// fit says why new refs cannot be beside those that are there: there is one of that name, or one would be a folder of the other.
func fit(there []Ref, moves []Move) error {
	names, folders := map[string]bool{}, map[string]bool{}
	add := func(name string) {
		names[name] = true
		for at := strings.LastIndexByte(name, '/'); at > 0 && !folders[name[:at]]; at = strings.LastIndexByte(name[:at], '/') {
			folders[name[:at]] = true
		}
	}
	for _, ref := range there {
		add(ref.Name)
	}
	for _, m := range moves {
		if names[m.Ref] {
			return fmt.Errorf("there is a ref %s", m.Ref)
		}
		if folders[m.Ref] {
			return fmt.Errorf("there are refs below %s", m.Ref)
		}
		for at := strings.LastIndexByte(m.Ref, '/'); at > 0; at = strings.LastIndexByte(m.Ref[:at], '/') {
			if names[m.Ref[:at]] {
				return fmt.Errorf("%s would be below the ref %s", m.Ref, m.Ref[:at])
			}
		}
		add(m.Ref)
	}
	return nil
}

// standFor says of the objects that refs are to point at what they stand for in the end, where they are tags: all of them are there, and
// those of branches are commits.
func (r RefStore) standFor(ctx context.Context, moves []Move) (map[string]string, error) {
	branches := map[string]bool{} // by object
	for _, m := range moves {
		branches[m.New] = branches[m.New] || strings.HasPrefix(m.Ref, "refs/heads/")
	}
	var ids []string
	var in strings.Builder
	for id := range branches {
		ids = append(ids, id)
		in.WriteString(id + "^{}\n")
	}
	out, err := r.at.Run(ctx, strings.NewReader(in.String()), "cat-file", "--batch-check=%(objecttype) %(objectname)", "--buffer")
	if err != nil {
		return nil, err
	}
	lines := strings.Split(strings.TrimSuffix(string(out), "\n"), "\n")
	if len(lines) != len(ids) {
		return nil, fmt.Errorf("git cat-file said %d lines of %d objects", len(lines), len(ids))
	}
	stands := map[string]string{}
	for i, id := range ids {
		kind, to, _ := strings.Cut(lines[i], " ")
		if !IsID(to) {
			return nil, fmt.Errorf("what a new ref is to point at is not there: %s", lines[i])
		}
		if to != id {
			stands[id] = to
		}
		if branches[id] && (to != id || kind != "commit") {
			return nil, fmt.Errorf("%s is no commit, and a branch points at one", id)
		}
	}
	return stands, nil
}
