package transport

import (
	"bufio"
	"bytes"
	"context"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"

	"tavrin/internal/bounds"
	"tavrin/internal/git"
	"tavrin/internal/git/internal/process"
)

// A pack of a few hundred kilobytes can hold a tree of a billion paths: six folders in each other, of ten entries each
// that are the same. So what came is measured, object by object, before anything walks it.

// packed is what a push's pack holds.
type packed struct {
	ids     [][20]byte // sorted
	commits []string
}

func (p *packed) has(id string) bool {
	raw, err := hex.DecodeString(id)
	if err != nil || len(raw) != 20 {
		return false
	}
	_, found := slices.BinarySearchFunc(p.ids, [20]byte(raw),
		func(a, b [20]byte) int { return bytes.Compare(a[:], b[:]) })
	return found
}

// asked is a running "git cat-file --batch-command", which answers about many objects at once.
type asked struct{ *process.Helper }

func startAsking(ctx context.Context, repo *git.Repo) (asked, error) {
	h, err := repo.Place().Help(ctx, "cat-file", "--batch-command", "--buffer")
	return asked{h}, err
}

// together is how many objects are asked about before their answers are read.
const together = 5000

// each asks for the info or the contents of objects, and hands on what is said of each.
func (a asked) each(what string, ids []string, f func(id string) error) error {
	for chunk := range slices.Chunk(ids, together) {
		var b strings.Builder
		for _, id := range chunk {
			b.WriteString(what + " " + id + "\n")
		}
		b.WriteString("flush\n")
		if _, err := io.WriteString(a.In, b.String()); err != nil { // git reads all of it before it answers
			return a.Broken(err)
		}
		for _, id := range chunk {
			if err := f(id); err != nil {
				return err
			}
		}
	}
	return nil
}

// contents returns one object.
func (a asked) contents(id, kind string) (text string, err error) {
	err = a.each("contents", []string{id}, func(string) error {
		text, err = a.Answer(id, kind)
		return err
	})
	return text, err
}

// listed lists the objects in the folder of a push, each within its bound.
func (in *Incoming) listed(a asked) (*packed, error) {
	ids, err := in.indexed()
	if err != nil {
		return nil, err
	}
	b := in.repo.Place().Bounds()
	list := &packed{ids: ids}
	names := make([]string, len(ids))
	for i, id := range ids {
		names[i] = hex.EncodeToString(id[:])
	}
	return list, a.each("info", names, func(want string) error {
		line, err := a.Out.ReadString('\n')
		if err != nil {
			return a.Broken(err)
		}
		id, kind, size, ok := readListed(line)
		text := kind == "commit" || kind == "tag"
		switch {
		case !ok || id != want:
			return fmt.Errorf("git cat-file: unreadable line %.80q", line)
		case text && size > b.PushTextBytes:
			return b.Reach("push.text-bytes", "%s %.10s has %d bytes", kind, id, size)
		case size > b.PushObjectBytes:
			return b.Reach("push.object-bytes", "%s %.10s has %d bytes", kind, id, size)
		case kind == "commit":
			list.commits = append(list.commits, id)
		}
		return nil
	})
}

// indexed reads the ids of the objects that came, in ascending order, from the pack's index (gitformat-pack, version
// 2): a head of eight bytes, 256 counts of which the last is that of all, and the ids.
func (in *Incoming) indexed() ([][20]byte, error) {
	files, err := filepath.Glob(filepath.Join(in.dir, "pack", "*.idx"))
	if err != nil || len(files) != 1 {
		return nil, errors.Join(err, fmt.Errorf("the push left %d indexes of packs", len(files)))
	}
	f, err := os.Open(files[0])
	if err != nil {
		return nil, err
	}
	defer f.Close()
	const beforeIDs = 8 + 256*4
	head := make([]byte, beforeIDs)
	if _, err := io.ReadFull(f, head); err != nil || string(head[:8]) != "\xfftOc\x00\x00\x00\x02" {
		return nil, errors.Join(err, errors.New("the index of the pack is of a form that is not read"))
	}
	ids := make([][20]byte, binary.BigEndian.Uint32(head[beforeIDs-4:]))
	r := bufio.NewReader(f)
	for i := range ids {
		if _, err := io.ReadFull(r, ids[i][:]); err != nil {
			return nil, err
		}
	}
	return ids, nil
}

