package records

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"

	"jugate/core/actor"
	"jugate/core/proof"
)

// Line is a line of the logbook: a change, and who made it.
type Line struct {
	ID        int64     `db:"id"`
	At        time.Time `db:"at"`
	Who       string    `db:"who"`
	Kind      string    `db:"kind"` // of the actor
	From      string    `db:"from_addr"`
	Through   string    `db:"through"`
	Operation string    `db:"operation"`
	Subject   string    `db:"subject"`
	Details   string    `db:"details"` // JSON
	Changes   string    `db:"changes"` // JSON: each field that differs, before and after; empty if nothing is known
}

// AddLine writes a line, and returns its number.
func (db *DB) AddLine(ctx context.Context, l Line) (int64, error) {
	err := db.change(ctx, func(tx *sqlx.Tx) error {
		g, err := grow(ctx, tx)
		if err != nil {
			return err
		}
		return g.line(&l)
	})
	return l.ID, err
}

// ForgetOperation is what the line says that notes the end of others.
const ForgetOperation = "forget-lines"

// lasting are operations whose lines stay: without them nobody could tell what was lost from what was removed.
var lasting = []string{ForgetOperation, MoveOperation, proof.RestoreOperation}

// forgotten is what the details of such a line say.
type forgotten struct {
	Before    time.Time `json:"before"`
	UntilLine int64     `json:"until_line"`
	Count     int64     `json:"line_count"`
}

// forgets is the last line that was forgotten when this one was written; 0 if it is about something else.
func (l *Line) forgets() int64 {
	if l.Operation != ForgetOperation || l.Kind != string(actor.Program) {
		return 0
	}
	f, _ := decode[forgotten]("", l.Details)
	return f.UntilLine
}

// ForgetLines removes lines that are older than before, and tells how many. Their leaves stay, so that all other
// proofs do, and a line says what was removed.
func (db *DB) ForgetLines(ctx context.Context, now, before time.Time) (n int64, err error) {
	err = db.change(ctx, func(tx *sqlx.Tx) error {
		f := forgotten{Before: before.UTC()}
		if err := tx.GetContext(ctx, &f.UntilLine, "SELECT coalesce(max(id), 0) FROM logbook WHERE at < ?", before.UTC()); err != nil {
			return err
		}
		result, err := tx.ExecContext(ctx, "DELETE FROM logbook WHERE id <= ? AND operation NOT IN (SELECT value FROM json_each(?))", f.UntilLine, encode(lasting))
		if err != nil {
			return err
		}
		if n, err = result.RowsAffected(); err != nil || n == 0 {
			return err
		}
		f.Count = n
		g, err := grow(ctx, tx)
		if err != nil {
			return err
		}
		return g.line(&Line{At: now, Who: "the service", Kind: string(actor.Program), Through: "service", Operation: ForgetOperation, Details: encode(f)})
	})
	return n, err
}

// LineFilter narrows a list of lines; empty fields narrow nothing.
type LineFilter struct {
	Who, Operation string
	Since, Until   time.Time
	After          int64 // only lines with a greater number
}

// LastLine is the number of the newest line; 0 if there is none.
func (db *DB) LastLine(ctx context.Context) (n int64, err error) {
	err = db.read.GetContext(ctx, &n, "SELECT coalesce(max(id), 0) FROM logbook")
	return n, err
}

// Lines lists the logbook, the newest first; sortable by at, who and operation.
func (db *DB) Lines(ctx context.Context, f LineFilter, p Page) ([]Line, int, error) {
	var q query
	if f.Who != "" {
		q.and("l.who = ? COLLATE NOCASE", f.Who)
	}
	if f.Operation != "" {
		q.and("l.operation = ?", f.Operation)
	}
	if !f.Since.IsZero() {
		q.and("l.at >= ?", f.Since.UTC())
	}
	if !f.Until.IsZero() {
		q.and("l.at < ?", f.Until.UTC())
	}
	if f.After > 0 {
		q.and("l.id > ?", f.After)
	}
	q.search(p.Search, []string{"l.who", "l.operation", "l.subject", "l.details", "l.changes"})
	var rows []Line
	total, err := db.list(ctx, listing{columns: "l.*", from: "logbook l", key: "l.id", order: "l.id DESC",
		fields: map[string]string{"at": "l.at", "who": "l.who", "operation": "l.operation"}}, &rows, q, p)
	return rows, total, err
}
