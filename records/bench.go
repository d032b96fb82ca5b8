package records

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"
)

// Machine is what a receipt says of the machine itself.
type Machine struct {
	Maker  string `json:"maker,omitempty"`
	Model  string `json:"model,omitempty"`
	Serial string `json:"serial,omitempty"`
	Job    string `json:"job,omitempty"` // at a repair bench
}

// SetMachine keeps what the machine is.
func (r *Receipt) SetMachine(w Workstation) {
	r.MachineJS = encode(Machine{w.Maker, w.Model, w.Serial, w.Job})
}

// Machine is what the machine was.
func (r *Receipt) Machine() Machine {
	m, _ := decode[Machine]("", r.MachineJS)
	return m
}

// Visit lets a newcomer do what somebody at it orders, though nobody has admitted it. That ends when it checks in with nothing
// to do.
func (db *DB) Visit(ctx context.Context, id int64, job string) error {
	result, err := db.exec(ctx, `UPDATE workstations SET bench = 1, job = ? WHERE id = ? AND state = 'newcomer'`, job, id)
	return changed(result, err, "newcomer", id)
}

// EndVisit ends the visit of a machine that has nothing to do.
func (db *DB) EndVisit(ctx context.Context, id int64) error {
	return db.change(ctx, func(tx *sqlx.Tx) error { return leave(ctx, tx, id) })
}

// leave ends the visit of a machine that has nothing to do any more; one that was forgotten is a newcomer again.
func leave(ctx context.Context, tx *sqlx.Tx, id int64) error {
	_, err := tx.ExecContext(ctx, `UPDATE workstations SET bench = 0, job = '' WHERE id = ?1 AND bench <> 0
		AND NOT EXISTS (SELECT 1 FROM errands WHERE workstation_id = ?1 AND state IN ('waiting', 'running'))
		AND NOT EXISTS (SELECT 1 FROM runs WHERE ended IS NULL AND only_ids = ?2)`, id, encode([]int64{id}))
	return err
}

// hideVisitors takes newcomers out of sight that were last seen before a time and of which receipts or errands tell.
func hideVisitors(ctx context.Context, tx *sqlx.Tx, before time.Time) error {
	_, err := tx.ExecContext(ctx, `UPDATE workstations SET bench = 2, job = '' WHERE state = 'newcomer' AND bench = 0 AND last_seen < ?
		AND (EXISTS (SELECT 1 FROM receipts WHERE workstation_id = workstations.id) OR EXISTS (SELECT 1 FROM errands WHERE workstation_id = workstations.id))`, before.UTC())
	return err
}

// anyHidden tells whether there are machines that lists leave out.
func (db *DB) anyHidden(ctx context.Context) (any bool, err error) {
	return any, db.read.GetContext(ctx, &any, `SELECT EXISTS (SELECT 1 FROM workstations WHERE bench = 2)`)
}
