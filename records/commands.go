package records

import (
	"context"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"

	"jugate/api"
	"jugate/core/errand"
)

// CommandEnded is how the command of an errand has ended; nil if it has not.
func (e *Errand) CommandEnded() (*api.CommandEnded, error) {
	if e.Kind != errand.Command || e.Result == "" {
		return nil, nil
	}
	ended, err := decode[api.CommandEnded](fmt.Sprintf("the result of errand %d", e.ID), e.Result)
	return &ended, err
}

// Said is what a command has said at a workstation when it was run there last.
type Said struct {
	WorkstationID int64  `db:"workstation_id"`
	Command       string `db:"command"`
	Passed        bool   `db:"passed"`
	LastLine      string `db:"last_line"`
}

// EndCommand keeps what came of an errand that runs a command, and ends that, both or neither.
func (db *DB) EndCommand(ctx context.Context, now time.Time, id int64, ended api.CommandEnded, state errand.State, reason string, said Said) error {
	return db.change(ctx, func(tx *sqlx.Tx) error {
		done, err := tx.ExecContext(ctx, `UPDATE errands SET state = ?, error = ?, result = ?, ended = ? WHERE id = ? AND state = 'running'`, state, reason, encode(ended), now.UTC(), id)
		if err := changed(done, err, "running errand", id); err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, `INSERT INTO said (workstation_id, command, errand_id, passed, last_line) VALUES (?, ?, ?, ?, ?)
			ON CONFLICT DO UPDATE SET errand_id = excluded.errand_id, passed = excluded.passed, last_line = excluded.last_line`, said.WorkstationID, said.Command, id, said.Passed, said.LastLine)
		return err
	})
}

// AllSaid is what commands have said last, by the number of the workstation.
func (db *DB) AllSaid(ctx context.Context) (map[int64][]Said, error) {
	var rows []Said
	err := db.read.SelectContext(ctx, &rows, `SELECT workstation_id, command, passed, last_line FROM said`)
	all := map[int64][]Said{}
	for _, s := range rows {
		all[s.WorkstationID] = append(all[s.WorkstationID], s)
	}
	return all, err
}
