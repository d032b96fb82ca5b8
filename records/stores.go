package records

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"github.com/jmoiron/sqlx"

	"jugate/core/fault"
	"jugate/core/roster"
)

// FolderStore is what the store in the data folder is called.
const FolderStore = "folder"

// Store is an object store that slabs may lie in.
type Store struct {
	Name   string    `db:"name"`
	Place  string    `db:"place"` // a URL, or a folder
	Region string    `db:"region"`
	Key    string    `db:"key"`
	Secret string    `db:"secret"` // sealed
	Added  time.Time `db:"added"`
}

// Storing says where new versions go, and how many bytes the data folder may have of slabs that are elsewhere.
type Storing struct {
	Store string `db:"store"`
	Cache int64  `db:"cache_bytes"`
}

// Stores lists object stores by name.
func (db *DB) Stores(ctx context.Context) (all []Store, err error) {
	return all, db.read.SelectContext(ctx, &all, `SELECT * FROM stores ORDER BY name`)
}

// Store is the one of that name.
func (db *DB) Store(ctx context.Context, name string) (*Store, error) {
	var s Store
	err := db.read.GetContext(ctx, &s, `SELECT * FROM stores WHERE name = ?`, name)
	return &s, missing(err, "store", name)
}

// AddStore enters one. A fault.Conflict says that its name or its place is taken.
func (db *DB) AddStore(ctx context.Context, s Store) error {
	r, err := db.exec(ctx, `INSERT INTO stores (name, place, region, key, secret, added) VALUES (?, ?, ?, ?, ?, ?) ON CONFLICT DO NOTHING`, s.Name, s.Place, s.Region, s.Key, s.Secret, s.Added.UTC())
	if err = changed(r, err, "", ""); errors.Is(err, fault.NotFound) {
		err = fault.Conflict.Errorf("there is a store %s already, or one at %s", s.Name, s.Place)
	}
	return err
}

// RemoveStore forgets one in which no version is and to which none goes; what is in it stays there.
func (db *DB) RemoveStore(ctx context.Context, name string) error {
	return db.change(ctx, func(tx *sqlx.Tx) error {
		var used int
		if err := tx.GetContext(ctx, &used, `SELECT (SELECT count(*) FROM versions WHERE pruned IS NULL AND (store = ?1 OR moves_to = ?1)) + (SELECT count(*) FROM storing WHERE store = ?1) + (SELECT count(*) FROM backing WHERE store = ?1 OR copy_to = ?1)`, name); err != nil {
			return err
		}
		if used > 0 {
			return fault.Conflict.Errorf("versions are in the store %s, or new ones, backups or the copy of the records go there: move them elsewhere and use another store", name)
		}
		r, err := tx.ExecContext(ctx, `DELETE FROM stores WHERE name = ?`, name)
		return changed(r, err, "store", name)
	})
}

// Storing tells where new versions go.
func (db *DB) Storing(ctx context.Context) (s Storing, err error) {
	return s, db.read.GetContext(ctx, &s, `SELECT store, cache_bytes FROM storing`)
}

// SetStoring says where new versions go.
func (db *DB) SetStoring(ctx context.Context, s Storing) error {
	_, err := db.exec(ctx, `UPDATE storing SET store = ?, cache_bytes = ?`, s.Store, s.Cache)
	return err
}

// MoveVersion has a version be moved to a store. One that is there already is not moved, unless it was on its way elsewhere.
func (db *DB) MoveVersion(ctx context.Context, ref roster.Ref, to string) error {
	r, err := db.exec(ctx, `UPDATE versions SET moves_to = CASE WHEN store = ?1 AND moves_to = '' THEN '' ELSE ?1 END WHERE pruned IS NULL AND image_id = (SELECT id FROM images WHERE name = ?2) AND number = ?3`, to, ref.Image, ref.Version)
	return changed(r, err, "version with slabs", ref)
}

// Moving lists versions that are to be moved, the oldest first. One that is yet to be held against the version before waits for that.
func (db *DB) Moving(ctx context.Context) (all []Version, err error) {
	return all, db.read.SelectContext(ctx, &all, "SELECT "+versionColumns+" FROM "+versionFrom+" WHERE v.moves_to <> '' AND v.pruned IS NULL AND NOT ("+unleaned+") ORDER BY v.captured, i.name, v.number")
}

// MovedVersion records that a version is in a store; it is not if it is to be elsewhere meanwhile.
func (db *DB) MovedVersion(ctx context.Context, ref roster.Ref, to string) error {
	_, err := db.exec(ctx, `UPDATE versions SET store = ?1, moves_to = '' WHERE moves_to = ?1 AND `+versionIs, to, ref.Image, ref.Version)
	return err
}

// Backing says when backups are made by themselves, and how the last one went.
type Backing struct {
	Store   string       `db:"store"` // none while it is empty
	At      string       `db:"at"`    // HH:MM of the service's clock
	Slabs   bool         `db:"slabs"`
	Keep    int          `db:"keep"`
	Begun   sql.NullTime `db:"begun"`
	Ended   sql.NullTime `db:"ended"`
	Trouble string       `db:"trouble"`
}

// Backing tells when backups are made.
func (db *DB) Backing(ctx context.Context) (b Backing, err error) {
	return b, db.read.GetContext(ctx, &b, `SELECT store, at, slabs, keep, begun, ended, trouble FROM backing`)
}

// SetBacking says when backups are made.
func (db *DB) SetBacking(ctx context.Context, b Backing) error {
	_, err := db.exec(ctx, `UPDATE backing SET store = ?, at = ?, slabs = ?, keep = ?`, b.Store, b.At, b.Slabs, b.Keep)
	return err
}

// BackedUp records how a backup that was due went: it began, and when it ended, and with what trouble.
func (db *DB) BackedUp(ctx context.Context, begun time.Time, ended sql.NullTime, trouble string) error {
	_, err := db.exec(ctx, `UPDATE backing SET begun = ?, ended = ?, trouble = ?`, begun.UTC(), ended, trouble)
	return err
}

// CopyingTo is the store that the records are copied into as they change; empty for none.
func (db *DB) CopyingTo(ctx context.Context) (store string, err error) {
	return store, db.read.GetContext(ctx, &store, `SELECT copy_to FROM backing`)
}

// SetCopyingTo says which store that is.
func (db *DB) SetCopyingTo(ctx context.Context, store string) error {
	_, err := db.exec(ctx, `UPDATE backing SET copy_to = ?`, store)
	return err
}
