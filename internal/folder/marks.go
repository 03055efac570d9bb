package folder

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"

	"tavrin/internal/backup"
	"tavrin/internal/core/journal"
)

// A folder may be put together wrongly while no service runs on it: copied under a running one, restored in part, moved
// without a file. A service that started on it would lose what was recorded and judge by what is left. So it leaves
// marks of where the records stand, and compares them at the start, before anything is written:
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

// adviceOnLoss is what to do for those who know better.
func adviceOnLoss(dir string) string {
	return fmt.Sprintf("restore a backup into another folder (tavrin restore BACKUP --data DIR); or, to go on with "+
		"what there is and lose the rest: tavrin recover accept-loss --data %s", dir)
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
		return condition("its %s is missing beside existing records. Put it back from a backup; or make a new one, "+
			"which signs from now on: tavrin recover new-key --data %s", keyName, dir)
	case !records && key && len(bare) > 0:
		return condition("it has repositories and no %s: %s", recordsName, adviceOnLoss(dir))
	case !records && len(bare) > 0:
		return condition("it has repositories, and neither %s nor %s: restore a backup into another folder (tavrin "+
			"restore BACKUP --data DIR)", recordsName, keyName)
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
		return condition("its %s is not the file that the service was using: this is a copy that was made while it "+
			"ran, or was put together of several, and what was written last may be missing. "+
			"Copies are made with tavrin backup; %s", recordsName, adviceOnLoss(dir))
	case !there(recordsName + "-wal"):
		return condition("the service was ended while it ran, and %s-wal, in which it kept what it wrote last, is "+
			"missing: put it back; %s", recordsName, adviceOnLoss(dir))
	}
	return nil
}

// atRest stands in the place of the file's name while the log may be folded into the records: between the check and the
// start, and while the service ends.
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
	os.Remove(filepath.Join(m.dir, runningName)) // a mark that stays is looked into at the next start, no more
}

// reached marks a line of the journal that is on disk.
func (m *marks) reached(head journal.Head) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if head.Seq <= m.last {
		return nil
	}
	m.last = head.Seq
	// of one length, so that no longer one shows through
	_, err := m.file.WriteAt(fmt.Appendf(nil, "%020d %s\n", head.Seq, head.Hash), 0)
	return err
}

// moved marks a repository with the line of the newest move of one of its branches. One call writes the few bytes, of
// one length; a file that is empty still says nothing.
func (m *marks) moved(bare string, seq int64) error {
	f, err := os.OpenFile(filepath.Join(bare, markName), os.O_CREATE|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = f.WriteAt(fmt.Appendf(nil, "%020d\n", seq), 0)
	return cmp.Or(err, f.Close())
}
