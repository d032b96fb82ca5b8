package records

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"jugate/core/fault"
	"jugate/core/rights"
)

// Person is somebody who may sign in.
type Person struct {
	ID       int64        `db:"id"`
	Name     string       `db:"name"`
	FullName string       `db:"full_name"`
	Password string       `db:"password"` // Argon2id; empty if there is none
	ShutOut  bool         `db:"shut_out"`
	Added    time.Time    `db:"added"`
	Seen     sql.NullTime `db:"seen"`

	// Factor is the secret of a second factor, sealed, and FactorOffered one that is not confirmed yet;
	// FactorStep is the last whose code was used.
	Factor        string `db:"factor"`
	FactorOffered string `db:"factor_offered"`
	FactorStep    int64  `db:"factor_step"`
	// Directory is where the person comes from, and Subject who they are there; empty for people of the
	// service's own.
	Directory string `db:"directory"`
	Subject   string `db:"subject"`

	Grants []Grant `db:"-"`
}

// Grant gives a role to a person.
type Grant struct {
	PersonID int64  `db:"person_id"`
	Role     string `db:"role"`
	Kind     string `db:"kind"`
	Name     string `db:"name"` // of the group or image
}

// Scope is what the grant is for.
func (g Grant) Scope() rights.Scope { return rights.Scope{Kind: rights.Kind(g.Kind), Name: g.Name} }

// AddPerson records a person, with grants. A name that is taken is a fault.Conflict.
func (db *DB) AddPerson(ctx context.Context, p Person) (id int64, err error) {
	err = db.change(ctx, func(tx *sqlx.Tx) error {
		if id, err = addPerson(ctx, tx, p); err != nil {
			return err
		}
		return setGrants(ctx, tx, id, p.Grants)
	})
	return id, err
}

func addPerson(ctx context.Context, tx *sqlx.Tx, p Person) (int64, error) {
	p.Added = p.Added.UTC()
	r, err := tx.NamedExecContext(ctx, `INSERT INTO people (name, full_name, password, shut_out, added, directory, subject) VALUES (:name, :full_name, :password, :shut_out, :added, :directory, :subject)`, p)
	if err != nil {
		if strings.Contains(err.Error(), "UNIQUE") {
			return 0, fault.Conflict.Errorf("there is a person called %s already", p.Name)
		}
		return 0, err
	}
	return r.LastInsertId()
}

// People lists them by name, with their grants.
func (db *DB) People(ctx context.Context) (all []Person, err error) {
	if err := db.read.SelectContext(ctx, &all, `SELECT * FROM people ORDER BY name`); err != nil {
		return nil, err
	}
	grants, err := grants(ctx, db.read, "")
	if err != nil {
		return nil, err
	}
	for i := range all {
		all[i].Grants = grants[all[i].ID]
	}
	return all, nil
}

// Person is the one of that name.
func (db *DB) Person(ctx context.Context, name string) (*Person, error) {
	return person(ctx, db.read, name, "name = ?", name)
}

// PersonOf is the one with that number.
func (db *DB) PersonOf(ctx context.Context, id int64) (*Person, error) {
	return person(ctx, db.read, fmt.Sprint(id), "id = ?", id)
}

func person(ctx context.Context, q sqlx.QueryerContext, called, condition string, arg any) (*Person, error) {
	var p Person
	if err := missing(sqlx.GetContext(ctx, q, &p, `SELECT * FROM people WHERE `+condition, arg), "person", called); err != nil {
		return nil, err
	}
	grants, err := grants(ctx, q, " WHERE g.person_id = ?", p.ID)
	p.Grants = grants[p.ID]
	return &p, err
}

// grants are those of people, by number.
func grants(ctx context.Context, q sqlx.QueryerContext, where string, args ...any) (map[int64][]Grant, error) {
	var rows []Grant
	err := sqlx.SelectContext(ctx, q, &rows, `SELECT g.person_id, g.role, g.kind, CASE g.kind WHEN 'group' THEN (SELECT name FROM groups WHERE id = g.owner)
		WHEN 'image' THEN (SELECT name FROM images WHERE id = g.owner) ELSE '' END AS name FROM grants g`+where+` ORDER BY g.kind, name, g.role`, args...)
	all := map[int64][]Grant{}
	for _, g := range rows {
		all[g.PersonID] = append(all[g.PersonID], g)
	}
	return all, err
}

