package fleet

import (
	"context"
	"net/netip"
	"time"

	"jugate/core/fault"
	"jugate/core/quota"
)

// networkOf is the network of an address for the limit on newcomers: /24 or /64, from
// which one machine could use many addresses.
func networkOf(a netip.Addr) netip.Prefix {
	bits := 24
	if a.Is6() {
		bits = 64
	}
	p, _ := a.Prefix(bits)
	return p
}

const (
	// newcomersPerHour is how many machines that are not known may appear in one
	// network within an hour.
	newcomersPerHour = 500
	// newcomersKept is how many the records keep: those seen last.
	newcomersKept = 2000
	// newcomerDays is how long a newcomer is kept after it was seen last.
	newcomerDays = 30
)

// newcomers bounds how many there are.
type newcomers struct{ quota quota.Quota[netip.Prefix] }

func (n *newcomers) allow(from netip.Addr, now time.Time) error {
	if network := networkOf(from); !n.quota.Take(network, now, newcomersPerHour, time.Hour) {
		return fault.TooMany.Errorf("%d machines that are not known have appeared in %s within an hour; no more are recorded for now", newcomersPerHour, network)
	}
	return nil
}

// ForgetNewcomers removes newcomers that were not seen for newcomerDays, and the oldest
// beyond newcomersKept.
func (f *Fleet) ForgetNewcomers(ctx context.Context) {
	n, err := f.Records.ForgetNewcomers(ctx, f.Now().AddDate(0, 0, -newcomerDays), newcomersKept)
	switch {
	case err != nil && ctx.Err() == nil:
		f.Log.Error("newcomers that are not seen any more cannot be forgotten", "error", err)
	case n > 0:
		f.Stock.Touched(0)
		f.forgetGone(ctx)
		f.Log.Info("newcomers forgotten", "count", n, "not_seen_for_days", newcomerDays, "kept_at_most", newcomersKept)
	}
}

// forgetGone makes the agents of newcomers that are not recorded any more check in again.
func (f *Fleet) forgetGone(ctx context.Context) {
	gone, err := f.Records.Gone(ctx, f.agents.newcomers())
	if err != nil {
		f.Log.Error("newcomers that are not recorded any more cannot be told from others", "error", err)
	}
	for _, id := range gone {
		f.agents.forget(id)
		f.Stock.Touched(id)
	}
}
