// Package backup copies a service's folder while the service runs, and puts a copy back.
//
// A backup is the records and the repositories at one point of the journal: for as long as it takes to copy the records
// and to list what the branches point at, nothing is written; objects, of which none is ever altered, are copied
// afterwards. It is a folder, or one tar file of it, with a manifest by which it can be verified before it is relied
// on. It holds the service's signing key and the hashes of tokens: whoever has it has the service.
//
// The package needs no service, running or not. It promises that a backup it calls whole can be restored, and that a
// restored folder is as a service left it that was killed at that point. Old backups are for others to remove.
package backup

import (
	"bufio"
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	_ "github.com/mattn/go-sqlite3" // the records' driver

	"tavrin/internal/core/journal"
	"tavrin/internal/git"
)

// Format is the manifest's first word.
const Format = "tavrin backup/1"

// Names of files in a service's folder and in a backup.
const (
	Records      = "records.sqlite"
	Key          = "signing.key"
	Repositories = "repositories"
	RunningMark  = "running" // there while a service runs, see internal/folder/marks.go
	manifestName = "manifest.json"
	filesName    = "files.sha256"
)

// AtRest stands in the running mark while the records' log may be folded into them.
const AtRest = "at rest\n"

// lockTime is how long a backup waits for a write of the service to end.
const lockTime = 60 * time.Second

// Manifest says what a backup holds.
type Manifest struct {
	Format  string       `json:"format"`
	MadeAt  time.Time    `json:"made_at"`
	Journal journal.Head `json:"journal"`
	Schema  int64        `json:"schema"`
	// Files is the SHA-256 of the list of files: of each its SHA-256, two spaces, and where it lies.
	Files        string            `json:"files_sha256"`
	Repositories []RepositoryState `json:"repositories"`
}

// RepositoryState is one repository of a backup.
type RepositoryState struct {
	ID   int64  `json:"id"`
	Name string `json:"name"`
	Refs int    `json:"refs"`
	// Digest is the SHA-256 of its refs, a line each: id, space, name.
	Digest string `json:"refs_sha256"`
	// Trouble is why the service had set it apart. Such a one is copied as far as it can be read, and not verified: it
	// keeps no other from being backed up.
	Trouble string `json:"trouble,omitempty"`
}

// ErrExists is returned when there is something already where a backup or a restored folder is to be.
var ErrExists = errors.New("there is something already: a backup and a restored folder are made where nothing is")

// Take makes a backup of a service's folder, which may be in use. to is a folder, or with the ending .tar a file, that
// is not there yet; it appears when the backup is whole.
func Take(ctx context.Context, dir, to string) (Manifest, error) {
	if _, err := os.Lstat(to); err == nil {
		return Manifest{}, fmt.Errorf("%s: %w", to, ErrExists)
	}
	if _, err := os.Stat(filepath.Join(dir, Records)); err != nil {
		return Manifest{}, fmt.Errorf("%s holds no service's records: %w", dir, err)
	}
	partial, err := os.MkdirTemp(filepath.Dir(to), ".tavrin-backup-")
	if err != nil {
		return Manifest{}, err
	}
	defer os.RemoveAll(partial)
	t := taking{dir: dir, to: partial, git: &git.Program{Home: partial}, files: map[string]string{}}
	m, err := t.take(ctx)
	if err != nil {
		return Manifest{}, fmt.Errorf("back up %s: %w", dir, err)
	}
	if strings.HasSuffix(to, ".tar") {
		return m, pack(partial, to)
	}
	return m, publish(partial, to)
}

// taking is a backup that is being made.
type taking struct {
	dir, to string
	git     *git.Program
	refs    map[int64][]git.Ref
	files   map[string]string // the SHA-256 of each that was copied, by where it lies in the backup
}

