package git

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

// Strategy says how a change's commits come onto the target.
type Strategy string

// The strategies this package can build.
const (
	Rebase Strategy = "rebase" // each commit replayed
	Squash Strategy = "squash" // one commit
	Merge  Strategy = "merge"  // a merge commit
)

// Plan is everything that a rehearsal depends on: building twice from one plan gives the same commit.
type Plan struct {
	Base     string // the target's tip
	Head     string // the change's head
	Strategy Strategy
	// Message, Author and the committer are those of the one new commit of Squash and Merge; Rebase keeps each
	// commit's author and message and takes the committer.
	Message   string
	Author    Signature
	Committer Signature
}

// Built is a rehearsal that was built; its objects are on disk.
type Built struct {
	Commit string
	Tree   string
}

// ConflictError says that the change and the target do not go together.
type ConflictError struct {
	Commit string   // the commit that could not be replayed; empty for the change as a whole
	Files  []string // the conflicting paths
	Text   []string // what git says of each
	ids    []string // of commits made for the purpose
}

// Error names the files.
func (e *ConflictError) Error() string {
	what := "the change"
	if e.Commit != "" {
		what = fmt.Sprintf("commit %.10s", e.Commit)
	}
	return fmt.Sprintf("%s conflicts with the target in %s", what, strings.Join(e.Files, ", "))
}

// NothingError says that the change brings nothing that the target does not have.
type NothingError struct{}

// Error says so.
func (NothingError) Error() string { return "the target has everything the change brings already" }

// Build makes the commit that the target would move to if the change landed on Base. It needs no checkout and
// touches no ref. On failure the repository is as it was; the error may be a *ConflictError or a NothingError.
func (r *Repo) Build(ctx context.Context, p Plan) (Built, error) {
	view, dir, err := r.scratch()
	if err != nil {
		return Built{}, err
	}
	defer os.RemoveAll(dir)
	b := builder{repo: view, dir: dir, plan: p, aside: map[string]bool{}}
	var built Built
	switch p.Strategy {
	case Rebase:
		built, err = b.rebase(ctx)
	case Squash, Merge:
		built, err = b.merge(ctx)
	default:
		return Built{}, fmt.Errorf("strategy %q cannot be built", p.Strategy)
	}
	if err != nil {
		return Built{}, err
	}
	if b.wrote {
		if err := b.keep(ctx, r); err != nil {
			return Built{}, fmt.Errorf("store the rehearsal: %w", err)
		}
	}
	return built, nil
}

// keep copies the new objects, but for those made only to build others, into the repository, synced to disk.
func (b *builder) keep(ctx context.Context, r *Repo) error {
	var list, pack bytes.Buffer
	err := filepath.WalkDir(b.dir, func(path string, d os.DirEntry, err error) error {
		if id := filepath.Base(filepath.Dir(path)) + d.Name(); err == nil && IsID(id) && !b.aside[id] {
			list.WriteString(id + "\n")
		}
		return err
	})
	if err != nil {
		return err
	}
	if err := b.repo.stream(ctx, &list, &pack, "pack-objects", "-q", "--stdout", "--window=0"); err != nil {
		return err
	}
	_, err = r.run(ctx, &pack, "index-pack", "--stdin") // two files to sync, however many objects
	return err
}

// builder builds one rehearsal in a scratch view.
type builder struct {
	repo  *Repo
	dir   string // the scratch folder
	plan  Plan
	wrote bool
	aside map[string]bool // commits made for the purpose, not to be kept
	// baseTree is the tree of the plan's base, found while the commits are read.
	baseTree string
}

func (b *builder) merge(ctx context.Context) (Built, error) {
	if contained, err := b.repo.IsAncestor(ctx, b.plan.Head, b.plan.Base); err != nil || contained {
		return Built{}, firstError(err, NothingError{})
	}
	m, err := b.repo.startMerger(ctx, b.plan.Base)
	if err != nil {
		return Built{}, err
	}
	defer m.close()
	tree, err := m.merge(b.plan.Base, b.plan.Head)
	if err != nil {
		return Built{}, b.named(err, "")
	}
	parents := []string{b.plan.Base}
	if b.plan.Strategy == Merge {
		parents = append(parents, b.plan.Head)
	}
	b.wrote = true
	id, err := b.repo.writeCommit(ctx, commitText(tree, parents, b.plan.Author, b.plan.Committer, b.plan.Message))
	return Built{Commit: id, Tree: tree}, err
}

