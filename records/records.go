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
	"strings"

	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"
	_ "modernc.org/sqlite" // the driver named "sqlite"
)

//go:embed migrations/*.sql
var migrations embed.FS

var (
	// ErrNotFound says that there is no such record.
	ErrNotFound = errors.New("not found")
	// ErrConflict says that a change would contradict what is recorded.
	ErrConflict = errors.New("conflict")
)

// DB is the records' file. It may be used from several goroutines.
type DB struct {
	write *sqlx.DB // one connection: SQLite has one writer
	read  *sqlx.DB
}

// Open opens the file at path, making it if there is none, and brings its
// schema up to date.
func Open(ctx context.Context, path string) (*DB, error) {
	open := func(connections int, more string) (*sqlx.DB, error) {
		name := "file:" + url.PathEscape(path) + "?_pragma=foreign_keys(1)&_pragma=busy_timeout(10000)&_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)&_time_format=sqlite" + more
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
	if err := migrate(ctx, write.DB); err != nil {
		write.Close()
		return nil, fmt.Errorf("open the records in %s: %w", path, err)
	}
	read, err := open(4, "&_pragma=query_only(1)")
	if err != nil {
		return nil, errors.Join(err, write.Close())
	}
	return &DB{write: write, read: read}, nil
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

// Close closes the file.
func (db *DB) Close() error { return errors.Join(db.read.Close(), db.write.Close()) }

// change runs f in a transaction that is committed if f returns nil.
func (db *DB) change(ctx context.Context, f func(tx *sqlx.Tx) error) error {
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
			return 0, fmt.Errorf("%w: this list cannot be sorted by %q", ErrConflict, field)
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

// missing turns sql.ErrNoRows into an ErrNotFound that says what was sought.
func missing(err error, what string, name any) error {
	if errors.Is(err, sql.ErrNoRows) {
		return fmt.Errorf("%w: there is no %s %v", ErrNotFound, what, name)
	}
	return err
}
