package records

import (
	"context"
	"encoding/json"
	"fmt"
	"net/netip"
	"time"

	"github.com/jmoiron/sqlx"

	"jugate/core/hwaddr"
)

// odd describes rows of a table that cannot be used. No row may keep the service from
// starting.
type odd struct {
	kind   string // in words
	table  string
	key    string // column
	column string // whose text has to make sense
	sense  func(text string) error
	// clear empties a column of such rows, which otherwise stay.
	clear bool
}

var odds = []odd{
	{"lease", "leases", "address", "address", anIP, false},
	{"holder of a lease", "leases", "address", "hardware", func(s string) error {
		if s == "" {
			return nil // an address that somebody else uses
		}
		return aCard(s)
	}, false},
	{"hardware address", "addresses", "address", "address", aCard, false},
	{"fixed address", "workstations", "id", "fixed_address", anIP, true},
	{"ticket", "tickets", "digest", "address", func(s string) error {
		if s == "" {
			return nil // of media
		}
		return aCard(s)
	}, false},
}

func anIP(s string) error {
	_, err := netip.ParseAddr(s)
	return err
}

func aCard(s string) error {
	_, err := hwaddr.Parse(s)
	return err
}

// setAside moves rows that make no sense out of the way.
func (db *DB) setAside(ctx context.Context, now time.Time) error {
	return db.change(ctx, func(tx *sqlx.Tx) error {
		for _, o := range odds {
			var rows []struct {
				Key  string `db:"key"`
				Text string `db:"text"`
			}
			if err := tx.SelectContext(ctx, &rows, fmt.Sprintf(`SELECT CAST(%s AS TEXT) AS key, CAST(%s AS TEXT) AS text FROM %s WHERE %[2]s IS NOT NULL`, o.key, o.column, o.table)); err != nil {
				return err
			}
			for _, r := range rows {
				why := o.sense(r.Text)
				if why == nil {
					continue
				}
				if err := o.take(ctx, now, tx, r.Key, why); err != nil {
					return err
				}
				db.Notices = append(db.Notices, fmt.Sprintf("a %s cannot be read and was set aside: %v", o.kind, why))
			}
		}
		return nil
	})
}

func (o odd) take(ctx context.Context, now time.Time, tx *sqlx.Tx, key string, why error) error {
	row := map[string]any{}
	where := fmt.Sprintf(` FROM %s WHERE CAST(%s AS TEXT) = ?`, o.table, o.key)
	if err := tx.QueryRowxContext(ctx, `SELECT *`+where, key).MapScan(row); err != nil {
		return err
	}
	content, err := json.Marshal(row)
	if err != nil {
		return err
	}
	if _, err := tx.ExecContext(ctx, `INSERT INTO set_aside (at, kind, content, reason) VALUES (?, ?, ?, ?)`, now.UTC(), o.kind, string(content), why.Error()); err != nil {
		return err
	}
	if o.clear {
		_, err = tx.ExecContext(ctx, fmt.Sprintf(`UPDATE %s SET %s = NULL WHERE CAST(%s AS TEXT) = ?`, o.table, o.column, o.key), key)
	} else {
		_, err = tx.ExecContext(ctx, `DELETE`+where, key)
	}
	return err
}
