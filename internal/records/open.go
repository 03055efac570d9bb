// Package records keeps the records in one SQLite file, through GORM.
//
// There are two handles on the file: one connection that writes, and several that only read. A write transaction
// begins by taking the write lock, so it never fails half-way for being late. What is committed is on disk. The
// schema is made by numbered migrations (see the folder migrations); opening brings an older file up to date.
// Which records may exist together is decided by the service; the schema only bars what could never be right.
package records

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net/url"
	"os"
	"time"

	"github.com/pressly/goose/v3"
	"gorm.io/driver/sqlite"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"
)

//go:embed migrations/*.sql
var embedded embed.FS

// migrations are those of this program; tests take others.
var migrations files = embedded

// files is what is needed of a folder of files.
type files interface {
	fs.ReadFileFS
	fs.ReadDirFS
}

const (
	// readers is the number of connections that read.
	readers = 8
	// statements is how many prepared statements each connection keeps. They are kept by the driver, by connection, and not by GORM,
	// which prepares them anew in every transaction: and every snapshot is one.
	statements = 100
)

// ErrNotFound is returned by First-like calls when there is no such record.
var ErrNotFound = gorm.ErrRecordNotFound

// ErrTaken is returned when a record that has to be unique exists already.
var ErrTaken = gorm.ErrDuplicatedKey

// Open opens or creates the records file, and brings its schema up to date. The clock is now.
func Open(ctx context.Context, path string, now func() time.Time) (*Records, error) {
	if err := touch(path); err != nil {
		return nil, err
	}
	common := fmt.Sprintf("?_journal_mode=WAL&_synchronous=FULL&_busy_timeout=60000&_foreign_keys=on&_stmt_cache_size=%d", statements)
	file := "file:" + (&url.URL{Path: path}).EscapedPath()
	writer, err := open(file+common+"&_txlock=immediate", 1)
	if err != nil {
		return nil, err
	}
	db, err := writer.DB()
	if err != nil {
		return nil, err
	}
	if err := migrate(ctx, db); err != nil {
		db.Close()
		return nil, fmt.Errorf("bring the records in %s up to date: %w", path, err)
	}
	reader, err := open(file+common+"&_query_only=1", readers)
	if err != nil {
		db.Close()
		return nil, err
	}
	if err := watchTables(writer); err != nil {
		return nil, errors.Join(err, db.Close())
	}
	r := &Records{writer: writer, reader: reader, now: now, readers: newBroker(),
		writing: make(chan struct{}, 1)}
	end, err := r.JournalEnd(ctx)
	if err != nil {
		return nil, errors.Join(err, r.Close())
	}
	r.recent.begin(end)
	return r, nil
}

// ErrSchema is returned for records that this program does not understand.
var ErrSchema = errors.New("these records are not of a schema that this program understands")

// Schema returns the schema that a records file is of and the one that this program brings it to; 0 for a file that is
// not there or holds nothing yet. Records of a newer program, and files that are no records of one, are refused.
func Schema(ctx context.Context, path string) (from, to int64, err error) {
	newest, err := newestMigration()
	if err != nil {
		return 0, 0, err
	}
	if info, err := os.Stat(path); errors.Is(err, fs.ErrNotExist) || err == nil && info.Size() == 0 {
		return 0, newest, nil
	}
	db, err := sql.Open("sqlite3", "file:"+(&url.URL{Path: path}).EscapedPath()+"?_busy_timeout=5000&_query_only=1")
	if err != nil {
		return 0, 0, err
	}
	defer db.Close()
	var tables int
	if err := db.QueryRowContext(ctx, "SELECT count(*) FROM sqlite_master WHERE type = 'table'").Scan(&tables); err != nil {
		return 0, 0, fmt.Errorf("%w: %s: %w", ErrSchema, path, err)
	}
	if tables == 0 {
		return 0, newest, nil
	}
	if err := db.QueryRowContext(ctx, "SELECT max(version_id) FROM goose_db_version WHERE is_applied").Scan(&from); err != nil {
		return 0, 0, fmt.Errorf("%w: %s does not say which schema it is of: %w", ErrSchema, path, err)
	}
	if from > newest {
		return from, newest, fmt.Errorf("%w: %s is of schema %d, and this program knows those up to %d: it was "+
			"written by a newer one; start that, or restore a backup made before it", ErrSchema, path, from, newest)
	}
	return from, newest, nil
}

// newestMigration is the number of the last one.
func newestMigration() (int64, error) {
	files, err := fs.Glob(migrations, "migrations/*.sql")
	if err != nil || len(files) == 0 {
		return 0, fmt.Errorf("the program holds no schema: %w", err)
	}
	var n int64
	_, err = fmt.Sscanf(files[len(files)-1], "migrations/%d_", &n) // Glob lists them sorted
	return n, err
}

// touch makes the file readable by its owner alone before anything is written to it.
func touch(path string) error {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return fmt.Errorf("open the records: %w", err)
	}
	return f.Close()
}

func open(dsn string, connections int) (*gorm.DB, error) {
	g, err := gorm.Open(sqlite.Open(dsn), &gorm.Config{
		SkipDefaultTransaction: true, TranslateError: true,
		NowFunc: func() time.Time { return time.Now().UTC() },
		Logger:  logger.NewSlogLogger(slog.Default(), logger.Config{LogLevel: logger.Silent}),
	})
	if err != nil {
		return nil, fmt.Errorf("open the records: %w", err)
	}
	db, err := g.DB()
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(connections)
	db.SetMaxIdleConns(connections)
	return g, nil
}

func migrate(ctx context.Context, db *sql.DB) error {
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	p, err := goose.NewProvider(goose.DialectSQLite3, db, files)
	if err != nil {
		return err
	}
	_, err = p.Up(ctx)
	return err
}

// Observe has a function told of each statement that selects, alters or removes records, as SQL. Tests use it.
func (r *Records) Observe(f func(sql string)) error {
	var errs []error
	for _, db := range []*gorm.DB{r.reader, r.writer} {
		tell := func(tx *gorm.DB) { f(tx.Statement.SQL.String()) }
		c := db.Callback()
		errs = append(errs, c.Query().After("gorm:query").Register("observe", tell),
			c.Row().After("gorm:row").Register("observe", tell), c.Raw().After("gorm:raw").Register("observe", tell),
			c.Update().After("gorm:update").Register("observe",
				tell), c.Delete().After("gorm:delete").Register("observe", tell))
	}
	return errors.Join(errs...)
}

// Close closes both handles, the writing one last, so that the log is folded into the file.
func (r *Records) Close() error {
	var errs []error
	for _, g := range []*gorm.DB{r.reader, r.writer} {
		db, err := g.DB()
		if err == nil {
			err = db.Close()
		}
		errs = append(errs, err)
	}
	return errors.Join(errs...)
}
