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
	r, err := tx.NamedExecContext(ctx, `INSERT INTO people (name, full_name, password, shut_out, added) VALUES (:name, :full_name, :password, :shut_out, :added)`, p)
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
	grants, err := db.grants(ctx, "")
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
	return db.person(ctx, name, "name = ?", name)
}

// PersonOf is the one with that number.
func (db *DB) PersonOf(ctx context.Context, id int64) (*Person, error) {
	return db.person(ctx, fmt.Sprint(id), "id = ?", id)
}

func (db *DB) person(ctx context.Context, called, condition string, arg any) (*Person, error) {
	var p Person
	if err := missing(db.read.GetContext(ctx, &p, `SELECT * FROM people WHERE `+condition, arg), "person", called); err != nil {
		return nil, err
	}
	grants, err := db.grants(ctx, " WHERE g.person_id = ?", p.ID)
	p.Grants = grants[p.ID]
	return &p, err
}

// grants are those of people, by number.
func (db *DB) grants(ctx context.Context, where string, args ...any) (map[int64][]Grant, error) {
	var rows []Grant
	err := db.read.SelectContext(ctx, &rows, `SELECT g.person_id, g.role, g.kind, CASE g.kind WHEN 'group' THEN (SELECT name FROM groups WHERE id = g.owner)
		WHEN 'image' THEN (SELECT name FROM images WHERE id = g.owner) ELSE '' END AS name FROM grants g`+where+` ORDER BY g.kind, name, g.role`, args...)
	all := map[int64][]Grant{}
	for _, g := range rows {
		all[g.PersonID] = append(all[g.PersonID], g)
	}
	return all, err
}

