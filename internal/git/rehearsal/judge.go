// Package rehearsal says what a change brings to a commit, and builds the commit that a branch would move to.
//
// One judge says what a change brings (Judge), and every strategy is held to it (Build). The package promises that
// building needs no checkout and touches no ref, that building twice from one plan gives the same commit, and that what
// failed leaves nothing behind. Which change is built on what, and when, is decided by others (see package landing).
package rehearsal

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"tavrin/internal/git"
	"tavrin/internal/git/internal/process"
)

// ground is a repository in which something is built, or a view of it that may be written to.
type ground struct {
	*git.Repo
	at process.Place
}

func on(at process.Place) ground { return ground{git.On(at), at} }

// scratch returns a view of a repository of whose new objects nothing stays once it is left.
func (r ground) scratch() (view ground, leave func(), err error) {
	at, dir, err := r.at.Scratch()
	if err != nil {
		return r, nil, err
	}
	return on(at), func() { os.RemoveAll(dir) }, nil // what stays is swept at the next start
}

// Shown is a change as people see it: what Head brings to Base, which comes before it.
type Shown struct {
	Base, Head string
}

// Judge says what a change brings to a commit: the tree of the three-way merge with the base that was shown with it,
// the commit as ours, and the change's head as theirs. It is the only judge: what lands is this tree, whatever the
// strategy (docs/decisions, "one tree"), and an approval of another revision counts when both make the same tree. Where
// the two do not go together it returns a *ConflictError.
//
// Git 2.39 cannot be told a merge base, so a commit is made for the purpose that has the tree of onto and the shown
// base as its only parent: their merge base is then the shown one, whatever the histories.
func Judge(ctx context.Context, repo *git.Repo, s Shown, onto string) (tree string, err error) {
	if s.Base == onto {
		return repo.TreeOf(ctx, s.Head)
	}
	err = on(repo.Place()).with(ctx, onto, func(_ context.Context, c *crew) error {
		tree, err = c.judge(s, onto)
		return err
	})
	return tree, err
}

// marked is Judge by a process of its own, which leaves Git's marks where there are conflicts; ours is the commit that stands
// for onto in them. What it makes is written where at says.
func (c *crew) marked(ctx context.Context, at ground, s Shown, onto string) (tree, ours string, stages []stage, err error) {
	if s.Base == onto {
		tree, err = c.tree(s.Head)
		return tree, onto, nil, err
	}
	held, err := c.tree(onto)
	if err != nil {
		return "", "", nil, err
	}
	if ours, err = at.WriteCommit(ctx, standInText(held, s.Base)); err != nil {
		return "", "", nil, err
	}
	c.own[ours] = true
	tree, stages, err = c.mergeTree(ctx, at, onto, ours, s.Head)
	return tree, ours, stages, err
}

// mergeTree merges two commits by a process of its own, by the attributes of onto.
func (c *crew) mergeTree(ctx context.Context, at ground, onto, ours, theirs string) (string, []stage, error) {
	if c.folder != "" {
		at = on(at.at.Honouring(c.folder, onto))
	}
	return at.mergeTree(ctx, ours, theirs)
}

// Same says whether two revisions bring the same to a commit: whether both make the same tree of it. Where either does
// not go together with it the answer is no.
func Same(ctx context.Context, repo *git.Repo, a, b Shown, onto string) (bool, error) {
	var trees [2]string
	for i, s := range []Shown{a, b} {
		var conflict *ConflictError
		var err error
		if trees[i], err = Judge(ctx, repo, s, onto); errors.As(err, &conflict) {
			return false, nil
		} else if err != nil {
			return false, err
		}
	}
	return trees[0] == trees[1], nil
}

// stage is one side of a path that does not merge: stage 1 is the common ancestor's, 2 ours, 3 theirs.
type stage struct {
	mode, id string
	number   byte
	path     string
}

// mergeTree merges two commits by themselves, as "git merge" would, and returns the tree and what conflicts.
func (r ground) mergeTree(ctx context.Context, ours, theirs string) (string, []stage, error) {
	out, err := r.at.Run(ctx, nil, "merge-tree", "--write-tree", "-z", "--no-messages", ours, theirs)
	// a conflict exits with 1, and so does an unknown name
	if code := process.ExitCode(err); err != nil && (code != 1 || len(out) == 0) {
		return "", nil, err
	}
	tree, stages, left, ok := readMerge(string(out))
	if !ok || left != "" || (err != nil) != (len(stages) > 0) {
		return "", nil, fmt.Errorf("git merge-tree answered %.80q", out)
	}
	return tree, stages, nil
}