// rebase replays each commit of the change on the base. A commit that the base has in other clothes, or that
// becomes empty, is left out; a commit that is already in place stays as it is.
//
// Git 2.39 cannot be told the merge base, so each commit C is merged with a commit made for the purpose that has
// the present tree and C's parent as its parent: their merge base is then C's parent.
func (b *builder) rebase(ctx context.Context) (Built, error) {
	picks, err := b.picks(ctx)
	if err != nil {
		return Built{}, err
	}
	m, err := b.repo.startMerger(ctx, b.plan.Base)
	if err != nil {
		return Built{}, err
	}
	defer m.close()
	w, err := b.repo.startWriter(ctx, filepath.Join(b.dir, "commit"))
	if err != nil {
		return Built{}, err
	}
	defer w.close()
	tip, tree := b.plan.Base, b.baseTree
	for _, c := range picks {
		if len(c.parents) == 0 {
			return Built{}, fmt.Errorf("commit %.10s has no parent: histories that share nothing are not rebased", c.id)
		}
		if c.parents[0] == tip {
			tip, tree = c.id, c.tree
			continue
		}
		standIn, err := w.write(commitText(tree, c.parents[:1], Signature{Name: "-", Email: "-"}, Signature{Name: "-", Email: "-"}, "-"))
		if err != nil {
			return Built{}, err
		}
		b.aside[standIn] = true
		merged, err := m.merge(standIn, c.id)
		if err != nil {
			return Built{}, b.named(err, c.id)
		}
		if merged == tree && !c.empty {
			continue
		}
		b.wrote = true
		if tip, err = w.write(c.replayed(merged, tip, b.plan.Committer)); err != nil {
			return Built{}, err
		}
		tree = merged
	}
	if tip == b.plan.Base {
		return Built{}, NothingError{}
	}
	return Built{Commit: tip, Tree: tree}, nil
}

// pick is a commit to replay.
type pick struct {
	id, tree string
	parents  []string
	empty    bool // it changed nothing where it was made
	author   string
	encoding string
	message  string
}

// picks lists the commits to replay, oldest first.
func (b *builder) picks(ctx context.Context) ([]pick, error) {
	out, err := b.repo.run(ctx, nil, "rev-list", "--reverse", "--topo-order", "--right-only", "--cherry-mark", "--no-merges",
		b.plan.Base+"..."+b.plan.Head, "--")
	if err != nil {
		return nil, err
	}
	var ids []string
	for line := range strings.Lines(string(out)) {
		if line = strings.TrimSpace(line); !strings.HasPrefix(line, "=") {
			ids = append(ids, strings.TrimLeft(line, "+>"))
		}
	}
	return b.readPicks(ctx, ids)
}

// readPicks reads the commits, their parents' trees and the base's tree through one process.
func (b *builder) readPicks(ctx context.Context, ids []string) ([]pick, error) {
	r, err := b.repo.startHelper(ctx, "cat-file", "--batch")
	if err != nil {
		return nil, err
	}
	defer r.close()
	known := map[string]pick{}
	read := func(id string) (pick, error) {
		if c, ok := known[id]; ok {
			return c, nil
		}
		text, err := r.object(id)
		known[id] = parsePick(id, text)
		return known[id], err
	}
	base, err := read(b.plan.Base)
	if err != nil {
		return nil, err
	}
	b.baseTree = base.tree
	picks := make([]pick, len(ids))
	for i, id := range ids {
		if picks[i], err = read(id); err != nil {
			return nil, err
		}
		if len(picks[i].parents) == 0 {
			continue
		}
		parent, err := read(picks[i].parents[0])
		if err != nil {
			return nil, err
		}
		picks[i].empty = parent.tree == picks[i].tree
	}
	return picks, nil
}

func parsePick(id, text string) pick {
	c := pick{id: id}
	header, message, _ := strings.Cut(text, "\n\n")
	c.message = message
	for line := range strings.SplitSeq(header, "\n") {
		key, value, _ := strings.Cut(line, " ")
		switch key {
		case "tree":
			c.tree = value
		case "parent":
			c.parents = append(c.parents, value)
		case "author":
			c.author = value
		case "encoding":
			c.encoding = value
		}
	}
	return c
}

// replayed is the text of the commit on its new parent: author and message kept, signature gone.
func (c pick) replayed(tree, parent string, committer Signature) string {
	encoding := ""
	if c.encoding != "" {
		encoding = "encoding " + c.encoding + "\n"
	}
	return fmt.Sprintf("tree %s\nparent %s\nauthor %s\ncommitter %s\n%s\n%s", tree, parent, c.author, committer.header(), encoding, c.message)
}

