package records

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"github.com/jmoiron/sqlx"

	"jugate/api"
	"jugate/core/fault"
)

// Outpost is a program at another site that works for this service.
type Outpost struct {
	Name      string       `db:"name"`
	Note      string       `db:"note"`
	Added     time.Time    `db:"added"`
	Code      string       `db:"code"` // digest of the code that it joins by; empty if there is none
	CodeUntil sql.NullTime `db:"code_until"`
	Key       string       `db:"key"` // digest of its public key; empty until it has joined
	Joined    sql.NullTime `db:"joined"`
	GoodUntil sql.NullTime `db:"good_until"` // its certificate
	Withdrawn sql.NullTime `db:"withdrawn"`
	Seen      sql.NullTime `db:"seen"`
	ToldText  string       `db:"told"` // see Told
	Box       string       `db:"box"`  // that it hands in from
	HandedIn  int64        `db:"handed_in"`
}

// Told is what it said of itself last.
func (o *Outpost) Told() (api.OutpostTells, error) {
	return decode[api.OutpostTells]("what the outpost "+o.Name+" tells", o.ToldText)
}

// Outposts lists them by name.
func (db *DB) Outposts(ctx context.Context) (all []Outpost, err error) {
	return all, db.read.SelectContext(ctx, &all, `SELECT * FROM outposts ORDER BY name`)
}

// Outpost is the one of that name.
func (db *DB) Outpost(ctx context.Context, name string) (*Outpost, error) {
	var o Outpost
	err := db.read.GetContext(ctx, &o, `SELECT * FROM outposts WHERE name = ?`, name)
	return &o, missing(err, "outpost", name)
}

// AddOutpost enters one, with the digest of the code that it joins by. A fault.Conflict says that its name is taken.
func (db *DB) AddOutpost(ctx context.Context, o Outpost) error {
	r, err := db.exec(ctx, `INSERT INTO outposts (name, note, added, code, code_until) VALUES (?, ?, ?, ?, ?) ON CONFLICT DO NOTHING`, o.Name, o.Note, o.Added.UTC(), o.Code, o.CodeUntil)
	if err = changed(r, err, "", ""); errors.Is(err, fault.NotFound) {
		err = fault.Conflict.Errorf("there is an outpost %s already", o.Name)
	}
	return err
}

// SetOutpostCode gives an outpost another code to join by, in place of one that nobody has used. What joined before stays good
// until that is used.
func (db *DB) SetOutpostCode(ctx context.Context, name, code string, until time.Time) error {
	r, err := db.exec(ctx, `UPDATE outposts SET code = ?, code_until = ? WHERE name = ?`, code, until.UTC(), name)
	return changed(r, err, "outpost", name)
}

// ErrCode says that a code to join by is not good.
var ErrCode = fault.Forbidden.Errorf("this code is not good, or not any more; jugate outpost code makes another one")

// JoinOutpost has whoever knows a code be that outpost, by a key. The same key may do so again for as long as the code is good:
// its answer may have been lost. Errors are ErrCode.
func (db *DB) JoinOutpost(ctx context.Context, now time.Time, code, key string) (o Outpost, err error) {
	return o, db.change(ctx, func(tx *sqlx.Tx) error {
		err := tx.GetContext(ctx, &o, `SELECT * FROM outposts WHERE code = ? AND code <> ''`, code)
		if errors.Is(err, sql.ErrNoRows) {
			return ErrCode
		}
		if err != nil {
			return err
		}
		used := o.Joined.Valid && o.CodeUntil.Valid && o.Joined.Time.After(o.CodeUntil.Time.Add(-CodeFor))
		if !now.Before(o.CodeUntil.Time) || used && o.Key != key {
			return ErrCode
		}
		var others int
		if err := tx.GetContext(ctx, &others, `SELECT count(*) FROM outposts WHERE key = ? AND name <> ?`, key, o.Name); err != nil {
			return err
		}
		if others > 0 {
			return fault.Conflict.Errorf("whoever asks is another outpost already; give it a data folder of its own")
		}
		o.Key, o.Joined, o.Withdrawn = key, sql.NullTime{Time: now.UTC(), Valid: true}, sql.NullTime{}
		_, err = tx.ExecContext(ctx, `UPDATE outposts SET key = ?, joined = ?, withdrawn = NULL WHERE name = ?`, o.Key, o.Joined, o.Name)
		return err
	})
}

