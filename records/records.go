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
	"time"

	"jugate/core/fault"

	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"
	"modernc.org/sqlite" // the driver named "sqlite"
)

//go:embed migrations/*.sql
var migrations embed.FS

// ErrDamaged says that the file's pages are damaged.
var ErrDamaged = errors.New("the records are damaged")

// DB is the records' file. It may be used from several goroutines.
type DB struct {
	write *sqlx.DB // one connection: SQLite has one writer
	read  *sqlx.DB
	// Notices says what Open has set aside, in words.
	Notices []string
}

// Open opens the file at path, making it if there is none, readable by nobody else, and
// brings its schema up to date. The whole file is checked: ErrDamaged says that pages
// of it are not what they should be. Single rows that make no sense are set aside.
func Open(ctx context.Context, path string) (*DB, error) {
	if err := private(path); err != nil {
		return nil, fmt.Errorf("open the records in %s: %w", path, err)
	}
	open := func(connections int, more string) (*sqlx.DB, error) {
		// What is deleted is overwritten: keys of sealed deliveries must be gone after them.
		name := "file:" + url.PathEscape(path) + "?_pragma=foreign_keys(1)&_pragma=busy_timeout(10000)&_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)&_pragma=secure_delete(1)&_time_format=sqlite" + more
		db, err := sqlx.Open("sqlite", name)
		if err == nil {
			db.SetMaxOpenConns(connections)
		}
		return db, err
	}
	write, err := open(1, "&_txlock=immediate")
	if err != nil {
		return nil, err
	}
	db := &DB{write: write}
	if err = check(ctx, write); err == nil {
		err = migrate(ctx, write.DB)
	}
	if err == nil {
		err = db.setAside(ctx)
	}
	if err != nil {
		write.Close()
		return nil, fmt.Errorf("open the records in %s: %w", path, err)
	}
	if db.read, err = open(4, "&_pragma=query_only(1)"); err != nil {
		return nil, errors.Join(err, write.Close())
	}
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

func migrate(ctx context.Context, db *sql.DB) error {
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	provider, err := goose.NewProvider(goose.DialectSQLite3, db, files)
	if err != nil {
		return err
	}
	_, err = provider.Up(ctx)
	return err
}

// Ready tells whether the file can be read.
func (db *DB) Ready(ctx context.Context) error {
	var one int
	return db.read.GetContext(ctx, &one, "SELECT count(*) FROM groups")
}

// Close closes the file.
func (db *DB) Close() error { return errors.Join(db.read.Close(), db.write.Close()) }

// change runs f in a transaction that is committed if f returns nil. On a full disk its
// error is a fault.Full.
func (db *DB) change(ctx context.Context, f func(tx *sqlx.Tx) error) error {
	return full(db.inTransaction(ctx, f))
}

// full marks errors of a full disk.
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

// Page asks for a part of a list.
type Page struct {
	Offset, Limit int
	// Sort is a field, with a hyphen in front for descending; each list says
	// which fields it knows.
	Sort string
	// Search keeps only rows that contain this text.
	Search string
}

// query is a SELECT that grows conditions.
type query struct {
	from  string // everything between SELECT columns and WHERE
	where []string
	args  []any
}

func (q *query) and(condition string, args ...any) {
	q.where = append(q.where, "("+condition+")")
	q.args = append(q.args, args...)
}

// search asks that one of the columns contains text.
func (q *query) search(text string, columns ...string) {
	if text == "" {
		return
	}
	like := "%" + strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`).Replace(text) + "%"
	var either []string
	var args []any
	for _, c := range columns {
		either = append(either, c+` LIKE ? ESCAPE '\'`)
		args = append(args, like)
	}
	q.and(strings.Join(either, " OR "), args...)
}

// list fills rows, a pointer to a slice, with one page and returns how many
// rows there are in all. fields maps what Page.Sort may name to columns; the
// first of order is the default.
func (db *DB) list(ctx context.Context, rows any, columns string, q query, p Page, fields map[string]string, order string) (int, error) {
	where := ""
	if len(q.where) > 0 {
		where = " WHERE " + strings.Join(q.where, " AND ")
	}
	if p.Sort != "" {
		field, desc := strings.CutPrefix(p.Sort, "-")
		column, known := fields[field]
		if !known {
			return 0, fault.Conflict.Errorf("this list cannot be sorted by %q", field)
		}
		if desc {
			column += " DESC"
		}
		order = column + ", " + order
	}
	if p.Limit <= 0 {
		p.Limit = -1 // all
	}
	tx, err := db.read.BeginTxx(ctx, &sql.TxOptions{ReadOnly: true}) // so that the count and the rows agree
	if err != nil {
		return 0, err
	}
	defer tx.Rollback()
	var total int
	if err := tx.GetContext(ctx, &total, "SELECT count(*) FROM "+q.from+where, q.args...); err != nil {
		return 0, err
	}
	err = tx.SelectContext(ctx, rows, "SELECT "+columns+" FROM "+q.from+where+" ORDER BY "+order+" LIMIT ? OFFSET ?",
		append(q.args, p.Limit, p.Offset)...)
	return total, err
}

// missing turns sql.ErrNoRows into a fault.NotFound that says what was sought.
func missing(err error, what string, name any) error {
	if errors.Is(err, sql.ErrNoRows) {
		return fault.NotFound.Errorf("there is no %s %v", what, name)
	}
	return err
}

// TimeOf is nil where there is no time.
func TimeOf(t sql.NullTime) *time.Time {
	if !t.Valid {
		return nil
	}
	return &t.Time
}

// NullTime is the other way round.
func NullTime(t *time.Time) sql.NullTime {
	if t == nil {
		return sql.NullTime{}
	}
	return sql.NullTime{Time: *t, Valid: true}
}
