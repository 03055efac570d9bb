package folder

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"tavrin/internal/signing"
)

// What is done on the machine itself, where no service runs: whoever can write to the folder has it already, so that
// access to it is the proof. Each is put on record by the service when it next starts.

// NewKey makes a signing key where none is. Statements and heads that were signed with the one that is lost stay as
// they are.
func NewKey(dir string) error {
	if _, err := os.Stat(filepath.Join(dir, recordsName)); err != nil {
		return fmt.Errorf("%s holds no service's records: %w", dir, err)
	}
	return signing.Replace(filepath.Join(dir, keyName))
}

// AcceptLoss makes a folder one that can be served although its marks say that something is missing. The records have
// to be whole as far as they go: what is damaged is not accepted.
func AcceptLoss(ctx context.Context, dir string) error {
	path := filepath.Join(dir, recordsName)
	if _, err := os.Stat(path); err != nil {
		return fmt.Errorf("%s holds no service's records: %w", dir, err)
	}
	lock, err := take(dir)
	if err != nil {
		return err
	}
	defer lock.Close()
	db, err := sql.Open("sqlite3", path)
	if err != nil {
		return err
	}
	defer db.Close()
	found := ""
	if err := db.QueryRowContext(ctx, "PRAGMA integrity_check").Scan(&found); err != nil || found != "ok" {
		return fmt.Errorf("the records are damaged and cannot be gone on with; restore a backup: %s %w", found, err)
	}
	marks, err := filepath.Glob(filepath.Join(dir, "repositories", "*", markName))
	if err != nil {
		return err
	}
	for _, m := range append(marks, filepath.Join(dir, markName), filepath.Join(dir, runningName)) {
		if err := os.Remove(m); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}
