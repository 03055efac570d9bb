package service

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"tavrin/internal/backup"
	"tavrin/internal/core/journal"
	"tavrin/internal/store"
)

// A folder may be put together wrongly while no service runs on it: copied under a running one, restored in part, moved without a
// file. A service that started on it would lose what was recorded and judge by what is left. So it leaves marks of where the
// records stand, and compares them at the start, before anything is written:
//
//   - running, while a service runs: which file the records are. It is gone after an orderly end. If it is there and the records
//     are another file, the folder is a copy that was made under a running service; if their write-ahead log is not there, it was lost.
//   - journal.mark: the newest line of the journal, written after each commit, so that it never says more than the records hold.
//   - journal.mark in each repository: the line of the newest move of one of its branches.
//
// Whoever knows better accepts what is lost, on record: tavrin recover accept-loss.

const (
	runningName = backup.RunningMark
	markName    = "journal.mark"
	keyName     = backup.Key
	recordsName = backup.Records
)

// ErrCondition is returned when a folder must not be served as it is.
var ErrCondition = errors.New("this folder is not in a condition to be served")

func condition(format string, args ...any) error {
	return fmt.Errorf("%w: %s", ErrCondition, fmt.Sprintf(format, args...))
}

// acceptLoss is what to do for those who know better.
func acceptLoss(dir string) string {
	return fmt.Sprintf("restore a backup into another folder (tavrin restore BACKUP --data DIR); or, to go on with what there is and lose the rest: tavrin recover accept-loss --data %s", dir)
}

// inCondition looks at a folder before anything in it is opened.
func inCondition(dir string) error {
	there := func(name string) bool { _, err := os.Stat(filepath.Join(dir, name)); return err == nil }
	records, key := there(recordsName), there(keyName)
	bare, err := filepath.Glob(filepath.Join(dir, "repositories", "[0-9]*.git"))
	if err != nil {
		return err
	}
	switch {
	case records && !key:
		return condition("its %s is missing beside existing records. Put it back from a backup; or make a new one, which signs from now on: tavrin recover new-key --data %s", keyName, dir)
	case !records && key && len(bare) > 0:
		return condition("it has repositories and no %s: %s", recordsName, acceptLoss(dir))
	case !records && len(bare) > 0:
		return condition("it has repositories, and neither %s nor %s: restore a backup into another folder (tavrin restore BACKUP --data DIR)", recordsName, keyName)
	case !records:
		return nil
	}
	was, err := os.ReadFile(filepath.Join(dir, runningName))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil || string(was) == atRest {
		return err
	}
	is, err := fileID(filepath.Join(dir, recordsName))
	switch {
	case err != nil:
		return err
	case strings.TrimSpace(string(was)) != is:
		return condition("its %s is not the file that the service was using: this is a copy that was made while it ran, or was put together of several, and what was written last may be missing. "+
			"Copies are made with tavrin backup; %s", recordsName, acceptLoss(dir))
	case !there(recordsName + "-wal"):
		return condition("the service was ended while it ran, and %s-wal, in which it kept what it wrote last, is missing: put it back; %s", recordsName, acceptLoss(dir))
	}
	return nil
}

// atRest stands in the place of the file's name while the log may be folded into the records: between the check and the start, and
// while the service ends.
const atRest = backup.AtRest

// checked says of a folder that it was in condition, and that its log may now go.
func checked(dir string) error {
	path := filepath.Join(dir, runningName)
	left, err := filepath.Glob(filepath.Join(dir, "tmp_mark*")) // of one that was killed while it left a mark
	for _, l := range left {
		err = cmp.Or(err, os.Remove(l))
	}
	if _, statErr := os.Stat(path); err != nil || statErr != nil {
		return err
	}
	return replaceFile(path, atRest)
}

// replaceFile writes a file that is there whole or not at all, whenever the process is killed.
func replaceFile(path, text string) error {
	f, err := os.CreateTemp(filepath.Dir(path), "tmp_mark")
	if err != nil {
		return err
	}
	_, err = f.WriteString(text)
	if err = cmp.Or(err, f.Close()); err != nil {
		return errors.Join(err, os.Remove(f.Name())) // what is there stays
	}
	return os.Rename(f.Name(), path)
}

// fileID tells one file from another of the same name.
func fileID(path string) (string, error) {
	info, err := os.Stat(path)
	if err != nil {
		return "", err
	}
	stat, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return "", nil
	}
	return fmt.Sprint(stat.Ino), nil // not the device, whose number may be another after the machine was started again
}

// marks keeps the marks of a service that runs.
type marks struct {
	mu   sync.Mutex
	dir  string
	last int64
	file *os.File
}

