// Package prepared opens SQLite files whose connections remember what they have prepared:
// reading a statement takes SQLite longer than most of them take to run.
//
//	db := prepared.Open("file:jugate.db?_pragma=journal_mode(WAL)")
//
// A statement that is asked for again while it is still being read, by somebody within the
// same transaction, is prepared once more.
package prepared

import (
	"container/list"
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"strings"

	"github.com/jmoiron/sqlx"
	"modernc.org/sqlite"
)

// atMost is how many statements a connection remembers; those that were asked for longest ago go first.
const atMost = 256

// Open is sqlx.Open for SQLite; nothing is opened before something is asked.
func Open(name string) *sqlx.DB {
	return sqlx.NewDb(sql.OpenDB(connector{&sqlite.Driver{}, name}), "sqlite")
}

type connector struct {
	driver *sqlite.Driver
	name   string
}

func (c connector) Driver() driver.Driver { return c.driver }

func (c connector) Connect(context.Context) (driver.Conn, error) {
	inner, err := c.driver.Open(c.name)
	if err != nil {
		return nil, err
	}
	return &conn{inside: inner.(inside), idle: map[string]*list.Element{}}, nil
}

// inside is what the driver's connections can do.
type inside interface {
	driver.Conn
	driver.ConnBeginTx
	driver.ConnPrepareContext
	driver.ExecerContext
	driver.QueryerContext
	driver.Pinger
	driver.SessionResetter
	driver.Validator
}

// statement is a prepared one.
type statement interface {
	driver.Stmt
	driver.StmtExecContext
	driver.StmtQueryContext
}

// conn is a connection; like all, it is used by one at a time.
type conn struct {
	inside
	idle  map[string]*list.Element // of statements that nobody is at
	order list.List                // of remembered, the one that was used last in front
}

type remembered struct {
	query string
	statement
}

// Close closes what was prepared, too.
func (c *conn) Close() error {
	var errs []error
	for e := c.order.Front(); e != nil; e = e.Next() {
		errs = append(errs, e.Value.(remembered).Close())
	}
	return errors.Join(append(errs, c.inside.Close())...)
}

// once tells whether something is not worth remembering: scripts, and what is done when a file is opened.
func once(query string) bool {
	return strings.Contains(query, ";") || strings.HasPrefix(query, "PRAGMA")
}

// take is a statement for one use.
func (c *conn) take(ctx context.Context, query string) (statement, error) {
	if e, known := c.idle[query]; known {
		delete(c.idle, query)
		return c.order.Remove(e).(remembered).statement, nil
	}
	s, err := c.PrepareContext(ctx, query)
	if err != nil {
		return nil, err
	}
	return s.(statement), nil
}

// give takes a statement back.
func (c *conn) give(query string, s statement) error {
	if _, known := c.idle[query]; known { // another one came back before
		return s.Close()
	}
	c.idle[query] = c.order.PushFront(remembered{query, s})
	if c.order.Len() <= atMost {
		return nil
	}
	oldest := c.order.Remove(c.order.Back()).(remembered)
	delete(c.idle, oldest.query)
	return oldest.Close()
}

// ExecContext is driver.ExecerContext's.
func (c *conn) ExecContext(ctx context.Context, query string, args []driver.NamedValue) (driver.Result, error) {
	if once(query) {
		return c.inside.ExecContext(ctx, query, args)
	}
	s, err := c.take(ctx, query)
	if err != nil {
		return nil, err
	}
	r, err := s.ExecContext(ctx, args)
	if err != nil {
		s.Close()
		return nil, err
	}
	return r, c.give(query, s)
}

// QueryContext is driver.QueryerContext's.
func (c *conn) QueryContext(ctx context.Context, query string, args []driver.NamedValue) (driver.Rows, error) {
	if once(query) {
		return c.inside.QueryContext(ctx, query, args)
	}
	s, err := c.take(ctx, query)
	if err != nil {
		return nil, err
	}
	r, err := s.QueryContext(ctx, args)
	if err != nil {
		s.Close()
		return nil, err
	}
	return &rows{Rows: r, conn: c, query: query, statement: s}, nil
}

// rows give their statement back when they are closed.
type rows struct {
	driver.Rows
	conn      *conn
	query     string
	statement statement
	closed    bool
}

func (r *rows) Close() error {
	if r.closed {
		return nil
	}
	r.closed = true
	if err := r.Rows.Close(); err != nil {
		return errors.Join(err, r.statement.Close())
	}
	return r.conn.give(r.query, r.statement)
}
