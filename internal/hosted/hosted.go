// Package hosted knows where the Git side of each hosted repository lies on disk.
//
// It hands out repositories to those who read and build in them. Which ref may move, and when, is decided elsewhere
// (see package moves); who may read what, too.
package hosted

import (
	"fmt"
	"os"
	"path/filepath"

	"tavrin/internal/git"
	"tavrin/internal/records"
)

// MaxFileBytes is how much of a file is shown or taken into account as text.
const MaxFileBytes = 512 << 10

// Disk is the folder of all hosted repositories.
type Disk struct {
	Git *git.Program
	dir string
}

// New returns the repositories in a folder.
func New(program *git.Program, dir string) *Disk { return &Disk{program, dir} }

// Path is where a repository lies.
func (d *Disk) Path(repo int64) string { return filepath.Join(d.dir, fmt.Sprintf("%d.git", repo)) }

// Bare opens a repository.
func (d *Disk) Bare(r *records.Repository) *git.Repo { return git.Open(d.Git, d.Path(r.ID)) }

// begun begins the names of folders in which repositories are being made.
const begun = "new-"

// Begin returns a free folder in which a repository can be made before it is on record.
func (d *Disk) Begin() (string, error) {
	dir, err := os.MkdirTemp(d.dir, begun)
	if err != nil {
		return "", err
	}
	return dir, os.Remove(dir) // git makes it
}

// Admit gives a prepared repository its place. What a try left there that was never recorded goes.
func (d *Disk) Admit(prepared string, repo int64) error {
	if err := os.RemoveAll(d.Path(repo)); err != nil {
		return err
	}
	return os.Rename(prepared, d.Path(repo))
}

// Sweep removes what was being made when the process ended.
func (d *Disk) Sweep() error {
	left, err := filepath.Glob(filepath.Join(d.dir, begun+"*"))
	for _, dir := range left {
		if err := os.RemoveAll(dir); err != nil {
			return err
		}
	}
	return err
}