func commitText(tree string, parents []string, author, committer Signature, message string) string {
	var b strings.Builder
	fmt.Fprintf(&b, "tree %s\n", tree)
	for _, p := range parents {
		fmt.Fprintf(&b, "parent %s\n", p)
	}
	fmt.Fprintf(&b, "author %s\ncommitter %s\n\n%s", author.header(), committer.header(), message)
	if !strings.HasSuffix(message, "\n") {
		b.WriteByte('\n')
	}
	return b.String()
}

// header writes a signature the way a commit has it.
func (s Signature) header() string {
	clean := func(t string) string {
		return strings.TrimSpace(strings.Map(func(c rune) rune {
			if c < ' ' || c == '<' || c == '>' {
				return -1
			}
			return c
		}, t))
	}
	when := s.When.Unix()
	if s.When.IsZero() {
		when = 0
	}
	return fmt.Sprintf("%s <%s> %d %s", clean(s.Name), clean(s.Email), when, s.When.Format("-0700"))
}

func (r *Repo) treeOf(ctx context.Context, commit string) (string, error) {
	out, err := r.run(ctx, nil, "rev-parse", "--verify", "--quiet", commit+"^{tree}")
	return strings.TrimSpace(string(out)), err
}

func (r *Repo) writeCommit(ctx context.Context, text string) (string, error) {
	out, err := r.run(ctx, strings.NewReader(text), "hash-object", "-t", "commit", "-w", "--stdin")
	return strings.TrimSpace(string(out)), err
}

// named turns ids in a conflict's texts into names that people know.
func (b *builder) named(err error, commit string) error {
	c, ok := err.(*ConflictError)
	if !ok {
		return err
	}
	c.Commit = commit
	for i, text := range c.Text {
		text = strings.ReplaceAll(text, b.plan.Head, "the change")
		text = strings.ReplaceAll(text, b.plan.Base, "the target")
		if commit != "" {
			text = strings.ReplaceAll(text, commit, "the change")
		}
		for _, id := range c.ids {
			text = strings.ReplaceAll(text, id, "the target")
		}
		c.Text[i] = text
	}
	return c
}

func firstError(errs ...error) error {
	for _, err := range errs {
		if err != nil {
			return err
		}
	}
	return nil
}

// helper is a git process that answers requests on its standard input, one after the other.
type helper struct {
	in   io.WriteCloser
	out  *bufio.Reader
	wait func() error
}

