package backup

import (
	"archive/tar"
	"cmp"
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"tavrin/internal/core/journal"
	"tavrin/internal/git"
)

// RestoredName is the file that a restored folder carries until a service is started on it: its manifest. The service
// puts on record that it goes on from there.
const RestoredName = "restored.json"

// Restore makes a service's folder of a backup, where there is none or an empty one. The backup is verified as it is
// copied; the folder appears when it is whole.
func Restore(ctx context.Context, from, dir string) (Manifest, error) {
	if left, err := os.ReadDir(dir); err == nil && len(left) > 0 {
		return Manifest{}, fmt.Errorf("%s: %w", dir, ErrExists)
	} else if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return Manifest{}, err
	}
	if err := os.MkdirAll(filepath.Dir(dir), 0o700); err != nil {
		return Manifest{}, err
	}
	partial, err := os.MkdirTemp(filepath.Dir(dir), ".tavrin-restore-")
	if err != nil {
		return Manifest{}, err
	}
	defer os.RemoveAll(partial)
	if info, statErr := os.Stat(from); statErr != nil {
		return Manifest{}, statErr
	} else if info.IsDir() {
		err = copyAll(from, partial)
	} else {
		err = unpack(from, partial)
	}
	if err != nil {
		return Manifest{}, fmt.Errorf("read the backup %s: %w", from, err)
	}
	m, err := Verify(ctx, partial)
	if err != nil {
		return m, fmt.Errorf("the backup %s is not whole: %w", from, err)
	}
	if err := os.Rename(filepath.Join(partial, manifestName), filepath.Join(partial, RestoredName)); err != nil {
		return m, err
	}
	if err := os.Remove(dir); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return m, err
	}
	return m, publish(partial, dir)
}

// Verify says whether a backup's folder is whole: every file as its manifest says, the journal unbroken up to the point
// that it was taken at, every object there that a branch reaches.
func Verify(ctx context.Context, dir string) (Manifest, error) {
	var m Manifest
	text, err := os.ReadFile(filepath.Join(dir, manifestName))
	if err != nil {
		return m, err
	}
	if err := json.Unmarshal(text, &m); err != nil || m.Format != Format {
		return m, fmt.Errorf("%s is not the manifest of a backup, of the form %s", manifestName, Format)
	}
	if err := verifyFiles(dir, m.Files); err != nil {
		return m, err
	}
	if err := verifyChain(ctx, filepath.Join(dir, Records), m.Journal); err != nil {
		return m, err
	}
	program := &git.Program{Home: dir}
	for _, r := range m.Repositories {
		if r.Trouble != "" {
			continue
		}
		if err := whole(ctx, git.Open(program, bareDir(dir, r.ID)), r); err != nil {
			return m, fmt.Errorf("repository %s: %w", r.Name, err)
		}
	}
	return m, nil
}

// verifyFiles holds every file against the list, and the list against its digest. What is not listed has no business
// there.
func verifyFiles(dir, want string) error {
	text, err := os.ReadFile(filepath.Join(dir, filesName))
	if err != nil {
		return err
	}
	if sum := sha256.Sum256(text); hex.EncodeToString(sum[:]) != want {
		return fmt.Errorf("the list of files is not the one that the manifest names")
	}
	listed := map[string]bool{manifestName: true, filesName: true}
	for line := range strings.Lines(string(text)) {
		sum, place, _ := strings.Cut(strings.TrimSuffix(line, "\n"), "  ")
		if !filepath.IsLocal(filepath.FromSlash(place)) {
			return fmt.Errorf("the list of files names %q, which is not in the backup", place)
		}
		if got, err := digestOf(filepath.Join(dir, filepath.FromSlash(place))); err != nil || got != sum {
			return errors.Join(fmt.Errorf("%s is not as it was when the backup was made", place), err)
		}
		listed[place] = true
	}
	return filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		place, relErr := filepath.Rel(dir, path)
		if err = cmp.Or(err, relErr); err == nil && !d.IsDir() && !listed[filepath.ToSlash(place)] {
			err = fmt.Errorf("%s was put in after the backup was made", place)
		}
		return err
	})
}

