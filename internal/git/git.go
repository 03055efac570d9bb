// Package git keeps bare repositories through the git program, version 2.39 or newer, with plumbing commands only.
//
// It knows refs, commits and trees, and nothing of rules, changes or people: who may do what is decided by the caller.
// It promises that what it reports as stored is on disk, that a ref moves only from the commit the caller said it stood
// at, and that a failed or killed call leaves no ref half moved. What is built for a landing is in package rehearsal,
// what comes and goes over the wire in package transport; both stand on it.
package git

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"tavrin/internal/git/internal/process"
)

// ReservedRefs is the name space that is the service's own: it is neither shown to nor pushed by others.
const ReservedRefs = process.ReservedRefs + "/"

// EmptyTree is the id of the tree that holds nothing: what the first commit of a history is compared with.
const EmptyTree = process.EmptyTree

// ErrNotFound is returned for a commit, ref or path that the repository does not have.
var ErrNotFound = process.ErrNotFound

// Program is the git program, set up so that nothing outside the service's folder influences it.
type Program = process.Program

// CommandError is a git command that failed.
type CommandError = process.CommandError

// For names the person or address that the git processes started under the context are for.
func For(ctx context.Context, person string) context.Context { return process.For(ctx, person) }

// Repo is one bare repository, or a view of it that writes its objects elsewhere.
type Repo struct {
	RefStore
	History
	Trees
	at process.Place
}

// RefStore is the refs of a repository: what they point at, and their moves.
type RefStore struct{ at process.Place }

// History is the commits of a repository.
type History struct{ at process.Place }

// Trees is what the commits of a repository hold, and how they differ.
type Trees struct{ at process.Place }

// Open returns the repository in dir without looking at it.
func Open(p *Program, dir string) *Repo { return On(p.At(dir)) }

// On returns the repository in a place. It is for the packages beside this one, which build and receive.
func On(at process.Place) *Repo { return &Repo{RefStore{at}, History{at}, Trees{at}, at} }

// Place is where git runs for the repository. It is for the packages beside this one, which build and receive; nobody
// else can name its type.
func (r *Repo) Place() process.Place { return r.at }

// Create makes an empty bare repository in dir, which must not exist.
func Create(ctx context.Context, p *Program, dir, defaultBranch string) (*Repo, error) {
	if err := CheckBranch(defaultBranch); err != nil {
		return nil, err
	}
	if _, err := p.At(filepath.Dir(dir)).Run(ctx, nil, "init", "-q", "--bare", "--template=",
		"--initial-branch="+defaultBranch, "--", dir); err != nil {
		return nil, fmt.Errorf("create repository: %w", err)
	}
	return Open(p, dir), nil
}

// HeadRef is the ref that clones check out, by its full name; empty: it cannot be told.
func (r *Repo) HeadRef() string {
	text, _ := os.ReadFile(filepath.Join(r.at.Dir, "HEAD"))
	ref, _ := strings.CutPrefix(strings.TrimSpace(string(text)), "ref: ")
	return ref
}

// PointHead has clones check out a branch, which need not be there yet. It does nothing where they do already.
func (r *Repo) PointHead(ctx context.Context, branch string) error {
	if err := CheckBranch(branch); err != nil {
		return err
	}
	ref := "refs/heads/" + branch
	if r.HeadRef() == ref {
		return nil
	}
	_, err := r.at.Run(ctx, nil, "symbolic-ref", "HEAD", ref)
	return err
}

// Complete says whether every object is there that the repository's refs reach.
func (r *Repo) Complete(ctx context.Context) error {
	_, err := r.at.Run(ctx, nil, "fsck", "--connectivity-only", "--no-dangling", "--no-progress")
	return err
}

// Tidy removes what a killed process may have left in the repository: lock files, scratch folders and half packs.
// Only the sole writer may call it, while nothing is in flight.
func (r *Repo) Tidy() error {
	if err := r.at.Sweep(); err != nil {
		return err
	}
	return filepath.WalkDir(r.at.Dir, func(path string, d os.DirEntry, err error) error {
		if err != nil {
			return err
		}
		name := d.Name()
		switch {
		case d.IsDir() && filepath.Dir(path) == r.at.Dir && strings.HasPrefix(name, process.ScratchPrefix):
			if err := os.RemoveAll(path); err != nil {
				return err
			}
			return filepath.SkipDir
		case d.IsDir() && len(name) == 2 && filepath.Base(filepath.Dir(path)) == "objects":
			return filepath.SkipDir
		case !d.IsDir() && (strings.HasSuffix(name, ".lock") || strings.HasPrefix(name, "tmp_") || strings.HasPrefix(name, ".tmp-")):
			return os.Remove(path)
		}
		return nil
	})
}