func (t *taking) take(ctx context.Context) (Manifest, error) {
	m := Manifest{Format: Format, MadeAt: time.Now().UTC()}
	if err := t.standStill(ctx, &m); err != nil {
		return m, err
	}
	if err := settleCopy(ctx, filepath.Join(t.to, Records)); err != nil {
		return m, err
	}
	if err := t.copyFile(filepath.Join(t.dir, Key), Key); err != nil {
		return m, err
	}
	var err error
	if t.files[Records], err = digestOf(filepath.Join(t.to, Records)); err != nil {
		return m, err
	}
	for i := range m.Repositories {
		if err := t.repository(ctx, &m.Repositories[i]); err != nil {
			return m, fmt.Errorf("repository %s: %w", m.Repositories[i].Name, err)
		}
	}
	if m.Files, err = t.writeList(); err != nil {
		return m, err
	}
	text, err := json.MarshalIndent(m, "", "  ")
	if err != nil {
		return m, err
	}
	return m, os.WriteFile(filepath.Join(t.to, manifestName), append(text, '\n'), 0o600)
}

// copyFile copies a file to its place in the backup, and notes its digest.
func (t *taking) copyFile(from, place string) error {
	sum, err := copyFile(from, filepath.Join(t.to, filepath.FromSlash(place)))
	t.files[place] = sum
	return err
}

// writeList writes the list of files, and returns its digest.
func (t *taking) writeList() (string, error) {
	var list strings.Builder
	for _, place := range slices.Sorted(maps.Keys(t.files)) {
		fmt.Fprintf(&list, "%s  %s\n", t.files[place], place)
	}
	sum := sha256.Sum256([]byte(list.String()))
	return hex.EncodeToString(sum[:]), os.WriteFile(filepath.Join(t.to, filesName), []byte(list.String()), 0o600)
}

// standStill copies the records, and lists what branches point at, while nobody writes: every move of a branch begins
// with a record, so that none begins meanwhile. One that is under way is open in the copy, and settled when that is
// started, as after a kill.
func (t *taking) standStill(ctx context.Context, m *Manifest) error {
	db, err := open(filepath.Join(t.dir, Records), "&_txlock=immediate")
	if err != nil {
		return err
	}
	defer t.let(db)
	tx, err := db.BeginTx(ctx, nil)
	if err != nil {
		return fmt.Errorf("hold the records still: %w", err)
	}
	defer tx.Rollback()
	if m.Journal, m.Schema, err = pointOf(ctx, tx); err != nil {
		return err
	}
	if m.Repositories, err = repositoriesOf(ctx, tx); err != nil {
		return err
	}
	t.refs = map[int64][]git.Ref{}
	for _, r := range m.Repositories {
		refs, err := git.Open(t.git, bareDir(t.dir, r.ID)).Refs(ctx, "refs/")
		if err != nil && r.Trouble == "" {
			return fmt.Errorf("repository %s: %w", r.Name, err)
		}
		t.refs[r.ID] = refs
	}
	for _, ending := range []string{"", "-wal"} { // the log holds what is not in the file yet
		_, err := copyFile(filepath.Join(t.dir, Records+ending), filepath.Join(t.to, Records+ending))
		if err != nil && !(ending != "" && errors.Is(err, fs.ErrNotExist)) {
			return err
		}
	}
	return nil
}

// let closes the records. Where no service runs, SQLite folds their log into them when the last one closes: what a
// service that was killed has left, and would miss, is whole then.
func (t *taking) let(db *sql.DB) {
	log := filepath.Join(t.dir, Records+"-wal")
	_, before := os.Stat(log)
	db.Close() // whether the log went with it is seen below
	if _, after := os.Stat(log); before == nil && after != nil {
		if mark := filepath.Join(t.dir, RunningMark); exists(mark) {
			err := os.WriteFile(mark+".tmp", []byte(AtRest), 0o600)
			if err == nil { // whole or not at all, should this be killed
				os.Rename(mark+".tmp", mark)
			}
		}
	}
}

func exists(path string) bool { _, err := os.Stat(path); return err == nil }

