package records

import (
	"context"
	"strings"

	"github.com/jmoiron/sqlx"

	"jugate/core/fault"
	"jugate/core/rights"
)

// Role is a role of the service's own.
type Role struct {
	Name     string `db:"name"`
	Note     string `db:"note"`
	RightsJS string `db:"rights"` // see Rights
}

// Rights are the rights of the role.
func (r *Role) Rights() ([]rights.Right, error) {
	return decode[[]rights.Right]("the rights of the role "+r.Name, r.RightsJS)
}

// Roles lists those of the service's own.
func (db *DB) Roles(ctx context.Context) (all []Role, err error) {
	return all, db.read.SelectContext(ctx, &all, `SELECT * FROM roles ORDER BY name`)
}

// PutRole records a role, in place of one of that name.
func (db *DB) PutRole(ctx context.Context, name, note string, all []rights.Right) error {
	return db.change(ctx, func(tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, `INSERT INTO roles (name, note, rights) VALUES (?, ?, ?) ON CONFLICT DO UPDATE SET note = excluded.note, rights = excluded.rights`, name, note, encode(all))
		if err != nil {
			return err
		}
		return anAdministrator(ctx, tx)
	})
}

// RemoveRole forgets a role that nobody has.
func (db *DB) RemoveRole(ctx context.Context, name string) error {
	return db.change(ctx, func(tx *sqlx.Tx) error {
		var holders []string
		if err := tx.SelectContext(ctx, &holders, `SELECT DISTINCT p.name FROM grants g JOIN people p ON p.id = g.person_id WHERE g.role = ? ORDER BY p.name LIMIT 5`, name); err != nil {
			return err
		}
		if holders != nil {
			return fault.Conflict.Errorf("the role %s is granted to %s", name, strings.Join(holders, ", "))
		}
		r, err := tx.ExecContext(ctx, `DELETE FROM roles WHERE name = ?`, name)
		return changed(r, err, "role", name)
	})
}

func hasRole(ctx context.Context, tx *sqlx.Tx, name string) error {
	if _, is := rights.FindBuiltIn(name); is {
		return nil
	}
	var is bool
	if err := tx.GetContext(ctx, &is, `SELECT EXISTS (SELECT 1 FROM roles WHERE name = ?)`, name); err != nil || is {
		return err
	}
	return fault.NotFound.Errorf("no such role: %s", name)
}
