package records

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"
)

// QuietTime is a time in which no order runs by itself.
type QuietTime struct {
	Name  string    `db:"name"`
	Begin time.Time `db:"begin"`
	Until time.Time `db:"until"`
	Note  string    `db:"note"`
}

// QuietTimes lists, by when they begin; sortable by name and begin.
func (db *DB) QuietTimes(ctx context.Context, p Page) (rows []QuietTime, total int, err error) {
	var q query
	q.search(p.Search, []string{"t.name", "t.note"})
	total, err = db.list(ctx, listing{columns: "t.*", from: "quiet_times t", key: "t.rowid", order: "t.begin", fields: map[string]string{"name": "t.name", "begin": "t.begin"}}, &rows, q, p)
	return rows, total, err
}

// PutQuietTime keeps one; one of the same name is replaced. Those that were over a year ago are forgotten.
func (db *DB) PutQuietTime(ctx context.Context, now time.Time, t QuietTime) error {
	t.Begin, t.Until = t.Begin.UTC(), t.Until.UTC()
	return db.change(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `DELETE FROM quiet_times WHERE until < ?`, now.AddDate(-1, 0, 0).UTC()); err != nil {
			return err
		}
		_, err := tx.NamedExecContext(ctx, `INSERT INTO quiet_times (name, begin, until, note) VALUES (:name, :begin, :until, :note)
			ON CONFLICT (name) DO UPDATE SET name = :name, begin = :begin, until = :until, note = :note`, t)
		return err
	})
}

// RemoveQuietTime forgets one.
func (db *DB) RemoveQuietTime(ctx context.Context, name string) error {
	result, err := db.exec(ctx, `DELETE FROM quiet_times WHERE name = ?`, name)
	return changed(result, err, "quiet time", name)
}

// QuietAt is the quiet time that an instant is in, the one that lasts longest; nil if there is none.
func (db *DB) QuietAt(ctx context.Context, now time.Time) (*QuietTime, error) {
	var rows []QuietTime
	err := db.read.SelectContext(ctx, &rows, `SELECT * FROM quiet_times WHERE begin <= ? AND until > ? ORDER BY until DESC LIMIT 1`, now.UTC(), now.UTC())
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	return &rows[0], nil
}