// readMerge reads an answer of "git merge-tree -z": the tree, NUL, for each side of a path that conflicts "MODE ID
// STAGE\tPATH" NUL.
func readMerge(out string) (tree string, stages []stage, left string, ok bool) {
	tree, left, ok = strings.Cut(out, "\x00")
	if !ok || !git.IsID(tree) {
		return "", nil, out, false
	}
	for left != "" {
		var record string
		if record, left, ok = strings.Cut(left, "\x00"); !ok || record == "" {
			return tree, stages, left, ok
		}
		s, ok := readStage(record)
		if !ok {
			return tree, stages, left, false
		}
		stages = append(stages, s)
	}
	return tree, stages, left, true
}

// readStage reads "MODE ID STAGE\tPATH".
func readStage(record string) (stage, bool) {
	meta, path, ok := strings.Cut(record, "\t")
	f := strings.Split(meta, " ")
	if !ok || len(f) != 3 || len(f[2]) != 1 || f[2][0] < '1' || f[2][0] > '3' || !git.IsID(f[1]) || path == "" {
		return stage{}, false
	}
	return stage{f[0], f[1], f[2][0] - '0', path}, true
}

// ConflictError says that a change and a commit do not go together.
type ConflictError struct {
	Commit string   // the commit that could not be replayed; empty for the change as a whole
	Files  []string // the conflicting paths
	Text   []string // what is the matter with each, as "PATH (deleted on one side, changed on the other)"
}

// Error names the files, and what is the matter with them.
func (e *ConflictError) Error() string {
	what := "the change"
	if e.Commit != "" {
		what = fmt.Sprintf("commit %.10s", e.Commit)
	}
	return fmt.Sprintf("%s conflicts with the target in %s", what, few(e.Text))
}

// few lists the first of many.
func few(texts []string) string {
	if len(texts) > 12 {
		return fmt.Sprintf("%s and %d more", strings.Join(texts[:10], ", "), len(texts)-10)
	}
	return strings.Join(texts, ", ")
}

// conflictOf puts the sides of what conflicts into words.
func conflictOf(stages []stage) *ConflictError {
	e := &ConflictError{}
	sides := map[string]map[byte]string{}
	for _, s := range stages {
		if sides[s.path] == nil {
			sides[s.path] = map[byte]string{}
			e.Files = append(e.Files, s.path)
		}
		sides[s.path][s.number] = s.mode
	}
	for _, path := range e.Files {
		e.Text = append(e.Text, visiblePath(path)+whatConflicts(sides[path]))
	}
	return e
}

// visiblePath is a path fit for a sentence.
func visiblePath(path string) string {
	return strings.ToValidUTF8(strings.Map(func(c rune) rune {
		if c < ' ' || c == 0x7f {
			return '\uFFFD'
		}
		return c
	}, path), "\uFFFD")
}

func whatConflicts(mode map[byte]string) string {
	switch {
	case slices.Contains([]string{mode[1], mode[2], mode[3]}, git.SubmoduleMode):
		return " (a submodule, on which both sides went different ways)"
	case mode[1] != "" && (mode[2] == "") != (mode[3] == ""):
		return " (removed or renamed on one side, changed on the other)"
	case mode[1] == "" && mode[2] != "" && mode[3] != "":
		return " (added on both sides)"
	case mode[1] == "":
		return " (a name that the other side uses otherwise)"
	}
	return ""
}

// CarryOver returns the tree that a revision would make on another base, for showing what came since. Files in which
// the two do not go together stand in it as the revision's head has them, and are named.
func CarryOver(ctx context.Context, repo *git.Repo, s Shown, onto string) (tree string, conflicting []string, err error) {
	r := on(repo.Place())
	err = r.with(ctx, onto, func(ctx context.Context, c *crew) error {
		var stages []stage
		if tree, _, stages, err = c.marked(ctx, r, s, onto); err != nil || len(stages) == 0 {
			return err
		}
		conflicting = conflictOf(stages).Files
		tree, err = r.Replaced(ctx, tree, s.Head, conflicting)
		return err
	})
	return tree, conflicting, err
}
