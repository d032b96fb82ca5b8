package records

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"jugate/api"
	"jugate/core/fault"

	"github.com/jmoiron/sqlx"

	"jugate/core/roster"
)

// Version is one capture. Its manifest and slab map are files.
type Version struct {
	Image       string    `db:"image"`
	Number      int       `db:"number"`
	Digest      string    `db:"digest"`
	Captured    time.Time `db:"captured"`
	Workstation string    `db:"workstation"`
	Note        string    `db:"note"`
	DiskBytes   int64     `db:"disk_bytes"`
	UsedBytes   int64     `db:"used_bytes"`
	Slabs       int       `db:"slabs"`
	NewSlabs    int       `db:"new_slabs"`
	StoredBytes int64     `db:"stored_bytes"`
	// Despite is the reason to capture in spite of findings; Unreadable how many
	// bytes of the golden disk could not be read.
	Despite    string       `db:"despite"`
	Unreadable int64        `db:"unreadable_bytes"`
	Retired    sql.NullTime `db:"retired"`
	Pruned     sql.NullTime `db:"pruned"` // its slabs were given up
	// PrivateOf is the number of the workstation whose disk was saved before it was erased, until it Expires; 0 of a golden disk.
	PrivateOf int64        `db:"private_of"`
	Expires   sql.NullTime `db:"expires"`
	// Leaned is when its slabs were held against those of the version before; Settled when it was made to stand alone.
	Leaned  sql.NullTime `db:"leaned"`
	Settled sql.NullTime `db:"settled"`
	// Store is where its slabs are, MovesTo where they are moved to; empty while they are not.
	Store   string `db:"store"`
	MovesTo string `db:"moves_to"`
}

// Ref names the version.
func (v Version) Ref() roster.Ref { return roster.Ref{Image: v.Image, Version: v.Number} }

const (
	versionColumns = `i.name AS image, v.number, v.digest, v.captured, v.workstation, v.note, v.disk_bytes, v.used_bytes, v.slabs, v.new_slabs, v.stored_bytes, v.despite, v.unreadable_bytes, v.retired, v.pruned, i.private_of, v.expires, v.leaned, v.settled, v.store, v.moves_to`
	versionFrom    = `versions v JOIN images i ON i.id = v.image_id`
)

// Images lists the newest version of every image, those of these names unless that is nil: golden disks, or those that were saved
// before they were erased; sortable by image and captured.
func (db *DB) Images(ctx context.Context, within []string, saved bool, p Page) ([]Version, int, error) {
	var q query
	q.and("(i.private_of <> 0) = ?", saved)
	if within != nil {
		q.and("i.name COLLATE NOCASE IN (SELECT value FROM json_each(?))", encode(within))
	}
	q.and(`v.number = (SELECT max(number) FROM versions WHERE image_id = v.image_id)`)
	q.search(p.Search, []string{"i.name", "v.note"})
	var rows []Version
	total, err := db.list(ctx, listing{columns: versionColumns, from: versionFrom, key: "v.rowid", order: "i.name",
		fields: map[string]string{"image": "i.name", "captured": "v.captured"}}, &rows, q, p)
	return rows, total, err
}

// Versions lists all versions of an image, the newest first. An unknown image
// is a fault.NotFound.
func (db *DB) Versions(ctx context.Context, image string) ([]Version, error) {
	var rows []Version
	err := db.read.SelectContext(ctx, &rows, "SELECT "+versionColumns+" FROM "+versionFrom+" WHERE i.name = ? ORDER BY v.number DESC", image)
	if err == nil && len(rows) == 0 {
		err = fault.NotFound.Errorf("there is no image %s", image)
	}
	return rows, err
}

// Version returns one version, the newest if ref has no number.
func (db *DB) Version(ctx context.Context, ref roster.Ref) (*Version, error) {
	image, err := db.ImageName(ctx, ref.Image)
	if err != nil {
		return nil, err
	}
	var v Version
	err = db.read.GetContext(ctx, &v, "SELECT "+versionColumns+" FROM "+versionFrom+
		" WHERE i.name = ? AND (v.number = ? OR ? = 0) ORDER BY v.number DESC LIMIT 1", image, ref.Version, ref.Version)
	return &v, missing(err, "image", ref)
}

