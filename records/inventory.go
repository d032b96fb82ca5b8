package records

import (
	"cmp"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/jmoiron/sqlx"

	"jugate/api"
)

// InventoryChange is something that a workstation had otherwise than before when it checked in.
type InventoryChange struct {
	At   time.Time `db:"at"`
	What string    `db:"what"`
}

// changesAtMost is how many changes of a workstation are kept.
const changesAtMost = 100

// InventoryChanges are those of a workstation, the newest first.
func (db *DB) InventoryChanges(ctx context.Context, id int64) (all []InventoryChange, err error) {
	err = db.read.SelectContext(ctx, &all, `SELECT at, what FROM inventory_changes WHERE workstation_id = ? ORDER BY id DESC`, id)
	return all, err
}

// keepInventory keeps what a workstation is made of, and what has changed since it was asked before.
func keepInventory(ctx context.Context, tx *sqlx.Tx, now time.Time, id int64, inv api.Inventory) error {
	var before string
	err := tx.GetContext(ctx, &before, `SELECT content FROM inventories WHERE workstation_id = ?`, id)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return err
	}
	text := encode(inv)
	if text == before {
		return nil
	}
	if was, err := decode[api.Inventory]("an inventory", before); err == nil && before != "" {
		if err := addInventoryChanges(ctx, tx, now, id, differences(was, inv)); err != nil {
			return err
		}
	}
	_, err = tx.ExecContext(ctx, `INSERT INTO inventories (workstation_id, content) VALUES (?1, ?2) ON CONFLICT DO UPDATE SET content = ?2`, id, text)
	return err
}

func addInventoryChanges(ctx context.Context, tx *sqlx.Tx, now time.Time, id int64, all []string) error {
	for _, what := range all[:min(len(all), changesAtMost)] {
		if _, err := tx.ExecContext(ctx, `INSERT INTO inventory_changes (workstation_id, at, what) VALUES (?, ?, ?)`, id, now.UTC(), what); err != nil {
			return err
		}
	}
	if len(all) == 0 {
		return nil
	}
	_, err := tx.ExecContext(ctx, `DELETE FROM inventory_changes WHERE workstation_id = ?1 AND id NOT IN (SELECT id FROM inventory_changes WHERE workstation_id = ?1 ORDER BY id DESC LIMIT ?2)`, id, changesAtMost)
	return err
}

// differences are what a machine has otherwise than before, in words. What changes with each start, such as its battery, or with each
// delivery, such as partitions, is none.
func differences(before, after api.Inventory) (all []string) {
	say := func(format string, args ...any) { all = append(all, fmt.Sprintf(format, args...)) }
	changed := func(what, was, is string) {
		if was != is && was != "" && is != "" {
			say("%s: %s, and %s before", what, is, was)
		}
	}
	bytes := func(n int64) string { return humanize.IBytes(uint64(max(n, 0))) }
	changed("model", strings.TrimSpace(before.Maker+" "+before.Model), strings.TrimSpace(after.Maker+" "+after.Model))
	changed("serial number", before.Serial, after.Serial)
	if before.Memory != after.Memory && before.Memory > 0 && after.Memory > 0 {
		changed("memory", bytes(before.Memory), bytes(after.Memory))
	}
	changed("firmware", before.Firmware, after.Firmware)
	changed("version of the firmware", before.FirmwareVersion, after.FirmwareVersion)
	for _, name := range slices.Sorted(maps.Keys(after.Settings)) {
		changed("setting "+name, before.Settings[name], after.Settings[name])
	}
	disk := func(d api.Disk) string {
		return fmt.Sprintf("%s, %s, serial number %s", d.Model, bytes(d.Size), cmp.Or(d.Serial, "unknown"))
	}
	diskKey := func(d api.Disk) string { return fmt.Sprint(d.Serial, " ", d.Size) }
	all = append(all, gone("disk", before.Disks, after.Disks, diskKey, disk)...)
	all = append(all, gone("network card", before.Cards, after.Cards, func(c api.Card) string { return c.Address }, func(c api.Card) string { return c.Address + " " + c.Model })...)
	health := map[string]string{}
	for _, d := range before.Disks {
		health[diskKey(d)] = d.Health
	}
	for _, d := range after.Disks {
		changed("health of the disk "+cmp.Or(d.Serial, d.Model), health[diskKey(d)], d.Health)
	}
	return all
}

// gone tells which things have gone, and which have come. Adapters come and go with whoever carries them, and are told all the same.
func gone[T any](what string, before, after []T, key, words func(T) string) (all []string) {
	has := func(list []T, k string) bool { return slices.ContainsFunc(list, func(t T) bool { return key(t) == k }) }
	for _, t := range before {
		if !has(after, key(t)) {
			all = append(all, what+" gone: "+words(t))
		}
	}
	for _, t := range after {
		if !has(before, key(t)) {
			all = append(all, what+" new: "+words(t))
		}
	}
	return all
}
