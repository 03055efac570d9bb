// Package folder keeps the service's folder: for one process at a time, and in a condition in which it can be served.
//
// A folder may be put together wrongly while no service runs on it: copied under a running one, restored in part, moved
// without a file. A service that started on it would lose what was recorded and judge by what is left. So it leaves
// marks of where the records stand, and compares them at the start, before anything is written. What the records hold
// is left to those above; backups are made by package backup.
package folder

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"gorm.io/gorm"

	"tavrin/internal/backup"
	"tavrin/internal/core/event"
	"tavrin/internal/core/journal"
	"tavrin/internal/records"
	"tavrin/internal/signing"
)

// ErrInUse is returned when another process keeps the service's folder.
var ErrInUse = errors.New("another tavrin service is running on this folder")

// Folder is a service's folder that this process keeps.
type Folder struct {
	Dir   string // absolute
	lock  *lock
	marks marks
}

// Take makes the folder when there is none, and keeps it for this process. What is in it was looked at: it is in a
// condition to be served as far as can be seen before anything is opened.
func Take(dir string) (*Folder, error) {
	dir, err := filepath.Abs(dir) // git runs in other folders
	if err != nil {
		return nil, err
	}
	f := &Folder{Dir: dir}
	for _, d := range []string{dir, f.Repositories(), f.Home()} {
		if err := os.MkdirAll(d, 0o700); err != nil {
			return nil, fmt.Errorf("make the service's folder: %w", err)
		}
	}
	if f.lock, err = take(dir); err != nil {
		return nil, err
	}
	if err = inCondition(dir); err == nil {
		err = checked(dir)
	}
	if err != nil {
		return nil, errors.Join(err, f.lock.Close())
	}
	return f, nil
}

// Repositories is where the hosted repositories lie.
func (f *Folder) Repositories() string { return filepath.Join(f.Dir, "repositories") }

// Home is the home folder of git's processes, which read no other configuration.
func (f *Folder) Home() string { return filepath.Join(f.Dir, "home") }

// Records is the file of the records.
func (f *Folder) Records() string { return filepath.Join(f.Dir, recordsName) }

// Key is the file of the signing key.
func (f *Folder) Key() string { return filepath.Join(f.Dir, keyName) }

// Run marks the folder as one that a service runs on, having compared the records with the marks of the last one.
// pathOf says where a repository lies.
func (f *Folder) Run(ctx context.Context, r *records.Records, pathOf func(repo int64) string, log *slog.Logger) error {
	if err := f.compare(ctx, r, pathOf); err != nil {
		return err
	}
	if err := f.marks.begin(f.Dir); err != nil {
		return err
	}
	r.Listen(records.Listener{After: func(c records.Commit) {
		if c.Lines == 0 || !c.Done {
			return // a mark never says more than the records hold
		}
		err := f.marks.reached(c.Head)
		for repo, seq := range c.Moved {
			err = cmp.Or(err, f.marks.moved(pathOf(repo), seq))
		}
		if err != nil {
			log.Error("a mark could not be left of what was written", "line", c.Head.Seq, "error", err)
		}
	}})
	return f.noteRestored(ctx, r)
}

// Rest says that the records are about to be closed: a kill from here on would be taken for a loss, and no more than
// that.
func (f *Folder) Rest() error { return checked(f.Dir) }

// Leave gives the folder up; rested, that the records were closed and are whole.
func (f *Folder) Leave(rested bool) error {
	if rested {
		f.marks.end()
	}
	return f.lock.Close()
}

