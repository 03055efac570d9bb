package rehearsal

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"tavrin/internal/core/change"
	"tavrin/internal/core/fold"
	"tavrin/internal/core/trailer"
	"tavrin/internal/git"
	"tavrin/internal/git/internal/process"
)

// Strategy says how a change's commits come onto the target.
type Strategy string

// The strategies this package can build.
const (
	Rebase Strategy = "rebase" // each commit replayed
	Squash Strategy = "squash" // one commit
	Merge  Strategy = "merge"  // a merge commit
	// Fold is Rebase with marked commits folded into others.
	Fold Strategy = "fold"
	// FastForward is the change's own head.
	FastForward Strategy = "fast-forward"
	// SquashThenMerge and RebaseThenMerge are followed by a merge commit.
	SquashThenMerge Strategy = "squash-then-merge"
	RebaseThenMerge Strategy = "rebase-then-merge"
)

// Plan is everything that a rehearsal depends on: building twice from one plan gives the same commit.
type Plan struct {
	Base     string // the target's tip
	Head     string // the change's head
	Strategy Strategy
	// Shown is the base that was shown with the change: what it brings is judged by it. Empty: what Git's own merge of
	// the two brings, for a branch that is brought up to another.
	Shown string
	// Order lists the commits of the change, the newest first, as the gate knows them: by its order they are replayed and folded.
	// Empty: by Git's.
	Order []string
	// Landed are commits of the change that have landed in other clothes: they are not replayed.
	Landed map[string]bool
	// Genuine are commits of which the records know that they landed: they keep the trailers that only the service
	// writes.
	Genuine map[string]bool
	// Message, Author and the committer are those of the one new commit of Squash and Merge, and of the merge commit that
	// follows others; the squash before it has the message without what only the service says. Where commits are replayed
	// each keeps its author and message and takes the committer.
	Message   string
	Author    git.Signature
	Committer git.Signature
	// KeepEmpty refuses a strategy by which a commit would have to be left out because it changes nothing.
	KeepEmpty bool
	// Sign adds a signature to the text of each new commit, the same one to the same text; nil: none is signed.
	Sign func(commit string) (string, error)
}

// Built is a rehearsal that was built; its objects are on disk.
type Built struct {
	Commit string
	Tree   string
	Left   int // commits that were left out, because they would have changed nothing
}

// DifferentError says that a strategy would not land what was shown of the change, although the change by itself goes
// together with the target.
type DifferentError struct {
	Strategy Strategy
	Files    []string       // in which it would land something else
	Conflict *ConflictError // why it cannot be written at all; nil: it can
	Unshown  string         // a commit that would come with it and was not shown; empty: none
	Behind   bool           // the target has commits that the change does not have
	Emptied  string         // a commit that would change nothing, where none may be left out; empty: none
	Mixed    string         // a commit of another character encoding than those that are folded into it; empty: none
}

// Error says what would be different.
func (e *DifferentError) Error() string {
	switch {
	case e.Behind:
		return fmt.Sprintf("by %s nothing can be written: the target has commits that the branch does not have", e.Strategy)
	case e.Emptied != "":
		return fmt.Sprintf("by %s commit %.10s would change nothing, and the rules have no such commit left out", e.Strategy, e.Emptied)
	case e.Mixed != "":
		return fmt.Sprintf("by %s the message of commit %.10s would be written in two character encodings", e.Strategy, e.Mixed)
	case e.Unshown != "":
		return fmt.Sprintf("by %s commit %.10s would come with it, which was not shown", e.Strategy, e.Unshown)
	case e.Conflict != nil && e.Conflict.Commit != "":
		return fmt.Sprintf("by %s commit %.10s conflicts in %s, although the change as a whole does not", e.Strategy,
			e.Conflict.Commit, few(e.Conflict.Text))
	case e.Conflict != nil:
		return fmt.Sprintf("Git's own %s conflicts in %s, although what was shown does not", e.Strategy,
			few(e.Conflict.Text))
	}
	return fmt.Sprintf("by %s something else than was shown would land in %s", e.Strategy, few(e.Files))
}

