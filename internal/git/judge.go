package git

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
)

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
func (r *Repo) Judge(ctx context.Context, s Shown, onto string) (tree string, err error) {
	ctx, leave, err := r.program.enter(ctx)
	if err != nil {
		return "", err
	}
	defer leave()
	if s.Base == onto {
		return r.treeOf(ctx, s.Head)
	}
	view, dir, err := r.scratch()
	if err != nil {
		return "", err
	}
	defer os.RemoveAll(dir)
	tree, stages, err := view.judge(ctx, s, onto)
	if err == nil && len(stages) > 0 {
		return "", conflictOf(stages)
	}
	return tree, err
}

// judge is Judge in a view that may be written to; with conflicts, the tree has Git's marks in it.
func (r *Repo) judge(ctx context.Context, s Shown, onto string) (string, []stage, error) {
	ours, err := r.treeOf(ctx, onto)
	if err != nil {
		return "", nil, err
	}
	if s.Base == onto {
		tree, err := r.treeOf(ctx, s.Head)
		return tree, nil, err
	}
	standIn, err := r.writeCommit(ctx, standInText(ours, s.Base))
	if err != nil {
		return "", nil, err
	}
	return r.mergeTree(ctx, standIn, s.Head)
}

// Same says whether two revisions bring the same to a commit: whether both make the same tree of it. Where either does
// not go together with it the answer is no.
func (r *Repo) Same(ctx context.Context, a, b Shown, onto string) (bool, error) {
	var trees [2]string
	for i, s := range []Shown{a, b} {
		var conflict *ConflictError
		var err error
		if trees[i], err = r.Judge(ctx, s, onto); errors.As(err, &conflict) {
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
func (r *Repo) mergeTree(ctx context.Context, ours, theirs string) (string, []stage, error) {
	out, err := r.run(ctx, nil, "merge-tree", "--write-tree", "-z", "--no-messages", ours, theirs)
	// a conflict exits with 1, and so does an unknown name
	if code := exitCode(err); err != nil && (code != 1 || len(out) == 0) {
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
	if !ok || !IsID(tree) {
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
	if !ok || len(f) != 3 || len(f[2]) != 1 || f[2][0] < '1' || f[2][0] > '3' || !IsID(f[1]) || path == "" {
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

const submoduleMode = "160000"

func whatConflicts(mode map[byte]string) string {
	switch {
	case slices.Contains([]string{mode[1], mode[2], mode[3]}, submoduleMode):
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

// MergeBases returns the best common ancestors of two commits: none when they share no history, several where each has
// taken in what the other had.
func (r *Repo) MergeBases(ctx context.Context, a, b string) ([]string, error) {
	out, err := r.run(ctx, nil, "merge-base", "--all", a, b)
	if exitCode(err) == 1 {
		return nil, nil
	}
	return strings.Fields(string(out)), err
}

// CarryOver returns the tree that a revision would make on another base, for showing what came since. Files in which
// the two do not go together stand in it as the revision's head has them, and are named.
func (r *Repo) CarryOver(ctx context.Context, s Shown, onto string) (tree string, conflicting []string, err error) {
	ctx, leave, err := r.program.enter(ctx)
	if err != nil {
		return "", nil, err
	}
	defer leave()
	tree, stages, err := r.judge(ctx, s, onto)
	if err != nil || len(stages) == 0 {
		return tree, nil, err
	}
	files := conflictOf(stages).Files
	tree, err = r.replaced(ctx, tree, s.Head, files)
	return tree, files, err
}
