package records

import (
	"context"
	"database/sql"
	"errors"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"jugate/core/fault"
	"jugate/core/rights"
)

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