func bareDir(dir string, id int64) string {
	return filepath.Join(dir, Repositories, fmt.Sprintf("%d.git", id))
}

// querier is a handle or a transaction.
type querier interface {
	QueryRowContext(ctx context.Context, query string, args ...any) *sql.Row
	QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error)
}

func pointOf(ctx context.Context, db querier) (journal.Head, int64, error) {
	var head journal.Head
	var schema int64
	err := db.QueryRowContext(ctx, "SELECT seq, hash FROM journal_lines ORDER BY seq DESC LIMIT 1").Scan(&head.Seq,
		&head.Hash)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	if err == nil {
		err = db.QueryRowContext(ctx, "SELECT max(version_id) FROM goose_db_version WHERE is_applied").Scan(&schema)
	}
	return head, schema, err
}

func repositoriesOf(ctx context.Context, db querier) ([]RepositoryState, error) {
	trouble, there := "''", "TRUE" // which older schemas do not know
	for column, use := range map[string]func(){"trouble": func() { trouble = "trouble" }, "purged": func() { there = "NOT purged" }} {
		var known int
		err := db.QueryRowContext(ctx, "SELECT count(*) FROM pragma_table_info('repositories') WHERE name = ?", column).Scan(&known)
		if err != nil {
			return nil, err
		}
		if known > 0 {
			use()
		}
	}
	rows, err := db.QueryContext(ctx, "SELECT id, name, "+trouble+" FROM repositories WHERE "+there+" ORDER BY id")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := []RepositoryState{}
	for rows.Next() {
		var r RepositoryState
		if err := rows.Scan(&r.ID, &r.Name, &r.Trouble); err != nil {
			return nil, err
		}
		out = append(out, r)
	}
	return out, rows.Err()
}

func open(path, more string) (*sql.DB, error) {
	db, err := sql.Open("sqlite3", fmt.Sprintf("file:%s?_busy_timeout=%d%s",
		strings.NewReplacer("%", "%25", "?", "%3f", "#", "%23").Replace(path), lockTime/time.Millisecond, more))
	if err == nil {
		db.SetMaxOpenConns(1)
	}
	return db, err
}

// settleCopy folds the log into a copy of the records, and sees that the copy is whole.
func settleCopy(ctx context.Context, path string) error {
	db, err := open(path, "")
	if err != nil {
		return err
	}
	defer db.Close()
	var mode, found string
	if err := db.QueryRowContext(ctx, "PRAGMA journal_mode = DELETE").Scan(&mode); err != nil {
		return fmt.Errorf("fold the records' log into them: %w", err)
	}
	if err := db.QueryRowContext(ctx, "PRAGMA integrity_check").Scan(&found); err != nil || found != "ok" {
		return fmt.Errorf("the records are damaged: %s %w", found, err)
	}
	return nil
}

// tries is how often a repository is copied before it is given up: a repack that takes a pack away while it is copied
// comes by chance, and not again at once.
const tries = 5

// repository copies one repository as it was: its refs as they were listed, and every object. What came later is copied
// too and is in nobody's way.
func (t *taking) repository(ctx context.Context, r *RepositoryState) error {
	from, to := bareDir(t.dir, r.ID), bareDir(t.to, r.ID)
	place := fmt.Sprintf("%s/%d.git", Repositories, r.ID)
	r.Refs, r.Digest = len(t.refs[r.ID]), digestOfRefs(t.refs[r.ID])
	if r.Trouble != "" {
		return t.asItIs(from, place)
	}
	var err error
	for range tries {
		if err = errors.Join(os.RemoveAll(to), os.MkdirAll(to, 0o700)); err != nil {
			return err
		}
		maps.DeleteFunc(t.files, func(p, _ string) bool { return strings.HasPrefix(p, place+"/") })
		if err = t.copyTree(filepath.Join(from, "objects"), place+"/objects"); err != nil {
			continue
		}
		for _, name := range []string{"HEAD", "config"} {
			if err := t.copyFile(filepath.Join(from, name), place+"/"+name); err != nil {
				return err
			}
		}
		if err := os.MkdirAll(filepath.Join(to, "refs"), 0o700); err != nil {
			return err
		}
		if err := writeRefs(filepath.Join(to, "packed-refs"), t.refs[r.ID]); err != nil {
			return err
		}
		if t.files[place+"/packed-refs"], err = digestOf(filepath.Join(to, "packed-refs")); err != nil {
			return err
		}
		if err = whole(ctx, git.Open(t.git, to), *r); err == nil {
			return nil
		}
	}
	return err
}

