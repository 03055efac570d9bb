// Package git keeps bare repositories through the git program, version 2.39 or newer, with plumbing commands only.
//
// It knows commits, trees, refs, packs and the smart HTTP protocol, and nothing of rules, changes or people: who
// may do what is decided by the caller. It promises that what it reports as stored is on disk, that a ref moves
// only from the commit the caller said it stood at, and that a failed or killed call leaves no ref half moved.
package git

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"

	"tavrin/internal/bounds"
)

// ReservedRefs is the name space that is the service's own: it is neither shown to nor pushed by others.
const ReservedRefs = "refs/tavrin/"

// Program is the git program, set up so that nothing outside the service's folder influences it.
type Program struct {
	// Home is a folder of the service's own that stands in for the user's home.
	Home string
	// Bounds say how much is taken; the zero value stands for the defaults.
	Bounds bounds.Bounds
	// Started is told of every process that is about to start, by its arguments; nil: nobody is. Tests use it.
	Started func(args []string)

	defaulted sync.Once
	turns     turns
	measured  measured
}

// config is given to every git process, in place of configuration files.
var config = [][2]string{
	{"safe.directory", "*"},
	{"gc.auto", "0"},
	{"core.fsync", "committed"},
	{"core.fsyncMethod", "batch"},
	{"core.filesRefLockTimeout", "1000"}, // there is one writer: a lock that stays was left behind
	{"core.packedRefsTimeout", "1000"},
	{"core.attributesFile", os.DevNull}, // no attribute, of the tree or of the machine, hides or bends what is shown
	{"attr.tree", EmptyTree},
	{"core.bigFileThreshold", "64m"}, // larger files are streamed
	{"core.packedGitWindowSize", "32m"},
	{"core.packedGitLimit", "256m"},
	{"pack.threads", "2"},
	{"pack.windowMemory", "256m"},
	{"merge.directoryRenames", "conflict"},
	{"transfer.hideRefs", strings.TrimSuffix(ReservedRefs, "/")},
	{"uploadpack.hideRefs", "refs/scratch"}, // a clone does not bring what others only wanted to have looked at
	{"uploadpack.allowFilter", "true"},
	{"advice.detachedHead", "false"},
}

// Repo is one bare repository, or a view of it that writes its objects elsewhere.
type Repo struct {
	program *Program
	dir     string
	env     []string // added for views
}

// Open returns the repository in dir without looking at it.
func (p *Program) Open(dir string) *Repo { return &Repo{program: p, dir: dir} }

// Create makes an empty bare repository in dir, which must not exist.
func (p *Program) Create(ctx context.Context, dir, defaultBranch string) (*Repo, error) {
	if err := CheckBranch(defaultBranch); err != nil {
		return nil, err
	}
	r := p.Open(filepath.Dir(dir))
	if _, err := r.run(ctx, nil, "init", "-q", "--bare", "--template=", "--initial-branch="+defaultBranch, "--",
		dir); err != nil {
		return nil, fmt.Errorf("create repository: %w", err)
	}
	return p.Open(dir), nil
}

// quarantine returns a view of the repository whose new objects go to a folder of their own, on the repository's
// file system. What the view writes is seen by nobody else until the files are moved over.
func (r *Repo) quarantine() (*Repo, string, error) {
	dir, err := os.MkdirTemp(r.dir, scratchPrefix)
	if err != nil {
		return nil, "", fmt.Errorf("make a folder for incoming objects: %w", err)
	}
	return r.writingTo(dir), dir, nil
}

// scratch is like quarantine for objects of which only some will be kept: it lies in memory where the system has a
// file system for that, and is not synced to disk.
func (r *Repo) scratch() (*Repo, string, error) {
	dir, err := os.MkdirTemp(memory, r.scratchName())
	if err != nil {
		dir, err = os.MkdirTemp(r.dir, scratchPrefix)
	}
	if err != nil {
		return nil, "", fmt.Errorf("make a scratch folder: %w", err)
	}
	view := r.writingTo(dir)
	view.env = append(view.env, "GIT_CONFIG_PARAMETERS='core.fsync=none'")
	return view, dir, nil
}

func (r *Repo) writingTo(dir string) *Repo {
	return &Repo{program: r.program, dir: r.dir, env: []string{
		"GIT_OBJECT_DIRECTORY=" + dir, "GIT_ALTERNATE_OBJECT_DIRECTORIES=" +
			filepath.Join(r.dir, "objects"), "GIT_QUARANTINE_PATH=" + dir,
	}}
}

// Complete says whether every object is there that the repository's refs reach.
func (r *Repo) Complete(ctx context.Context) error {
	_, err := r.run(ctx, nil, "fsck", "--connectivity-only", "--no-dangling", "--no-progress")
	return err
}

const (
	scratchPrefix = "tavrin-scratch-"
	memory        = "/dev/shm" // a file system in memory, on Linux
)

// scratchName begins the names of the repository's scratch folders in memory.
func (r *Repo) scratchName() string {
	sum := sha256.Sum256([]byte(r.dir))
	return scratchPrefix + hex.EncodeToString(sum[:8]) + "-"
}

// Tidy removes what a killed process may have left in the repository: lock files, scratch folders and half packs.
// Only the sole writer may call it, while nothing is in flight.
func (r *Repo) Tidy() error {
	left, err := filepath.Glob(filepath.Join(memory, r.scratchName()+"*"))
	if err != nil {
		return err
	}
	for _, dir := range left {
		if err := os.RemoveAll(dir); err != nil {
			return err
		}
	}
	return filepath.WalkDir(r.dir, func(path string, d os.DirEntry, err error) error {
		if err != nil {
			return err
		}
		name := d.Name()
		switch {
		case d.IsDir() && filepath.Dir(path) == r.dir && strings.HasPrefix(name, scratchPrefix):
			if err := os.RemoveAll(path); err != nil {
				return err
			}
			return filepath.SkipDir
		case d.IsDir() && len(name) == 2 && filepath.Base(filepath.Dir(path)) == "objects":
			return filepath.SkipDir
		case !d.IsDir() && (strings.HasSuffix(name, ".lock") || strings.HasPrefix(name, "tmp_")):
			return os.Remove(path)
		}
		return nil
	})
}

const (
	// manyLoose and manyPacks are how many of each make it worth while to pack a repository.
	manyLoose = 4000
	manyPacks = 40
)

// Pack packs the repository when it has grown untidy, and says whether it did. Nothing is removed but what is packed
// elsewhere, so pushes and rehearsals may go on meanwhile.
func (r *Repo) Pack(ctx context.Context) (bool, error) {
	loose, err := filepath.Glob(filepath.Join(r.dir, "objects", "17", "*")) // one in 256
	if err != nil {
		return false, err
	}
	packs, err := filepath.Glob(filepath.Join(r.dir, "objects", "pack", "*.pack"))
	if err != nil || (len(loose)*256 < manyLoose && len(packs) < manyPacks) {
		return false, err
	}
	_, err = r.run(ctx, nil, "repack", "-d", "-q", "--geometric=2")
	return true, err
}