// readListed reads "ID KIND SIZE\n".
func readListed(line string) (id, kind string, size int64, ok bool) {
	f := strings.Split(strings.TrimSuffix(line, "\n"), " ")
	if len(f) != 3 || !git.IsID(f[0]) || !slices.Contains([]string{"commit", "tree", "blob", "tag"}, f[1]) {
		return "", "", 0, false
	}
	size, err := strconv.ParseInt(f[2], 10, 64)
	return f[0], f[1], size, err == nil && size >= 0
}

// extent is how far a tree goes.
type extent struct {
	paths int64
	depth int64 // folders in each other below it
}

// measured remembers how far trees go, by id: what it holds is true of every repository. Its zero value is ready.
type measured struct {
	mu    sync.Mutex
	trees map[string]extent
}

// maxMeasured is how many trees are remembered; some 60 bytes each, and 40 for the id.
const maxMeasured = 300_000

func (m *measured) get(id string) (extent, bool) {
	m.mu.Lock()
	defer m.mu.Unlock()
	e, ok := m.trees[id]
	return e, ok
}

func (m *measured) put(id string, e extent) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.trees == nil || len(m.trees) >= maxMeasured {
		m.trees = map[string]extent{}
	}
	m.trees[id] = e
}

// measure looks at the commits that came and how far their trees go.
func (in *Incoming) measure(a asked, commits []string) error {
	roots := make([]string, 0, len(commits))
	err := a.each("contents", commits, func(id string) error {
		text, err := a.Answer(id, "commit")
		if err != nil {
			return err
		}
		h := git.ParseHeader(text)
		if !h.Readable() {
			return fmt.Errorf("commit %.10s says that its text is in %.40q, which cannot be read here: write it in "+
				"UTF-8 (git commit --amend)", id, h.Encoding)
		}
		if !git.IsID(h.Tree) {
			return fmt.Errorf("commit %.10s has no tree", id)
		}
		roots = append(roots, h.Tree)
		return nil
	})
	if err != nil {
		return err
	}
	m := &measuring{asked: a, known: in.known, b: in.repo.Place().Bounds()}
	for i, root := range roots {
		if _, err := m.tree(root, 0); err != nil {
			return fmt.Errorf("the tree of commit %.10s: %w", commits[i], err)
		}
	}
	return nil
}

// measuring measures trees through one process.
type measuring struct {
	asked
	known *measured
	b     *bounds.Bounds
}

// tree measures a tree that stands in so many others.
func (m *measuring) tree(id string, deep int64) (extent, error) {
	if deep > m.b.PushTreeDepth {
		return extent{}, m.b.Reach("push.tree-depth", "folders stand more than %d deep in each other",
			m.b.PushTreeDepth)
	}
	e, ok := m.known.get(id)
	if !ok {
		text, err := m.contents(id, "tree")
		if err != nil {
			return e, err
		}
		for text != "" {
			mode, child, rest, ok := readEntry(text)
			if !ok {
				return e, fmt.Errorf("tree %.10s is not sound", id)
			}
			text = rest
			if mode != "40000" {
				e.paths++
				continue
			}
			inside, err := m.tree(child, deep+1)
			if err != nil {
				return e, err
			}
			e.paths, e.depth = e.paths+inside.paths, max(e.depth, 1+inside.depth)
			if e.paths > m.b.PushTreePaths {
				break
			}
		}
		if e.paths <= m.b.PushTreePaths {
			m.known.put(id, e)
		}
	}
	switch {
	case e.paths > m.b.PushTreePaths:
		return e, m.b.Reach("push.tree-paths", "it holds more than %d files", m.b.PushTreePaths)
	case deep+e.depth > m.b.PushTreeDepth:
		return e, m.b.Reach("push.tree-depth", "folders stand more than %d deep in each other", m.b.PushTreeDepth)
	}
	return e, nil
}

// readEntry reads the first entry of a tree as stored: "MODE NAME" NUL and twenty bytes of id.
func readEntry(text string) (mode, id, rest string, ok bool) {
	head, rest, ok := strings.Cut(text, "\x00")
	mode, name, spaced := strings.Cut(head, " ")
	if !ok || !spaced || name == "" || len(rest) < 20 {
		return "", "", "", false
	}
	return mode, hex.EncodeToString([]byte(rest[:20])), rest[20:], true
}
