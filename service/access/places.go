package access

import (
	"context"
	"net/netip"
	"sync"
	"time"

	"jugate/core/fault"
	"jugate/records"
)

// takesTurns is within which time a session that is used at one place, at another and at the first again is at both.
// Whoever goes with their machine into another network does not come back so soon.
const takesTurns = time.Minute

// places notes where sessions are used. The zero value is ready.
type places struct {
	mu  sync.Mutex
	all map[string]*[2]place // by the session's digest; for IPv4 and IPv6, as a browser uses both in turn
}

// place is where a session is used, and was before it moved.
type place struct {
	now, before netip.Prefix
	moved       time.Time
}

// networkOf is what counts as a place: an IPv4 address, or a network of IPv6, in which machines change their address (RFC 8981).
func networkOf(a netip.Addr) (p netip.Prefix, family int) {
	if a = a.Unmap().WithZone(""); a.Is4() {
		return netip.PrefixFrom(a, 32), 0
	}
	p, _ = a.Prefix(64)
	return p, 1
}

// used notes that a session is used from an address, and tells whether it is used at another place as well.
func (ps *places) used(session string, from netip.Addr, now time.Time) (other netip.Prefix, both bool) {
	at, family := networkOf(from)
	ps.mu.Lock()
	defer ps.mu.Unlock()
	if ps.all == nil || len(ps.all) >= remembered {
		ps.all = map[string]*[2]place{}
	}
	known := ps.all[session]
	if known == nil {
		known = &[2]place{}
		ps.all[session] = known
	}
	p := &known[family]
	switch {
	case p.now == at:
	case p.before == at && now.Sub(p.moved) < takesTurns:
		delete(ps.all, session)
		return p.now, true
	default:
		p.before, p.now, p.moved = p.now, at, now
	}
	return netip.Prefix{}, false
}

// torn ends a session that is used at two places at once: one of them has copied it.
func (a *Access) torn(ctx context.Context, c Caller, from netip.Addr, other netip.Prefix) error {
	defer a.callers.forget()
	if err := a.Records.EndSession(ctx, c.Session); err != nil {
		return err
	}
	a.Log.Warn("a session was used from two places at once, and ended", "who", c.Actor, "from", from, "and", other.Addr())
	if _, err := a.Records.AddLine(context.WithoutCancel(ctx), records.Line{At: a.Now(), Who: c.Actor.String(), Kind: string(c.Kind), From: from.String() + " and " + other.Addr().String(), Through: "service",
		Operation: "end-torn-session", Subject: "a session used from two places", Details: "{}"}); err != nil {
		return err
	}
	return fault.Stranger.Errorf("your session was used from %s and %s at once, and has ended; sign in again, and if you do not know one of them, change your password", from, other.Addr())
}
