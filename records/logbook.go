package records

import (
	"context"
	"time"
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
}

// AddLine writes a line.
func (db *DB) AddLine(ctx context.Context, l Line) error {
	l.At = l.At.UTC()
	_, err := db.exec(ctx, `INSERT INTO logbook (at, who, kind, from_addr, through, operation, subject, details) VALUES (?, ?, ?, ?, ?, ?, ?, ?)`,
		l.At, l.Who, l.Kind, l.From, l.Through, l.Operation, l.Subject, l.Details)
	return err
}

// LineFilter narrows a list of lines; empty fields narrow nothing.
type LineFilter struct {
	Who, Operation string
	Since, Until   time.Time
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
	q.search(p.Search, []string{"l.who", "l.operation", "l.subject", "l.details"})
	var rows []Line
	total, err := db.list(ctx, listing{columns: "l.*", from: "logbook l", key: "l.id", order: "l.id DESC",
		fields: map[string]string{"at": "l.at", "who": "l.who", "operation": "l.operation"}}, &rows, q, p)
	return rows, total, err
}
