package rehearsal

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"tavrin/internal/git"
	"tavrin/internal/git/internal/process"
)

// crew is the git processes that judge and build. Starting them, and having them read their way into a large repository,
// takes longer than what they are then asked, so that they serve one use after another and rest in between
// (process.Program.Rest). What they write goes to a folder that is emptied after each use.
type crew struct {
	view   ground // of the repository, writing to dir
	dir    string
	folder string // of the attributes; empty: there are none
	read   *process.Helper
	merge  *merger
	write  *writer
	uses   int
	// own are commits made only for others to be made, not to be kept.
	own map[string]bool
}

// crewUses is how often a crew serves: git keeps in memory what it once read.
const crewUses = 100

// with has a crew do something, by the attributes that a commit states. A crew that was used before may have died, or
// know of files that are gone: what fails with it is done once more by a new one. What f does must bear that.
func (r ground) with(ctx context.Context, onto string, f func(context.Context, *crew) error) error {
	ctx, leave, err := r.at.Enter(ctx)
	if err != nil {
		return err
	}
	defer leave()
	defer r.at.Use()()
	found, err := r.attributesOf(ctx, onto)
	if err != nil {
		return err
	}
	late := r.at.Bounds().Reach("git.seconds", "judging or building on %.10s took too long", onto)
	ctx, cancel := context.WithTimeoutCause(ctx, r.at.Most(), late)
	defer cancel()
	if c, ok := r.at.Rested(found.key()).(*crew); ok {
		if err := c.use(ctx, onto, found, f); err == nil || answers(err) || ctx.Err() != nil {
			return cause(ctx, err)
		}
	}
	c, err := r.hire(onto, found)
	if err != nil {
		return err
	}
	return cause(ctx, c.use(ctx, onto, found, f))
}

// cause prefers why something was ended to what became of it.
func cause(ctx context.Context, err error) error {
	if err != nil && ctx.Err() != nil {
		return context.Cause(ctx)
	}
	return err
}

// answers says whether an error is what was asked for, not trouble.
func answers(err error) bool {
	return errors.As(err, new(*ConflictError)) || errors.As(err, new(*DifferentError)) || errors.As(err, new(NothingError))
}

// use has the crew do something, and lets it rest, or ends it where it can be of no more use.
func (c *crew) use(ctx context.Context, onto string, found attributes, f func(context.Context, *crew) error) error {
	for _, h := range []*process.Helper{c.read, c.merge.Helper, c.write.Helper} {
		defer h.Within(ctx)()
	}
	c.merge.still = onto
	err := f(ctx, c)
	c.uses++
	if (err != nil && !answers(err)) || ctx.Err() != nil || c.merge.spent || c.uses >= crewUses || c.tidy() != nil {
		c.Close()
		return err
	}
	c.view.at.Rest(found.key(), c)
	return err
}

// hire starts a crew.
func (r ground) hire(onto string, found attributes) (*crew, error) {
	at, dir, err := r.at.Scratch()
	if err != nil {
		return nil, err
	}
	c := &crew{view: on(at), dir: dir, own: map[string]bool{}}
	if err := c.start(onto, found); err != nil {
		c.Close()
		return nil, err
	}
	return c, nil
}

func (c *crew) start(onto string, found attributes) (err error) {
	at := c.view.at
	if c.read, err = at.Keep("cat-file", "--batch"); err != nil {
		return err
	}
	if len(found.files) > 0 {
		c.folder = filepath.Join(c.dir, "attributes")
		if err := c.layOut(c.folder, found); err != nil {
			return fmt.Errorf("lay out the attributes of %.10s: %w", onto, err)
		}
		at = at.Honouring(c.folder, onto)
	}
	if c.merge, err = startMerger(at); err != nil {
		return err
	}
	c.write, err = startWriter(c.view.at, filepath.Join(c.dir, "commit"))
	return err
}

// Close ends the crew. What it wrote and was not kept is gone.
func (c *crew) Close() error {
	if c.read != nil {
		c.read.Close()
	}
	if c.merge != nil {
		c.merge.Close()
	}
	if c.write != nil {
		c.write.Close()
	}
	return os.RemoveAll(c.dir)
}

// tidy removes what was written.
func (c *crew) tidy() error {
	clear(c.own)
	left, err := os.ReadDir(c.dir)
	if err != nil {
		return err
	}
	for _, d := range left {
		if len(d.Name()) == 2 || d.Name() == "pack" {
			if err := os.RemoveAll(filepath.Join(c.dir, d.Name())); err != nil {
				return err
			}
		}
	}
	return nil
}

