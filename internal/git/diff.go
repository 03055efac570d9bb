package git

import (
	"bytes"
	"context"
	"fmt"
	"strconv"
	"strings"
)

// EmptyTree is the id of the tree that holds nothing: what the first commit of a history is compared with.
const EmptyTree = "4b825dc642cb6eb9a060e54bf8d69288fbee4904"

// FileDiff is one path of a difference.
type FileDiff struct {
	Path       string
	OldPath    string // of a rename; otherwise empty
	Status     string // added, deleted, changed, renamed or type changed
	OldMode    string // as Git writes it, such as 100644; 000000: there was none
	NewMode    string
	Similarity int // of a rename, in percent: 100 means that it was only moved
	Added      int // lines
	Removed    int
	Binary     bool
}

// DiffOptions say how a difference is shown.
type DiffOptions struct {
	IgnoreSpace bool // lines that differ only in white space are the same
	Context     int  // lines around what differs
}

func (o DiffOptions) args() []string {
	args := []string{fmt.Sprintf("-U%d", o.Context)}
	if o.IgnoreSpace {
		args = append(args, "-w")
	}
	return args
}

// Diff lists the files that differ between two commits or trees, renames found.
func (r *Repo) Diff(ctx context.Context, from, to string) ([]FileDiff, error) {
	return r.DiffWith(ctx, from, to, DiffOptions{})
}

// DiffWith is Diff with options. Files that differ in nothing that is shown are left out.
func (r *Repo) DiffWith(ctx context.Context, from, to string, o DiffOptions) ([]FileDiff, error) {
	args := []string{"diff-tree", "-r", "-z", "--raw", "--numstat", "-M", "--no-abbrev"}
	if o.IgnoreSpace {
		args = append(args, "-w")
	}
	out, err := r.run(ctx, nil, append(args, from, to, "--")...)
	if err != nil {
		return nil, err
	}
	files, err := parseRawNumstat(string(out))
	if !o.IgnoreSpace {
		return files, err
	}
	var shown []FileDiff
	for _, f := range files {
		if f.Status != "changed" || f.Binary || f.OldMode != f.NewMode || f.Added+f.Removed > 0 {
			shown = append(shown, f)
		}
	}
	return shown, err
}

var statusWords = map[byte]string{'A': "added", 'D': "deleted", 'M': "changed", 'R': "renamed", 'T': "type changed"}

func parseRawNumstat(out string) ([]FileDiff, error) {
	fields := strings.Split(out, "\x00")
	var files []FileDiff
	index := map[string]int{}
	i := 0
	for ; i < len(fields) && strings.HasPrefix(fields[i], ":"); i++ {
		raw := strings.Fields(fields[i])
		if len(raw) != 5 || i+1 >= len(fields) {
			return nil, fmt.Errorf("git diff-tree: unreadable line %q", fields[i])
		}
		f := FileDiff{Status: statusWords[raw[4][0]], OldMode: raw[0][1:], NewMode: raw[1]}
		i++
		f.Path = fields[i]
		if raw[4][0] == 'R' {
			i++
			f.OldPath, f.Path = f.Path, fields[i]
			f.Similarity, _ = strconv.Atoi(raw[4][1:])
		}
		index[f.Path] = len(files)
		files = append(files, f)
	}
	for ; i < len(fields) && fields[i] != ""; i++ {
		counts := strings.SplitN(fields[i], "\t", 3)
		if len(counts) != 3 {
			return nil, fmt.Errorf("git diff-tree: unreadable counts %q", fields[i])
		}
		path := counts[2]
		if path == "" { // a rename: the two paths follow
			i += 2
			path = fields[i]
		}
		n, ok := index[path]
		if !ok {
			continue
		}
		files[n].Binary = counts[0] == "-"
		files[n].Added, _ = strconv.Atoi(counts[0])
		files[n].Removed, _ = strconv.Atoi(counts[1])
	}
	return files, nil
}

// Patch writes the difference between two commits or trees as a unified diff, at most max bytes of it: of the named files
// only, or of all. It says whether something was left out.
func (r *Repo) Patch(ctx context.Context, from, to string, max int, o DiffOptions, paths ...string) (string, bool, error) {
	args := append([]string{"--literal-pathspecs", "diff-tree", "-r", "-p", "-M", "--no-color", "--no-ext-diff", "--no-textconv"}, o.args()...)
	return r.limited(ctx, max, append(append(args, from, to, "--"), paths...)...)
}

// Parent returns the first parent of a commit, or EmptyTree for one that has none.
func (r *Repo) Parent(ctx context.Context, commit string) (string, error) {
	out, err := r.run(ctx, nil, "rev-list", "--max-count=1", "--parents", commit, "--")
	if err != nil {
		return "", err
	}
	if ids := strings.Fields(string(out)); len(ids) > 1 {
		return ids[1], nil
	}
	return EmptyTree, nil
}

// CarryOver returns the tree that a difference would make on another base: what the old head brings to its base, merged
// onto the new base. Comparing it with a later head shows what came since, without what came only from the other base.
// Files in which the two do not go together stand in it as the old head has them, and are named.
func (r *Repo) CarryOver(ctx context.Context, oldBase, oldHead, newBase string) (tree string, conflicting []string, err error) {
	if oldBase == newBase {
		tree, err = r.treeOf(ctx, oldHead)
		return tree, nil, err
	}
	baseTree, err := r.treeOf(ctx, newBase)
	if err != nil {
		return "", nil, err
	}
	standIn, err := r.writeCommit(ctx, commitText(baseTree, []string{oldBase}, Signature{Name: "-", Email: "-"}, Signature{Name: "-", Email: "-"}, "-"))
	if err != nil {
		return "", nil, err
	}
	out, err := r.run(ctx, nil, "merge-tree", "--write-tree", "-z", "--name-only", "--no-messages", standIn, oldHead)
	fields := strings.Split(strings.TrimSuffix(string(out), "\x00"), "\x00")
	if !IsID(fields[0]) {
		return "", nil, firstError(err, fmt.Errorf("git merge-tree answered %.40q", out))
	}
	if exitCode(err) != 1 {
		return fields[0], nil, err
	}
	tree, err = r.replaced(ctx, fields[0], oldHead, fields[1:])
	return tree, fields[1:], err
}

// replaced returns a tree in which some paths stand as another commit has them.
func (r *Repo) replaced(ctx context.Context, tree, commit string, paths []string) (string, error) {
	return r.rewritten(ctx, tree, func(view *Repo, entries *bytes.Buffer) error {
		for _, p := range paths {
			fmt.Fprintf(entries, "0 %s\t%s\x00", ZeroID, p)
		}
		has, err := view.run(ctx, nil, append([]string{"--literal-pathspecs", "ls-tree", "-z", "-r", "--full-tree", commit, "--"}, paths...)...)
		for record := range strings.SplitSeq(string(has), "\x00") {
			meta, path, ok := strings.Cut(record, "\t")
			if f := strings.Fields(meta); ok && len(f) == 3 {
				fmt.Fprintf(entries, "%s %s\t%s\x00", f[0], f[2], path)
			}
		}
		return err
	})
}
