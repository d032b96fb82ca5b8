package records

import (
	"context"
	"database/sql"
	"errors"
	"net/netip"
	"strings"
	"time"

	"jugate/core/fault"

	"github.com/jmoiron/sqlx"

	"jugate/core/hwaddr"
	"jugate/core/netboot"
)

// Leases are the addresses that were given, those that ran out too.
func (db *DB) Leases(ctx context.Context) ([]netboot.Lease, error) {
	var rows []struct {
		Address  string    `db:"address"`
		Hardware string    `db:"hardware"`
		Client   string    `db:"client"`
		Until    time.Time `db:"until"`
	}
	if err := db.read.SelectContext(ctx, &rows, `SELECT address, hardware, client, until FROM leases`); err != nil {
		return nil, err
	}
	var all []netboot.Lease
	for _, r := range rows {
		a, err := netip.ParseAddr(r.Address)
		if err != nil {
			continue // Open has reported it
		}
		l := netboot.Lease{Address: a, Holder: netboot.Holder{Client: r.Client}, Until: r.Until.UTC()}
		if r.Hardware != "" {
			if l.Hardware, err = hwaddr.Parse(r.Hardware); err != nil {
				continue
			}
		}
		all = append(all, l)
	}
	return all, nil
}

// SetLease records which machine has an address. The address must be valid.
func (db *DB) SetLease(ctx context.Context, l netboot.Lease) error {
	if !l.Address.IsValid() {
		return fault.Conflict.Errorf("a lease of no address")
	}
	hardware := ""
	if !l.Hardware.IsZero() {
		hardware = l.Hardware.String()
	}
	_, err := db.exec(ctx, `INSERT INTO leases (address, hardware, client, until) VALUES (?, ?, ?, ?)
		ON CONFLICT (address) DO UPDATE SET hardware = excluded.hardware, client = excluded.client, until = excluded.until`, l.Address.String(), hardware, l.Client, l.Until.UTC())
	return err
}

// FixedAddresses are the addresses that belong to workstations by the roster, each
// with all hardware addresses of its workstation.
func (db *DB) FixedAddresses(ctx context.Context) (map[netip.Addr][]hwaddr.Address, error) {
	var rows []struct {
		Fixed   string `db:"fixed_address"`
		Address string `db:"address"`
	}
	err := db.read.SelectContext(ctx, &rows, `SELECT w.fixed_address, a.address FROM workstations w INDEXED BY workstations_fixed_address CROSS JOIN addresses a ON a.workstation_id = w.id
		WHERE w.fixed_address IS NOT NULL AND w.state = 'admitted' AND a.state = 'accepted' ORDER BY a.address`)
	if err != nil {
		return nil, err
	}
	fixed := map[netip.Addr][]hwaddr.Address{}
	for _, r := range rows {
		a, err := netip.ParseAddr(r.Fixed)
		if err != nil {
			continue // Open has reported it
		}
		if hw, err := hwaddr.Parse(r.Address); err == nil {
			fixed[a] = append(fixed[a], hw)
		}
	}
	return fixed, nil
}

// SetFixedAddress gives a workstation an address of its own, or none with the zero
// value. One that another workstation has is a fault.Conflict.
func (db *DB) SetFixedAddress(ctx context.Context, id int64, a netip.Addr) error {
	value := sql.NullString{String: a.String(), Valid: a.IsValid()}
	result, err := db.exec(ctx, `UPDATE workstations SET fixed_address = ? WHERE id = ?`, value, id)
	if err != nil && strings.Contains(err.Error(), "UNIQUE") {
		return fault.Conflict.Errorf("another workstation has the address %s", a)
	}
	return changed(result, err, "workstation", id)
}

// Offer makes a build of the boot environment the one that is offered.
func (db *DB) Offer(ctx context.Context, now time.Time, build int, by string) error {
	_, err := db.exec(ctx, `INSERT INTO offers (build, at, offered_by) VALUES (?, ?, ?)`, build, now.UTC(), by)
	return err
}

// Offered is the build that is offered; 0 if none ever was.
func (db *DB) Offered(ctx context.Context) (int, error) {
	var n int
	err := db.read.GetContext(ctx, &n, `SELECT build FROM offers ORDER BY id DESC LIMIT 1`)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, nil
	}
	return n, err
}

// PinnedTo are the workstations and groups that boot one build whatever is offered.
func (db *DB) PinnedTo(ctx context.Context, build int) (names []string, err error) {
	err = db.read.SelectContext(ctx, &names, `SELECT name FROM workstations WHERE build = ?1 AND name IS NOT NULL UNION SELECT name FROM groups WHERE build = ?1 ORDER BY 1`, build)
	return names, err
}

