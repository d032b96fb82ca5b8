package records

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"

	"jugate/core/fault"
)

// Payload is a file or package that goes onto delivered systems.
type Payload struct {
	Name   string    `db:"name"`
	Digest string    `db:"digest"` // BLAKE3-256
	Size   int64     `db:"size"`   // bytes
	Note   string    `db:"note"`
	Added  time.Time `db:"added"`
}

// AddPayload records a payload. A name that is taken is a fault.Conflict, unless it has the same
// content.
func (db *DB) AddPayload(ctx context.Context, p Payload) error {
	p.Added = p.Added.UTC()
	return db.change(ctx, func(tx *sqlx.Tx) error {
		var digest string
		if err := tx.GetContext(ctx, &digest, `SELECT ifnull((SELECT digest FROM payloads WHERE name = ?), '')`, p.Name); err != nil {
			return err
		}
		if digest != "" && digest != p.Digest {
			return fault.Conflict.Errorf("there is another payload %s, with digest %s; give this one a name of its own, such as one with its version", p.Name, digest)
		}
		_, err := tx.NamedExecContext(ctx, `INSERT INTO payloads (name, digest, size, note, added) VALUES (:name, :digest, :size, :note, :added)
			ON CONFLICT (name) DO UPDATE SET note = excluded.note WHERE excluded.note <> ''`, p)
		return err
	})
}

// Payloads lists them by name.
func (db *DB) Payloads(ctx context.Context) (all []Payload, err error) {
	return all, db.read.SelectContext(ctx, &all, `SELECT * FROM payloads ORDER BY name`)
}

// Payload is the one of that name.
func (db *DB) Payload(ctx context.Context, name string) (*Payload, error) {
	var p Payload
	err := db.read.GetContext(ctx, &p, `SELECT * FROM payloads WHERE name = ?`, name)
	return &p, missing(err, "payload", name)
}

// RemovePayload forgets a payload. last tells that no other has its content. One that answers
// name is a fault.Conflict.
func (db *DB) RemovePayload(ctx context.Context, name string) (digest string, last bool, err error) {
	err = db.change(ctx, func(tx *sqlx.Tx) error {
		var p Payload
		if err := missing(tx.GetContext(ctx, &p, `SELECT * FROM payloads WHERE name = ?`, name), "payload", name); err != nil {
			return err
		}
		var places int
		err := tx.GetContext(ctx, &places, `SELECT count(*) FROM answers WHERE key = 'payloads' AND EXISTS
			(SELECT 1 FROM json_each(answers.value) AS one WHERE one.value ->> 'name' = ? COLLATE NOCASE)`, p.Name)
		if err != nil {
			return err
		}
		if places > 0 {
			return fault.Conflict.Errorf("the answer payloads still has %s (jugate answers list tells where); unset it there first", p.Name)
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM payloads WHERE name = ?`, p.Name); err != nil {
			return err
		}
		digest = p.Digest
		var others int
		err = tx.GetContext(ctx, &others, `SELECT count(*) FROM payloads WHERE digest = ?`, digest)
		last = others == 0
		return err
	})
	return digest, last, err
}

// BringOptions say which payloads an errand brings, and onto which disk.
type BringOptions struct {
	Payloads []string `json:"payloads"`
	Install  bool     `json:"install"`
	Disk     string   `json:"disk"`
}
