package records

import (
	"context"
	"database/sql"
	"errors"

	"jugate/core/fault"

	"github.com/jmoiron/sqlx"

	"jugate/core/hwaddr"
	"jugate/core/roster"
)

// Card is a hardware address of a workstation's.
type Card struct {
	Address     string           `db:"address"`
	Workstation string           `db:"workstation"` // its name, empty for a newcomer
	ID          int64            `db:"workstation_id"`
	State       roster.CardState `db:"state"`
}

// Cards lists hardware addresses with their workstations; with a state, those alone.
func (db *DB) Cards(ctx context.Context, state roster.CardState, p Page) (rows []Card, total int, err error) {
	var q query
	if state != "" {
		q.and("a.state = ?", state)
	}
	q.search(p.Search, []string{"a.address", "w.name"})
	total, err = db.list(ctx, listing{columns: "a.address, a.workstation_id, coalesce(w.name, '') AS workstation, a.state", from: "addresses a JOIN workstations w ON w.id = a.workstation_id",
		key: "a.rowid", order: "a.address, a.rowid", fields: map[string]string{"hardware_address": "a.address", "workstation": "w.name, w.id", "state": "a.state"}}, &rows, q, p)
	return rows, total, err
}

// AcceptCard makes an address one of the workstation's own. One that another has is an
// fault.Conflict.
func (db *DB) AcceptCard(ctx context.Context, id int64, a hwaddr.Address) error {
	return db.change(ctx, func(tx *sqlx.Tx) error {
		var owner string
		err := tx.GetContext(ctx, &owner, `SELECT coalesce(w.name, 'a newcomer') FROM addresses x JOIN workstations w ON w.id = x.workstation_id WHERE x.address = ? AND x.state = 'accepted' AND w.id <> ?`, a.String(), id)
		if err == nil {
			return fault.Conflict.Errorf("%s is a hardware address of %s; if its card was moved: jugate card move", a, owner)
		} else if !errors.Is(err, sql.ErrNoRows) {
			return err
		}
		return own(ctx, tx, id, a)
	})
}

func own(ctx context.Context, tx *sqlx.Tx, id int64, a hwaddr.Address) error {
	_, err := tx.ExecContext(ctx, `INSERT INTO addresses (address, workstation_id, state) VALUES (?, ?, 'accepted') ON CONFLICT DO UPDATE SET state = 'accepted'`, a.String(), id)
	return err
}

// MoveCard makes an address the workstation's, whoever had it.
func (db *DB) MoveCard(ctx context.Context, id int64, a hwaddr.Address) error {
	return db.change(ctx, func(tx *sqlx.Tx) error {
		if err := loseCard(ctx, tx, a, id); err != nil {
			return err
		}
		return own(ctx, tx, id, a)
	})
}

// mayLose tells whether all workstations but one can lose an address. A machine without
// UUID and serial number must keep its last address. lone is called for newcomers that
// would have none left; if it is nil, they stay as they are.
func mayLose(ctx context.Context, tx *sqlx.Tx, a hwaddr.Address, but int64, lone func(id int64) error) error {
	var owners []struct {
		ID    int64        `db:"id"`
		State roster.State `db:"state"`
		Name  string       `db:"name"`
	}
	err := tx.SelectContext(ctx, &owners, `SELECT w.id, w.state, coalesce(w.name, '') AS name FROM addresses a JOIN workstations w ON w.id = a.workstation_id
		WHERE a.address = ? AND w.id <> ? AND a.state = 'accepted' AND (w.uuid = '' OR w.serial = '')
		AND NOT EXISTS (SELECT 1 FROM addresses o WHERE o.workstation_id = w.id AND o.state = 'accepted' AND o.address <> a.address)`, a.String(), but)
	if err != nil {
		return err
	}
	for _, o := range owners {
		switch {
		case !o.State.Unknown():
			return fault.Conflict.Errorf("%s is all that %s is known by; give it another card first (jugate card accept), or retire it", a, o.Name)
		case lone != nil:
			if err := lone(o.ID); err != nil {
				return err
			}
		}
	}
	return nil
}

// loseCard takes an address away from everybody but one. Newcomers that have nothing
// else are forgotten.
func loseCard(ctx context.Context, tx *sqlx.Tx, a hwaddr.Address, but int64) error {
	if err := mayLose(ctx, tx, a, but, func(id int64) error { return forget(ctx, tx, id) }); err != nil {
		return err
	}
	_, err := tx.ExecContext(ctx, `DELETE FROM addresses WHERE address = ? AND workstation_id <> ?`, a.String(), but)
	return err
}

// RemoveCard takes an address away from a workstation.
func (db *DB) RemoveCard(ctx context.Context, a hwaddr.Address) error {
	return db.change(ctx, func(tx *sqlx.Tx) error {
		var n int
		if err := tx.GetContext(ctx, &n, `SELECT count(*) FROM addresses WHERE address = ?`, a.String()); err != nil {
			return err
		}
		if n == 0 {
			return missing(sql.ErrNoRows, "workstation with the hardware address", a)
		}
		return loseCard(ctx, tx, a, 0)
	})
}

// ShareCard says that an address is of an adapter or dock that several machines use, so
// that it tells none of them from the others; or that it is not, any longer.
func (db *DB) ShareCard(ctx context.Context, a hwaddr.Address, shared bool) error {
	return db.change(ctx, func(tx *sqlx.Tx) error {
		if !shared {
			result, err := tx.ExecContext(ctx, `DELETE FROM shared_addresses WHERE address = ?`, a.String())
			if err := changed(result, err, "shared hardware address", a); err != nil {
				return err
			}
			_, err = tx.ExecContext(ctx, `UPDATE addresses SET state = 'proposed' WHERE address = ? AND state = 'shared'`, a.String())
			return err
		}
		if err := mayLose(ctx, tx, a, 0, nil); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO shared_addresses (address) VALUES (?) ON CONFLICT DO NOTHING`, a.String()); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `UPDATE addresses SET state = 'shared' WHERE address = ?`, a.String())
		return err
	})
}

// Relearn forgets the UUID and serial number of a workstation whose main board was
// exchanged: it takes those that it tells next.
func (db *DB) Relearn(ctx context.Context, id int64) error {
	result, err := db.exec(ctx, `UPDATE workstations SET uuid = '', serial = '' WHERE id = ?`, id)
	return changed(result, err, "workstation", id)
}
