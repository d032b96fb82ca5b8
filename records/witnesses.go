package records

import (
	"context"
	"database/sql"
	"errors"

	"github.com/jmoiron/sqlx"

	"jugate/core/fault"
)

// Witness is who countersigns our heads.
type Witness struct {
	Name        string       `db:"name"`
	URL         string       `db:"url"`
	Verifier    string       `db:"verifier"`
	Certificate string       `db:"certificate"`
	Size        int64        `db:"size"` // leaves of the last head that it has countersigned
	At          sql.NullTime `db:"at"`
	Problem     string       `db:"problem"`
}

// Witnesses lists them, by name.
func (db *DB) Witnesses(ctx context.Context) (all []Witness, err error) {
	err = db.read.SelectContext(ctx, &all, "SELECT * FROM witnesses ORDER BY name")
	return all, err
}

// PutWitness keeps what is known of a witness; fresh says that it is to be one more, and otherwise it has to be
// there. A fault.Conflict says that its name is taken.
func (db *DB) PutWitness(ctx context.Context, w Witness, fresh bool) error {
	if !fresh {
		_, err := db.exec(ctx, "UPDATE witnesses SET size = ?, at = ?, problem = ? WHERE name = ?", w.Size, w.At, w.Problem, w.Name)
		return err
	}
	r, err := db.exec(ctx, "INSERT INTO witnesses (name, url, verifier, certificate, size, at, problem) VALUES (?, ?, ?, ?, ?, ?, ?) ON CONFLICT DO NOTHING", w.Name, w.URL, w.Verifier, w.Certificate, w.Size, w.At, w.Problem)
	if err = changed(r, err, "", ""); errors.Is(err, fault.NotFound) {
		err = fault.Conflict.Errorf("there is a witness %s already", w.Name)
	}
	return err
}

// RemoveWitness removes one. It is a fault.NotFound if there is none.
func (db *DB) RemoveWitness(ctx context.Context, name string) error {
	r, err := db.exec(ctx, "DELETE FROM witnesses WHERE name = ?", name)
	return changed(r, err, "witness", name)
}

// Watched is a service whose heads are countersigned here.
type Watched struct {
	Name      string       `db:"name"`
	Verifier  string       `db:"verifier"`
	Signed    string       `db:"signed"` // the last head that was seen
	At        sql.NullTime `db:"at"`
	Statement string       `db:"statement"` // of a restore that somebody here has to confirm
}

// Watched lists them, by name.
func (db *DB) Watched(ctx context.Context) (all []Watched, err error) {
	err = db.read.SelectContext(ctx, &all, "SELECT * FROM witnessed ORDER BY name")
	return all, err
}

// AddWatched enters one. A fault.Conflict says that its name or its key is there already.
func (db *DB) AddWatched(ctx context.Context, w Watched) error {
	r, err := db.exec(ctx, "INSERT INTO witnessed (name, verifier) VALUES (?, ?) ON CONFLICT DO NOTHING", w.Name, w.Verifier)
	if err = changed(r, err, "", ""); errors.Is(err, fault.NotFound) {
		err = fault.Conflict.Errorf("%s, or its key, is watched already", w.Name)
	}
	return err
}

// ChangeWatched changes what was seen of one, in one transaction: no two heads follow the same. It is a
// fault.NotFound if there is none.
func (db *DB) ChangeWatched(ctx context.Context, name string, change func(w *Watched) error) error {
	return db.change(ctx, func(tx *sqlx.Tx) error {
		var w Watched
		if err := missing(tx.GetContext(ctx, &w, "SELECT * FROM witnessed WHERE name = ?", name), "watched service", name); err != nil {
			return err
		}
		if err := change(&w); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, "UPDATE witnessed SET signed = ?, at = ?, statement = ? WHERE name = ?", w.Signed, w.At, w.Statement, w.Name)
		return err
	})
}

// RemoveWatched removes one. It is a fault.NotFound if there is none.
func (db *DB) RemoveWatched(ctx context.Context, name string) error {
	r, err := db.exec(ctx, "DELETE FROM witnessed WHERE name = ?", name)
	return changed(r, err, "watched service", name)
}
