package records

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"github.com/jmoiron/sqlx"
)

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

// endSessions ends all sessions of a person but one, which may be empty.
func endSessions(ctx context.Context, tx *sqlx.Tx, person int64, but string) error {
	_, err := tx.ExecContext(ctx, `DELETE FROM sessions WHERE person_id = ? AND digest != ?`, person, but)
	return err
}

// EndLastResortSessions ends all sessions that the key of last resort has opened.
func (db *DB) EndLastResortSessions(ctx context.Context) error {
	_, err := db.exec(ctx, `DELETE FROM sessions WHERE person_id IS NULL`)
	return err
}
