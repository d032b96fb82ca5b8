package records

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"

	"jugate/core/fault"
)

// Domain is a domain that delivered systems join.
type Domain struct {
	Name        string    `db:"name"`    // DNS name
	Server      string    `db:"server"`  // ldaps://HOST[:PORT]
	Account     string    `db:"account"` // that creates computers
	Secret      string    `db:"secret"`  // its password, sealed
	Unit        string    `db:"unit"`    // distinguished name of where
	Certificate string    `db:"certificate"`
	Added       time.Time `db:"added"`
}

// PutDomain records a domain, in place of what was recorded of it.
func (db *DB) PutDomain(ctx context.Context, d Domain) error {
	d.Added = d.Added.UTC()
	return db.change(ctx, func(tx *sqlx.Tx) error {
		_, err := tx.NamedExecContext(ctx, `INSERT OR REPLACE INTO domains (name, server, account, secret, unit, certificate, added)
			VALUES (:name, :server, :account, :secret, :unit, :certificate, :added)`, d)
		return err
	})
}

// Domains lists them by name.
func (db *DB) Domains(ctx context.Context) (all []Domain, err error) {
	return all, db.read.SelectContext(ctx, &all, `SELECT * FROM domains ORDER BY name`)
}

// Domain is the one of that name.
func (db *DB) Domain(ctx context.Context, name string) (*Domain, error) {
	var d Domain
	err := db.read.GetContext(ctx, &d, `SELECT * FROM domains WHERE name = ?`, name)
	return &d, missing(err, "domain", name)
}

// RemoveDomain forgets a domain. One that answers name stays.
func (db *DB) RemoveDomain(ctx context.Context, name string) error {
	return db.change(ctx, func(tx *sqlx.Tx) error {
		var places int
		if err := tx.GetContext(ctx, &places, `SELECT count(*) FROM answers WHERE key = 'domain' AND value = json_quote(?) COLLATE NOCASE`, name); err != nil {
			return err
		}
		if places > 0 {
			return fault.Conflict.Errorf("the answer domain is still %s somewhere (jugate answers list tells where); unset it there first", name)
		}
		r, err := tx.ExecContext(ctx, `DELETE FROM domains WHERE name = ?`, name)
		if err != nil {
			return err
		}
		if n, err := r.RowsAffected(); err != nil || n > 0 {
			return err
		}
		return fault.NotFound.Errorf("there is no domain %s", name)
	})
}
