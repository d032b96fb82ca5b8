package records

import (
	"context"

	"jugate/core/delivery"
	"jugate/core/roster"
)

// Figures are what is counted of the records.
type Figures struct {
	Workstations map[roster.State]int
	Receipts     map[delivery.Outcome]int
	Multicast    int64 // bytes that all receipts say have come so
	Unicast      int64
}

// Figures counts.
func (db *DB) Figures(ctx context.Context) (out Figures, err error) {
	out.Workstations, out.Receipts = map[roster.State]int{}, map[delivery.Outcome]int{}
	var states []struct {
		State roster.State `db:"state"`
		N     int          `db:"n"`
	}
	if err := db.read.SelectContext(ctx, &states, `SELECT state, count(*) AS n FROM workstations GROUP BY state`); err != nil {
		return out, err
	}
	for _, s := range states {
		out.Workstations[s.State] = s.N
	}
	var outcomes []struct {
		Outcome   delivery.Outcome `db:"outcome"`
		N         int              `db:"n"`
		Multicast int64            `db:"multicast"`
		Unicast   int64            `db:"unicast"`
	}
	if err := db.read.SelectContext(ctx, &outcomes, `SELECT outcome, count(*) AS n, coalesce(sum(bytes_multicast), 0) AS multicast, coalesce(sum(bytes_unicast), 0) AS unicast FROM receipts GROUP BY outcome`); err != nil {
		return out, err
	}
	for _, o := range outcomes {
		out.Receipts[o.Outcome] = o.N
		out.Multicast += o.Multicast
		out.Unicast += o.Unicast
	}
	return out, nil
}
