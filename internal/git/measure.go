package git

import (
	"bytes"
	"context"
	"encoding/hex"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"sync"

	"tavrin/internal/bounds"
)

// A pack of a few hundred kilobytes can hold a tree of a billion paths: six folders in each other, of ten entries each that
// are the same. So what came is measured, object by object, before anything walks it.

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
	_, found := slices.BinarySearchFunc(p.ids, [20]byte(raw), func(a, b [20]byte) int { return bytes.Compare(a[:], b[:]) })
	return found
}

// listed lists the objects in the folder of a push, each within its bound.
func (in *Incoming) listed(ctx context.Context) (*packed, error) {
	alone := &Repo{program: in.repo.program, dir: in.repo.dir, env: []string{"GIT_OBJECT_DIRECTORY=" + in.dir}}
	h, err := alone.startHelper(ctx, "cat-file", "--batch-check", "--batch-all-objects", "--unordered", "--buffer")
	if err != nil {
		return nil, err
	}
	b := in.repo.program.bounds()
	list := &packed{}
	for {
		line, err := h.out.ReadString('\n')
		if err == io.EOF && line == "" {
			break
		}
		id, kind, size, ok := readListed(line)
		if err != nil || !ok {
			h.close()
			return nil, fmt.Errorf("git cat-file: unreadable line %.80q", line)
		}
		if text := kind == "commit" || kind == "tag"; text && size > b.PushTextBytes {
			h.close()
			return nil, b.Reach("push.text-bytes", "%s %.10s has %d bytes", kind, id, size)
		} else if size > b.PushObjectBytes {
			h.close()
			return nil, b.Reach("push.object-bytes", "%s %.10s has %d bytes", kind, id, size)
		}
		if kind == "commit" {
			list.commits = append(list.commits, id)
		}
		raw, _ := hex.DecodeString(id)
		list.ids = append(list.ids, [20]byte(raw))
	}
	h.in.Close()
	slices.SortFunc(list.ids, func(a, b [20]byte) int { return bytes.Compare(a[:], b[:]) })
	return list, h.wait()
}

// readListed reads "ID KIND SIZE\n".
func readListed(line string) (id, kind string, size int64, ok bool) {
	f := strings.Split(strings.TrimSuffix(line, "\n"), " ")
	if len(f) != 3 || !IsID(f[0]) || !slices.Contains([]string{"commit", "tree", "blob", "tag"}, f[1]) {
		return "", "", 0, false
	}
	size, err := strconv.ParseInt(f[2], 10, 64)
	return f[0], f[1], size, err == nil && size >= 0
}

// extent is how far a tree goes.
type extent struct {
	paths int64
	depth int64 // folders in each other, itself counted
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
func (in *Incoming) measure(ctx context.Context, commits []string) error {
	var roots []string
	err := in.view.eachCommit(ctx, commits, func(id, text string) error {
		h := readHeader(text)
		if !readableEncoding(h.encoding) {
			return fmt.Errorf("commit %.10s says that its text is in %.40q, which cannot be read here: write it in UTF-8 (git commit --amend)", id, h.encoding)
		}
		if !IsID(h.tree) {
			return fmt.Errorf("commit %.10s has no tree", id)
		}
		roots = append(roots, h.tree)
		return nil
	})
	if err != nil || len(roots) == 0 {
		return err
	}
	h, err := in.view.startHelper(ctx, "cat-file", "--batch")
	if err != nil {
		return err
	}
	defer h.close()
	m := &measuring{helper: h, known: &in.repo.program.measured, b: in.repo.program.bounds()}
	for i, root := range roots {
		if _, err := m.tree(root, 1); err != nil {
			return fmt.Errorf("the tree of commit %.10s: %w", commits[i], err)
		}
	}
	return nil
}

// measuring measures trees through one process.
type measuring struct {
	*helper
	known *measured
	b     *bounds.Bounds
}

// tree measures a tree that stands so deep in others.
func (m *measuring) tree(id string, deep int64) (extent, error) {
	if deep > m.b.PushTreeDepth {
		return extent{}, m.b.Reach("push.tree-depth", "folders stand more than %d deep in each other", m.b.PushTreeDepth)
	}
	e, ok := m.known.get(id)
	if !ok {
		text, err := m.object(id, "tree")
		if err != nil {
			return e, err
		}
		e.depth = 1
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
	case deep-1+e.depth > m.b.PushTreeDepth:
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