// begin leaves the mark that a service runs, and opens the other.
func (m *marks) begin(dir string) error {
	m.dir = dir
	id, err := fileID(filepath.Join(dir, recordsName))
	if err == nil {
		err = replaceFile(filepath.Join(dir, runningName), id+"\n")
	}
	if err == nil {
		m.file, err = os.OpenFile(filepath.Join(dir, markName), os.O_CREATE|os.O_WRONLY, 0o600)
	}
	return err
}

// end takes the mark away that a service runs: the records are closed, and whole.
func (m *marks) end() {
	m.file.Close()
	os.Remove(filepath.Join(m.dir, runningName))
}

// reached marks a line of the journal that is on disk.
func (m *marks) reached(head journal.Head) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if head.Seq <= m.last {
		return nil
	}
	m.last = head.Seq
	_, err := m.file.WriteAt(fmt.Appendf(nil, "%020d %s\n", head.Seq, head.Hash), 0) // of one length, so that no longer one shows through
	return err
}

// moved marks a repository with the line of the newest move of one of its branches. One call writes the few bytes, of one length;
// a file that is empty still says nothing.
func (m *marks) moved(bare string, seq int64) error {
	f, err := os.OpenFile(filepath.Join(bare, markName), os.O_CREATE|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = f.WriteAt(fmt.Appendf(nil, "%020d\n", seq), 0)
	return cmp.Or(err, f.Close())
}

// compareMarks holds the records against the marks.
func (s *Service) compareMarks(ctx context.Context) error {
	db := s.store.Read(ctx)
	end, err := s.JournalEnd(ctx)
	if err != nil {
		return err
	}
	if text, err := os.ReadFile(filepath.Join(s.dir, markName)); err == nil {
		var mark journal.Head
		if n, _ := fmt.Sscanf(string(text), "%d %s", &mark.Seq, &mark.Hash); n == 2 {
			var line store.JournalLine
			if err := db.Where("seq = ?", mark.Seq).Limit(1).Find(&line).Error; err != nil {
				return err
			}
			switch {
			case end < mark.Seq:
				return condition("its records end with line %d of the journal, and the service had written line %d: %s is older than the rest, or what was written last is missing; %s", end, mark.Seq, recordsName, acceptLoss(s.dir))
			case line.Hash != mark.Hash:
				return condition("line %d of its journal is not the one that the service had written: %s is that of another folder; %s", mark.Seq, recordsName, acceptLoss(s.dir))
			}
		}
	}
	var repos []store.Repository
	if err := db.Order("id").Find(&repos).Error; err != nil {
		return err
	}
	for i := range repos {
		text, err := os.ReadFile(filepath.Join(s.bareDir(&repos[i]), markName))
		if err != nil {
			continue // nothing was moved in it yet; or it is not there, which is found elsewhere
		}
		if seq, err := strconv.ParseInt(strings.TrimSpace(string(text)), 10, 64); err == nil && seq > end {
			return condition("the repository %s is ahead of the records: a branch of it was moved at line %d of the journal, and the records end with line %d, so that they are older than it; %s", repos[i].Name, seq, end, acceptLoss(s.dir))
		}
	}
	return nil
}

// noteRestored puts on record that the folder was restored from a backup.
func (s *Service) noteRestored(ctx context.Context) error {
	path := filepath.Join(s.dir, backup.RestoredName)
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
	err = s.write(ctx, func(tx *tx) error {
		return tx.record(event{actor: itself, kind: "service.restored", subject: "service", text: fmt.Sprintf("the service goes on from a backup made at %s, at line %d of the journal", m.MadeAt.UTC().Format(time.RFC3339), m.Journal.Seq),
			data: map[string]any{"made_at": m.MadeAt, "seq": m.Journal.Seq, "hash": m.Journal.Hash}})
	})
	if err != nil {
		return err
	}
	return os.Remove(path)
}

// backUpFirst makes a backup of records that are about to be brought up to a newer schema, and says where it is.
func backUpFirst(ctx context.Context, o Options) error {
	from, to, err := store.Schema(ctx, filepath.Join(o.Dir, recordsName))
	if err != nil || from == to || from == 0 {
		return err
	}
	folder := filepath.Join(o.Dir, "backups")
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return err
	}
	path := filepath.Join(folder, fmt.Sprintf("before-schema-%d-%s", to, o.Now().UTC().Format("20060102-150405")))
	o.Log.Info("the records are of an older schema: a backup is made before they are brought up to date", "schema", from, "to", to, "backup", path)
	if _, err := backup.Take(ctx, o.Dir, path); err != nil {
		return fmt.Errorf("back up before the records are brought up to date: %w", err)
	}
	o.Log.Info("the backup is made; to go back: the older program, and tavrin restore "+path+" --data ANOTHER-FOLDER", "backup", path)
	return nil
}
