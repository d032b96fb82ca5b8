package records

import (
	"context"
	"time"
)

// Setting is one that was changed while the service ran.
type Setting struct {
	Name   string    `db:"name"`
	Values Words     `db:"values"`
	By     string    `db:"by"`
	At     time.Time `db:"at"`
}

// Settings lists those that were changed, by name.
func (db *DB) Settings(ctx context.Context) (all []Setting, err error) {
	return all, db.read.SelectContext(ctx, &all, `SELECT name, "values", by, at FROM settings ORDER BY name`)
}

// PutSetting keeps a setting.
func (db *DB) PutSetting(ctx context.Context, s Setting) error {
	_, err := db.exec(ctx, `INSERT INTO settings (name, "values", by, at) VALUES (?, ?, ?, ?) ON CONFLICT DO UPDATE SET "values" = excluded."values", by = excluded.by, at = excluded.at`, s.Name, s.Values, s.By, s.At.UTC())
	return err
}

// RemoveSetting forgets a setting.
func (db *DB) RemoveSetting(ctx context.Context, name string) error {
	r, err := db.exec(ctx, `DELETE FROM settings WHERE name = ?`, name)
	return changed(r, err, "setting that was changed while the service ran", name)
}
