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
	Line      string       `db:"settings"` // see Settings
	OnMedia   bool         `db:"on_media"` // it comes and goes with them
}

// Settings are how its line may be used.
func (o *Outpost) Settings() (api.OutpostSettings, error) {
	return decode[api.OutpostSettings]("how the line of the outpost "+o.Name+" may be used", o.Line)
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
	r, err := db.exec(ctx, `INSERT INTO outposts (name, note, added, code, code_until, settings) VALUES (?, ?, ?, ?, ?, ?) ON CONFLICT DO NOTHING`, o.Name, o.Note, o.Added.UTC(), o.Code, o.CodeUntil, settingsAtFirst)
	if err = changed(r, err, "", ""); errors.Is(err, fault.NotFound) {
		err = fault.Conflict.Errorf("there is an outpost %s already", o.Name)
	}
	return err
}

// settingsAtFirst are those of an outpost that is new.
var settingsAtFirst = encode(api.OutpostSettings{SignIn: 24})

// AddOutpostOnMedia enters an outpost that has its key from the start, as media carry that.
func (db *DB) AddOutpostOnMedia(ctx context.Context, o Outpost) error {
	r, err := db.exec(ctx, `INSERT INTO outposts (name, note, added, code, key, joined, on_media, settings) VALUES (?1, ?2, ?3, '', ?4, ?3, 1, ?5) ON CONFLICT DO NOTHING`, o.Name, o.Note, o.Added.UTC(), o.Key, settingsAtFirst)
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

// SetOutpost changes how the line of an outpost may be used, and its note.
func (db *DB) SetOutpost(ctx context.Context, name, note string, in api.OutpostSettings) error {
	r, err := db.exec(ctx, `UPDATE outposts SET note = ?, settings = ? WHERE name = ?`, note, encode(in), name)
	return changed(r, err, "outpost", name)
}

// Placement has an outpost hold versions ahead of time.
type Placement struct {
	ID      int64          `db:"id"`
	Outpost string         `db:"outpost"`
	Image   string         `db:"image"`
	Version int            `db:"version"`
	Newest  int            `db:"newest"`
	GroupID sql.NullInt64  `db:"group_id"`
	Group   sql.NullString `db:"group_name"`
	Placed  time.Time      `db:"placed"`
	By      string         `db:"placed_by"`
}

// Placements are those of an outpost, in the order in which they were made.
func (db *DB) Placements(ctx context.Context, outpost string) (all []Placement, err error) {
	return all, db.read.SelectContext(ctx, &all, `SELECT p.*, g.name AS group_name FROM placements p LEFT JOIN groups g ON g.id = p.group_id WHERE p.outpost = ? ORDER BY p.id`, outpost)
}

// AddPlacement adds one, with its group by name. A fault.Conflict says that there is one like it.
func (db *DB) AddPlacement(ctx context.Context, p Placement) error {
	return db.change(ctx, func(tx *sqlx.Tx) error {
		if p.Group.String != "" {
			err := tx.GetContext(ctx, &p.GroupID, `SELECT id FROM groups WHERE name = ?`, p.Group.String)
			if err != nil {
				return missing(err, "group", p.Group.String)
			}
		}
		r, err := tx.ExecContext(ctx, `INSERT INTO placements (outpost, image, version, newest, group_id, placed, placed_by) VALUES (?, ?, ?, ?, ?, ?, ?) ON CONFLICT DO NOTHING`,
			p.Outpost, p.Image, p.Version, p.Newest, p.GroupID, p.Placed.UTC(), p.By)
		if err = changed(r, err, "", ""); errors.Is(err, fault.NotFound) {
			err = fault.Conflict.Errorf("the outpost %s is told so already", p.Outpost)
		}
		return err
	})
}

// RemovePlacement removes one.
func (db *DB) RemovePlacement(ctx context.Context, outpost string, id int64) error {
	r, err := db.exec(ctx, `DELETE FROM placements WHERE outpost = ? AND id = ?`, outpost, id)
	return changed(r, err, "placement", id)
}

// ImagesOfGroup are the one that a group is to have, and those that its workstations have received last.
func (db *DB) ImagesOfGroup(ctx context.Context, group int64) (images []string, err error) {
	return images, db.read.SelectContext(ctx, &images, `SELECT image FROM groups WHERE id = ?1 AND image <> '' UNION SELECT image FROM (
			SELECT r.image, max(r.id) FROM receipts r JOIN group_members m ON m.workstation_id = r.workstation_id
			WHERE m.group_id = ?1 AND r.outcome = 'delivered' AND r.kind = 'version' GROUP BY r.workstation_id) ORDER BY image`, group)
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

// SetSite says at which outpost a workstation is, until it calls; empty for none.
func (db *DB) SetSite(ctx context.Context, workstation int64, outpost string) error {
	return db.change(ctx, func(tx *sqlx.Tx) error {
		if outpost != "" {
			if err := tx.GetContext(ctx, &outpost, `SELECT name FROM outposts WHERE name = ?`, outpost); err != nil {
				return missing(err, "outpost", outpost)
			}
		}
		r, err := tx.ExecContext(ctx, `UPDATE workstations SET site = ? WHERE id = ?`, outpost, workstation)
		return changed(r, err, "workstation", workstation)
	})
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