// ChangePerson changes a person's full name, grants, and whether they are shut out. Sessions of whoever
// is shut out end.
func (db *DB) ChangePerson(ctx context.Context, name string, change func(p *Person) error) error {
	return db.change(ctx, func(tx *sqlx.Tx) error {
		p, err := person(ctx, tx, name, "name = ?", name)
		if err != nil {
			return err
		}
		if err := change(p); err != nil {
			return err
		}
		if _, err := tx.NamedExecContext(ctx, `UPDATE people SET full_name = :full_name, shut_out = :shut_out WHERE id = :id`, p); err != nil {
			return err
		}
		if p.ShutOut {
			if err := endSessions(ctx, tx, p.ID, ""); err != nil {
				return err
			}
		}
		if err := setGrants(ctx, tx, p.ID, p.Grants); err != nil {
			return err
		}
		return anAdministrator(ctx, tx)
	})
}

// SetPassword replaces a person's password, by its hash, and ends all sessions but one.
func (db *DB) SetPassword(ctx context.Context, id int64, hash, session string) error {
	return db.change(ctx, func(tx *sqlx.Tx) error { return setPassword(ctx, tx, id, hash, session) })
}

func setPassword(ctx context.Context, tx *sqlx.Tx, id int64, hash, session string) error {
	if _, err := tx.ExecContext(ctx, `UPDATE people SET password = ? WHERE id = ?`, hash, id); err != nil {
		return err
	}
	return endSessions(ctx, tx, id, session)
}

// SetFactor replaces the secrets of a person's second factor, which are sealed.
func (db *DB) SetFactor(ctx context.Context, id int64, factor, offered string) error {
	_, err := db.exec(ctx, `UPDATE people SET factor = ?, factor_offered = ? WHERE id = ?`, factor, offered, id)
	return err
}

// UseFactorStep notes that the code of a step was used, and tells whether none of it or of a later one was before.
func (db *DB) UseFactorStep(ctx context.Context, id, step int64) (bool, error) {
	r, err := db.exec(ctx, `UPDATE people SET factor_step = ?1 WHERE id = ?2 AND factor_step < ?1`, step, id)
	if err = changed(r, err, "", ""); errors.Is(err, fault.NotFound) {
		return false, nil
	}
	return err == nil, err
}

