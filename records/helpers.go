package records

import (
	"context"
	"database/sql"
	"errors"
	"time"
)

// Helper is what stays on a workstation's system, and what it is told.
type Helper struct {
	WorkstationID int64        `db:"workstation_id"`
	Key           string       `db:"key"` // digest of its public key
	Since         time.Time    `db:"since"`
	Number        int64        `db:"number"` // of what it is told; another each time
	Verb          string       `db:"verb"`   // empty for nothing
	WarnSeconds   int64        `db:"warn_seconds"`
	Why           string       `db:"why"`
	Until         sql.NullTime `db:"until"` // it is not told any more then
	Boot          string       `db:"boot"`  // in which it was told
}

// PutHelper notes the key of a workstation's helper, in place of an earlier one. What that was told and has not
// heard is for the new one, if it is to switch off.
func (db *DB) PutHelper(ctx context.Context, now time.Time, workstation int64, key string) error {
	_, err := db.exec(ctx, `INSERT INTO helpers (workstation_id, key, since) VALUES (?1, ?2, ?3)
		ON CONFLICT (workstation_id) DO UPDATE SET key = ?2, since = ?3, verb = iif(verb = 'power-off' AND boot = '' AND until > ?3, verb, ''), boot = ''`, workstation, key, now.UTC())
	return err
}

// RemoveHelper forgets it.
func (db *DB) RemoveHelper(ctx context.Context, workstation int64) error {
	_, err := db.exec(ctx, `DELETE FROM helpers WHERE workstation_id = ?`, workstation)
	return err
}

// HelperOf is the helper with a key; nil if there is none.
func (db *DB) HelperOf(ctx context.Context, key string) (*Helper, error) {
	var h Helper
	err := db.read.GetContext(ctx, &h, `SELECT * FROM helpers WHERE key = ?`, key)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return &h, err
}

// Helpers are those of workstations, by their number.
func (db *DB) Helpers(ctx context.Context, ids []int64) (map[int64]Helper, error) {
	var rows []Helper
	err := db.read.SelectContext(ctx, &rows, `SELECT * FROM helpers WHERE workstation_id IN (SELECT value FROM json_each(?))`, encode(ids))
	all := map[int64]Helper{}
	for _, h := range rows {
		all[h.WorkstationID] = h
	}
	return all, err
}

// TellHelper has a workstation's helper told something until then; an empty verb withdraws it.
func (db *DB) TellHelper(ctx context.Context, workstation int64, verb string, warn time.Duration, why string, until time.Time) error {
	_, err := db.exec(ctx, `UPDATE helpers SET number = number + 1, verb = ?, warn_seconds = ?, why = ?, until = ?, boot = '' WHERE workstation_id = ?`,
		verb, int64(warn.Seconds()), why, until.UTC(), workstation)
	return err
}

// HelperWasTold notes in which boot of its system a helper was told, unless that has changed
// since.
func (db *DB) HelperWasTold(ctx context.Context, h *Helper, boot string) error {
	_, err := db.exec(ctx, `UPDATE helpers SET boot = ? WHERE workstation_id = ? AND number = ?`, boot, h.WorkstationID, h.Number)
	return err
}

// HelperIsDone notes that what a helper was told is done, or too old.
func (db *DB) HelperIsDone(ctx context.Context, h *Helper) error {
	_, err := db.exec(ctx, `UPDATE helpers SET verb = '', boot = '' WHERE workstation_id = ? AND number = ?`, h.WorkstationID, h.Number)
	return err
}