// NothingError says that the change brings nothing that the target does not have.
type NothingError struct{}

// Error says so.
func (NothingError) Error() string { return "the target has everything the change brings already" }

// Build makes the commit that the target would move to if the change landed on Base. It needs no checkout and touches
// no ref. What lands is the judge's tree: a strategy that would make another is refused with a *DifferentError. On
// failure the repository is as it was; the error may be a *ConflictError or a NothingError too.
func Build(ctx context.Context, repo *git.Repo, p Plan) (Built, error) {
	return on(repo.Place()).build(ctx, p, true)
}

// Try is Build without storing anything: it says whether the plan can be built.
func Try(ctx context.Context, repo *git.Repo, p Plan) error {
	_, err := on(repo.Place()).build(ctx, p, false)
	return err
}

// Show is Build without storing anything: it lists the commits that would come to the target, the newest first.
func Show(ctx context.Context, repo *git.Repo, p Plan) ([]git.Commit, error) {
	var out []git.Commit
	_, err := on(repo.Place()).built(ctx, p, func(ctx context.Context, b *builder, built Built) (err error) {
		out, err = b.repo.LogAll(ctx, built.Commit, []string{p.Base}, "change.commits")
		return err
	})
	return out, err
}

func (r ground) build(ctx context.Context, p Plan, keep bool) (Built, error) {
	return r.built(ctx, p, func(ctx context.Context, b *builder, _ Built) error {
		if !b.wrote || !keep {
			return nil
		}
		if err := b.keep(ctx, r); err != nil {
			return fmt.Errorf("store the rehearsal: %w", err)
		}
		return nil
	})
}

// built builds where nothing stays, and has something done with it while it is there.
func (r ground) built(ctx context.Context, p Plan, then func(context.Context, *builder, Built) error) (built Built, err error) {
	err = r.with(ctx, p.Base, func(ctx context.Context, c *crew) error {
		b := builder{crew: c, repo: c.view, plan: p}
		if built, err = b.build(ctx); err != nil {
			return err
		}
		return then(ctx, &b, built)
	})
	if err != nil {
		return Built{}, err
	}
	return built, nil
}

func (b *builder) build(ctx context.Context) (built Built, err error) {
	if err := b.begin(ctx); err != nil {
		return Built{}, err
	}
	switch p := b.plan; p.Strategy {
	case Rebase, Fold, RebaseThenMerge:
		if built, err = b.rebase(ctx, p.Landed); len(p.Landed) > 0 && errors.As(err, new(*DifferentError)) {
			built, err = b.rebase(ctx, nil) // what landed may have been taken back since
		}
		if err == nil && p.Strategy == RebaseThenMerge {
			built, err = b.follow(built)
		}
		return built, err
	case Squash, Merge, SquashThenMerge:
		return b.merge(ctx)
	case FastForward:
		return b.forward(ctx)
	default:
		return Built{}, fmt.Errorf("strategy %q cannot be built", p.Strategy)
	}
}

// begin finds out what the change brings, and the tree that has to come out. What is to be replayed is listed by a process of
// its own meanwhile.
func (b *builder) begin(ctx context.Context) error {
	type listed struct {
		ids []string
		err error
	}
	replays := change.Strategy(b.plan.Strategy).Replays()
	listing := make(chan listed, 1)
	go func() {
		var l listed
		if replays {
			l.ids, l.err = b.toReplay(ctx)
		}
		listing <- l
	}()
	judgeErr := b.judgeIt()
	l := <-listing
	if l.err != nil {
		return l.err
	}
	if len(l.ids) == 0 { // what brings a commit is not contained
		if contained, err := b.repo.IsAncestor(ctx, b.plan.Head, b.plan.Base); err != nil || contained {
			return cmp.Or[error](err, NothingError{})
		}
	}
	if judgeErr != nil {
		return judgeErr
	}
	var err error
	b.picks, err = b.readPicks(l.ids)
	return err
}

