// Package outbox is the small database of an outpost: answers of its service that it keeps
// for a time when nobody answers, its leases, and what it has to hand in.
//
//	db, err := outbox.Open(ctx, path)
//	err = db.Keep(ctx, now, "choice", address, choice)
//	at, err := db.Kept(ctx, "choice", address, &choice)
//
//	err = db.Add(ctx, now, outbox.Item{Body: receipt})
//	box, items, err := db.Items(ctx, 100) // in the order in which they were added
//	err = db.Drop(ctx, items[len(items)-1].Number)
package outbox

import (
	"context"
	"database/sql"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"
	_ "modernc.org/sqlite" // the driver named "sqlite"

	"jugate/core/fault"
	"jugate/records/prepared"
)

//go:embed migrations/*.sql
var migrations embed.FS

// keptAtMost is how many answers of one kind are kept; the oldest go first.
const keptAtMost = 20_000

// DB is the file. It may be used from several goroutines.
type DB struct{ db *sqlx.DB }

// Open opens the file at path, and makes it if there is none.
func Open(ctx context.Context, path string) (*DB, error) {
	db := prepared.Open("file:" + url.PathEscape(path) + "?_pragma=busy_timeout(10000)&_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)&_pragma=secure_delete(1)&_time_format=sqlite&_txlock=immediate")
	db.SetMaxOpenConns(1) // SQLite has one writer, and little is asked
	sub, err := fs.Sub(migrations, "migrations")
	if err == nil {
		var p *goose.Provider
		if p, err = goose.NewProvider(goose.DialectSQLite3, db.DB, sub); err == nil {
			_, err = p.Up(ctx)
		}
	}
	if err != nil {
		return nil, errors.Join(fmt.Errorf("open %s: %w", path, err), db.Close())
	}
	return &DB{db}, nil
}

// Close closes the file.
func (db *DB) Close() error { return db.db.Close() }

// Keep keeps an answer, in place of the one before.
func (db *DB) Keep(ctx context.Context, now time.Time, kind, key string, answer any) error {
	body, err := json.Marshal(answer)
	if err != nil {
		return err
	}
	if _, err := db.db.ExecContext(ctx, `INSERT INTO kept (kind, key, at, body) VALUES (?1, ?2, ?3, ?4) ON CONFLICT DO UPDATE SET at = ?3, body = ?4`, kind, key, now.UTC(), string(body)); err != nil {
		return err
	}
	_, err = db.db.ExecContext(ctx, `DELETE FROM kept WHERE kind = ?1 AND at < (SELECT at FROM kept WHERE kind = ?1 ORDER BY at DESC LIMIT 1 OFFSET ?2)`, kind, keptAtMost-1)
	return err
}

// Kept reads an answer, and tells when it was given. It is a fault.NotFound if there is none.
func (db *DB) Kept(ctx context.Context, kind, key string, answer any) (at time.Time, err error) {
	var row struct {
		At   time.Time `db:"at"`
		Body string    `db:"body"`
	}
	err = db.db.GetContext(ctx, &row, `SELECT at, body FROM kept WHERE kind = ? AND key = ?`, kind, key)
	if errors.Is(err, sql.ErrNoRows) {
		return at, fault.NotFound.Errorf("nothing is kept of %s %s", kind, key)
	}
	if err != nil {
		return at, err
	}
	return row.At.UTC(), json.Unmarshal([]byte(row.Body), answer)
}

// All reads all answers of a kind.
func All[T any](ctx context.Context, db *DB, kind string) (all []T, err error) {
	var bodies []string
	if err := db.db.SelectContext(ctx, &bodies, `SELECT body FROM kept WHERE kind = ? ORDER BY key`, kind); err != nil {
		return nil, err
	}
	for _, body := range bodies {
		var one T
		if err := json.Unmarshal([]byte(body), &one); err != nil {
			return nil, fmt.Errorf("what is kept of %s cannot be read: %w", kind, err)
		}
		all = append(all, one)
	}
	return all, nil
}

// Forget removes an answer.
func (db *DB) Forget(ctx context.Context, kind, key string) error {
	_, err := db.db.ExecContext(ctx, `DELETE FROM kept WHERE kind = ? AND key = ?`, kind, key)
	return err
}

// Keys are the keys of a kind that begin with a prefix, in order.
func (db *DB) Keys(ctx context.Context, kind, prefix string) (keys []string, err error) {
	return keys, db.db.SelectContext(ctx, &keys, `SELECT key FROM kept WHERE kind = ? AND substr(key, 1, length(?)) = ? ORDER BY key`, kind, prefix, prefix)
}

// Item is something to hand in.
type Item struct {
	Number int64 `db:"number"` // grows from one to the next, and is never used again
	Body   string
	// Kind and Key, if set, are of a mark that is kept with it (see Keys and Kept), and stays when the item is dropped.
	Kind, Key string
	Mark      any
}

// Add adds items, all or none.
func (db *DB) Add(ctx context.Context, now time.Time, items ...Item) error {
	tx, err := db.db.BeginTxx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	for _, item := range items {
		if _, err := tx.ExecContext(ctx, `INSERT INTO items (body) VALUES (?)`, item.Body); err != nil {
			return err
		}
		if item.Kind == "" {
			continue
		}
		mark, err := json.Marshal(item.Mark)
		if err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO kept (kind, key, at, body) VALUES (?, ?, ?, ?) ON CONFLICT DO NOTHING`, item.Kind, item.Key, now.UTC(), string(mark)); err != nil {
			return err
		}
	}
	return tx.Commit()
}

// Items are the first of those that wait, in order, and the box that their numbers are of: another text for another database.
func (db *DB) Items(ctx context.Context, atMost int) (box string, items []Item, err error) {
	if err := db.db.SelectContext(ctx, &items, `SELECT number, body FROM items ORDER BY number LIMIT ?`, atMost); err != nil {
		return "", nil, err
	}
	return box, items, db.db.GetContext(ctx, &box, `SELECT name FROM box`)
}

// Drop removes the items up to a number.
func (db *DB) Drop(ctx context.Context, upTo int64) error {
	_, err := db.db.ExecContext(ctx, `DELETE FROM items WHERE number <= ?`, upTo)
	return err
}
