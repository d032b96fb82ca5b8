package records

import (
	"context"
	"database/sql"
	"strings"
	"time"
)

// RoomCount is how many workstations of a group have the same on their disks.
type RoomCount struct {
	Group  string `db:"name"`
	OnDisk string `db:"on_disk"` // see Workstation.Holds
	Should string `db:"should"`  // NAME@VERSION; empty if the group says nothing
	Count  int    `db:"count"`
	Names  string `db:"names"` // see Workstations
}

// Workstations are their names.
func (r RoomCount) Workstations() []string { return strings.Fields(r.Names) }

// RoomCounts tells for each group what its workstations have, what most have first.
func (db *DB) RoomCounts(ctx context.Context) (rows []RoomCount, err error) {
	err = db.read.SelectContext(ctx, &rows, `SELECT name, on_disk, should, count(*) AS count, group_concat(workstation, ' ') AS names FROM (
			SELECT g.name, iif(g.image = '', '', coalesce(`+wantedRef+`, '')) AS should, `+onDisk+` AS on_disk, w.name AS workstation
			FROM groups g JOIN group_members m ON m.group_id = g.id JOIN workstations w ON w.id = m.workstation_id
			WHERE w.state = 'admitted' ORDER BY g.name, w.name)
		GROUP BY name, on_disk ORDER BY name, count DESC, on_disk`)
	return rows, err
}

// NotGood are the checks that ended in a period, each the last of its workstation, that did not find everything good; the newest come first.
func (db *DB) NotGood(ctx context.Context, since, until time.Time) (rows []MachineCheck, err error) {
	err = db.read.SelectContext(ctx, &rows, `SELECT c.* FROM checks c WHERE c.verdict <> 'good' AND c.ended >= ? AND c.ended < ?
		AND NOT EXISTS (SELECT 1 FROM checks l WHERE l.workstation_id = c.workstation_id AND l.id > c.id) ORDER BY c.id DESC`, since.UTC(), until.UTC())
	return rows, err
}

// DeliverySum is what a delivery sent, and what came.
type DeliverySum struct {
	ID       int64     `db:"id"`
	Image    string    `db:"image"`
	Version  int       `db:"version"`
	Ended    time.Time `db:"ended"`
	Rate     int64     `db:"rate"` // bits a second; 0 for as much as goes
	Count    int       `db:"count"`
	Received int64     `db:"received"`
	Wire     int64     `db:"wire_bytes"`
	Reused   int64     `db:"reused_bytes"`
}

// DeliverySums tells of the deliveries that ended in a period and that at least one workstation got; the newest come first.
func (db *DB) DeliverySums(ctx context.Context, since, until time.Time) (rows []DeliverySum, err error) {
	err = db.read.SelectContext(ctx, &rows, `SELECT d.id, d.image, d.version, d.ended, d.rate, d.wire_bytes, d.reused_bytes, count(*) AS count, sum(r.bytes_multicast + r.bytes_unicast) AS received
		FROM deliveries d JOIN receipts r ON r.delivery_id = d.id WHERE d.ended >= ? AND d.ended < ? AND r.outcome = 'delivered' GROUP BY d.id ORDER BY d.id DESC`, since.UTC(), until.UTC())
	return rows, err
}

// LastArrival is whether what a workstation got last has started.
type LastArrival struct {
	Workstation int64        `db:"workstation_id"`
	Arrived     sql.NullTime `db:"arrived"`
	Remark      string       `db:"remark"`
}

// LastArrivals are those of what workstations got last, by the number of the workstation.
func (db *DB) LastArrivals(ctx context.Context) (map[int64]LastArrival, error) {
	var rows []LastArrival
	err := db.lists.SelectContext(ctx, &rows, `SELECT r.workstation_id, a.arrived, coalesce(a.remark, '') AS remark FROM receipts r JOIN arrivals a ON a.delivery_id = r.delivery_id AND a.workstation_id = r.workstation_id
		WHERE r.id IN (SELECT max(id) FROM receipts WHERE outcome = 'delivered' GROUP BY workstation_id)`)
	all := map[int64]LastArrival{}
	for _, r := range rows {
		all[r.Workstation] = r
	}
	return all, err
}
