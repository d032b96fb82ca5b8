package records

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"

	"jugate/core/fault"
)

// Directory is where people come from.
type Directory struct {
	Name        string    `db:"name"`
	Kind        string    `db:"kind"`   // ldap or openid
	Server      string    `db:"server"` // ldaps://HOST[:PORT], or the issuer
	Account     string    `db:"account"`
	Secret      string    `db:"secret"` // sealed
	Base        string    `db:"base"`
	Certificate string    `db:"certificate"`
	RoleText    string    `db:"roles"` // see Roles
	Added       time.Time `db:"added"`
}

// GroupGrant says what the members of a group of a directory are granted here.
type GroupGrant struct {
	Group string `json:"group"`
	Role  string `json:"role"`
	Kind  string `json:"kind"`
	Name  string `json:"name"` // of the group or image here
}

// Grants are what the groups there are granted here.
func (d *Directory) Grants() ([]GroupGrant, error) {
	return decode[[]GroupGrant]("roles of the directory "+d.Name, d.RoleText)
}

// Directories lists them, by name.
func (db *DB) Directories(ctx context.Context) (all []Directory, err error) {
	return all, db.read.SelectContext(ctx, &all, `SELECT * FROM directories ORDER BY name`)
}

// Directory is the one of that name.
func (db *DB) Directory(ctx context.Context, name string) (*Directory, error) {
	var d Directory
	err := db.read.GetContext(ctx, &d, `SELECT * FROM directories WHERE name = ?`, name)
	return &d, missing(err, "directory", name)
}

// PutDirectory enters a directory, or enters it anew, with what its groups are granted.
func (db *DB) PutDirectory(ctx context.Context, d Directory, grants []GroupGrant) error {
	d.RoleText, d.Added = encode(grants), d.Added.UTC()
	return db.change(ctx, func(tx *sqlx.Tx) error {
		for _, g := range grants {
			if err := hasRole(ctx, tx, g.Role); err != nil {
				return err
			}
		}
		_, err := tx.NamedExecContext(ctx, `INSERT INTO directories (name, kind, server, account, secret, base, certificate, roles, added) VALUES (:name, :kind, :server, :account, :secret, :base, :certificate, :roles, :added)
			ON CONFLICT (name) DO UPDATE SET kind = :kind, server = :server, account = :account, secret = :secret, base = :base, certificate = :certificate, roles = :roles`, d)
		return err
	})
}

// RemoveDirectory forgets a directory, with the people who came from it.
func (db *DB) RemoveDirectory(ctx context.Context, name string) error {
	return db.change(ctx, func(tx *sqlx.Tx) error {
		r, err := tx.ExecContext(ctx, `DELETE FROM directories WHERE name = ?`, name)
		if err := changed(r, err, "directory", name); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM people WHERE directory = ?`, name); err != nil {
			return err
		}
		return anAdministrator(ctx, tx)
	})
}

// PutKnown records a person as a directory has just described them, and returns them as they are then. A name that
// somebody else has here is a fault.Conflict.
func (db *DB) PutKnown(ctx context.Context, now time.Time, p Person) (*Person, error) {
	var out *Person
	err := db.change(ctx, func(tx *sqlx.Tx) error {
		var id int64
		err := tx.GetContext(ctx, &id, `SELECT coalesce(max(id), 0) FROM people WHERE directory = ? AND subject = ?`, p.Directory, p.Subject)
		if err != nil {
			return err
		}
		// Somebody of the same name in the same directory, who is somebody else, is gone there.
		if _, err := tx.ExecContext(ctx, `DELETE FROM people WHERE directory = ? AND name = ? AND id <> ?`, p.Directory, p.Name, id); err != nil {
			return err
		}
		var taken int
		if err := tx.GetContext(ctx, &taken, `SELECT count(*) FROM people WHERE name = ? AND id <> ?`, p.Name, id); err != nil {
			return err
		} else if taken > 0 {
			return fault.Conflict.Errorf("somebody else is called %s here, who does not come from the directory %s: one of the two has to be removed or get another name", p.Name, p.Directory)
		}
		if id == 0 {
			p.Added = now
			if id, err = addPerson(ctx, tx, p); err != nil {
				return err
			}
		} else if _, err := tx.ExecContext(ctx, `UPDATE people SET name = ?, full_name = ? WHERE id = ?`, p.Name, p.FullName, id); err != nil {
			return err
		}
		if err := setGrants(ctx, tx, id, p.Grants); err != nil {
			return err
		}
		out, err = person(ctx, tx, p.Name, "id = ?", id)
		return err
	})
	return out, err
}

// EndOf ends all sessions and takes all grants of somebody whom a directory does not know any more.
func (db *DB) EndOf(ctx context.Context, id int64) error {
	return db.change(ctx, func(tx *sqlx.Tx) error {
		if err := setGrants(ctx, tx, id, nil); err != nil {
			return err
		}
		return endSessions(ctx, tx, id, "")
	})
}