// judgeIt finds the tree that has to come out.
func (b *builder) judgeIt() (err error) {
	if b.baseTree, err = b.tree(b.plan.Base); err != nil {
		return err
	}
	if b.plan.Shown == "" {
		b.judged, err = b.crew.merge.merge(b.plan.Base, b.plan.Head)
	} else {
		b.judged, err = b.judge(Shown{b.plan.Shown, b.plan.Head}, b.plan.Base)
	}
	return err
}

// different says in what a strategy's tree differs from the judge's.
func (b *builder) different(ctx context.Context, tree string) error {
	files, err := b.repo.Diff(ctx, b.judged, tree)
	if err != nil {
		return err
	}
	e := &DifferentError{Strategy: b.plan.Strategy}
	for _, f := range files {
		e.Files = append(e.Files, visiblePath(f.Path))
	}
	return e
}

// keep stores what was written, but for commits made only to build others, in the repository, synced to disk. What lies
// in the scratch folder is what the repository lacks: asking Git what the commit needs would walk whole trees. A pack is
// two files to sync, however many objects; it is written beside where it will stand, and found once its index is there.
func (c *crew) keep(ctx context.Context, r ground) error {
	var list bytes.Buffer
	err := filepath.WalkDir(c.dir, func(path string, d os.DirEntry, err error) error {
		if id := filepath.Base(filepath.Dir(path)) + d.Name(); err == nil && git.IsID(id) && !c.own[id] {
			list.WriteString(id + "\n")
		}
		return err
	})
	if err != nil {
		return err
	}
	packs := filepath.Join(r.at.Dir, "objects", "pack")
	if _, err = r.at.Reading(c.dir).Run(ctx, &list, "pack-objects", "-q", "--window=0", filepath.Join(packs, "pack")); err != nil {
		return err
	}
	return process.SyncFolder(packs)
}

// builder builds one rehearsal.
type builder struct {
	*crew
	repo     ground // in the scratch folder
	plan     Plan
	wrote    bool
	picks    []pick // the commits to replay
	baseTree string // of the plan's base
	judged   string // the tree that has to come out
}

// merge writes the judge's tree as one commit. A merge is written only where Git's own merge makes that tree too, so
// that its commit is what it seems to be.
func (b *builder) merge(ctx context.Context) (Built, error) {
	parents := []string{b.plan.Base}
	if b.plan.Strategy != Merge && b.judged == b.baseTree {
		return Built{}, NothingError{}
	}
	b.wrote = true
	switch b.plan.Strategy {
	case Merge:
		parents = append(parents, b.plan.Head)
		if err := b.mergeable(ctx); err != nil {
			return Built{}, err
		}
	case SquashThenMerge:
		squashed, err := b.commitOf(git.CommitText(b.judged, parents, b.plan.Author, b.plan.Committer, trailer.Drop(b.plan.Message)))
		if err != nil {
			return Built{}, err
		}
		parents = append(parents, squashed)
	}
	id, err := b.commitOf(git.CommitText(b.judged, parents, b.plan.Author, b.plan.Committer, b.plan.Message))
	return Built{Commit: id, Tree: b.judged}, err
}

// follow makes the merge commit that follows what was built, which has the same tree.
func (b *builder) follow(built Built) (Built, error) {
	b.wrote = true
	id, err := b.commitOf(git.CommitText(b.judged, []string{b.plan.Base, built.Commit}, b.plan.Author, b.plan.Committer, b.plan.Message))
	return Built{Commit: id, Tree: b.judged, Left: built.Left}, err
}

// forward is the change's head itself, where it stands on the base and brings what was shown.
func (b *builder) forward(ctx context.Context) (Built, error) {
	ahead, err := b.repo.IsAncestor(ctx, b.plan.Base, b.plan.Head)
	if err != nil {
		return Built{}, err
	}
	if !ahead {
		return Built{}, &DifferentError{Strategy: b.plan.Strategy, Behind: true}
	}
	if err := b.shown(ctx); err != nil {
		return Built{}, err
	}
	text, err := b.read.Object(b.plan.Head, "commit")
	if err != nil {
		return Built{}, err
	}
	switch tree := git.ParseHeader(text).Tree; tree {
	case b.baseTree:
		return Built{}, NothingError{}
	case b.judged:
		return Built{Commit: b.plan.Head, Tree: tree}, nil
	default:
		return Built{}, b.different(ctx, tree)
	}
}