const (
	// ManyPacks, and so many loose objects, make it worth while to pack a repository.
	manyLoose = 4000
	ManyPacks = 40
)

// Pack packs the repository when it has grown untidy, and says whether it did. Nothing is removed but what is packed
// elsewhere, so pushes and rehearsals may go on meanwhile.
func (r *Repo) Pack(ctx context.Context) (bool, error) {
	loose, err := filepath.Glob(filepath.Join(r.at.Dir, "objects", "17", "*")) // one in 256
	if err != nil {
		return false, err
	}
	packs, err := filepath.Glob(filepath.Join(r.at.Dir, "objects", "pack", "*.pack"))
	if err != nil || (len(loose)*256 < manyLoose && len(packs) < ManyPacks) {
		return false, err
	}
	if _, err = r.at.Run(ctx, nil, "repack", "-d", "-q", "--geometric=2"); err != nil {
		return true, err
	}
	return true, r.Graph(ctx)
}

// Graph writes down how commits hang together, as far as that is not written down yet, which makes walks over thousands of them
// quick.
func (r *Repo) Graph(ctx context.Context) error {
	_, err := r.at.Run(ctx, nil, "commit-graph", "write", "--reachable", "--split", "--no-progress")
	return err
}

// manyLooseRefs make it worth while to pack refs.
const manyLooseRefs = 200

// ManyLooseRefs says whether so many refs have a file of their own that it is worth while to pack them.
func (r *Repo) ManyLooseRefs() (bool, error) {
	loose := 0
	err := filepath.WalkDir(filepath.Join(r.at.Dir, "refs"), func(_ string, d os.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			loose++
		}
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		return err
	})
	return loose >= manyLooseRefs, err
}

// PackRefs packs the refs when many have a file of their own, and says whether it did. Only the sole writer may call it.
func (r *Repo) PackRefs(ctx context.Context) (bool, error) {
	if many, err := r.ManyLooseRefs(); err != nil || !many {
		return false, err
	}
	defer r.at.Use()()
	_, err := r.at.Run(ctx, nil, "pack-refs", "--all")
	return err == nil, err
}

// Release takes names of the service's own away, of commits that need not be kept by them any more. Only the sole writer may call it.
func (r *Repo) Release(ctx context.Context, names ...string) error {
	defer r.at.Use()()
	var in strings.Builder
	moves := make([]Move, len(names))
	for i, name := range names {
		moves[i].Ref = ReservedRefs + name
		fmt.Fprintf(&in, "delete %s\x00\x00", moves[i].Ref)
	}
	return r.writingRefs(moves, func() error {
		_, err := r.at.Run(ctx, strings.NewReader(in.String()), "update-ref", "-z", "--stdin")
		return err
	})
}

// ErrUsed says that a repository was in use, so that nothing could be removed from it.
var ErrUsed = process.ErrUsed

// pruned is a file whose time says when a repository was last pruned.
const pruned = "tavrin-pruned"

// Prune removes objects that no ref reaches, and that came before a time, once in so long. It runs only while nobody pushes to
// the repository or builds in it, and gives way to who does: then it returns ErrUsed, and nothing is lost.
func (r *Repo) Prune(ctx context.Context, now time.Time, olderThan, every time.Duration) (bool, error) {
	mark := filepath.Join(r.at.Dir, pruned)
	info, err := os.Stat(mark)
	if errors.Is(err, fs.ErrNotExist) {
		return false, r.markPruned(mark, now) // a new one has nothing to remove for so long
	}
	if err != nil || now.Sub(info.ModTime()) < every {
		return false, err
	}
	err = r.at.Alone(ctx, func(ctx context.Context) error {
		_, err := r.at.Run(ctx, nil, "repack", "-a", "-d", "-q", "--cruft", "--cruft-expiration="+now.Add(-olderThan).UTC().Format(time.RFC3339))
		if err != nil {
			return errors.Join(err, r.tidyPacks())
		}
		return nil
	})
	if err != nil {
		return false, err
	}
	return true, r.markPruned(mark, now)
}

func (r *Repo) markPruned(mark string, now time.Time) error {
	if err := os.WriteFile(mark, nil, 0o600); err != nil {
		return err
	}
	return os.Chtimes(mark, now, now)
}

// tidyPacks removes what a git that was ended while it packed has left, while nobody uses the repository.
func (r *Repo) tidyPacks() error {
	left, err := filepath.Glob(filepath.Join(r.at.Dir, "objects", "pack", ".tmp-*"))
	more, moreErr := filepath.Glob(filepath.Join(r.at.Dir, "objects", "pack", "tmp_*"))
	for _, path := range append(left, more...) {
		err = errors.Join(err, os.Remove(path))
	}
	return errors.Join(err, moreErr)
}
