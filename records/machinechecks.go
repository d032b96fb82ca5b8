package records

import (
	"context"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"

	checks "jugate/core/check"
)

// MachineCheck is what checks of a machine have found out.
type MachineCheck struct {
	ID            int64          `db:"id"`
	ErrandID      int64          `db:"errand_id"`
	WorkstationID int64          `db:"workstation_id"`
	Workstation   string         `db:"workstation"` // its name at the time
	Address       string         `db:"hardware_address"`
	Maker         string         `db:"maker"`
	Model         string         `db:"model"`
	Serial        string         `db:"serial"`
	Ended         time.Time      `db:"ended"`
	Verdict       checks.Verdict `db:"verdict"`
	FindingsJS    string         `db:"findings"`
	ResultJS      string         `db:"result"`
	OrderedBy     string         `db:"ordered_by"`
}

// Findings are what was noticed.
func (c *MachineCheck) Findings() ([]checks.Judgement, error) {
	return decode[[]checks.Judgement](fmt.Sprintf("the findings of check %d", c.ID), c.FindingsJS)
}

// Result is what was found out.
func (c *MachineCheck) Result() (checks.Result, error) {
	return decode[checks.Result](fmt.Sprintf("the result of check %d", c.ID), c.ResultJS)
}

// AddMachineCheck keeps what came of an errand that checks, and ends that, both or neither.
func (db *DB) AddMachineCheck(ctx context.Context, c MachineCheck, findings []checks.Judgement, result checks.Result) (id int64, err error) {
	c.Ended, c.FindingsJS, c.ResultJS = c.Ended.UTC(), encode(findings), encode(result)
	err = db.change(ctx, func(tx *sqlx.Tx) error {
		done, err := tx.ExecContext(ctx, `UPDATE errands SET state = 'done', ended = ? WHERE id = ? AND state = 'running'`, c.Ended, c.ErrandID)
		if err := changed(done, err, "running errand", c.ErrandID); err != nil {
			return err
		}
		added, err := tx.NamedExecContext(ctx, `INSERT INTO checks (errand_id, workstation_id, workstation, hardware_address, maker, model, serial, ended, verdict, findings, result, ordered_by)
			VALUES (:errand_id, :workstation_id, :workstation, :hardware_address, :maker, :model, :serial, :ended, :verdict, :findings, :result, :ordered_by)`, c)
		if err == nil {
			id, err = added.LastInsertId()
		}
		return err
	})
	return id, err
}

// MachineCheckFilter narrows a list of checks; empty fields narrow nothing.
type MachineCheckFilter struct {
	WorkstationID int64
	ErrandID      int64
	Model         string
	Verdict       checks.Verdict
	Within        []string // of workstations in one of these groups; nil narrows nothing
}

// MachineChecks lists, the newest first; sortable by ended, workstation, model and verdict.
func (db *DB) MachineChecks(ctx context.Context, f MachineCheckFilter, p Page) (rows []MachineCheck, total int, err error) {
	var q query
	if f.WorkstationID != 0 {
		q.and("c.workstation_id = ?", f.WorkstationID)
	}
	if f.ErrandID != 0 {
		q.and("c.errand_id = ?", f.ErrandID)
	}
	if f.Model != "" {
		q.and("lower(trim(c.maker || ' ' || c.model)) GLOB lower(?)", f.Model)
	}
	if f.Verdict != "" {
		q.and("c.verdict = ?", f.Verdict)
	}
	if f.Within != nil {
		q.and("c.workstation_id IN (SELECT m.workstation_id FROM group_members m JOIN groups g ON g.id = m.group_id WHERE g.name COLLATE NOCASE IN (SELECT value FROM json_each(?)))", encode(f.Within))
	}
	q.search(p.Search, []string{"c.workstation", "c.serial", "c.model", "c.findings"})
	total, err = db.list(ctx, listing{columns: "c.*", from: "checks c", key: "c.id", order: "c.id DESC",
		fields: map[string]string{"ended": "c.ended", "workstation": "c.workstation", "model": "c.model", "verdict": "c.verdict"}}, &rows, q, p)
	return rows, total, err
}

// DisksTested tells of workstations, by number, when a check has read their disk last and
// found all good.
func (db *DB) DisksTested(ctx context.Context) (map[int64]time.Time, error) {
	var rows []struct {
		ID    int64     `db:"workstation_id"`
		Ended time.Time `db:"ended"`
	}
	err := db.read.SelectContext(ctx, &rows, `SELECT c.workstation_id, c.ended FROM checks c
		WHERE c.verdict = 'good' AND json_extract(c.result, '$.surface_check') IS NOT NULL ORDER BY c.id`)
	all := map[int64]time.Time{}
	for _, r := range rows {
		all[r.ID] = r.Ended
	}
	return all, err
}

// MachineCheck is the one of that number.
func (db *DB) MachineCheck(ctx context.Context, id int64) (*MachineCheck, error) {
	var c MachineCheck
	err := db.read.GetContext(ctx, &c, `SELECT * FROM checks WHERE id = ?`, id)
	return &c, missing(err, "check", id)
}
