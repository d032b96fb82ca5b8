package records

import (
	"context"
	"database/sql"
	"fmt"
	"regexp"
	"time"

	"github.com/jmoiron/sqlx"

	"jugate/api"
	"jugate/core/errand"
	"jugate/core/order"
	"jugate/core/roster"
)

// SaveOptions are kept with an errand that captures a disk before it is erased.
type SaveOptions struct {
	api.CaptureOptions
	Days    int      `json:"save_days,omitempty"` // for which the version is kept; 0 for a golden disk
	Folders []string `json:"folders_back,omitempty"`
}

// unfit is what a name of an image does not have.
var unfit = regexp.MustCompile(`[^A-Za-z0-9._-]+`)

// SavedImage is the image of a workstation's own disk, whether there is one already or not.
func (db *DB) SavedImage(ctx context.Context, w Workstation) (name string, err error) {
	name = unfit.ReplaceAllString("disk-of-"+w.Label(), "")
	err = db.read.GetContext(ctx, &name, `SELECT coalesce((SELECT name FROM images WHERE private_of = ?1), (SELECT ?3 FROM images WHERE name = ?2 COLLATE NOCASE), ?2)`,
		w.ID, name[:min(len(name), roster.MaxName)], fmt.Sprintf("disk-of-workstation-%d", w.ID))
	return name, err
}

// SavedBy are the workstations whose disks a run has saved, or one that it goes on for.
func (db *DB) SavedBy(ctx context.Context, run int64) (ids []int64, err error) {
	return ids, db.read.SelectContext(ctx, &ids, `WITH RECURSIVE chain (id) AS (SELECT ? UNION SELECT r.continues FROM runs r JOIN chain ON r.id = chain.id WHERE r.continues IS NOT NULL)
		SELECT DISTINCT e.workstation_id FROM chain JOIN run_parts p ON p.run_id = chain.id AND p.work = ? JOIN errands e ON e.run_id = p.run_id AND e.run_part = p.number WHERE e.state = ?`,
		run, order.Save, errand.Done)
}

// KeepUntil has a version that was kept already be kept for longer.
func (db *DB) KeepUntil(ctx context.Context, ref roster.Ref, until time.Time) error {
	result, err := db.exec(ctx, `UPDATE versions SET expires = max(expires, ?) WHERE expires IS NOT NULL AND `+versionIs, until.UTC(), ref.Image, ref.Version)
	return changed(result, err, "saved version", ref)
}

// Expired are versions whose time is over and that are there still.
func (db *DB) Expired(ctx context.Context, now time.Time) (rows []Version, err error) {
	return rows, db.read.SelectContext(ctx, &rows, "SELECT "+versionColumns+" FROM "+versionFrom+" WHERE v.expires < ? AND v.pruned IS NULL ORDER BY v.expires", now.UTC())
}

// Folders are what a workstation has handed in before its disk was erased.
type Folders struct {
	ErrandID      int64        `db:"errand_id"`
	WorkstationID int64        `db:"workstation_id"`
	Digest        string       `db:"digest"`
	Bytes         int64        `db:"bytes"`
	Expires       time.Time    `db:"expires"`
	Returned      sql.NullTime `db:"returned"`
}

// PutFolders records them; those of the same errand before are replaced.
func (db *DB) PutFolders(ctx context.Context, f Folders) error {
	f.Expires = f.Expires.UTC()
	return db.change(ctx, func(tx *sqlx.Tx) error {
		_, err := tx.NamedExecContext(ctx, `INSERT OR REPLACE INTO folders (errand_id, workstation_id, digest, bytes, expires) VALUES (:errand_id, :workstation_id, :digest, :bytes, :expires)`, f)
		return err
	})
}

// FoldersOf are those that an errand has handed in. It returns fault.NotFound if there are none.
func (db *DB) FoldersOf(ctx context.Context, errand int64) (*Folders, error) {
	var f Folders
	err := db.read.GetContext(ctx, &f, `SELECT * FROM folders WHERE errand_id = ?`, errand)
	return &f, missing(err, "folders of errand", errand)
}

// FoldersAway are those that a workstation has handed in last, if they are not on its disk again; nil if there are none.
func (db *DB) FoldersAway(ctx context.Context, workstation int64) (*Folders, error) {
	var rows []Folders
	err := db.read.SelectContext(ctx, &rows, `SELECT * FROM folders WHERE workstation_id = ? ORDER BY errand_id DESC LIMIT 1`, workstation)
	if err != nil || len(rows) == 0 || rows[0].Returned.Valid {
		return nil, err
	}
	return &rows[0], nil
}

// SetReturned notes that folders are on the disk again.
func (db *DB) SetReturned(ctx context.Context, now time.Time, errand int64) error {
	result, err := db.exec(ctx, `UPDATE folders SET returned = ? WHERE errand_id = ?`, now.UTC(), errand)
	return changed(result, err, "folders of errand", errand)
}

// ExpiredFolders are those whose time is over.
func (db *DB) ExpiredFolders(ctx context.Context, now time.Time) (rows []Folders, err error) {
	return rows, db.read.SelectContext(ctx, &rows, `SELECT * FROM folders WHERE expires < ?`, now.UTC())
}

// ForgetFolders forgets them.
func (db *DB) ForgetFolders(ctx context.Context, errand int64) error {
	result, err := db.exec(ctx, `DELETE FROM folders WHERE errand_id = ?`, errand)
	return changed(result, err, "folders of errand", errand)
}
