package records

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"github.com/jmoiron/sqlx"
)

// Head is a signed head of the tree.
type Head struct {
	Size   int64     `db:"size"`
	At     time.Time `db:"at"`
	Signed string    `db:"signed"`
	// Countersigned is by how many witnesses.
	Countersigned int `db:"countersigned"`
}

// NewestHead is the head that was signed last; nil if none was.
func (db *DB) NewestHead(ctx context.Context) (*Head, error) {
	var h Head
	err := db.read.GetContext(ctx, &h, "SELECT * FROM heads ORDER BY size DESC LIMIT 1")
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return &h, err
}

// AddHead keeps a signed head, unless there is one of so many leaves. Earlier ones stay if they were
// countersigned.
func (db *DB) AddHead(ctx context.Context, h Head) error {
	return db.change(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, "INSERT INTO heads (size, at, signed) VALUES (?, ?, ?) ON CONFLICT DO NOTHING", h.Size, h.At.UTC(), h.Signed); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, "DELETE FROM heads WHERE size < ? AND countersigned = 0", h.Size)
		return err
	})
}

// Countersign adds a witness's signature to a head.
func (db *DB) Countersign(ctx context.Context, size int64, line string) error {
	_, err := db.exec(ctx, "UPDATE heads SET signed = signed || ?2, countersigned = countersigned + 1 WHERE size = ?1 AND instr(signed, ?2) = 0", size, line)
	return err
}
