package records

import (
	"context"
	"time"
)

// FailedSince are receipts from a time on that say that a version did not get onto a disk, of workstations that have got none since.
// The newest come first.
func (db *DB) FailedSince(ctx context.Context, since time.Time, most int) (rows []Receipt, total int, err error) {
	const failed = receiptFrom + ` WHERE r.ended >= ? AND r.outcome IN ('failed', 'absent')
		AND NOT EXISTS (SELECT 1 FROM receipts l WHERE l.workstation_id = r.workstation_id AND l.id > r.id AND l.outcome IN ('delivered', 'wiped'))`
	return db.firstReceipts(ctx, failed, most, since.UTC())
}

// NotArrived are receipts between two times of copies that have not reported their first start, and of which no later receipt
// speaks. The newest come first.
func (db *DB) NotArrived(ctx context.Context, from, until time.Time, most int) (rows []Receipt, total int, err error) {
	const silent = receiptFrom + ` WHERE r.ended >= ? AND r.ended < ? AND r.outcome = 'delivered' AND a.issued IS NOT NULL AND a.arrived IS NULL
		AND NOT EXISTS (SELECT 1 FROM receipts l WHERE l.workstation_id = r.workstation_id AND l.id > r.id)`
	return db.firstReceipts(ctx, silent, most, from.UTC(), until.UTC())
}

// Unfit are the checks from a time on, each the last of its workstation, that say that it is not fit to be given out. The newest
// come first.
func (db *DB) Unfit(ctx context.Context, since time.Time, most int) (rows []MachineCheck, total int, err error) {
	const unfit = `checks c WHERE c.verdict = 'bad' AND c.ended >= ? AND NOT EXISTS (SELECT 1 FROM checks l WHERE l.workstation_id = c.workstation_id AND l.id > c.id)`
	if err := db.read.GetContext(ctx, &total, "SELECT count(*) FROM "+unfit, since.UTC()); err != nil || total == 0 {
		return nil, total, err
	}
	err = db.read.SelectContext(ctx, &rows, "SELECT c.* FROM "+unfit+" ORDER BY c.id DESC LIMIT ?", since.UTC(), most)
	return rows, total, err
}

func (db *DB) firstReceipts(ctx context.Context, from string, most int, args ...any) (rows []Receipt, total int, err error) {
	if err := db.read.GetContext(ctx, &total, "SELECT count(*) FROM "+from, args...); err != nil || total == 0 {
		return nil, total, err
	}
	err = db.read.SelectContext(ctx, &rows, "SELECT "+receiptColumns+" FROM "+from+" ORDER BY r.id DESC LIMIT ?", append(args, most)...)
	return rows, total, err
}