// CodeFor is how long a code to join by is good.
const CodeFor = 24 * time.Hour

// CertifiedOutpost records until when the certificate of an outpost is good.
func (db *DB) CertifiedOutpost(ctx context.Context, name string, until time.Time) error {
	r, err := db.exec(ctx, `UPDATE outposts SET good_until = ? WHERE name = ?`, until.UTC(), name)
	return changed(r, err, "outpost", name)
}

// SawOutpost records what an outpost tells of itself.
func (db *DB) SawOutpost(ctx context.Context, now time.Time, name string, told api.OutpostTells) error {
	_, err := db.exec(ctx, `UPDATE outposts SET seen = ?, told = ? WHERE name = ?`, now.UTC(), encode(told), name)
	return err
}

// HandedIn is what an outpost hands in: a receipt, or a change of a delivery.
type HandedIn struct {
	Number   int64 // in the outpost's box; grows from one to the next
	Receipt  *Receipt
	Delivery int64
	Change   *DeliveryChange
}

// HandIn takes what an outpost hands in, all or nothing, and what has come before not again. It returns the items that were new.
func (db *DB) HandIn(ctx context.Context, outpost, box string, items []HandedIn) (taken []HandedIn, err error) {
	err = db.change(ctx, func(tx *sqlx.Tx) error {
		taken = nil
		var o Outpost
		if err := tx.GetContext(ctx, &o, `SELECT * FROM outposts WHERE name = ?`, outpost); err != nil {
			return missing(err, "outpost", outpost)
		}
		if o.Box != box {
			o.HandedIn = 0
		}
		var receipts []Receipt
		for _, item := range items {
			if item.Number <= o.HandedIn {
				continue
			}
			o.HandedIn = item.Number
			switch {
			case item.Receipt != nil:
				var there bool
				if err := tx.GetContext(ctx, &there, `SELECT EXISTS (SELECT 1 FROM receipts WHERE delivery_id = ? AND workstation_id = ?)`, item.Receipt.DeliveryID, item.Receipt.WorkstationID); err != nil {
					return err
				}
				if there {
					continue
				}
				receipts = append(receipts, *item.Receipt)
			case item.Change != nil:
				c := item.Change
				if _, err := tx.ExecContext(ctx, addChange, item.Delivery, c.At.UTC(), c.By, c.What); err != nil {
					return err
				}
			}
			taken = append(taken, item)
		}
		if len(receipts) > 0 {
			if err := addReceipts(ctx, tx, receipts); err != nil {
				return err
			}
		}
		n := 0
		for i := range taken {
			if taken[i].Receipt != nil {
				taken[i].Receipt, n = &receipts[n], n+1
			}
		}
		_, err := tx.ExecContext(ctx, `UPDATE outposts SET box = ?, handed_in = ? WHERE name = ?`, box, o.HandedIn, outpost)
		return err
	})
	return taken, err
}

// CountSites counts workstations by the outpost that they called by last.
func (db *DB) CountSites(ctx context.Context) (map[string]int, error) {
	var rows []struct {
		Site  string `db:"site"`
		Count int    `db:"n"`
	}
	err := db.read.SelectContext(ctx, &rows, `SELECT site, count(*) AS n FROM workstations WHERE site <> '' AND state <> 'retired' GROUP BY site`)
	out := make(map[string]int, len(rows))
	for _, r := range rows {
		out[r.Site] = r.Count
	}
	return out, err
}

// WithdrawOutpost ends the trust in an outpost; its name stays until it is removed.
func (db *DB) WithdrawOutpost(ctx context.Context, now time.Time, name string) error {
	r, err := db.exec(ctx, `UPDATE outposts SET withdrawn = ?, code = '', key = '' WHERE name = ?`, now.UTC(), name)
	return changed(r, err, "outpost", name)
}

// RemoveOutpost forgets an outpost. Whoever called by it last is at no site then.
func (db *DB) RemoveOutpost(ctx context.Context, name string) error {
	return db.change(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `UPDATE workstations SET site = '' WHERE site = ?`, name); err != nil {
			return err
		}
		r, err := tx.ExecContext(ctx, `DELETE FROM outposts WHERE name = ?`, name)
		return changed(r, err, "outpost", name)
	})
}
