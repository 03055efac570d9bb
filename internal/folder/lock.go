package folder

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
)

// lock keeps a folder for one service. The lock is the process's own (fcntl): children that are about to start do not
// hold it, so that a service that was killed does not keep the next one out.
type lock struct {
	file *os.File
	dir  string
}

// folders are those managed by services of this process, of which the system's lock knows nothing.
var folders struct {
	sync.Mutex
	kept map[string]bool
}

// take takes the folder for this process. The lock goes with the process, however it ends.
func take(dir string) (*lock, error) {
	folders.Lock()
	defer folders.Unlock()
	inUse := func(by string) error {
		return fmt.Errorf("%w: %s is managed by process %s; stop it first or give another --data folder", ErrInUse, dir,
			by)
	}
	// looking into the file would give the lock up: the system drops it with the first handle closed
	if folders.kept[dir] {
		return nil, inUse(fmt.Sprint(os.Getpid()))
	}
	f, err := os.OpenFile(filepath.Join(dir, "service.lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	err = syscall.FcntlFlock(f.Fd(), syscall.F_SETLK, &syscall.Flock_t{Type: syscall.F_WRLCK, Whence: io.SeekStart})
	if errors.Is(err, syscall.EAGAIN) || errors.Is(err, syscall.EACCES) {
		defer f.Close()
		by := make([]byte, 32)
		n, _ := f.Read(by) // who has it is said where it can be read
		return nil, inUse(strings.TrimSpace(string(by[:n])))
	}
	if err == nil {
		err = f.Truncate(0)
	}
	if err == nil {
		_, err = fmt.Fprintln(f, os.Getpid())
	}
	if err != nil {
		return nil, errors.Join(fmt.Errorf("lock %s: %w", f.Name(), err), f.Close())
	}
	if folders.kept == nil {
		folders.kept = map[string]bool{}
	}
	folders.kept[dir] = true
	return &lock{f, dir}, nil
}

// Close gives the folder up.
func (l *lock) Close() error {
	folders.Lock()
	defer folders.Unlock()
	delete(folders.kept, l.dir)
	return l.file.Close()
}