// PinWorkstation has a workstation boot one build, whatever is offered; 0 ends that.
func (db *DB) PinWorkstation(ctx context.Context, id int64, build int) error {
	result, err := db.exec(ctx, `UPDATE workstations SET build = nullif(?, 0) WHERE id = ?`, build, id)
	return changed(result, err, "workstation", id)
}

// PinGroup has a group boot one build; 0 ends that.
func (db *DB) PinGroup(ctx context.Context, name string, build int) error {
	result, err := db.exec(ctx, `UPDATE groups SET build = nullif(?, 0) WHERE name = ?`, build, name)
	return changed(result, err, "group", name)
}

// SetMenu sets how long a group's workstations show a menu before they start from
// their disk; 0 shows none.
func (db *DB) SetMenu(ctx context.Context, name string, seconds int) error {
	result, err := db.exec(ctx, `UPDATE groups SET menu_seconds = ? WHERE name = ?`, seconds, name)
	return changed(result, err, "group", name)
}

// BootPlan is what the records say of how a workstation boots.
type BootPlan struct {
	Build  int `db:"build"`        // pinned or offered; 0 if there is none
	Menu   int `db:"menu_seconds"` // the longest of its groups'
	Errand int `db:"errands"`      // how many wait, and not for later, or run
}

// Plan is how a workstation boots: its own pin goes before its groups', of which the
// first by name counts, and those before the offer.
func (db *DB) Plan(ctx context.Context, now time.Time, id int64) (p BootPlan, err error) {
	err = db.read.GetContext(ctx, &p, `SELECT
		coalesce(w.build,
			(SELECT g.build FROM groups g JOIN group_members m ON m.group_id = g.id WHERE m.workstation_id = w.id AND g.build IS NOT NULL ORDER BY g.name LIMIT 1),
			(SELECT build FROM offers ORDER BY id DESC LIMIT 1), 0) AS build,
		coalesce((SELECT max(g.menu_seconds) FROM groups g JOIN group_members m ON m.group_id = g.id WHERE m.workstation_id = w.id), 0) AS menu_seconds,
		(SELECT count(*) FROM errands e WHERE e.workstation_id = w.id AND `+due+`) AS errands
		FROM workstations w WHERE w.id = ?`, now.UTC(), id)
	return p, missing(err, "workstation", id)
}

// Recipient is one line of who may receive an image.
type Recipient struct {
	Kind  string `db:"kind"` // group, address or model
	Value string `db:"value"`
}

// Recipients lists who may receive an image; nothing stands for everybody.
func (db *DB) Recipients(ctx context.Context, image string) (lines []Recipient, err error) {
	err = db.read.SelectContext(ctx, &lines, `SELECT a.kind, a.value FROM image_access a JOIN images i ON i.id = a.image_id WHERE i.name = ? ORDER BY a.kind, a.value`, image)
	return lines, err
}

// SetRecipients sets who may receive an image.
func (db *DB) SetRecipients(ctx context.Context, image string, lines []Recipient) error {
	return db.change(ctx, func(tx *sqlx.Tx) error {
		var id int64
		if err := tx.GetContext(ctx, &id, `SELECT id FROM images WHERE name = ?`, image); err != nil {
			return missing(err, "image", image)
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM image_access WHERE image_id = ?`, id); err != nil {
			return err
		}
		for _, l := range lines {
			if _, err := tx.ExecContext(ctx, `INSERT INTO image_access (image_id, kind, value) VALUES (?, ?, ?) ON CONFLICT DO NOTHING`, id, l.Kind, l.Value); err != nil {
				return err
			}
		}
		return nil
	})
}

// Prepared are the images whose list names a workstation, by name.
func (db *DB) Prepared(ctx context.Context, workstation int64) (names []string, err error) {
	err = db.read.SelectContext(ctx, &names, `SELECT i.name FROM images i WHERE EXISTS (`+admits+`) ORDER BY i.name`, workstation)
	return names, err
}

// admits are the lines of an image i that name a workstation.
const admits = `SELECT 1 FROM image_access a, workstations w WHERE a.image_id = i.id AND w.id = ?1 AND (
	a.kind = 'model' AND a.value = w.model OR
	a.kind = 'address' AND a.value IN (SELECT address FROM addresses WHERE workstation_id = w.id AND state <> 'proposed') OR
	a.kind = 'group' AND a.value IN (SELECT g.name FROM groups g JOIN group_members m ON m.group_id = g.id WHERE m.workstation_id = w.id))`

// MayReceive tells whether an image goes to a workstation: its list names it, or it
// has none.
func (db *DB) MayReceive(ctx context.Context, image string, workstation int64) (may bool, err error) {
	err = db.read.GetContext(ctx, &may, `SELECT coalesce((SELECT i.private_of IN (0, ?1) AND (NOT EXISTS (SELECT 1 FROM image_access a WHERE a.image_id = i.id) OR EXISTS (`+admits+`))
		FROM images i WHERE i.name = ?2), 1)`, workstation, image)
	return may, err
}
