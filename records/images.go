package records

import (
	"context"
	"fmt"
	"time"

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
}

// Ref names the version.
func (v Version) Ref() roster.Ref { return roster.Ref{Image: v.Image, Version: v.Number} }

const (
	versionColumns = `i.name AS image, v.number, v.digest, v.captured, v.workstation, v.note, v.disk_bytes, v.used_bytes, v.slabs, v.new_slabs, v.stored_bytes`
	versionFrom    = `versions v JOIN images i ON i.id = v.image_id`
)

// Images lists the newest version of every image; sortable by name and captured.
func (db *DB) Images(ctx context.Context, p Page) ([]Version, int, error) {
	q := query{from: versionFrom}
	q.and(`v.number = (SELECT max(number) FROM versions WHERE image_id = v.image_id)`)
	q.search(p.Search, "i.name", "v.note")
	var rows []Version
	total, err := db.list(ctx, &rows, versionColumns, q, p, map[string]string{"name": "i.name", "captured": "v.captured"}, "i.name")
	return rows, total, err
}

// Versions lists all versions of an image, the newest first. An unknown image
// is an ErrNotFound.
func (db *DB) Versions(ctx context.Context, image string) ([]Version, error) {
	var rows []Version
	err := db.read.SelectContext(ctx, &rows, "SELECT "+versionColumns+" FROM "+versionFrom+" WHERE i.name = ? ORDER BY v.number DESC", image)
	if err == nil && len(rows) == 0 {
		err = fmt.Errorf("%w: there is no image %s", ErrNotFound, image)
	}
	return rows, err
}

// Version returns one version, the newest if ref has no number.
func (db *DB) Version(ctx context.Context, ref roster.Ref) (*Version, error) {
	var v Version
	err := db.read.GetContext(ctx, &v, "SELECT "+versionColumns+" FROM "+versionFrom+
		" WHERE i.name = ? AND (v.number = ? OR ? = 0) ORDER BY v.number DESC LIMIT 1", ref.Image, ref.Version, ref.Version)
	return &v, missing(err, "image", ref)
}

// NextVersion is the number that the next capture of an image will get.
func (db *DB) NextVersion(ctx context.Context, image string) (int, error) {
	var n int
	err := db.read.GetContext(ctx, &n, `SELECT coalesce(max(v.number), 0) + 1 FROM `+versionFrom+` WHERE i.name = ?`, image)
	return n, err
}

// AddVersion makes a version visible and ends the errand that captured it, both
// or neither. The number must be the next one of its image.
func (db *DB) AddVersion(ctx context.Context, now time.Time, errand int64, v Version) error {
	return db.change(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `INSERT INTO images (name) VALUES (?) ON CONFLICT DO NOTHING`, v.Image); err != nil {
			return err
		}
		_, err := tx.NamedExecContext(ctx, `INSERT INTO versions (image_id, number, digest, captured, workstation, note, disk_bytes, used_bytes, slabs, new_slabs, stored_bytes)
			VALUES ((SELECT id FROM images WHERE name = :image), :number, :digest, :captured, :workstation, :note, :disk_bytes, :used_bytes, :slabs, :new_slabs, :stored_bytes)`, v)
		if err != nil {
			return err
		}
		result, err := tx.ExecContext(ctx, `UPDATE errands SET state = 'done', version = ?, ended = ? WHERE id = ? AND state IN ('waiting', 'running')`, v.Number, now.UTC(), errand)
		return changed(result, err, "open errand", errand)
	})
}