func (r *Repo) startHelper(ctx context.Context, args ...string) (*helper, error) {
	cmd := r.command(ctx, args...)
	in, err := cmd.StdinPipe()
	if err != nil {
		return nil, err
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	stderr := &tail{max: 8 << 10}
	cmd.Stderr = stderr
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	return &helper{in: in, out: bufio.NewReader(out), wait: func() error { return wrap(args, cmd.Wait(), stderr) }}, nil
}

func (h *helper) close() {
	h.in.Close()
	io.Copy(io.Discard, h.out)
	h.wait()
}

// broken explains an answer that did not come: usually something that git does not know.
func (h *helper) broken(err error) error {
	h.in.Close()
	if said := h.wait(); said != nil {
		return said
	}
	return fmt.Errorf("a git helper ended early: %w", err)
}

// object asks "git cat-file --batch" for a commit's text.
func (h *helper) object(id string) (string, error) {
	if _, err := fmt.Fprintln(h.in, id); err != nil {
		return "", h.broken(err)
	}
	head, err := h.out.ReadString('\n')
	if err != nil {
		return "", h.broken(err)
	}
	var name, kind string
	var size int
	if _, err := fmt.Sscanf(head, "%s %s %d", &name, &kind, &size); err != nil || kind != "commit" {
		return "", fmt.Errorf("%.10s is not a commit: git cat-file says %q", id, strings.TrimSpace(head))
	}
	body := make([]byte, size+1)
	if _, err := io.ReadFull(h.out, body); err != nil {
		return "", h.broken(err)
	}
	return string(body[:size]), nil
}

// writer is a running "git hash-object", which takes the names of files and answers with the ids of what is in them.
type writer struct {
	*helper
	path string
}

func (r *Repo) startWriter(ctx context.Context, path string) (*writer, error) {
	h, err := r.startHelper(ctx, "hash-object", "-t", "commit", "-w", "--stdin-paths")
	return &writer{h, path}, err
}

// write stores a commit and returns its id.
func (w *writer) write(text string) (string, error) {
	if err := os.WriteFile(w.path, []byte(text), 0o600); err != nil {
		return "", err
	}
	if _, err := fmt.Fprintln(w.in, w.path); err != nil {
		return "", w.broken(err)
	}
	id, err := w.out.ReadString('\n')
	if err != nil {
		return "", w.broken(err)
	}
	return strings.TrimSpace(id), nil
}

// merger is a running "git merge-tree --stdin". It writes each answer's last byte only with the next answer, so
// every request is followed by one whose answer is known beforehand and short: a commit merged with itself.
type merger struct {
	*helper
	still string // the commit that is merged with itself
	first bool
}

func (r *Repo) startMerger(ctx context.Context, still string) (*merger, error) {
	h, err := r.startHelper(ctx, "merge-tree", "--write-tree", "-z", "--messages", "--stdin")
	return &merger{helper: h, still: still, first: true}, err
}

// merge merges two commits and returns the tree, or a *ConflictError.
func (m *merger) merge(ours, theirs string) (string, error) {
	if _, err := fmt.Fprintf(m.in, "%s %s\n%s %s\n", ours, theirs, m.still, m.still); err != nil {
		return "", m.broken(err)
	}
	if !m.first {
		if _, err := m.token(); err != nil { // the last byte of the answer before
			return "", err
		}
	}
	m.first = false
	tree, conflict, err := m.answer(true)
	if err != nil {
		return "", err
	}
	if _, _, err := m.answer(false); err != nil {
		return "", err
	}
	if conflict != nil {
		conflict.ids = []string{ours}
		return "", conflict
	}
	return tree, nil
}

// answer reads one answer; whole says whether its last byte has come already.
func (m *merger) answer(whole bool) (string, *ConflictError, error) {
	status, err := m.token()
	if err != nil {
		return "", nil, err
	}
	tree, err := m.token()
	if err != nil {
		return "", nil, err
	}
	conflict := &ConflictError{}
	for { // mode, id, stage and path of each conflicting file
		t, err := m.token()
		if err != nil {
			return "", nil, err
		}
		if t == "" {
			break
		}
		if _, path, ok := strings.Cut(t, "\t"); ok && !slices.Contains(conflict.Files, path) {
			conflict.Files = append(conflict.Files, path)
		}
	}
	for whole {
		more, err := m.message(conflict)
		if err != nil {
			return "", nil, err
		}
		if !more {
			break
		}
	}
	if status == "1" {
		return tree, nil, nil
	}
	return "", conflict, nil
}

// message reads one message: a count, that many paths, a type and a text. It returns false at the end of them.
func (m *merger) message(conflict *ConflictError) (bool, error) {
	count, err := m.token()
	if err != nil || count == "" {
		return false, err
	}
	var n int
	if _, err := fmt.Sscanf(count, "%d", &n); err != nil {
		return false, fmt.Errorf("git merge-tree: unreadable count %q", count)
	}
	var tokens []string
	for range n + 2 {
		t, err := m.token()
		if err != nil {
			return false, err
		}
		tokens = append(tokens, t)
	}
	if kind := tokens[n]; strings.HasPrefix(kind, "CONFLICT") {
		conflict.Text = append(conflict.Text, strings.TrimSpace(tokens[n+1]))
		for _, path := range tokens[:n] {
			if !slices.Contains(conflict.Files, path) {
				conflict.Files = append(conflict.Files, path)
			}
		}
	}
	return true, nil
}

func (m *merger) token() (string, error) {
	s, err := m.out.ReadString(0)
	if err != nil {
		return "", m.broken(err)
	}
	return strings.TrimSuffix(s, "\x00"), nil
}

// SameDifference says whether a change that was rebased, folded or otherwise rewritten still brings exactly what
// it brought before: whether the old head, merged onto the new base, gives the new head's tree. Anything but a
// clean merge with that very tree is a "no".
func (r *Repo) SameDifference(ctx context.Context, oldBase, oldHead, newBase, newHead string) (bool, error) {
	if oldHead == newHead && oldBase == newBase {
		return true, nil
	}
	view, dir, err := r.scratch()
	if err != nil {
		return false, err
	}
	defer os.RemoveAll(dir)
	baseTree, err := r.treeOf(ctx, newBase)
	if err != nil {
		return false, err
	}
	headTree, err := r.treeOf(ctx, newHead)
	if err != nil {
		return false, err
	}
	nobody := Signature{Name: "-", Email: "-", When: time.Unix(0, 0).UTC()}
	standIn, err := view.writeCommit(ctx, commitText(baseTree, []string{oldBase}, nobody, nobody, "-"))
	if err != nil {
		return false, err
	}
	m, err := view.startMerger(ctx, newBase)
	if err != nil {
		return false, err
	}
	defer m.close()
	tree, err := m.merge(standIn, oldHead)
	if _, conflict := err.(*ConflictError); conflict {
		return false, nil
	}
	return err == nil && tree == headTree, err
}