// asItIs copies what can be read of a repository that was stopped.
func (t *taking) asItIs(from, place string) error {
	if err := os.MkdirAll(filepath.Join(t.to, filepath.FromSlash(place)), 0o700); err != nil {
		return err
	}
	return filepath.WalkDir(from, func(path string, d fs.DirEntry, err error) error {
		rest, relErr := filepath.Rel(from, path)
		switch {
		case err != nil || relErr != nil:
			return nil // it cannot be read: that is its trouble
		case d.IsDir():
			return os.MkdirAll(filepath.Join(t.to, filepath.FromSlash(place), rest), 0o700)
		case !d.Type().IsRegular():
			return nil
		}
		at := place + "/" + filepath.ToSlash(rest)
		if t.copyFile(path, at) != nil { // nor can this
			delete(t.files, at)
			return os.RemoveAll(filepath.Join(t.to, filepath.FromSlash(at)))
		}
		return nil
	})
}

// whole says whether a repository has the refs that are said of it, and every object that they reach.
func whole(ctx context.Context, repo *git.Repo, r RepositoryState) error {
	refs, err := repo.Refs(ctx, "refs/")
	if err != nil {
		return err
	}
	if digestOfRefs(refs) != r.Digest {
		return fmt.Errorf("its branches are not those of the backup's manifest")
	}
	return repo.Complete(ctx)
}

func digestOfRefs(refs []git.Ref) string {
	h := sha256.New()
	for _, r := range refs {
		fmt.Fprintf(h, "%s %s\n", r.ID, r.Name)
	}
	return hex.EncodeToString(h.Sum(nil))
}

func writeRefs(path string, refs []git.Ref) error {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	w := bufio.NewWriter(f)
	w.WriteString("# pack-refs with: sorted \n")
	for _, r := range refs { // for-each-ref lists them sorted
		fmt.Fprintf(w, "%s %s\n", r.ID, r.Name)
	}
	return errors.Join(w.Flush(), f.Close())
}

// copyTree copies a folder of plain files. What is half written, in files of git's that begin with tmp_, is left out.
func (t *taking) copyTree(from, place string) error {
	return filepath.WalkDir(from, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		rest, err := filepath.Rel(from, path)
		if err != nil {
			return err
		}
		switch {
		case d.IsDir():
			return os.MkdirAll(filepath.Join(t.to, filepath.FromSlash(place), rest), 0o700)
		case !d.Type().IsRegular() || strings.HasPrefix(d.Name(), "tmp_") || strings.HasSuffix(d.Name(), ".lock"):
			return nil
		}
		return t.copyFile(path, place+"/"+filepath.ToSlash(rest))
	})
}

// copyFile copies a file that only its owner may read, and returns the SHA-256 of it.
func copyFile(from, to string) (string, error) {
	in, err := os.Open(from)
	if err != nil {
		return "", err
	}
	defer in.Close()
	out, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return "", err
	}
	h := sha256.New()
	_, err = io.Copy(io.MultiWriter(out, h), in)
	return hex.EncodeToString(h.Sum(nil)), errors.Join(err, out.Close())
}

func digestOf(path string) (string, error) {
	f, err := os.Open(path)
	if err != nil {
		return "", err
	}
	defer f.Close()
	h := sha256.New()
	_, err = io.Copy(h, f)
	return hex.EncodeToString(h.Sum(nil)), err
}