// ChangePerson records what has changed of a person, and takes what was granted before away. Whoever
// changes a password, or shuts somebody out, ends their sessions by EndSessions.
func (db *DB) ChangePerson(ctx context.Context, p Person) error {
	return db.change(ctx, func(tx *sqlx.Tx) error {
		_, err := tx.NamedExecContext(ctx, `UPDATE people SET full_name = :full_name, password = :password, shut_out = :shut_out WHERE id = :id`, p)
		if err != nil {
			return err
		}
		if err := setGrants(ctx, tx, p.ID, p.Grants); err != nil {
			return err
		}
		return anAdministrator(ctx, tx)
	})
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

// Token is a secret with which programs call.
type Token struct {
	Name     string       `db:"name"`
	Digest   string       `db:"digest"` // of the secret
	PersonID int64        `db:"person_id"`
	Person   string       `db:"person"`
	RightsJS string       `db:"rights"` // see Rights
	Issued   time.Time    `db:"issued"`
	Expires  time.Time    `db:"expires"`
	Used     sql.NullTime `db:"used"`
	UsedFrom string       `db:"used_from"`
}

// Rights are what the token may do at the most; nil if it may do what its person may.
func (t *Token) Rights() ([]rights.Right, error) {
	return decode[[]rights.Right]("the rights of the token "+t.Name, t.RightsJS)
}

const tokenColumns = `t.name, t.digest, t.person_id, p.name AS person, t.rights, t.issued, t.expires, t.used, t.used_from`

// AddToken records a token. A name that is taken is a fault.Conflict.
func (db *DB) AddToken(ctx context.Context, t Token, only []rights.Right) error {
	t.Issued, t.Expires, t.RightsJS = t.Issued.UTC(), t.Expires.UTC(), encode(only)
	return db.change(ctx, func(tx *sqlx.Tx) error {
		_, err := tx.NamedExecContext(ctx, `INSERT INTO tokens (name, digest, person_id, rights, issued, expires) VALUES (:name, :digest, :person_id, :rights, :issued, :expires)`, t)
		if err != nil && strings.Contains(err.Error(), "UNIQUE") {
			return fault.Conflict.Errorf("there is a token called %s already", t.Name)
		}
		return err
	})
}

// Tokens lists them by name; of one person, if person is not 0.
func (db *DB) Tokens(ctx context.Context, person int64) (all []Token, err error) {
	return all, db.read.SelectContext(ctx, &all, `SELECT `+tokenColumns+` FROM tokens t JOIN people p ON p.id = t.person_id WHERE ? IN (0, t.person_id) ORDER BY t.name`, person)
}

// TokenOf finds the token of a digest; nil if there is none.
func (db *DB) TokenOf(ctx context.Context, digest string) (*Token, error) {
	var t Token
	err := db.read.GetContext(ctx, &t, `SELECT `+tokenColumns+` FROM tokens t JOIN people p ON p.id = t.person_id WHERE t.digest = ?`, digest)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return &t, err
}

// UsedToken notes when a token was used last, and from where.
func (db *DB) UsedToken(ctx context.Context, now time.Time, digest, from string) error {
	_, err := db.exec(ctx, `UPDATE tokens SET used = ?, used_from = ? WHERE digest = ?`, now.UTC(), from, digest)
	return err
}

// RemoveToken ends a token.
func (db *DB) RemoveToken(ctx context.Context, name string) error {
	r, err := db.exec(ctx, `DELETE FROM tokens WHERE name = ?`, name)
	return changed(r, err, "token", name)
}

// Session is a session of the console.
type Session struct {
	Digest   string        `db:"digest"` // of its secret
	PersonID sql.NullInt64 `db:"person_id"`
	Person   string        `db:"person"` // empty for the key of last resort
	Opened   time.Time     `db:"opened"`
	Expires  time.Time     `db:"expires"`
	From     string        `db:"from_addr"`
	Program  string        `db:"program"`
}

const sessionColumns = `s.digest, s.person_id, coalesce(p.name, '') AS person, s.opened, s.expires, s.from_addr, s.program`

// AddSession records a session, and forgets those that are over.
func (db *DB) AddSession(ctx context.Context, s Session) error {
	s.Opened, s.Expires = s.Opened.UTC(), s.Expires.UTC()
	return db.change(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `DELETE FROM sessions WHERE expires <= ?`, s.Opened); err != nil {
			return err
		}
		_, err := tx.NamedExecContext(ctx, `INSERT INTO sessions (digest, person_id, opened, expires, from_addr, program) VALUES (:digest, :person_id, :opened, :expires, :from_addr, :program)`, s)
		return err
	})
}

// Sessions lists those that are not over, the newest first; of one person, if person is not 0.
func (db *DB) Sessions(ctx context.Context, now time.Time, person int64) (all []Session, err error) {
	return all, db.read.SelectContext(ctx, &all, `SELECT `+sessionColumns+` FROM sessions s LEFT JOIN people p ON p.id = s.person_id WHERE s.expires > ? AND ? IN (0, s.person_id) ORDER BY s.opened DESC`, now.UTC(), person)
}

// SessionOf finds the session of a digest, if it is not over; nil if there is none.
func (db *DB) SessionOf(ctx context.Context, now time.Time, digest string) (*Session, error) {
	var s Session
	err := db.read.GetContext(ctx, &s, `SELECT `+sessionColumns+` FROM sessions s LEFT JOIN people p ON p.id = s.person_id WHERE s.digest = ? AND s.expires > ?`, digest, now.UTC())
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return &s, err
}

// EndSession ends a session by its digest.
func (db *DB) EndSession(ctx context.Context, digest string) error {
	_, err := db.exec(ctx, `DELETE FROM sessions WHERE digest = ?`, digest)
	return err
}

// EndSessions ends all sessions of a person.
func (db *DB) EndSessions(ctx context.Context, person int64) error {
	_, err := db.exec(ctx, `DELETE FROM sessions WHERE person_id = ?`, person)
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

// Accept uses a link, once: it sets the person's password, or makes p the first administrator.
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
			_, err = tx.ExecContext(ctx, `UPDATE people SET password = ? WHERE id = ?`, p.Password, id)
			return err
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