// ImageName returns the name of an image in its own spelling, whatever the case of the
// letters in name. A name that no image has is returned as it is.
func (db *DB) ImageName(ctx context.Context, name string) (string, error) {
	var is string
	err := db.read.GetContext(ctx, &is, `SELECT name FROM images WHERE name = ?1 COLLATE NOCASE ORDER BY name = ?1 DESC LIMIT 1`, name)
	if errors.Is(err, sql.ErrNoRows) {
		return name, nil
	}
	return is, err
}

// NextVersion is the number that the next capture of an image will get.
func (db *DB) NextVersion(ctx context.Context, image string) (int, error) {
	var n int
	err := db.read.GetContext(ctx, &n, `SELECT coalesce(max(v.number), 0) + 1 FROM `+versionFrom+` WHERE i.name = ?`, image)
	return n, err
}

// AddVersion makes a version visible and ends the errand that captured it, both
// or neither; a version without an errand (0) was brought in another way. The
// number must not be taken.
func (db *DB) AddVersion(ctx context.Context, now time.Time, errand int64, v Version) error {
	return db.change(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `INSERT INTO images (name, private_of) VALUES (?, ?) ON CONFLICT DO NOTHING`, v.Image, v.PrivateOf); err != nil {
			return err
		}
		_, err := tx.NamedExecContext(ctx, `INSERT INTO versions (image_id, number, digest, captured, workstation, note, disk_bytes, used_bytes, slabs, new_slabs, stored_bytes, despite, unreadable_bytes, retired, pruned, expires, settled, moves_to)
			VALUES ((SELECT id FROM images WHERE name = :image), :number, :digest, :captured, :workstation, :note, :disk_bytes, :used_bytes, :slabs, :new_slabs, :stored_bytes, :despite, :unreadable_bytes, :retired, :pruned, :expires, :settled, :moves_to)`, v)
		if err != nil || errand == 0 {
			return err
		}
		result, err := tx.ExecContext(ctx, `UPDATE errands SET state = 'done', version = ?, ended = ? WHERE id = ? AND state IN ('waiting', 'running')`, v.Number, now.UTC(), errand)
		return changed(result, err, "open errand", errand)
	})
}

// EndUnchanged ends the errand of a capture whose disk holds what a version holds already;
// words say so.
func (db *DB) EndUnchanged(ctx context.Context, now time.Time, errand int64, version int, words string) error {
	result, err := db.exec(ctx, `UPDATE errands SET state = 'done', version = ?, result = ?, ended = ? WHERE id = ? AND state IN ('waiting', 'running')`,
		version, encode(api.Installed{Did: []string{words}}), now.UTC(), errand)
	return changed(result, err, "open errand", errand)
}

// AllVersions lists every version of every image.
func (db *DB) AllVersions(ctx context.Context) ([]Version, error) {
	var rows []Version
	err := db.read.SelectContext(ctx, &rows, "SELECT "+versionColumns+" FROM "+versionFrom+" ORDER BY i.name, v.number")
	return rows, err
}

const versionIs = `image_id = (SELECT id FROM images WHERE name = ?) AND number = ?`

// SetNote replaces a version's note.
func (db *DB) SetNote(ctx context.Context, ref roster.Ref, note string) error {
	result, err := db.exec(ctx, `UPDATE versions SET note = ? WHERE `+versionIs, note, ref.Image, ref.Version)
	return changed(result, err, "version", ref)
}

// RetireVersion takes a version out of use.
func (db *DB) RetireVersion(ctx context.Context, now time.Time, ref roster.Ref) error {
	result, err := db.exec(ctx, `UPDATE versions SET retired = coalesce(retired, ?) WHERE `+versionIs, now.UTC(), ref.Image, ref.Version)
	return changed(result, err, "version", ref)
}

