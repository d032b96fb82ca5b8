package records

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/zeebo/blake3"

	"jugate/api"
	"jugate/core/fault"
	"jugate/core/hwaddr"
)

// AwaitArrival records the digest of the token with which a workstation's copy will report, and
// the name that it is to come up as, empty if nobody knows it yet. An
// earlier token of the same workstation and delivery is good no more.
func (db *DB) AwaitArrival(ctx context.Context, now time.Time, digest string, delivery, workstation int64, name string) error {
	_, err := db.exec(ctx, `INSERT INTO arrivals (digest, delivery_id, workstation_id, issued, name) VALUES (?1, ?2, ?3, ?4, ?5)
		ON CONFLICT (delivery_id, workstation_id) DO UPDATE SET digest = ?1, issued = ?4, name = ?5 WHERE number IS NULL`, digest, delivery, workstation, now.UTC(), name)
	return err
}

// AwaitsArrival tells whether a workstation was told in a delivery what its copy is to become.
func (db *DB) AwaitsArrival(ctx context.Context, delivery, workstation int64) (awaits bool, err error) {
	err = db.read.GetContext(ctx, &awaits, `SELECT EXISTS (SELECT 1 FROM arrivals WHERE delivery_id = ? AND workstation_id = ? AND number IS NULL)`, delivery, workstation)
	return awaits, err
}

// ForgetArrival takes back what AwaitArrival has recorded.
func (db *DB) ForgetArrival(ctx context.Context, delivery, workstation int64) error {
	_, err := db.exec(ctx, `DELETE FROM arrivals WHERE delivery_id = ? AND workstation_id = ? AND number IS NULL`, delivery, workstation)
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
		var receipt struct {
			ID    int64  `db:"id"`
			Chain string `db:"chain"`
		}
		err = tx.GetContext(ctx, &receipt, `SELECT id, chain FROM receipts WHERE delivery_id = ? AND workstation_id = ?`, of.Delivery, of.Workstation)
		if errors.Is(err, sql.ErrNoRows) {
			return fault.Unready.Errorf("the receipt of this copy is not written yet")
		}
		if err != nil {
			return err
		}
		id = receipt.ID
		remark, err := oddities(ctx, tx, of.Workstation, of.Name, report)
		if err != nil {
			return err
		}
		last := struct {
			Number int64  `db:"number"`
			Chain  string `db:"chain"`
		}{}
		if err := tx.GetContext(ctx, &last, `SELECT number, chain FROM arrivals WHERE number IS NOT NULL ORDER BY number DESC LIMIT 1`); err != nil && !errors.Is(err, sql.ErrNoRows) {
			return err
		}
		content := encode(report)
		_, err = tx.ExecContext(ctx, `UPDATE arrivals SET number = ?, arrived = ?, content = ?, remark = ?, machine_id = ?, previous = ?, chain = ? WHERE digest = ?`,
			last.Number+1, now.UTC(), content, remark, report.MachineID, last.Chain, arrivalLink(last.Chain, receipt.Chain, now, content, remark), digest)
		return err
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

// arrivalLink computes the place of a report in the chain of reports: the BLAKE3 digest of the
// value before, the chain of its receipt, the time, and what was told and noted.
func arrivalLink(previous, receipt string, at time.Time, content, remark string) string {
	sum := blake3.Sum256([]byte(strings.Join([]string{previous, receipt, at.UTC().Format(time.RFC3339Nano), content, remark}, "\n")))
	return fmt.Sprintf("%x", sum)
}

// checkArrivals goes through the chain of reports. The error names the first that was changed,
// or that misses the one before.
func (db *DB) checkArrivals(ctx context.Context) error {
	rows, err := db.read.QueryxContext(ctx, `SELECT a.number, a.arrived, a.content, a.remark, a.previous, a.chain, r.id, r.workstation, r.chain AS receipt FROM arrivals a
		JOIN receipts r ON r.delivery_id = a.delivery_id AND r.workstation_id = a.workstation_id WHERE a.number IS NOT NULL ORDER BY a.number`)
	if err != nil {
		return err
	}
	defer rows.Close()
	before, n := "", int64(0)
	for rows.Next() {
		var a struct {
			Number      int64     `db:"number"`
			Arrived     time.Time `db:"arrived"`
			Content     string    `db:"content"`
			Remark      string    `db:"remark"`
			Previous    string    `db:"previous"`
			Chain       string    `db:"chain"`
			ID          int64     `db:"id"`
			Workstation string    `db:"workstation"`
			Receipt     string    `db:"receipt"`
		}
		if err := rows.StructScan(&a); err != nil {
			return err
		}
		if n++; a.Number != n || a.Previous != before || a.Chain != arrivalLink(before, a.Receipt, a.Arrived, a.Content, a.Remark) {
			return fmt.Errorf("the arrival of receipt %d (%s) does not fit the chain: it, its receipt, or an arrival before it, was changed or removed", a.ID, a.Workstation)
		}
		before = a.Chain
	}
	return rows.Err()
}
