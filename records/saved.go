package records

import (
	"context"
	"fmt"
	"regexp"
	"time"

	"jugate/api"
	"jugate/core/roster"
)

// SaveOptions are kept with an errand that captures a disk before it is erased.
type SaveOptions struct {
	api.CaptureOptions
	Days int `json:"save_days,omitempty"` // for which the version is kept; 0 for a golden disk
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

// KeepUntil has a version that was kept already be kept for longer.
func (db *DB) KeepUntil(ctx context.Context, ref roster.Ref, until time.Time) error {
	result, err := db.exec(ctx, `UPDATE versions SET expires = max(expires, ?) WHERE expires IS NOT NULL AND `+versionIs, until.UTC(), ref.Image, ref.Version)
	return changed(result, err, "saved version", ref)
}

// Expired are versions whose time is over and that are there still.
func (db *DB) Expired(ctx context.Context, now time.Time) (rows []Version, err error) {
	return rows, db.read.SelectContext(ctx, &rows, "SELECT "+versionColumns+" FROM "+versionFrom+" WHERE v.expires < ? AND v.pruned IS NULL ORDER BY v.expires", now.UTC())
}