// commitOf writes a commit that is to land.
func (b *builder) commitOf(text string) (id string, err error) {
	if b.plan.Sign != nil {
		if text, err = b.plan.Sign(text); err != nil {
			return "", err
		}
	}
	return b.write.write(text)
}

// mergeable says why a merge commit would not be what it seems to be.
func (b *builder) mergeable(ctx context.Context) error {
	if b.plan.Shown == "" {
		return nil
	}
	if err := b.shown(ctx); err != nil {
		return err
	}
	own, stages, err := b.mergeTree(ctx, b.repo, b.plan.Base, b.plan.Base, b.plan.Head)
	switch {
	case err != nil:
		return err
	case len(stages) > 0:
		return &DifferentError{Strategy: b.plan.Strategy, Conflict: conflictOf(stages)}
	case own != b.judged:
		return b.different(ctx, own)
	}
	return nil
}

// shown says whether a commit would come along that was not shown.
func (b *builder) shown(ctx context.Context) error {
	if b.plan.Shown == "" {
		return nil
	}
	// A target whose history was rewritten may lack the base that was shown: its commits would come back with the
	// merge.
	unshown, err := b.repo.at.Run(ctx, nil, "rev-list", "--max-count=1", b.plan.Shown, "^"+b.plan.Base, "--")
	if err != nil {
		return err
	}
	if id := strings.TrimSpace(string(unshown)); id != "" {
		return &DifferentError{Strategy: b.plan.Strategy, Unshown: id}
	}
	return nil
}

// rebase replays each commit of the change on the base, but those in skip. A commit that changes nothing where it is
// replayed is left out; one that is in place already stays as it is. Merge commits are not replayed: what they bring
// beyond their parents is missed by the judge, if it was anything.
func (b *builder) rebase(ctx context.Context, skip map[string]bool) (Built, error) {
	var err error
	tip, tree, left := b.plan.Base, b.baseTree, 0
	for _, c := range b.folded(b.picks) {
		if skip[c.id] && !slices.ContainsFunc(c.with, func(p pick) bool { return !skip[p.id] }) {
			continue
		}
		if len(c.with) == 0 && len(c.parents) > 0 && c.parents[0] == tip && (b.plan.Genuine[c.id] || trailer.Reserved(c.message) == "") {
			tip, tree = c.id, c.tree
			continue
		}
		merged, still := tree, true // still: none of them changes anything
		for _, p := range append([]pick{c}, c.with...) {
			if p.encoding != c.encoding && c.mixed {
				return Built{}, &DifferentError{Strategy: b.plan.Strategy, Mixed: c.id}
			}
			before := merged
			merged, err = b.replay(p, merged)
			still = still && merged == before
			if conflict := (*ConflictError)(nil); errors.As(err, &conflict) {
				return Built{}, &DifferentError{Strategy: b.plan.Strategy, Conflict: conflict}
			}
			if err != nil {
				return Built{}, err
			}
		}
		if merged == tree && !(c.empty && still) {
			if b.plan.KeepEmpty {
				return Built{}, &DifferentError{Strategy: b.plan.Strategy, Emptied: c.id}
			}
			left++
			continue
		}
		b.wrote = true
		if tip, err = b.commitOf(c.replayed(merged, tip, b.plan.Committer)); err != nil {
			return Built{}, err
		}
		tree = merged
	}
	switch {
	case tree != b.judged:
		return Built{}, b.different(ctx, tree)
	case tree == b.baseTree:
		return Built{}, NothingError{}
	}
	return Built{Commit: tip, Tree: tree, Left: left}, nil
}

