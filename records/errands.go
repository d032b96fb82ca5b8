package records

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"github.com/jmoiron/sqlx"
)

// The kinds and states of errands.
const (
	ErrandCapture = "capture"
	ErrandReceive = "receive"
	ErrandDrivers = "drivers"

	ErrandWaiting = "waiting" // for the workstation to ask for it
	ErrandRunning = "running"
	ErrandDone    = "done"
	ErrandFailed  = "failed"
	ErrandStopped = "stopped"
)

// Errand is what one workstation was asked to do.
type Errand struct {
	ID            int64         `db:"id"`
	WorkstationID int64         `db:"workstation_id"`
	Workstation   string        `db:"workstation"`
	Kind          string        `db:"kind"`
	State         string        `db:"state"`
	Image         string        `db:"image"`
	Version       int           `db:"version"`
	Note          string        `db:"note"`
	DeliveryID    sql.NullInt64 `db:"delivery_id"`
	Error         string        `db:"error"`
	Created       time.Time     `db:"created"`
	Ended         sql.NullTime  `db:"ended"`
	Options       string        `db:"options"` // JSON: how to do it
	Result        string        `db:"result"`  // of drivers: JSON
}

const errandSelect = `SELECT e.id, e.workstation_id, coalesce(w.name, '') AS workstation, e.kind, e.state, e.image, e.version, e.note, e.delivery_id, e.error, e.created, e.ended, e.options, e.result
	FROM errands e JOIN workstations w ON w.id = e.workstation_id `

// AddCapture asks a workstation to capture its disk as the next version of an
// image; options are JSON for the agent.
func (db *DB) AddCapture(ctx context.Context, now time.Time, workstation int64, image, note, options string) (*Errand, error) {
	result, err := db.write.ExecContext(ctx, `INSERT INTO errands (workstation_id, kind, state, image, version, note, created, options) VALUES (?, 'capture', 'waiting', ?, 0, ?, ?, ?)`,
		workstation, image, note, now.UTC(), options)
	if err != nil {
		return nil, err
	}
	id, err := result.LastInsertId()
	if err != nil {
		return nil, err
	}
	return db.Errand(ctx, id)
}

// Errand returns the errand with that number.
func (db *DB) Errand(ctx context.Context, id int64) (*Errand, error) {
	var e Errand
	err := db.read.GetContext(ctx, &e, errandSelect+"WHERE e.id = ?", id)
	return &e, missing(err, "errand", id)
}

// StartErrand gives a workstation the oldest errand that waits for it, or nil.
// One that was running already is given again: the agent lost the answer.
func (db *DB) StartErrand(ctx context.Context, workstation int64) (*Errand, error) {
	var e Errand
	err := db.change(ctx, func(tx *sqlx.Tx) error {
		err := tx.GetContext(ctx, &e, errandSelect+"WHERE e.workstation_id = ? AND e.state IN ('waiting', 'running') ORDER BY e.id LIMIT 1", workstation)
		if err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, `UPDATE errands SET state = 'running' WHERE id = ?`, e.ID)
		return err
	})
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return &e, err
}

// EndErrand ends an open errand; one that has ended already is an ErrNotFound.
func (db *DB) EndErrand(ctx context.Context, now time.Time, id int64, state, reason string) error {
	result, err := db.write.ExecContext(ctx, `UPDATE errands SET state = ?, error = ?, ended = ? WHERE id = ? AND state IN ('waiting', 'running')`,
		state, reason, now.UTC(), id)
	return changed(result, err, "open errand", id)
}
