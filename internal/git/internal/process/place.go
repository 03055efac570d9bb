package process

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"

	"tavrin/internal/bounds"
)

// Place is where git runs: a bare repository, or a view of it that writes its objects elsewhere.
type Place struct {
	Dir      string
	program  *Program
	env      []string // added to what every git sees
	workTree string   // where it runs, if not in Dir
}

// At returns the place in a folder.
func (p *Program) At(dir string) Place { return Place{Dir: dir, program: p} }

// With returns the place with more in the environment of what runs there.
func (at Place) With(env ...string) Place {
	at.env = slices.Concat(at.env, env)
	return at
}

// Honouring returns the place with the attributes that lie in a folder, laid out as in a tree, in force. From 2.41 on, git
// reads them from a commit instead, which has to hold the same.
func (at Place) Honouring(folder, commit string) Place {
	at = at.With("GIT_DIR="+at.Dir, "GIT_WORK_TREE="+folder, "GIT_ATTR_SOURCE="+commit)
	at.workTree = folder
	return at
}

// Bounds returns the bounds in force.
func (at Place) Bounds() *bounds.Bounds { return at.program.bounds() }

// Enter waits for a turn; see Program.Enter.
func (at Place) Enter(ctx context.Context) (context.Context, func(), error) {
	return at.program.Enter(ctx)
}

// ScratchPrefix begins the names of the folders that a place has for a time.
const ScratchPrefix = "tavrin-scratch-"

// memory is a file system in memory, on Linux.
const memory = "/dev/shm"

// Memory begins the names of the place's scratch folders in memory.
func (at Place) Memory() string {
	sum := sha256.Sum256([]byte(at.Dir))
	return ScratchPrefix + hex.EncodeToString(sum[:8]) + "-"
}

// Quarantine returns a view of the place whose new objects go to a folder of their own, on the repository's file
// system. What the view writes is seen by nobody else until the files are moved over.
func (at Place) Quarantine() (view Place, dir string, err error) {
	if dir, err = os.MkdirTemp(at.Dir, ScratchPrefix); err != nil {
		return at, "", fmt.Errorf("make a folder for incoming objects: %w", err)
	}
	return at.writingTo(dir), dir, nil
}

// Scratch is like Quarantine for objects of which only some will be kept: it lies in memory where the system has a file
// system for that, and is not synced to disk.
func (at Place) Scratch() (view Place, dir string, err error) {
	if dir, err = os.MkdirTemp(memory, at.Memory()); err != nil {
		dir, err = os.MkdirTemp(at.Dir, ScratchPrefix)
	}
	if err != nil {
		return at, "", fmt.Errorf("make a scratch folder: %w", err)
	}
	return at.writingTo(dir).With("GIT_CONFIG_PARAMETERS='core.fsync=none' 'core.looseCompression=0'"), dir, nil
}

// Reading returns the place with the objects of a folder beside its own.
func (at Place) Reading(dir string) Place { return at.With("GIT_ALTERNATE_OBJECT_DIRECTORIES=" + dir) }

func (at Place) writingTo(dir string) Place {
	at.env = []string{
		"GIT_OBJECT_DIRECTORY=" + dir, "GIT_QUARANTINE_PATH=" + dir,
		"GIT_ALTERNATE_OBJECT_DIRECTORIES=" + filepath.Join(at.Dir, "objects"),
	}
	return at
}

// SyncFolder has it on disk which names a folder holds. Git syncs files, and leaves it to the file system when their names follow.
func SyncFolder(dir string) error {
	f, err := os.Open(dir)
	if err != nil {
		return err
	}
	return errors.Join(f.Sync(), f.Close())
}

// Sweep removes the scratch folders in memory that a killed process may have left, while nothing is in flight.
func (at Place) Sweep() error {
	left, err := filepath.Glob(filepath.Join(memory, at.Memory()+"*"))
	for _, dir := range left {
		if err := os.RemoveAll(dir); err != nil {
			return err
		}
	}
	return err
}