// replay merges what a commit changed onto a tree. Git 2.39 cannot be told the merge base, so a commit is made for the
// purpose that has the tree and the commit's own parent: their merge base is then that parent. A commit without a
// parent changed nothing into what it holds: both sides get one that holds nothing.
func (b *builder) replay(c pick, tree string) (string, error) {
	theirs, parent := c.id, ""
	if len(c.parents) > 0 {
		parent = c.parents[0]
	} else {
		var err error
		if parent, err = b.commit(git.EmptyTree); err != nil {
			return "", err
		}
		if theirs, err = b.commit(c.tree, parent); err != nil {
			return "", err
		}
	}
	standIn, err := b.commit(tree, parent)
	if err != nil {
		return "", err
	}
	merged, err := b.crew.merge.merge(standIn, theirs)
	if conflict := (*ConflictError)(nil); errors.As(err, &conflict) {
		conflict.Commit = c.id
	}
	return merged, err
}

// pick is a commit to replay.
type pick struct {
	id, tree string
	parents  []string
	empty    bool // it changed nothing where it was made
	author   string
	encoding string
	message  string
	with     []pick // folded into it, in this order
	mixed    bool   // their messages are part of its
}

// folded puts the commits together that come as one, with the message with which they come.
func (b *builder) folded(picks []pick) []pick {
	if b.plan.Strategy != Fold {
		return picks
	}
	list := make([]fold.Commit, len(picks))
	for i, c := range picks {
		list[i] = fold.Commit{ID: c.id, Message: trailer.Drop(c.message)} // as the gate has it
	}
	var out []pick
	for _, f := range fold.Plan(list) {
		c := picks[f.Into]
		if fold.Text(trailer.Drop(c.message)) != f.Message {
			c.message, c.mixed = f.Message, true
		}
		for _, i := range f.With {
			c.with = append(c.with, picks[i])
		}
		out = append(out, c)
	}
	return out
}

// toReplay lists the commits to replay, oldest first: all that the change brings but merges. None is left out for being
// like another.
func (b *builder) toReplay(ctx context.Context) ([]string, error) {
	args := []string{"rev-list", "--reverse", "--topo-order", "--no-merges", b.plan.Head, "^" + b.plan.Base}
	if b.plan.Shown != "" {
		args = append(args, "^"+b.plan.Shown)
	}
	out, err := b.repo.at.Run(ctx, nil, append(args, "--")...)
	ids := strings.Fields(string(out))
	place := map[string]int{}
	for i, id := range b.plan.Order {
		place[id] = i + 1
	}
	if !slices.ContainsFunc(ids, func(id string) bool { return place[id] == 0 }) {
		slices.SortFunc(ids, func(x, y string) int { return place[y] - place[x] })
	}
	return ids, err
}

// readPicks reads the commits and their parents' trees.
func (b *builder) readPicks(ids []string) ([]pick, error) {
	known := map[string]pick{}
	read := func(id string) (pick, error) {
		if c, ok := known[id]; ok {
			return c, nil
		}
		text, err := b.read.Object(id, "commit")
		h := git.ParseHeader(text)
		known[id] = pick{id: id, tree: h.Tree, parents: h.Parents, author: h.Author, encoding: h.Encoding,
			message: h.Message}
		return known[id], err
	}
	var err error
	picks := make([]pick, len(ids))
	for i, id := range ids {
		if picks[i], err = read(id); err != nil {
			return nil, err
		}
		before := pick{tree: git.EmptyTree}
		if len(picks[i].parents) > 0 {
			if before, err = read(picks[i].parents[0]); err != nil {
				return nil, err
			}
		}
		picks[i].empty = before.tree == picks[i].tree
	}
	return picks, nil
}

// replayed is the text of the commit on its new parent: author and message kept, but for trailers that only the service
// writes; signature gone.
func (c pick) replayed(tree, parent string, committer git.Signature) string {
	encoding := ""
	if c.encoding != "" {
		encoding = "encoding " + c.encoding + "\n"
	}
	return fmt.Sprintf("tree %s\nparent %s\nauthor %s\ncommitter %s\n%s\n%s", tree, parent, c.author,
		committer.Line(), encoding, trailer.Drop(fold.Text(c.message)))
}