// compare holds the records against the marks.
func (f *Folder) compare(ctx context.Context, r *records.Records, pathOf func(repo int64) string) error {
	db := r.Read(ctx)
	end, err := r.JournalEnd(ctx)
	if err != nil {
		return err
	}
	if err := f.compareHead(db, end); err != nil {
		return err
	}
	var repos []records.Repository
	if err := db.Where("NOT purged").Order("id").Find(&repos).Error; err != nil {
		return err
	}
	for _, repo := range repos {
		text, err := os.ReadFile(filepath.Join(pathOf(repo.ID), markName))
		if err != nil {
			continue // nothing was moved in it yet; or it is not there, which is found elsewhere
		}
		if seq, err := strconv.ParseInt(strings.TrimSpace(string(text)), 10, 64); err == nil && seq > end {
			return condition("the repository %s is ahead of the records: a branch of it was moved at line %d of the "+
				"journal, "+
				"and the records end with line %d, so that they are older than it; %s", repo.Name, seq, end, adviceOnLoss(f.Dir))
		}
	}
	return nil
}

// compareHead holds the end of the journal against the mark of the newest line, if there is one.
func (f *Folder) compareHead(db *gorm.DB, end int64) error {
	text, err := os.ReadFile(filepath.Join(f.Dir, markName))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	var mark journal.Head
	if n, _ := fmt.Sscanf(string(text), "%d %s", &mark.Seq, &mark.Hash); n != 2 {
		return nil // it says nothing yet
	}
	var line records.JournalLine
	if err := db.Where("seq = ?", mark.Seq).Limit(1).Find(&line).Error; err != nil {
		return err
	}
	switch {
	case end < mark.Seq:
		return condition("its records end with line %d of the journal, and the service had written line %d: "+
			"%s is older than the rest, or what was written last is missing; %s", end, mark.Seq, recordsName, adviceOnLoss(f.Dir))
	case line.Hash != mark.Hash:
		return condition("line %d of its journal is not the one that the service had written: %s is that of another "+
			"folder; %s",
			mark.Seq, recordsName, adviceOnLoss(f.Dir))
	}
	return nil
}

// noteRestored puts on record that the folder was restored from a backup.
func (f *Folder) noteRestored(ctx context.Context, r *records.Records) error {
	path := filepath.Join(f.Dir, backup.RestoredName)
	text, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	var m backup.Manifest
	if err == nil {
		err = json.Unmarshal(text, &m)
	}
	if err != nil {
		return fmt.Errorf("read what the folder was restored from: %w", err)
	}
	err = r.Write(ctx, func(tx *records.Tx) error {
		return tx.Record(records.Itself, nil, event.ServiceRestored{MadeAt: m.MadeAt, Seq: m.Journal.Seq,
			Hash: m.Journal.Hash})
	})
	if err != nil {
		return err
	}
	return os.Remove(path)
}

// BackUpFirst makes a backup of records that are about to be brought from one schema up to a newer one, and says where
// it is.
func (f *Folder) BackUpFirst(ctx context.Context, from, to int64, now time.Time, log *slog.Logger) error {
	if from == to || from == 0 {
		return nil // there is nothing to bring up to date
	}
	backups := filepath.Join(f.Dir, "backups")
	if err := os.MkdirAll(backups, 0o700); err != nil {
		return err
	}
	path := filepath.Join(backups, fmt.Sprintf("before-schema-%d-%s", to, now.UTC().Format("20060102-150405")))
	log.Info("the records are of an older schema: a backup is made before they are brought up to date", "schema", from,
		"to", to, "backup", path)
	if _, err := backup.Take(ctx, f.Dir, path); err != nil {
		return fmt.Errorf("back up before the records are brought up to date: %w", err)
	}
	log.Info("the backup is made; to go back: the older program, and tavrin restore "+path+" --data ANOTHER-FOLDER",
		"backup", path)
	return nil
}

// NoteNewKey puts on record that the service signs with another key from now on, and returns its public part.
func NoteNewKey(ctx context.Context, r *records.Records, key *signing.Key) (string, error) {
	return key.Public(), r.Write(ctx, func(tx *records.Tx) error {
		return tx.Record(records.Itself, nil, event.KeyReplaced{PublicKey: key.Public()})
	})
}
