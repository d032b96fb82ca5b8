package records

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"jugate/api"
	"jugate/core/fault"
	"jugate/core/hwaddr"
)

// AwaitArrival records the digest of the token with which a workstation's copy will report, and
// the name that it is to come up as, empty if nobody knows it yet. An earlier token of the same workstation
// and delivery is good no more, unless its copy has a receipt: then it stays.
func (db *DB) AwaitArrival(ctx context.Context, now time.Time, digest string, delivery, workstation int64, name string) error {
	_, err := db.exec(ctx, `INSERT INTO arrivals (digest, delivery_id, workstation_id, issued, name) VALUES (?1, ?2, ?3, ?4, ?5)
		ON CONFLICT (delivery_id, workstation_id) DO UPDATE SET digest = ?1, issued = ?4, name = ?5 WHERE number IS NULL
			AND NOT EXISTS (SELECT 1 FROM receipts WHERE delivery_id = ?2 AND workstation_id = ?3)`, digest, delivery, workstation, now.UTC(), name)
	return err
}

// AwaitsArrival tells whether a workstation was told in a delivery what its copy is to become.
func (db *DB) AwaitsArrival(ctx context.Context, delivery, workstation int64) (awaits bool, err error) {
	err = db.read.GetContext(ctx, &awaits, `SELECT EXISTS (SELECT 1 FROM arrivals WHERE delivery_id = ? AND workstation_id = ? AND number IS NULL)`, delivery, workstation)
	return awaits, err
}

// ForgetArrival takes back what AwaitArrival has recorded, unless the copy has a receipt.
func (db *DB) ForgetArrival(ctx context.Context, delivery, workstation int64) error {
	_, err := db.exec(ctx, `DELETE FROM arrivals WHERE delivery_id = ?1 AND workstation_id = ?2 AND number IS NULL
		AND NOT EXISTS (SELECT 1 FROM receipts WHERE delivery_id = ?1 AND workstation_id = ?2)`, delivery, workstation)
	return err
}

// Arrive records a report, once for each token, and returns its receipt with what is odd about
// it. A token that is not known, or was used, is a fault.Stranger; one whose copy has no
// receipt yet is a fault.Unready.
func (db *DB) Arrive(ctx context.Context, now time.Time, digest string, report api.ArrivalReport) (*Receipt, error) {
	var id int64
	err := db.change(ctx, func(tx *sqlx.Tx) error {
		var of struct {
			Delivery    int64         `db:"delivery_id"`
			Workstation int64         `db:"workstation_id"`
			Number      sql.NullInt64 `db:"number"`
			Name        string        `db:"name"`
		}
		err := tx.GetContext(ctx, &of, `SELECT delivery_id, workstation_id, number, name FROM arrivals WHERE digest = ?`, digest)
		if errors.Is(err, sql.ErrNoRows) || err == nil && of.Number.Valid {
			return fault.Stranger.Errorf("this token is not good for a report, or was used already")
		}
		if err != nil {
			return err
		}
		err = tx.GetContext(ctx, &id, `SELECT id FROM receipts WHERE delivery_id = ? AND workstation_id = ?`, of.Delivery, of.Workstation)
		if errors.Is(err, sql.ErrNoRows) {
			return fault.Unready.Errorf("the receipt of this copy is not written yet")
		}
		if err != nil {
			return err
		}
		remark, err := oddities(ctx, tx, of.Workstation, of.Name, report)
		if err != nil {
			return err
		}
		a := arrived{Receipt: id, Arrived: now.UTC(), Content: encode(report), Remark: remark}
		if err := tx.GetContext(ctx, &a.Number, `SELECT coalesce(max(number), 0) + 1 FROM arrivals`); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `UPDATE arrivals SET number = ?, arrived = ?, content = ?, remark = ?, machine_id = ? WHERE digest = ?`,
			a.Number, a.Arrived, a.Content, a.Remark, report.MachineID, digest); err != nil {
			return err
		}
		g, err := grow(ctx, tx)
		if err != nil {
			return err
		}
		return errors.Join(g.add(leafArrival, a.Number, &a), g.flush())
	})
	if err != nil {
		return nil, err
	}
	return db.Receipt(ctx, id)
}

// oddities says what is odd about a report: it came under another name, with the machine-id of
// another copy, or from other network cards.
func oddities(ctx context.Context, tx *sqlx.Tx, workstation int64, name string, report api.ArrivalReport) (string, error) {
	var odd []string
	if name != "" && !strings.EqualFold(report.ComputerName, name) {
		odd = append(odd, fmt.Sprintf("it has come up as %q, and not as %s", report.ComputerName, name))
	}
	var twins []string
	if report.MachineID != "" {
		err := tx.SelectContext(ctx, &twins, `SELECT DISTINCT coalesce(w.name, 'workstation ' || w.id) FROM arrivals a JOIN workstations w ON w.id = a.workstation_id WHERE a.machine_id = ? AND a.workstation_id <> ?`, report.MachineID, workstation)
		if err != nil {
			return "", err
		}
	}
	if twins != nil {
		odd = append(odd, "it has the machine-id of "+strings.Join(twins, ", "))
	}
	var cards []string // as they are written here: systems write them in many ways
	for _, text := range report.Addresses {
		if a, err := hwaddr.Parse(text); err == nil {
			cards = append(cards, a.String())
		}
	}
	var known int
	if err := tx.GetContext(ctx, &known, `SELECT count(*) FROM addresses WHERE workstation_id = ? AND address IN (SELECT value FROM json_each(?))`, workstation, encode(cards)); err != nil {
		return "", err
	}
	if known == 0 {
		odd = append(odd, "none of its network cards is known of this workstation")
	}
	return strings.Join(odd, "; "), nil
}