// standInText is a commit made for the purpose of a merge.
func standInText(tree string, parents ...string) string {
	nobody := git.Signature{Name: "-", Email: "-"}
	return git.CommitText(tree, parents, nobody, nobody, "-")
}

// writer is a running "git hash-object", which takes the names of files and answers with the ids of what is in them.
type writer struct {
	*process.Helper
	path string
}

func startWriter(at process.Place, path string) (*writer, error) {
	h, err := at.Keep("hash-object", "-t", "commit", "-w", "--stdin-paths")
	if err != nil {
		return nil, err
	}
	return &writer{h, path}, nil
}

// write stores a commit and returns its id.
func (w *writer) write(text string) (string, error) {
	if err := os.WriteFile(w.path, []byte(text), 0o600); err != nil {
		return "", err
	}
	if _, err := fmt.Fprintln(w.In, w.path); err != nil {
		return "", w.Broken(err)
	}
	id, err := w.Out.ReadString('\n')
	if err != nil {
		return "", w.Broken(err)
	}
	return strings.TrimSpace(id), nil
}

// merger is a running "git merge-tree --stdin". It writes each answer's last byte only with the next answer, so
// every request is followed by one whose answer is known beforehand and short: a commit merged with itself.
type merger struct {
	*process.Helper
	still string // the commit that is merged with itself
	asked bool   // there was an answer before, whose last byte comes with the next
	spent bool   // it is of no more use
}

func startMerger(at process.Place) (*merger, error) {
	h, err := at.Keep("merge-tree", "--write-tree", "-z", "--messages", "--stdin")
	if err != nil {
		return nil, err
	}
	return &merger{Helper: h}, nil
}

// merge merges two commits and returns the tree, or a *ConflictError, after which the merger is of no more use: what it
// has to say of a conflict is partly advice for people, in no form that can be read.
func (m *merger) merge(ours, theirs string) (string, error) {
	if _, err := fmt.Fprintf(m.In, "%s %s\n%s %s\n", ours, theirs, m.still, m.still); err != nil {
		return "", m.Broken(err)
	}
	if m.asked {
		if _, err := m.token(); err != nil { // the last byte of the answer before
			return "", err
		}
	}
	m.asked, m.spent = true, true
	tree, conflict, err := m.answered(true)
	if err != nil {
		return "", err
	}
	if conflict != nil {
		return "", conflict
	}
	_, _, err = m.answered(false)
	m.spent = err != nil
	return tree, err
}

// answered reads one answer; whole says whether its last byte has come already.
func (m *merger) answered(whole bool) (string, *ConflictError, error) {
	status, err := m.token()
	if err != nil {
		return "", nil, err
	}
	tree, err := m.token()
	if err != nil {
		return "", nil, err
	}
	var stages []stage
	for {
		record, err := m.token()
		if err != nil {
			return "", nil, err
		}
		if record == "" {
			break
		}
		s, ok := readStage(record)
		if !ok {
			return "", nil, fmt.Errorf("git merge-tree answered %.80q", record)
		}
		stages = append(stages, s)
	}
	if len(stages) > 0 || status != "1" || !git.IsID(tree) {
		if len(stages) == 0 {
			return "", nil, fmt.Errorf("git merge-tree answered %.80q", status+" "+tree)
		}
		return "", conflictOf(stages), nil
	}
	for more := whole; more; { // messages: a count, that many paths, a kind and a text; no count ends them
		count, err := m.token()
		if err != nil {
			return "", nil, err
		}
		n, err := strconv.Atoi(count)
		if more = err == nil; more {
			for range n + 2 {
				if _, err := m.token(); err != nil {
					return "", nil, err
				}
			}
		}
	}
	return tree, nil, nil
}

func (m *merger) token() (string, error) {
	s, err := m.Out.ReadString(0)
	if err != nil {
		return "", m.Broken(err)
	}
	return strings.TrimSuffix(s, "\x00"), nil
}
