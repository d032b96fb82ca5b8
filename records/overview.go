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

func (db *DB) firstReceipts(ctx context.Context, from string, most int, args ...any) (rows []Receipt, total int, err error) {
	if err := db.read.GetContext(ctx, &total, "SELECT count(*) FROM "+from, args...); err != nil || total == 0 {
		return nil, total, err
	}
	err = db.read.SelectContext(ctx, &rows, "SELECT "+receiptColumns+" FROM "+from+" ORDER BY r.id DESC LIMIT ?", append(args, most)...)
	return rows, total, err
}