// commit writes a commit that is only there for others to be made.
func (c *crew) commit(tree string, parents ...string) (string, error) {
	id, err := c.write.write(standInText(tree, parents...))
	if err == nil {
		c.own[id] = true
	}
	return id, err
}

// tree returns the tree of a commit.
func (c *crew) tree(commit string) (string, error) {
	text, err := c.read.Object(commit, "commit")
	if err != nil {
		return "", err
	}
	return git.ParseHeader(text).Tree, nil
}

// judge is Judge.
func (c *crew) judge(s Shown, onto string) (string, error) {
	if s.Base == onto {
		return c.tree(s.Head)
	}
	held, err := c.tree(onto)
	if err != nil {
		return "", err
	}
	standIn, err := c.commit(held, s.Base)
	if err != nil {
		return "", err
	}
	return c.merge.merge(standIn, s.Head)
}

// attributes are the .gitattributes files of a commit: what they say of a path decides how its lines are merged.
type attributes struct {
	commit string
	files  []attribute // by path
}

type attribute struct{ path, id string }

// key names the attributes themselves, whichever commit has them.
func (a attributes) key() string {
	sum := sha256.New()
	for _, f := range a.files {
		fmt.Fprintf(sum, "%s %q\n", f.id, f.path)
	}
	return string(sum.Sum(nil))
}

const attributesFile = ".gitattributes"

// attributesOf finds the attributes of a commit. A large tree is walked once: later commits are compared with the one
// that was asked for last.
func (r ground) attributesOf(ctx context.Context, commit string) (attributes, error) {
	last, known := r.at.Noted().(attributes)
	if known && last.commit == commit {
		return last, nil
	}
	var out []byte
	var err error
	if known {
		out, err = r.changedAttributes(ctx, last.commit, commit)
	}
	if !known || err != nil { // the commit of before may be gone
		last = attributes{}
		if out, err = r.changedAttributes(ctx, git.EmptyTree, commit); err != nil {
			return last, err
		}
	}
	now := map[string]string{}
	for _, f := range last.files {
		now[f.path] = f.id
	}
	records := strings.Split(strings.TrimSuffix(string(out), "\x00"), "\x00")
	for i := 0; i+1 < len(records); i += 2 { // ":MODE MODE ID ID STATUS" NUL PATH NUL
		f := strings.Fields(records[i])
		if len(f) != 5 || !git.IsID(f[3]) {
			return last, fmt.Errorf("git diff-tree answered %.80q", records[i])
		}
		delete(now, records[i+1])
		if strings.HasPrefix(f[1], "100") { // git reads no others
			now[records[i+1]] = f[3]
		}
	}
	found := attributes{commit: commit}
	for _, p := range slices.Sorted(maps.Keys(now)) {
		found.files = append(found.files, attribute{p, now[p]})
	}
	r.at.Note(found)
	return found, nil
}

func (r ground) changedAttributes(ctx context.Context, from, to string) ([]byte, error) {
	return r.at.Run(ctx, nil, "diff-tree", "-r", "-z", "--raw", "--no-abbrev", "--no-renames", from, to+"^{tree}", "--",
		":(glob)**/"+attributesFile)
}

// layOut writes the files into a folder as they lie in the tree.
func (c *crew) layOut(folder string, found attributes) error {
	if err := os.Mkdir(folder, 0o700); err != nil {
		return err
	}
	root, err := os.OpenRoot(folder) // whatever a tree calls its folders, nothing is written beside this one
	if err != nil {
		return err
	}
	defer root.Close()
	left := c.view.at.Bounds().AttributeBytes
	for _, f := range found.files {
		text, err := c.read.Object(f.id, "blob")
		if err != nil {
			return err
		}
		if left -= int64(len(f.path) + len(text)); left < 0 {
			return c.view.at.Bounds().Reach("attributes.bytes", "the %s files of %.10s are larger", attributesFile, found.commit)
		}
		if err := root.MkdirAll(path.Dir(f.path), 0o700); err != nil && !errors.Is(err, fs.ErrExist) {
			return err
		}
		if err := root.WriteFile(f.path, []byte(text), 0o600); err != nil {
			return err
		}
	}
	return nil
}
