// Package records keeps what the service knows in one SQLite file. It is the
// only package that knows SQL.
//
// Every exported method is one transaction: after a crash a change is there as a
// whole or not at all. Times are stored in UTC; hardware addresses in their
// canonical form.
package records

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"strings"
	"sync/atomic"
	"time"

	"jugate/core/fault"
	"jugate/records/prepared"

	"github.com/jmoiron/sqlx"
	"modernc.org/sqlite" // the driver named "sqlite"
)

//go:embed migrations/*.sql
var migrations embed.FS

// ErrDamaged says that the file's pages are damaged.
var ErrDamaged = fault.Unready.Errorf("the records are damaged")

// DB is the records' file. It may be used from several goroutines.
type DB struct {
	write *sqlx.DB // one connection: SQLite has one writer
	read  *sqlx.DB // for what is asked by number or name
	lists *sqlx.DB // for what may take its time
	// Notices says what Open has set aside, in words.
	Notices []string

	path    string
	damaged atomic.Pointer[error] // what an examination has found; nothing is written then
}

// examinedAtOnce is how large a file Open examines, in bytes: in less than a second.
const examinedAtOnce = 16 << 20

// Open opens the file at path, making it if there is none, readable by nobody else, and
// brings its schema up to date. Single rows that make no sense are set aside. A small file
// is examined as a whole: ErrDamaged says that pages of it are not what they should be. A
// large one is left to Examine.
func Open(ctx context.Context, now time.Time, path string) (*DB, error) {
	if err := private(path); err != nil {
		return nil, fmt.Errorf("open the records in %s: %w", path, err)
	}
	open := func(connections int, more string) *sqlx.DB {
		// What is deleted is overwritten: keys of sealed deliveries must be gone after them.
		name := "file:" + url.PathEscape(path) + "?_pragma=foreign_keys(1)&_pragma=busy_timeout(10000)&_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)&_pragma=secure_delete(1)&_time_format=sqlite" + more
		db := prepared.Open(name)
		db.SetMaxOpenConns(connections)
		return db
	}
	write := open(1, "&_txlock=immediate")
	db := &DB{write: write, path: path}
	var err error
	if info, statErr := os.Stat(path); statErr == nil && info.Size() <= examinedAtOnce {
		err = check(ctx, write)
	}
	if err == nil {
		err = migrate(ctx, now, write.DB, path)
	}
	if err == nil {
		err = db.setAside(ctx, now)
	}
	if err != nil {
		write.Close()
		return nil, fmt.Errorf("open the records in %s: %w", path, err)
	}
	db.read, db.lists = open(4, "&_pragma=query_only(1)"), open(4, "&_pragma=query_only(1)")
	return db, nil
}

// private makes the file and those that SQLite has beside it unreadable for others.
func private(path string) error {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return err
	}
	if err := f.Close(); err != nil {
		return err
	}
	for _, name := range []string{path, path + "-wal", path + "-shm"} {
		if err := os.Chmod(name, 0o600); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}

// check reads every page.
func check(ctx context.Context, db *sqlx.DB) error {
	var found []string
	if err := db.SelectContext(ctx, &found, "PRAGMA integrity_check(5)"); err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		found = []string{err.Error()}
	}
	if len(found) == 1 && found[0] == "ok" {
		return nil
	}
	return fmt.Errorf("%w (%s); put a copy back in its place. Images need none: with the file moved away, a start makes new records, and jugate image rescan enters the versions again", ErrDamaged, strings.Join(found, "; "))
}

// Examine reads every page of a file that was too large for that when it was opened. Once
// it has found damage, nothing is written any more: every change is an ErrDamaged.
func (db *DB) Examine(ctx context.Context) error {
	if info, err := os.Stat(db.path); err != nil || info.Size() <= examinedAtOnce {
		return err
	}
	err := check(ctx, db.lists)
	if errors.Is(err, ErrDamaged) {
		db.damaged.Store(&err)
	}
	return err
}

// sound returns what an examination has found.
func (db *DB) sound() error {
	if err := db.damaged.Load(); err != nil {
		return *err
	}
	return nil
}

// exec changes something in one statement. On a full disk its error is a fault.Full.
func (db *DB) exec(ctx context.Context, statement string, args ...any) (sql.Result, error) {
	if err := db.sound(); err != nil {
		return nil, err
	}
	result, err := db.write.ExecContext(ctx, statement, args...)
	return result, full(err)
}

// Ready tells whether the file can be read.
func (db *DB) Ready(ctx context.Context) error {
	if err := db.sound(); err != nil {
		return err
	}
	var one int
	return db.read.GetContext(ctx, &one, "SELECT count(*) FROM offers")
}

// Close closes the file.
func (db *DB) Close() error {
	var errs []error
	for _, pool := range []*sqlx.DB{db.lists, db.read, db.write} {
		if pool != nil {
			errs = append(errs, pool.Close())
		}
	}
	return errors.Join(errs...)
}

// change runs f in a transaction that is committed if f returns nil. On a full disk its
// error is a fault.Full.
func (db *DB) change(ctx context.Context, f func(tx *sqlx.Tx) error) error {
	return full(db.inTransaction(ctx, f))
}

// full makes errors of a full disk a fault.Full.
func full(err error) error {
	var e *sqlite.Error
	if errors.As(err, &e) && e.Code()&0xff == sqliteFull {
		return fault.Full.Errorf("the disk of the service's records is full: free some room on it and try again (%w)", err)
	}
	return err
}

// sqliteFull is SQLITE_FULL.
const sqliteFull = 13

func (db *DB) inTransaction(ctx context.Context, f func(tx *sqlx.Tx) error) error {
	if err := db.sound(); err != nil {
		return err
	}
	tx, err := db.write.BeginTxx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	if err := f(tx); err != nil {
		return err
	}
	return tx.Commit()
}

// missing turns sql.ErrNoRows into a fault.NotFound that says what was sought.
func missing(err error, what string, name any) error {
	if errors.Is(err, sql.ErrNoRows) {
		return fault.NotFound.Errorf("there is no %s %v", what, name)
	}
	return err
}

// TimeOf is a column's time, or nil if it has none.
func TimeOf(t sql.NullTime) *time.Time {
	if !t.Valid {
		return nil
	}
	return &t.Time
}

// NullTime is a column's value for a time that may be missing.
func NullTime(t *time.Time) sql.NullTime {
	if t == nil {
		return sql.NullTime{}
	}
	return sql.NullTime{Time: *t, Valid: true}
}