// ReadmitVersion takes a retired version back into use. One whose slabs were
// pruned is a fault.Conflict.
func (db *DB) ReadmitVersion(ctx context.Context, ref roster.Ref) error {
	result, err := db.exec(ctx, `UPDATE versions SET retired = NULL WHERE pruned IS NULL AND `+versionIs, ref.Image, ref.Version)
	if err == nil {
		if n, err := result.RowsAffected(); err == nil && n == 0 {
			return fault.Conflict.Errorf("%s was pruned: its slabs are gone, and it cannot be readmitted", ref)
		}
	}
	return err
}

// Unleaned are versions whose slabs were not held against those of the version before: each the
// newest of its image, and none a disk that was saved.
func (db *DB) Unleaned(ctx context.Context) (rows []Version, err error) {
	return rows, db.read.SelectContext(ctx, &rows, "SELECT "+versionColumns+" FROM "+versionFrom+
		` WHERE `+unleaned+` ORDER BY v.captured`)
}

const unleaned = `v.leaned IS NULL AND v.settled IS NULL AND v.pruned IS NULL AND v.number > 1 AND i.private_of = 0
		AND v.number = (SELECT max(number) FROM versions WHERE image_id = v.image_id)`

// LeanVersion records that this was done, and how many bytes the store has less.
func (db *DB) LeanVersion(ctx context.Context, now time.Time, ref roster.Ref, saved int64) error {
	result, err := db.exec(ctx, `UPDATE versions SET leaned = ?, stored_bytes = max(0, stored_bytes - ?) WHERE `+versionIs, now.UTC(), saved, ref.Image, ref.Version)
	return changed(result, err, "version", ref)
}

// SettleVersion records that a version stands alone, and how many bytes the store has more.
func (db *DB) SettleVersion(ctx context.Context, now time.Time, ref roster.Ref, added int64) error {
	result, err := db.exec(ctx, `UPDATE versions SET settled = coalesce(settled, ?), stored_bytes = stored_bytes + ? WHERE `+versionIs, now.UTC(), added, ref.Image, ref.Version)
	return changed(result, err, "version", ref)
}

// SweepVersion records that the slabs of a retired version are given up. A version
// that is in use again, or that an open delivery brings, is a fault.Conflict.
func (db *DB) SweepVersion(ctx context.Context, now time.Time, ref roster.Ref) error {
	result, err := db.exec(ctx, `UPDATE versions SET pruned = coalesce(pruned, ?) WHERE retired IS NOT NULL AND `+versionIs+`
		AND NOT EXISTS (SELECT 1 FROM deliveries WHERE image = ? AND version = ? AND ended IS NULL)`, now.UTC(), ref.Image, ref.Version, ref.Image, ref.Version)
	if err == nil {
		if n, err := result.RowsAffected(); err == nil && n == 0 {
			return fault.Conflict.Errorf("%s is in use", ref)
		}
	}
	return err
}

// RenameImage gives an image another name; receipts and past deliveries keep the
// one they had. A name that is taken, and an image that is being captured or
// delivered, is a fault.Conflict. before is called when nothing stands in the way,
// and its error stops the renaming.
func (db *DB) RenameImage(ctx context.Context, from, to string, before func() error) error {
	return db.change(ctx, func(tx *sqlx.Tx) error {
		var taken, busy int
		if err := tx.GetContext(ctx, &taken, `SELECT count(*) FROM images WHERE name = ? COLLATE NOCASE AND name <> ?`, to, from); err != nil {
			return err
		}
		if taken > 0 {
			return fault.Conflict.Errorf("there is an image %s already", to)
		}
		if err := tx.GetContext(ctx, &busy, `SELECT count(*) FROM errands WHERE image = ? AND state IN ('waiting', 'running')`, from); err != nil {
			return err
		}
		if busy > 0 {
			return fault.Conflict.Errorf("%s is being captured or delivered; wait until that is over", from)
		}
		result, err := tx.ExecContext(ctx, `UPDATE images SET name = ? WHERE name = ?`, to, from)
		if err := changed(result, err, "image", from); err != nil {
			return err
		}
		return before()
	})
}

// RunningCaptures are the errands that capture now.
func (db *DB) RunningCaptures(ctx context.Context) ([]Errand, error) {
	var rows []Errand
	err := db.read.SelectContext(ctx, &rows, errandSelect+"WHERE e.kind = 'capture' AND e.state = 'running'")
	return rows, err
}