// verifyChain reads the journal of records that nobody uses, up to its end, which has to be the one given.
func verifyChain(ctx context.Context, path string, end journal.Head) error {
	db, err := open(path, "&mode=ro&immutable=1")
	if err != nil {
		return err
	}
	defer db.Close()
	rows, err := db.QueryContext(ctx, "SELECT seq, at, actor, kind, coalesce(repository, ''), coalesce(subject, "+
		"''), text, coalesce(data, ''), coalesce(prev, ''), hash FROM journal_lines ORDER BY seq")
	if err != nil {
		return err
	}
	defer rows.Close()
	var chain journal.Verifier
	for rows.Next() {
		l, err := scanLine(rows)
		if err == nil {
			err = chain.Next(l)
		}
		if err != nil {
			return fmt.Errorf("the journal does not hold together: %w", err)
		}
	}
	if err := rows.Err(); err != nil {
		return err
	}
	if chain.Head() != end {
		return fmt.Errorf("the journal ends with line %d, and the manifest says line %d", chain.Head().Seq, end.Seq)
	}
	return nil
}

func scanLine(rows *sql.Rows) (journal.Line, error) {
	var l journal.Line
	var at, data string
	if err := rows.Scan(&l.Seq, &at, &l.Actor, &l.Kind, &l.Repository, &l.Subject, &l.Text, &data, &l.Prev,
		&l.Hash); err != nil {
		return l, err
	}
	if data != "" {
		l.Data = json.RawMessage(data)
	}
	var err error
	l.At, err = time.Parse(time.RFC3339Nano, at)
	return l, err
}

// copyAll copies a folder of folders and plain files, which only their owner may read.
func copyAll(from, to string) error {
	return filepath.WalkDir(from, func(path string, d fs.DirEntry, err error) error {
		rest, relErr := filepath.Rel(from, path)
		if err = cmp.Or(err, relErr); err != nil {
			return err
		}
		switch target := filepath.Join(to, rest); {
		case d.IsDir():
			return os.MkdirAll(target, 0o700)
		case d.Type().IsRegular():
			_, err = copyFile(path, target)
		default:
			err = fmt.Errorf("%s is neither a file nor a folder", rest)
		}
		return err
	})
}

// pack writes a folder as one tar file, which appears when it is whole.
func pack(dir, to string) error {
	partial := filepath.Join(filepath.Dir(to), "."+filepath.Base(to)+".partial")
	f, err := os.OpenFile(partial, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer os.Remove(partial)
	w := tar.NewWriter(f)
	err = w.AddFS(os.DirFS(dir))
	if err := cmp.Or(err, w.Close(), f.Sync(), f.Close()); err != nil {
		return err
	}
	return appear(partial, to)
}

// unpack takes plain files and folders out of a tar file, all of them below a folder.
func unpack(from, dir string) error {
	f, err := os.Open(from)
	if err != nil {
		return err
	}
	defer f.Close()
	root, err := os.OpenRoot(dir) // nothing gets out of it
	if err != nil {
		return err
	}
	defer root.Close()
	for r := tar.NewReader(f); ; {
		h, err := r.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		name := strings.TrimSuffix(h.Name, "/")
		switch h.Typeflag {
		case tar.TypeDir:
			err = root.MkdirAll(name, 0o700)
		case tar.TypeReg:
			if err = root.MkdirAll(filepath.Dir(name), 0o700); err == nil {
				err = unpackFile(root, name, r)
			}
		default:
			err = fmt.Errorf("%s is neither a file nor a folder", h.Name)
		}
		if err != nil {
			return err
		}
	}
}

func unpackFile(root *os.Root, name string, r io.Reader) error {
	out, err := root.OpenFile(name, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, r)
	return errors.Join(err, out.Close())
}

// publish has a folder written to the disk, and then has it appear under its name.
func publish(partial, to string) error {
	if err := syncTree(partial); err != nil {
		return err
	}
	return appear(partial, to)
}

// appear gives what is on the disk its name.
func appear(partial, to string) error {
	if err := os.Rename(partial, to); err != nil {
		return err
	}
	return syncDir(filepath.Dir(to))
}

// syncTree has everything below a folder written to the disk.
func syncTree(dir string) error {
	return filepath.WalkDir(dir, func(path string, _ fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		return syncDir(path)
	})
}

// syncDir has a folder, or a file, written to the disk.
func syncDir(path string) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	err = f.Sync()
	if errors.Is(err, syscall.EINVAL) { // a file system that cannot
		err = nil
	}
	return errors.Join(err, f.Close())
}