// setGrants replaces what is granted to a person.
func setGrants(ctx context.Context, tx *sqlx.Tx, id int64, grants []Grant) error {
	if _, err := tx.ExecContext(ctx, `DELETE FROM grants WHERE person_id = ?`, id); err != nil {
		return err
	}
	for _, g := range grants {
		owner := int64(0)
		if table := map[string]string{"group": "groups", "image": "images"}[g.Kind]; table != "" {
			err := tx.GetContext(ctx, &owner, `SELECT id FROM `+table+` WHERE name = ? COLLATE NOCASE`, g.Name)
			if err := missing(err, g.Kind, g.Name); err != nil {
				return err
			}
		}
		if err := hasRole(ctx, tx, g.Role); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO grants (person_id, role, kind, owner) VALUES (?, ?, ?, ?) ON CONFLICT DO NOTHING`, id, g.Role, g.Kind, owner); err != nil {
			return err
		}
	}
	return nil
}

// anAdministrator refuses that nobody is left who may say who may do what, once somebody was.
func anAdministrator(ctx context.Context, tx *sqlx.Tx) error {
	var people, administrators int
	err := errors.Join(
		tx.GetContext(ctx, &people, `SELECT count(*) FROM people`),
		tx.GetContext(ctx, &administrators, `SELECT count(*) FROM people p WHERE NOT p.shut_out AND EXISTS (SELECT 1 FROM grants g WHERE g.person_id = p.id AND g.kind = 'everything' AND
			(g.role = 'administrator' COLLATE NOCASE OR EXISTS (SELECT 1 FROM roles r, json_each(r.rights) o WHERE r.name = g.role AND o.value = 'administer')))`))
	if err == nil && people > 0 && administrators == 0 {
		err = fault.Conflict.Errorf("nobody would be left who may administer")
	}
	return err
}

// MustHaveAdministrator is a fault.Conflict if nobody may administer who has a password or comes from a directory.
func (db *DB) MustHaveAdministrator(ctx context.Context) error {
	var n int
	err := db.read.GetContext(ctx, &n, `SELECT count(*) FROM people p WHERE NOT p.shut_out AND (p.password <> '' OR p.directory <> '') AND EXISTS (SELECT 1 FROM grants g WHERE g.person_id = p.id AND g.kind = 'everything' AND
		(g.role = 'administrator' COLLATE NOCASE OR EXISTS (SELECT 1 FROM roles r, json_each(r.rights) o WHERE r.name = g.role AND o.value = 'administer')))`)
	if err == nil && n == 0 {
		err = fault.Conflict.Errorf("nobody could administer any more: take somebody in first, who has set a password")
	}
	return err
}

// RemovePerson forgets a person, with tokens and sessions. What they did stays on record.
func (db *DB) RemovePerson(ctx context.Context, name string) error {
	return db.change(ctx, func(tx *sqlx.Tx) error {
		r, err := tx.ExecContext(ctx, `DELETE FROM people WHERE name = ?`, name)
		if err := changed(r, err, "person", name); err != nil {
			return err
		}
		return anAdministrator(ctx, tx)
	})
}

// SeenPerson notes that a person has done something.
func (db *DB) SeenPerson(ctx context.Context, now time.Time, id int64) error {
	_, err := db.exec(ctx, `UPDATE people SET seen = ? WHERE id = ?`, now.UTC(), id)
	return err
}

// Invite records a link by the digest of its secret: with it a person sets a password once, or, if
// person is 0, somebody becomes the first administrator. An earlier link of the same is good no more.
func (db *DB) Invite(ctx context.Context, digest string, person int64, expires time.Time) error {
	of := sql.NullInt64{Int64: person, Valid: person != 0}
	return db.change(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `DELETE FROM invitations WHERE person_id IS ?`, of); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `INSERT INTO invitations (digest, person_id, expires) VALUES (?, ?, ?)`, digest, of, expires.UTC())
		return err
	})
}

// ErrInvitation says that a link is not good.
var ErrInvitation = fault.Stranger.Errorf("this link is not good (any more)")

// Invited tells whose link a digest is of: nil for the first administrator's.
func (db *DB) Invited(ctx context.Context, now time.Time, digest string) (*Person, error) {
	var of sql.NullInt64
	err := db.read.GetContext(ctx, &of, `SELECT person_id FROM invitations WHERE digest = ? AND expires > ?`, digest, now.UTC())
	switch {
	case errors.Is(err, sql.ErrNoRows):
		return nil, ErrInvitation
	case err != nil || !of.Valid:
		return nil, err
	}
	return db.PersonOf(ctx, of.Int64)
}

// Accept uses a link, once: it sets the person's password and ends their sessions, or makes p the first administrator.
func (db *DB) Accept(ctx context.Context, now time.Time, digest string, p Person) (id int64, err error) {
	err = db.change(ctx, func(tx *sqlx.Tx) error {
		var of sql.NullInt64
		err := tx.GetContext(ctx, &of, `DELETE FROM invitations WHERE digest = ? AND expires > ? RETURNING person_id`, digest, now.UTC())
		switch {
		case errors.Is(err, sql.ErrNoRows):
			return ErrInvitation
		case err != nil:
			return err
		case of.Valid:
			id = of.Int64
			return setPassword(ctx, tx, id, p.Password, "")
		}
		var people int
		if err := tx.GetContext(ctx, &people, `SELECT count(*) FROM people`); err != nil {
			return err
		} else if people > 0 {
			return ErrInvitation // somebody else was first
		}
		if id, err = addPerson(ctx, tx, p); err != nil {
			return err
		}
		return setGrants(ctx, tx, id, []Grant{{Role: "administrator", Kind: string(rights.Everything)}})
	})
	return id, err
}
