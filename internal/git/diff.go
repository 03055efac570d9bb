package git

import (
	"bytes"
	"context"
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"unicode/utf8"

	"tavrin/internal/core/change"
)

// SubmoduleMode is the mode of a submodule, as Git writes it.
const SubmoduleMode = "160000"

// FileDiff is one path of a difference.
type FileDiff struct {
	Path       string
	OldPath    string // of a rename; otherwise empty
	Status     string // added, deleted, changed, renamed or type changed
	OldMode    string // as Git writes it, such as 100644; 000000: there was none
	NewMode    string
	Similarity int // of a rename, in percent: 100 means that it was only moved
	Added      int // lines; see weighed
	Removed    int
	Binary     bool
	Odd        bool // text that holds bytes for which Git takes it for binary
	oldID      string
	newID      string
}

// Ways takes the paths of a difference that are added, removed or renamed to those that are so already.
func Ways(files []FileDiff, to *change.Ways) {
	for _, f := range files {
		switch f.Status {
		case "added":
			to.Added = append(to.Added, f.Path)
		case "deleted":
			to.Removed = append(to.Removed, f.Path)
		case "renamed":
			to.Renamed = append(to.Renamed, f.OldPath, f.Path)
		}
	}
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
func (r Trees) Diff(ctx context.Context, from, to string) ([]FileDiff, error) {
	return r.DiffWith(ctx, from, to, DiffOptions{})
}

// rawNumstat are the options of every list of files: renames found, submodules never left out.
var rawNumstat = []string{"-r", "-z", "--raw", "--numstat", "-M", "--no-abbrev", "--ignore-submodules=none",
	"--no-ext-diff", "--no-textconv"}

// DiffWith is Diff with options. Files that differ in nothing that is shown are left out.
func (r Trees) DiffWith(ctx context.Context, from, to string, o DiffOptions) ([]FileDiff, error) {
	args := append([]string{"diff-tree"}, rawNumstat...)
	if o.IgnoreSpace {
		args = append(args, "-w")
	}
	out, err := r.at.Run(ctx, nil, append(args, from, to, "--")...)
	if err != nil {
		return nil, err
	}
	files, left, err := readRawNumstat(string(out))
	if err == nil && left != "" {
		err = fmt.Errorf("git diff-tree: unreadable %.80q", left)
	}
	if err == nil {
		files, err = r.weighed(ctx, files)
	}
	if !o.IgnoreSpace || err != nil {
		return files, err
	}
	var shown []FileDiff
	for _, f := range files {
		if f.Status != "changed" || f.Binary || f.Odd || f.OldMode != f.NewMode || f.Added+f.Removed > 0 {
			shown = append(shown, f)
		}
	}
	return shown, nil
}

const (
	// growthALine is how many bytes count as a line at least, where a text file grows: a file in one line is not small.
	growthALine = 200
	// binaryALine is how many bytes of a binary file count as a line. All of the new content counts as added, all of
	// the old as removed.
	binaryALine = 40
	// oddText is the largest file that is looked into for being text although Git takes it for binary.
	oddText = 1 << 20
)

// weighed counts the lines of what Git does not count: it takes a file for binary for one byte in its first 8,000.
func (r Trees) weighed(ctx context.Context, files []FileDiff) ([]FileDiff, error) {
	var asked strings.Builder
	for _, f := range files {
		for _, id := range f.blobs() {
			asked.WriteString(id + "\n")
		}
	}
	if asked.Len() == 0 {
		return files, nil
	}
	out, err := r.at.Run(ctx, strings.NewReader(asked.String()), "cat-file", "--batch-check=%(objectname) %(objectsize)",
		"--buffer")
	if err != nil {
		return nil, err
	}
	sizes := map[string]int64{}
	for line := range strings.Lines(string(out)) {
		id, size, _ := strings.Cut(strings.TrimSpace(line), " ")
		if n, err := strconv.ParseInt(size, 10, 64); err == nil {
			sizes[id] = n
		}
	}
	for i := range files {
		f := &files[i]
		before, after := sizes[f.oldID], sizes[f.newID]
		if f.Binary {
			f.Added, f.Removed = int((after+binaryALine-1)/binaryALine), int((before+binaryALine-1)/binaryALine)
			if err := r.lookInto(ctx, f, sizes); err != nil {
				return nil, err
			}
			continue
		}
		f.Added = max(f.Added, int((after-before)/growthALine))
		f.Removed = max(f.Removed, int((before-after)/growthALine))
	}
	return files, nil
}

// blobs lists the ids of the file's content, before and after.
func (f *FileDiff) blobs() []string {
	var ids []string
	if f.OldMode != "000000" && f.OldMode != SubmoduleMode {
		ids = append(ids, f.oldID)
	}
	if f.NewMode != "000000" && f.NewMode != SubmoduleMode {
		ids = append(ids, f.newID)
	}
	return ids
}

// lookInto finds out whether a file that Git takes for binary is text, but for some bytes, and counts its lines if so.
func (r Trees) lookInto(ctx context.Context, f *FileDiff, sizes map[string]int64) error {
	var counts [2]int
	blobs := f.blobs()
	for i, id := range blobs {
		if sizes[id] > oddText {
			return nil
		}
		text, err := r.at.Run(ctx, nil, "cat-file", "blob", id)
		if err != nil || !mostlyText(text) {
			return err
		}
		counts[i] = bytes.Count(text, []byte("\n"))
		if len(text) > 0 && text[len(text)-1] != '\n' {
			counts[i]++
		}
	}
	f.Odd, f.Binary = true, false
	switch {
	case len(blobs) == 2:
		out, err := r.at.Run(ctx, nil, "diff", "--numstat", "--text", "--no-ext-diff", "--no-textconv", blobs[0], blobs[1])
		if c := countsForm.FindStringSubmatch(string(out)); err == nil && c != nil {
			counts[1], _ = strconv.Atoi(c[1]) // digits, by the expression
			counts[0], _ = strconv.Atoi(c[2])
		} else if err != nil {
			return err
		}
		f.Added, f.Removed = counts[1], counts[0]
	case f.OldMode == "000000":
		f.Added, f.Removed = counts[0], 0
	default:
		f.Added, f.Removed = 0, counts[0]
	}
	before, after := sizes[f.oldID], sizes[f.newID]
	f.Added, f.Removed = max(f.Added, int((after-before)/growthALine)), max(f.Removed, int((before-after)/growthALine))
	return nil
}

// mostlyText says whether nine in ten bytes are such as text has.
func mostlyText(content []byte) bool {
	strange := 0
	for _, c := range content {
		if c < ' ' && c != '\n' && c != '\t' && c != '\r' || c == 0x7f {
			strange++
		}
	}
	return utf8.Valid(content) && strange*10 <= len(content)
}

var statusWords = map[byte]string{'A': "added", 'D': "deleted", 'M': "changed", 'R': "renamed", 'T': "type changed"}

// readRawNumstat reads the answer of "git diff-tree -z --raw --numstat" about one pair of trees, and returns what comes
// after it. Each file is ":MODE MODE ID ID STATUS" NUL path NUL (of a rename: two paths); then come as many counts,
// "ADDED REMOVED PATH" with tabs between, of a rename without a path and with the two paths behind.
func readRawNumstat(out string) ([]FileDiff, string, error) {
	next := func() (string, bool) {
		field, left, ok := strings.Cut(out, "\x00")
		if ok {
			out = left
		}
		return field, ok
	}
	var files []FileDiff
	index := map[string]int{}
	for strings.HasPrefix(out, ":") {
		head, _ := next()
		raw := strings.Fields(head)
		if len(raw) != 5 || len(raw[0]) != 7 || !IsID(raw[2]) || !IsID(raw[3]) || statusWords[raw[4][0]] == "" {
			return nil, "", fmt.Errorf("git diff-tree: unreadable line %.80q", head)
		}
		f := FileDiff{Status: statusWords[raw[4][0]], OldMode: raw[0][1:], NewMode: raw[1], oldID: raw[2],
			newID: raw[3]}
		var ok bool
		if f.Path, ok = next(); ok && raw[4][0] == 'R' {
			f.OldPath = f.Path
			f.Path, ok = next()
			f.Similarity, _ = strconv.Atoi(raw[4][1:]) // three digits, or none where git gives no figure
		}
		if !ok {
			return nil, "", fmt.Errorf("git diff-tree: %.80q has no path", head)
		}
		index[f.Path] = len(files)
		files = append(files, f)
	}
	for {
		counts := countsForm.FindStringSubmatch(out)
		if counts == nil {
			return files, out, nil
		}
		out = out[len(counts[0]):]
		path, ok := next()
		if ok && path == "" { // a rename: the two paths follow
			next()
			path, ok = next()
		}
		n, known := index[path]
		if !ok || !known {
			return nil, "", fmt.Errorf("git diff-tree: counts of %.80q, which is not in the list", path)
		}
		files[n].Binary = counts[1] == "-"
		files[n].Added, _ = strconv.Atoi(counts[1]) // "-" where git counts no lines: none
		files[n].Removed, _ = strconv.Atoi(counts[2])
	}
}

var countsForm = regexp.MustCompile(`^(\d+|-)\t(\d+|-)\t`)

// Patch writes the difference between two commits or trees as a unified diff, at most max bytes of it: of the named
// files only, or of all. It says whether something was left out. With odd, the content of what Git takes for binary is
// shown.
func (r Trees) Patch(ctx context.Context, from, to string, max int, o DiffOptions, odd bool,
	paths ...string) (string, bool, error) {
	args := append([]string{"--literal-pathspecs", "diff-tree", "-r", "-p", "-M", "--no-color", "--no-ext-diff",
		"--no-textconv", "--ignore-submodules=none"}, o.args()...)
	if odd {
		args = append(args, "--text")
	}
	return r.at.Limited(ctx, max, append(append(args, from, to, "--"), paths...)...)
}

// DiffEach lists what each of the commits changes of its parent, through one process.
func (r Trees) DiffEach(ctx context.Context, ids []string) (map[string][]FileDiff, error) {
	if len(ids) == 0 {
		return nil, nil
	}
	out, err := r.at.Run(ctx, strings.NewReader(strings.Join(ids, "\n")+"\n"),
		append([]string{"diff-tree", "--stdin", "--root"}, rawNumstat...)...)
	if err != nil {
		return nil, err
	}
	each := map[string][]FileDiff{}
	for rest := string(out); rest != ""; {
		id, more, ok := strings.Cut(rest, "\x00")
		if !ok || !IsID(id) {
			return nil, fmt.Errorf("git diff-tree: %.80q is not a commit", rest)
		}
		files, left, err := readRawNumstat(more)
		if err != nil {
			return nil, err
		}
		each[id], rest = files, left
	}
	for id, files := range each {
		if each[id], err = r.weighed(ctx, files); err != nil {
			return nil, err
		}
	}
	return each, nil
}
